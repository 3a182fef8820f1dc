//! Reviews how a running service is exposed, from facts that the service gathers. Nothing is changed.

use bivector_model::trace::Tone;
use bivector_site::{Finding, HashSettings, Site, Wake};
use bivector_timing::budget::HashCost;
use serde::{Deserialize, Serialize};
use std::net::SocketAddr;
use utoipa::ToSchema;

/// What a finding is about.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Topic {
    /// Who can reach what.
    Listeners,
    /// Who can read the files.
    Files,
    /// How long certificates last.
    Certificates,
    /// What the site allows.
    Settings,
    /// Shared secrets and operators.
    Secrets,
    /// How much strangers can use up.
    Limits,
    /// Whether codes by time can be trusted.
    Clock,
    /// Open files.
    Descriptors,
    /// What is left after the disk is gone.
    Backups,
    /// Whether approvals reach phones in pockets.
    Push,
}

impl Topic {
    /// Its name.
    pub fn name(self) -> &'static str {
        match self {
            Topic::Listeners => "listeners",
            Topic::Files => "files",
            Topic::Certificates => "certificates",
            Topic::Settings => "settings",
            Topic::Secrets => "secrets",
            Topic::Limits => "limits",
            Topic::Clock => "clock",
            Topic::Descriptors => "descriptors",
            Topic::Backups => "backups",
            Topic::Push => "push",
        }
    }
}

/// One thing that was looked at.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Advice {
    /// What it is about.
    pub topic: Topic,
    /// `good` as it is, `note`, `warn` for what should be changed, `bad` for what must be.
    pub tone: Tone,
    /// What was seen.
    pub said: String,
    /// What to do about it; empty where it is good.
    #[serde(skip_serializing_if = "String::is_empty", default)]
    pub remedy: String,
}

/// What the service knows of itself.
#[derive(Debug, Clone, Default)]
pub struct Facts {
    /// Where API and console listen.
    pub operators: Option<SocketAddr>,
    /// Where the handset page listens, if that is apart.
    pub phones: Option<SocketAddr>,
    /// Whether both are encrypted by the service itself.
    pub encrypted: bool,
    /// Names that lead to the service.
    pub names: Vec<String>,
    /// How many proxies or ranges of them are trusted.
    pub proxies: usize,
    /// Files that others may read, with their modes.
    pub wide_files: Vec<(String, u32)>,
    /// Whether the key file lies in the data folder, beside what it opens.
    pub key_beside_records: bool,
    /// Whether the token of the first start is still in the data folder.
    pub first_token_left: bool,
    /// Days until the service's own certificate ends.
    pub own_certificate_days: Option<i64>,
    /// Issuers of people's certificates, each with why a revocation list could not be read or its OCSP responder gives no usable answer.
    pub revocation: Vec<(String, Option<String>)>,
    /// Days until certificates in trust files end, by file.
    pub trust_days: Vec<(String, i64)>,
    /// Gateways whose shared secret is short, with its length in bytes.
    pub short_secrets: Vec<(String, usize)>,
    /// Operators with the role `own`.
    pub owners: usize,
    /// Descriptors that the process may have, and connections over HTTP that it takes at most.
    pub descriptors: usize,
    /// Connections over HTTP that are taken at most, and how many there are.
    pub connections: (usize, usize),
    /// Whether commits wait for the disk.
    pub waits_for_disk: bool,
    /// Bytes that are free where the records are, and bytes that they take.
    pub disk: Option<(u64, u64)>,
    /// What a hash of a local password costs here.
    pub hash: Option<HashCost>,
    /// Why the records cannot be written at this moment, and what the last check of the whole file has found.
    pub records: (Option<String>, Option<String>),
    /// What the system says of its clock: synchronised or not, where it says anything.
    pub clock_synchronised: Option<bool>,
    /// Steps that people's devices were off when they were last right.
    pub drifts: Vec<i64>,
    /// What is known of push messages.
    pub push: PushFacts,
    /// How old the last backup is, in hours; `None` where nobody says.
    pub backup_hours: Option<u64>,
    /// Whether the service was told where a backup says that it was made.
    pub backup_is_watched: bool,
}

