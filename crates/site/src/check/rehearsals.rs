//! Rehearsals that can never pass: expectations that nothing could meet, personas without what they would have to type.

use super::super::section::{Notes, quoted};
use super::super::{Site, SourceRef};
use crate::rehearsal::{OtherCertificate, Persona, Rehearsal, RehearsedLogin, SimulatedPhone, Twist, TypedPart};
use bivector_model::rule::Then;
use bivector_model::trace::Outcome;
use bivector_wire::eap::Proves;
use std::ops::Range;

/// Attributes that the protocol itself may add to any reply.
const OF_PROTOCOL: &[&str] = &["Reply-Message", "State", "EAP-Message", "Proxy-State"];

/// Looks at every login of every rehearsal.
pub(crate) fn rehearsals(site: &Site, notes: &Notes<'_>) {
    for rehearsal in &site.rehearsals {
        for login in &rehearsal.logins {
            let Some(persona) = site.personas.get(login.persona) else { continue };
            Look { site, rehearsal, login, persona, at: notes.lines.start_of(login.line), notes }.all();
        }
    }
}

struct Look<'l, 't> {
    site: &'l Site,
    rehearsal: &'l Rehearsal,
    login: &'l RehearsedLogin,
    persona: &'l Persona,
    at: Range<usize>,
    notes: &'l Notes<'t>,
}

impl Look<'_, '_> {
    fn all(&self) {
        self.typed();
        self.prompts();
        self.contradictions();
        self.chain();
    }

    fn error(&self, code: &str, said: impl Into<String>, remedy: impl Into<String>) {
        let message = format!("`{}` of the rehearsal `{}`: {}", self.login.title, self.rehearsal.name, said.into());
        self.notes.error(code, self.at.clone(), message, remedy);
    }

    fn types(&self, is: impl Fn(&TypedPart) -> bool + Copy) -> bool {
        self.login.typed.has(is) || self.login.answers.iter().any(|answer| answer.has(is))
    }

    /// What is typed must be there.
    fn typed(&self) {
        let name = &self.persona.name;
        if self.persona.password.is_none() && self.types(|part| *part == TypedPart::Password) {
            let said = format!("it uses `{{password}}`, but the persona `{name}` has no password");
            self.error(
                "persona-without-secret",
                said,
                format!("set one, for example `password = \"persona/{name}\"`, and seal that secret"),
            );
        }
        let locks = self.login.twist == Some(Twist::Locked);
        if self.persona.codes.is_none() && (locks || self.types(TypedPart::needs_codes)) {
            let said = format!("it uses codes, but the persona `{name}` has no token or seed");
            self.error("persona-without-secret", said, "set `token = true` on the persona, or the `seed` of its device");
        }
        self.certificate();
        if self.login.handset.is_some() && !self.persona.handset {
            let said = format!("it uses a handset, but the persona `{name}` has none");
            self.error("persona-without-secret", said, "give the persona `handset = true`");
        }
        if self.login.typed.has(|part| *part == TypedPart::Sent) {
            self.error("never-met", "`{sent}` is used before any code was sent", "use it under `answers`");
        }
    }

    /// A certificate that is shown must be there.
    fn certificate(&self) {
        let shown = match &self.login.certificate {
            Some(OtherCertificate::Of(name)) => match self.site.personas.iter().find(|persona| persona.name == *name) {
                Some(persona) => persona,
                None => {
                    let names: Vec<&str> = self.site.personas.iter().map(|persona| persona.name.as_str()).collect();
                    let said = format!("it shows the certificate of `{name}`, and there is no such persona");
                    return self.error("persona-without-secret", said, format!("known: {}; or write \"none\"", names.join(", ")));
                }
            },
            Some(OtherCertificate::None) => return,
            None => self.persona,
        };
        let needed = self.login.certificate.is_some() || self.login.method.proves() == Some(Proves::Certificate);
        if needed && shown.certificate.is_none() {
            let said = format!("it shows a certificate, but the persona `{}` has none", shown.name);
            let remedy =
                format!("set `certificate = \"persona/{}-certificate\"`, and seal certificate and key as PEM under that name", shown.name);
            self.error("persona-without-secret", said, remedy);
        }
        if self.login.twist == Some(Twist::OldTls) && !self.login.method.eap().is_some_and(|method| method.has_tunnel()) {
            self.error("never-met", "`old-tls` needs a method with a TLS tunnel", "set `method`, for example to `eap-ttls-pap`");
        }
    }

    /// Prompts that the gateway does not show cannot be answered.
    fn prompts(&self) {
        let Some(gateway) = self.site.gateways.get(self.login.via) else { return };
        let asked = !self.login.answers.is_empty()
            || self.login.expect.outcome == Outcome::Challenged
            || self.login.twist.is_some_and(Twist::needs_prompt);
        if asked && !self.login.method.prompts(gateway.shows_challenges) {
            match self.login.method.eap() {
                Some(method) => {
                    let said = format!("it expects a prompt, but `{}` cannot show one", method.name());
                    self.error("never-met", said, "use a method that can, such as `eap-ttls-gtc`");
                }
                None => {
                    let said = format!("it expects a prompt, but the gateway `{}` shows none", gateway.name);
                    self.error("never-met", said, "set `shows_challenges = true` on the gateway, if the device can show prompts");
                }
            }
        }
        if self.login.twist.is_some_and(Twist::needs_prompt) && self.login.answers.is_empty() {
            self.error("never-met", "it has no answer for its prompt", "give it `answers`");
        }
    }

