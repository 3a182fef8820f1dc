//! What a site says of handsets and of people without a factor, against what the rest of it allows.

use super::super::section::Notes;
use super::super::{Chain, FactorKind, Gateway, Invited, Method, Site, WhenNotEnrolled, WhenUnanswered};
use bivector_model::device::CodeKind;

/// Everything about approvals that only shows in the whole site.
pub(crate) fn approvals(site: &Site, notes: &Notes<'_>) {
    for (index, chain) in site.chains.iter().enumerate() {
        let own = || site.gateways.iter().filter(move |gateway| gateway.chains.contains(&index));
        let at = || notes.lines.start_of(chain.line);
        if chain.second.contains(&FactorKind::Key) && site.handset.address.is_none() {
            let message =
                format!("`{}` uses security keys, which are bound to the handset page's address, but `address` is not set", chain.name);
            notes.error("key-without-address", at(), message, "set `address = \"https://NAME\"` under `[handset]`");
        }
        waking(chain, site, notes);
        people_without_a_factor(chain, own().any(|gateway| gateway.shows_challenges), notes);
        if chain.when_unanswered == WhenUnanswered::Next && !own().any(|gateway| gateway.shows_challenges) {
            let message = format!("`when_unanswered` of `{}` needs a prompt, but none of its gateways shows prompts", chain.name);
            notes.warn("no-prompt", at(), message, "set `shows_challenges = true` on a gateway that can");
        }
        if chain.remember.is_some() && own().any(unsigned) {
            let message =
                format!("`remember` of `{}` relies on a Calling-Station-Id that an unsigned (forgeable) request can contain", chain.name);
            notes.warn("remembers-unsigned", at(), message, "require Message-Authenticator from every gateway of the chain");
        }
    }
    for gateway in site.gateways.iter().filter(|gateway| gateway.joins_without_caller) {
        let message = format!(
            "through `{}` a second login joins the approval that waits for the first, and nothing shows that both are the person's own: \
             anyone who knows the password and logs in at that moment is let in by the same approval",
            gateway.name
        );
        let remedy = "have the device send Calling-Station-Id, then take `joins_without_caller` out";
        notes.warn("joins-without-caller", notes.lines.start_of(gateway.line), message, remedy);
    }
    if let Some(chain) = site.handset.chain.and_then(|index| site.chains.get(index)).filter(|chain| !chain.methods.contains(&Method::Pap)) {
        let message = format!("people sign in to their own page through `{}`, which does not accept PAP", chain.name);
        notes.error(
            "page-needs-text",
            notes.lines.start_of(chain.line),
            message,
            "add `pap` to its methods, or set another `chain` under `[handset]`",
        );
    }
    for newcomers in &site.newcomers {
        let kind = match newcomers.factor {
            Invited::Approval => FactorKind::Approval,
            Invited::Totp => FactorKind::Code(CodeKind::Totp),
        };
        if !site.chains.iter().any(|chain| chain.second.contains(&kind)) {
            let message =
                format!("newcomers of `{}` are invited to enrol `{}`, which no chain accepts", newcomers.group, newcomers.factor.name());
            notes.warn("unused", notes.lines.start_of(newcomers.line), message, "add it to `second` of a chain");
        }
    }
}

fn unsigned(gateway: &Gateway) -> bool {
    gateway.integrity == bivector_wire::IntegrityPolicy::WhenPresent
}

/// What tells people that an approval waits.
fn waking(chain: &Chain, site: &Site, notes: &Notes<'_>) {
    let at = || notes.lines.start_of(chain.line);
    if chain.asks_handsets() && chain.wake.is_empty() {
        let message = format!(
            "nothing tells people that an approval of `{}` waits: only a handset page that is open at that moment shows it",
            chain.name
        );
        let remedy = match site.handset.address {
            Some(_) => "set `wake = [\"push\"]`, with a courier behind it for phones that push does not reach",
            None => "set `address = \"https://NAME\"` under `[handset]`: push messages and links lead there",
        };
        notes.warn("no-wake", at(), message, remedy);
    }
    if chain.wake.len() > 1 && chain.wake_after >= chain.second_patience {
        let message = format!(
            "the second way to wake people of `{}` comes after {} s, when the login has ended",
            chain.name,
            chain.wake_after.as_secs()
        );
        notes.warn("wake-too-late", at(), message, "set `wake_after` well below `second_patience`");
    }
}

fn people_without_a_factor(chain: &Chain, prompts: bool, notes: &Notes<'_>) {
    let at = || notes.lines.start_of(chain.line);
    match chain.when_not_enrolled {
        WhenNotEnrolled::Refuse => {}
        WhenNotEnrolled::Enrol if !chain.takes(CodeKind::Totp) => {
            let message = format!("`{}` enrols an authenticator app at first login, but does not accept `totp` codes", chain.name);
            notes.error("enrol-without-totp", at(), message, "add `totp` to `second`, or set `when_not_enrolled = \"refuse\"`");
        }
        WhenNotEnrolled::Enrol if !prompts => {
            let message = format!("`{}` enrols people at first login, but none of its gateways shows prompts", chain.name);
            notes.warn("no-prompt", at(), message, "set `shows_challenges = true` on a gateway that can");
        }
        WhenNotEnrolled::Enrol => {
            let message =
                format!("anyone who knows the password of a person without a factor can enrol one for them through `{}`", chain.name);
            notes.warn(
                "enrols-by-password",
                at(),
                message,
                "send invitations instead, or change it to `refuse` once everybody is enrolled",
            );
        }
        WhenNotEnrolled::LetInUntil(_) => {
            let message =
                format!("until the given date, people without a factor can log in to `{}` with the first check alone", chain.name);
            notes.warn("lets-in", at(), message, "choose an early date; list who is left with `bivector person list --without-factor`");
        }
    }
}