/// What is known of push messages.
#[derive(Debug, Clone, Default)]
pub struct PushFacts {
    /// Handsets that count.
    pub handsets: usize,
    /// Of them, those whose persons have confirmed a notification.
    pub ready: usize,
    /// Of them, those that have subscribed with an older signing key.
    pub old_key: usize,
    /// Push services that are left alone now, and why.
    pub closed: Vec<(String, String)>,
}

/// Bytes of a shared secret that nobody guesses (RFC 2865 section 3 wants 16).
pub const SECRET_BYTES: usize = 16;
/// Days before the end of a certificate from which on it is warned of.
const CERTIFICATE_DAYS: i64 = 30;
/// Devices whose clocks say something about ours.
const DEVICES: usize = 5;
/// Hours after which a backup is old.
const BACKUP_HOURS: u64 = 48;
/// Descriptors that leave room for a rush.
const DESCRIPTORS: usize = 4096;
/// Free bytes below which traces and used codes may soon find no room.
const FREE: u64 = 1024 * 1024 * 1024;

fn good(topic: Topic, said: impl Into<String>) -> Advice {
    Advice { topic, tone: Tone::Good, said: said.into(), remedy: String::new() }
}

fn advise(topic: Topic, tone: Tone, said: impl Into<String>, remedy: impl Into<String>) -> Advice {
    Advice { topic, tone, said: said.into(), remedy: remedy.into() }
}

/// Judges the facts, and the active site with what its check says.
pub fn examine(facts: &Facts, site: Option<&Site>, findings: &[Finding]) -> Vec<Advice> {
    let mut advice = Vec::new();
    listeners(facts, site, &mut advice);
    files(facts, &mut advice);
    certificates(facts, &mut advice);
    settings(site, findings, &mut advice);
    secrets(facts, &mut advice);
    limits(facts, site, &mut advice);
    hashes(facts, site, &mut advice);
    clock(facts, &mut advice);
    backups(facts, &mut advice);
    push(facts, site, &mut advice);
    advice
}

fn push(facts: &Facts, site: Option<&Site>, advice: &mut Vec<Advice>) {
    use Topic::Push;
    let PushFacts { handsets, ready, old_key, closed } = &facts.push;
    if !site.is_some_and(|site| site.chains.iter().any(|chain| chain.wake.contains(&Wake::Push))) || *handsets == 0 {
        return;
    }
    let said = format!("{ready} of {handsets} handsets show notifications");
    advice.push(match ready * 2 >= *handsets {
        true => good(Push, said),
        false => {
            advise(Push, Tone::Warn, said, "see why under People, or with `bivector factor list`, and have people open the handset page")
        }
    });
    if *old_key > 0 {
        let said = format!("{old_key} of {handsets} handsets have subscribed with an older signing key");
        advice.push(advise(Push, Tone::Note, said, "nothing has to be done: each takes over the current one when its page is opened"));
    }
    for (service, why) in closed {
        let remedy = "look at the network between this machine and the push service; `bivector locate` shows the way to one person's phone";
        advice.push(advise(Push, Tone::Bad, format!("{service}: {why}"), remedy));
    }
}

/// The worst of them.
pub fn worst(advice: &[Advice]) -> Tone {
    let rank = |tone: Tone| match tone {
        Tone::Good => 0,
        Tone::Note => 1,
        Tone::Warn => 2,
        Tone::Bad => 3,
    };
    advice.iter().map(|one| one.tone).max_by_key(|tone| rank(*tone)).unwrap_or(Tone::Good)
}