    fn contradictions(&self) {
        let (expect, silent) = (&self.login.expect, self.login.twist.is_some_and(Twist::is_met_with_silence));
        match expect.outcome {
            Outcome::Accepted | Outcome::Challenged if expect.cause.is_some() => {
                self.error("never-met", "an accepted login has no cause", "take out `cause`, or expect `refuse`");
            }
            Outcome::Refused | Outcome::Silent | Outcome::Challenged if expect.grant.is_some() => {
                self.error("never-met", "only an accepted login has a grant", "take out `grant`, or expect `accept`");
            }
            Outcome::Silent if !expect.attributes.is_empty() => {
                self.error("never-met", "an unanswered login has no attributes", "take out `attributes`");
            }
            _ => {}
        }
        let cause_is_silent = expect.cause.is_none_or(bivector_model::cause::Cause::is_silent);
        if silent != (expect.outcome == Outcome::Silent) || expect.outcome == Outcome::Silent && !cause_is_silent {
            let said = if silent {
                "such a packet is silently discarded, as RFC 2865 requires"
            } else {
                "only a wrong secret or an unknown sender is silently discarded"
            };
            self.error("never-met", said, "expect `silence` only with the twists `wrong-secret` and `stranger`");
        }
    }

    /// What the chain can give at all.
    fn chain(&self) {
        let (site, login) = (self.site, self.login);
        let typed = login.typed_name.as_deref().unwrap_or(&self.persona.login);
        let Some(chain) =
            site.chain_for(login.via, 0, login.outer.as_deref().unwrap_or(typed).as_bytes()).and_then(|chain| site.chains.get(chain))
        else {
            if login.expect.outcome == Outcome::Accepted {
                let said = format!("no chain accepts `{typed}` through this gateway");
                self.error("never-met", said, "use another gateway, or a name with the realm of the intended chain");
            }
            return;
        };
        let expect = &login.expect;
        if expect.outcome == Outcome::Accepted && !chain.methods.contains(&login.method) {
            let said = format!("the chain `{}` does not accept {} login", chain.name, login.method.spoken());
            self.error("never-met", said, "expect `method-not-in-chain`, or add the method to the chain");
        }
        let in_pocket = login.handset.is_some_and(|does| does.phone != SimulatedPhone::Open);
        if in_pocket && chain.wake.is_empty() {
            let said = format!("the chain `{}` wakes nobody, so a phone in a pocket never shows the approval", chain.name);
            self.error("never-met", said, "set `wake` on the chain, or take the phone's state out of `handset`");
        }
        let grants = chain.rules.rules().iter().filter_map(|rule| match rule.then {
            Then::Grant(grant) => site.grants.get(grant),
            Then::Refuse(_) => None,
        });
        let grants: Vec<_> = grants.collect();
        if let Some(wanted) = &expect.grant
            && !grants.iter().any(|grant| grant.name == *wanted)
        {
            let names: Vec<&str> = grants.iter().map(|grant| grant.name.as_str()).collect();
            let said = format!("no rule of the chain `{}` assigns the grant `{wanted}`", chain.name);
            self.error("never-met", said, format!("its rules assign {}", quoted(&names)));
        }
        let could_set = |name: &str| {
            let by_grant = grants.iter().filter(|grant| expect.grant.as_ref().is_none_or(|wanted| grant.name == *wanted));
            let by_grant: Vec<_> = by_grant.collect();
            let mut pools = by_grant.iter().flat_map(|grant| &grant.pools).filter_map(|index| site.pools.get(*index)?.slot(0));
            let by_pool = pools.any(|slot| slot.attribute.to_string() == name);
            let by_grant = by_grant.iter().flat_map(|grant| &grant.reply).any(|item| item.target.to_string() == name);
            let upstreams = chain.first.iter().filter_map(|first| match first.source {
                SourceRef::Upstream(index) => Some(index),
                _ => None,
            });
            let mut back = upstreams.chain(chain.code_upstream()).filter_map(|index| site.upstreams.get(index)).flat_map(|one| &one.back);
            by_grant
                || by_pool
                || OF_PROTOCOL.contains(&name)
                || name.starts_with("Vendor-311")
                || back.any(|kind| kind.to_string() == name)
        };
        for (name, _) in &expect.attributes {
            if expect.outcome == Outcome::Accepted && !could_set(name) {
                let said = format!("no grant that this login can receive sets `{name}`");
                self.error("never-met", said, "remove it, or add it to the grant");
            }
        }
        let factors: Vec<&str> = chain.second.iter().map(|kind| site.factor_name(*kind)).collect();
        if let Some(factor) = expect.factor.as_deref().filter(|factor| !factors.contains(factor)) {
            let said = format!("the chain `{}` does not accept the factor `{factor}`", chain.name);
            let none = "it requires none: remove `factor` from `expect`, or add the factor to `second` of the chain";
            self.error("never-met", said, if factors.is_empty() { none.to_owned() } else { format!("it accepts {}", quoted(&factors)) });
        }
        let sources: Vec<&str> = chain.first.iter().map(|first| site.source_name(first.source)).collect();
        if let Some(source) = expect.source.as_deref().filter(|source| !sources.contains(source)) {
            let said = format!("the chain `{}` does not use the source `{source}`", chain.name);
            self.error("never-met", said, format!("it uses {}", quoted(&sources)));
        }
    }
}