fn listeners(facts: &Facts, site: Option<&Site>, advice: &mut Vec<Advice>) {
    use Topic::Listeners;
    let is_open = |address: &SocketAddr| !address.ip().to_canonical().is_loopback();
    let Some(operators) = facts.operators else { return };
    let page = site.and_then(|site| site.handset.address.as_ref());
    match (is_open(&operators), facts.encrypted) {
        (true, _) => advice.push(advise(
            Listeners,
            Tone::Note,
            format!("API and console can be reached from other machines at {operators}, encrypted"),
            "let only the operators' network reach that port",
        )),
        (false, _) => advice.push(good(Listeners, format!("API and console listen on this machine only, at {operators}"))),
    }
    match (facts.phones, page) {
        (Some(phones), _) => advice.push(good(Listeners, format!("phones have a listener of their own at {phones}, without the API"))),
        (None, Some(page)) => advice.push(advise(
            Listeners,
            Tone::Warn,
            format!("phones reach the handset page at {page} by the listener of API and console"),
            "start the service with `--phones ADDRESS`, and let the proxy for phones lead there",
        )),
        (None, None) => {}
    }
    if page.is_some_and(|page| !page.starts_with("https://") && !page.contains("//localhost")) {
        advice.push(advise(
            Listeners,
            Tone::Bad,
            "the address of the handset page is not encrypted: sessions and codes could be read on the way",
            "put TLS before it, and write `https://` in `address` under `[handset]`",
        ));
    }
    if page.is_some() && !facts.encrypted && facts.proxies == 0 {
        advice.push(advise(
            Listeners,
            Tone::Warn,
            "no proxy is trusted and the service has no certificate: every phone behind a proxy counts as one address",
            "name the proxy with `--proxy ADDRESS` and let it send `Forwarded` (RFC 7239)",
        ));
    }
}

fn files(facts: &Facts, advice: &mut Vec<Advice>) {
    use Topic::Files;
    for (path, mode) in &facts.wide_files {
        let said = format!("others may read `{path}` (mode {mode:04o})");
        advice.push(advise(Files, Tone::Bad, said, format!("run `chmod go= {path}`; the next start does it too")));
    }
    if facts.wide_files.is_empty() {
        advice.push(good(Files, "nobody else may read the data folder"));
    }
    if facts.key_beside_records {
        advice.push(advise(
            Files,
            Tone::Note,
            "the key file lies beside the records: whoever copies the folder can open every secret",
            "move it elsewhere and start with `--key-file FILE`; keep it apart in backups at least",
        ));
    }
    if facts.first_token_left {
        advice.push(advise(
            Files,
            Tone::Note,
            "the token of the first start is still in `operator.token`",
            "make every operator a token of their own, drop the token `first`, and delete the file",
        ));
    }
    if !facts.waits_for_disk {
        advice.push(advise(
            Files,
            Tone::Warn,
            "commits do not wait for the disk: after a power cut used codes could be accepted again",
            "start without `--no-sync`",
        ));
    }
}

fn certificates(facts: &Facts, advice: &mut Vec<Advice>) {
    for (issuer, why) in facts.revocation.iter().filter_map(|(issuer, why)| Some((issuer, why.as_ref()?))) {
        let said = format!("which certificates of `{issuer}` are revoked cannot be found out: {why}");
        let remedy = "check `revocation` and `ocsp` of the issuer; both are tried again in the background";
        advice.push(advise(Topic::Certificates, Tone::Warn, said, remedy));
    }
    let own = facts.own_certificate_days.map(|days| ("the service's own certificate".to_owned(), days));
    let trust = facts.trust_days.iter().map(|(file, days)| (format!("a certificate in `{file}`"), *days));
    for (what, days) in own.into_iter().chain(trust) {
        let (tone, said) = match days {
            ..0 => (Tone::Bad, format!("{what} ended {} days ago", -days)),
            0..CERTIFICATE_DAYS => (Tone::Warn, format!("{what} ends in {days} days")),
            _ => {
                advice.push(good(Topic::Certificates, format!("{what} lasts another {days} days")));
                continue;
            }
        };
        advice.push(advise(Topic::Certificates, tone, said, "put the new one in its place and start the service again"));
    }
}

fn settings(site: Option<&Site>, findings: &[Finding], advice: &mut Vec<Advice>) {
    use Topic::Settings;
    let Some(site) = site else {
        advice.push(advise(Settings, Tone::Note, "no site is active", "apply one with `bivector site apply FILE`"));
        return;
    };
    let before = advice.len();
    let warned = findings.iter().map(|finding| advise(Settings, Tone::Warn, finding.message.clone(), finding.remedy.clone()));
    advice.extend(warned);
    let mut warn = |said: String, remedy: &str| advice.push(advise(Settings, Tone::Warn, said, remedy));
    if site.passwords.after > 20 {
        warn(
            format!("{} wrong passwords may be tried before a person waits", site.passwords.after),
            "set `after` under `[passwords]` to 10",
        );
    }
    if site.lockout.after > 10 {
        warn(
            format!("{} wrong codes may be tried before a person is locked", site.lockout.after),
            "set `after` under `[factors.lockout]` to 5",
        );
    }
    if site.codes.window > 2 {
        let codes = site.codes.window * 2 + 1;
        warn(format!("{codes} codes by time are right at any moment"), "set `window` under `[factors.totp]` to 1");
    }
    if site.traces.keep_unknown_names {
        warn(
            "typed names that nobody is known by are kept, even if they are passwords".into(),
            "take `keep_unknown_names` out of `[traces]`",
        );
    }
    for chain in site.chains.iter().filter(|chain| chain.refusal_pace.is_zero()) {
        warn(
            format!("refusals of `{}` leave at once: their time tells known names from unknown ones", chain.name),
            "take `refusal_pace` out of the chain",
        );
    }
    if advice.len() == before {
        advice.push(good(Settings, "the site's check has no warning, and no limit is wide"));
    }
}

fn secrets(facts: &Facts, advice: &mut Vec<Advice>) {
    use Topic::Secrets;
    for (gateway, length) in &facts.short_secrets {
        let said = format!("the shared secret of `{gateway}` has {length} bytes; whoever records one packet can try guesses at leisure");
        advice.push(advise(Secrets, Tone::Warn, said, "change it over with `bivector secret rotate`, which makes a long one"));
    }
    if facts.short_secrets.is_empty() {
        advice.push(good(Secrets, format!("every gateway's shared secret has {SECRET_BYTES} bytes or more")));
    }
    match facts.owners {
        0 | 1 => advice.push(advise(
            Secrets,
            Tone::Note,
            "one operator alone has the role `own`",
            "give it to a second one, so that nobody's absence locks you out",
        )),
        2..=5 => {}
        many => advice.push(advise(Secrets, Tone::Note, format!("{many} operators have the role `own`"), "give most of them a lesser one")),
    }
}

/// Local logins a second that hashes leave room for, and what the hashes are worth to whoever steals the records.
fn hashes(facts: &Facts, site: Option<&Site>, advice: &mut Vec<Advice>) {
    let Some(cost) = facts.hash.filter(|cost| cost.each_us > 0) else { return };
    let settings = site.map(|site| site.passwords.hash).unwrap_or_default();
    let said = format!(
        "a hash of a local password takes {} ms here ({} MiB, {} passes), {} at one time: {} local logins a second at most",
        cost.each_us / 1000,
        settings.memory_mib,
        settings.passes,
        cost.at_once,
        u64::from(cost.at_once) * 1_000_000 / cost.each_us
    );
    let usual = HashSettings::default();
    advice.push(if settings.memory_mib * settings.passes < usual.memory_mib * usual.passes {
        advise(
            Topic::Limits,
            Tone::Warn,
            said,
            "raise `memory_mib` or `passes` under `[passwords.hash]`: guesses at stolen records are cheap",
        )
    } else {
        good(Topic::Limits, said)
    });
}

fn limits(facts: &Facts, site: Option<&Site>, advice: &mut Vec<Advice>) {
    let (most, open) = facts.connections;
    if facts.descriptors < DESCRIPTORS {
        advice.push(advise(
            Topic::Descriptors,
            Tone::Warn,
            format!("the process may open {} files, which leaves {most} connections over HTTP", facts.descriptors),
            "raise the limit of open files (`LimitNOFILE=65536` in a systemd unit)",
        ));
    } else {
        advice.push(good(
            Topic::Descriptors,
            format!("the process may open {} files; {open} of {most} connections are open", facts.descriptors),
        ));
    }
    if open * 10 > most * 8 {
        let said = format!("{open} of {most} connections over HTTP are open");
        advice.push(advise(Topic::Limits, Tone::Warn, said, "look who holds them, and raise the limit of open files"));
    }
    if let Some(site) = site {
        let all = site.radius.logins_in_flight;
        advice.push(good(Topic::Limits, format!("{all} logins may be undecided at one time, some {} MiB", (all * 4).div_ceil(1024))));
    }
    match facts.disk {
        Some((free, used)) if free < FREE => advice.push(advise(
            Topic::Limits,
            Tone::Bad,
            format!("{} MiB are free where the records are; they take {} MiB", free >> 20, used >> 20),
            "make room: nobody gets in with a code once it cannot be marked as used",
        )),
        Some((free, used)) => {
            advice.push(good(Topic::Limits, format!("{} GiB are free where the records are; they take {} MiB", free >> 30, used >> 20)));
        }
        None => {}
    }
}

fn clock(facts: &Facts, advice: &mut Vec<Advice>) {
    use Topic::Clock;
    match facts.clock_synchronised {
        Some(true) => advice.push(good(Clock, "the system says that its clock is synchronised")),
        Some(false) => advice.push(advise(
            Clock,
            Tone::Warn,
            "the system says that its clock is not synchronised",
            "run a time service such as chrony; codes by time and Kerberos need it",
        )),
        None => advice.push(advise(
            Clock,
            Tone::Note,
            "nothing here says whether the clock is synchronised",
            "run a time service such as chrony",
        )),
    }
    let mut drifts = facts.drifts.clone();
    drifts.sort_unstable();
    let Some(middle) = drifts.get(drifts.len() / 2).filter(|_| drifts.len() >= DEVICES) else { return };
    if *middle != 0 {
        let side = if *middle < 0 { "late" } else { "early" };
        advice.push(advise(
            Clock,
            Tone::Warn,
            format!(
                "half of {} devices are {} steps {side} or more: it is rather this machine's clock that is wrong",
                drifts.len(),
                middle.abs()
            ),
            "compare this machine's clock with another one",
        ));
    } else {
        advice.push(good(Clock, format!("the clocks of {} people's devices agree with this machine's", drifts.len())));
    }
}

fn backups(facts: &Facts, advice: &mut Vec<Advice>) {
    use Topic::Backups;
    let how =
        "copy `records.db` with `sqlite3 records.db \".backup FILE\"` while the service runs, the trust files, and the key file apart";
    if let Some(why) = &facts.records.0 {
        let remedy = "make room, or correct the rights of the data folder; logins that depend on a record are refused until then";
        advice.push(advise(Backups, Tone::Bad, format!("the records cannot be written: {why}"), remedy));
    }
    if let Some(found) = &facts.records.1 {
        let remedy = "stop the service and restore the data folder from the last backup";
        advice.push(advise(Backups, Tone::Bad, format!("the records are damaged: {found}"), remedy));
    }
    match (facts.backup_is_watched, facts.backup_hours) {
        (false, _) => advice.push(advise(
            Backups,
            Tone::Warn,
            "nothing says when the data folder was last backed up",
            format!("{how}; let the backup touch a file, and name it with `--backup-stamp FILE`"),
        )),
        (true, None) => advice.push(advise(Backups, Tone::Bad, "no backup has been made yet: its stamp is missing", how)),
        (true, Some(hours)) if hours > BACKUP_HOURS => {
            advice.push(advise(Backups, Tone::Warn, format!("the last backup is {hours} hours old"), "look why the backup does not run"));
        }
        (true, Some(hours)) => advice.push(good(Backups, format!("the last backup is {hours} hours old"))),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn sound() -> Facts {
        Facts {
            operators: Some("127.0.0.1:18180".parse().unwrap()),
            owners: 2,
            descriptors: 65_536,
            connections: (16_384, 3),
            waits_for_disk: true,
            disk: Some((50 << 30, 20 << 20)),
            clock_synchronised: Some(true),
            drifts: vec![0, 0, 1, 0, -1],
            backup_is_watched: true,
            backup_hours: Some(7),
            own_certificate_days: Some(200),
            ..Facts::default()
        }
    }

    fn of(facts: &Facts, topic: Topic) -> Vec<(Tone, String)> {
        let advice = examine(facts, None, &[]);
        advice.into_iter().filter(|one| one.topic == topic).map(|one| (one.tone, one.said)).collect()
    }

    #[test]
    fn push_is_reviewed_where_a_chain_wakes_people_by_it() {
        let site = Site::read(include_str!("../../../demo/site.toml"), &bivector_site::Known::default()).0.unwrap();
        let of = |push: PushFacts| {
            let advice = examine(&Facts { push, ..sound() }, Some(&site), &[]);
            advice.into_iter().filter(|one| one.topic == Topic::Push).map(|one| (one.tone, one.said)).collect::<Vec<_>>()
        };
        assert_eq!(of(PushFacts::default()), [], "nobody has a handset");
        let some = |ready, old_key| PushFacts { handsets: 10, ready, old_key, closed: Vec::new() };
        assert_eq!(of(some(5, 0)), [(Tone::Good, "5 of 10 handsets show notifications".into())]);
        assert_eq!(of(some(4, 0))[0].0, Tone::Warn);
        assert_eq!(of(some(9, 2))[1], (Tone::Note, "2 of 10 handsets have subscribed with an older signing key".into()));
        let closed = vec![("https://push.example.net".into(), "the push service asks to wait (429)".into())];
        let bad = of(PushFacts { closed, ..some(9, 0) });
        assert_eq!(bad[1], (Tone::Bad, "https://push.example.net: the push service asks to wait (429)".into()));
        assert_eq!(examine(&Facts { push: some(0, 0), ..sound() }, None, &[]).iter().filter(|one| one.topic == Topic::Push).count(), 0);
    }

    #[test]
    fn a_sound_service_is_told_so_topic_by_topic_and_every_other_advice_has_a_remedy() {
        let advice = examine(&sound(), None, &[]);
        assert_eq!(worst(&advice), Tone::Note, "only the site is missing: {advice:#?}");
        let broken = Facts {
            wide_files: vec![("records.db".into(), 0o644)],
            short_secrets: vec![("slipway".into(), 8)],
            disk: Some((1 << 20, 1 << 30)),
            ..Facts::default()
        };
        for one in examine(&broken, None, &[]).into_iter().chain(advice) {
            assert_eq!(one.tone == Tone::Good, one.remedy.is_empty(), "{one:?}");
            assert!(!one.said.ends_with('.') && !one.remedy.ends_with('.'), "{one:?}");
        }
    }

    #[test]
    fn each_weakness_is_named_under_its_topic() {
        let cases: [(Facts, Topic, Tone, &str); 10] = [
            (Facts { wide_files: vec![("seal.key".into(), 0o640)], ..sound() }, Topic::Files, Tone::Bad, "seal.key"),
            (Facts { waits_for_disk: false, ..sound() }, Topic::Files, Tone::Warn, "power cut"),
            (Facts { own_certificate_days: Some(-2), ..sound() }, Topic::Certificates, Tone::Bad, "ended 2 days ago"),
            (Facts { trust_days: vec![("tidehall-ca.pem".into(), 9)], ..sound() }, Topic::Certificates, Tone::Warn, "ends in 9 days"),
            (
                Facts { revocation: vec![("badges".into(), Some("badges.crl: no such file".into()))], ..sound() },
                Topic::Certificates,
                Tone::Warn,
                "which certificates of `badges` are revoked cannot be found out",
            ),
            (Facts { descriptors: 1024, connections: (512, 0), ..sound() }, Topic::Descriptors, Tone::Warn, "1024 files"),
            (Facts { connections: (100, 90), ..sound() }, Topic::Limits, Tone::Warn, "90 of 100"),
            (Facts { drifts: vec![-3; 6], ..sound() }, Topic::Clock, Tone::Warn, "this machine's clock"),
            (Facts { backup_hours: None, ..sound() }, Topic::Backups, Tone::Bad, "no backup"),
            (Facts { short_secrets: vec![("slipway".into(), 8)], ..sound() }, Topic::Secrets, Tone::Warn, "8 bytes"),
        ];
        for (facts, topic, tone, said) in cases {
            let seen = of(&facts, topic);
            assert!(seen.iter().any(|(own, text)| *own == tone && text.contains(said)), "{said}: {seen:?}");
        }
        assert_eq!(of(&Facts { drifts: vec![-3; 4], ..sound() }, Topic::Clock).len(), 1, "four devices say nothing about our clock");
    }
}
