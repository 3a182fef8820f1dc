//! What a change of the site means, in sentences, and whether it makes logging in weaker.

use super::{
    Chain, ConfirmedBy, Courier, CourierBy, Directory, Eap, FirstSource, Gateway, HashSettings, Issuer, PasswordFields, Push, Responder,
    Site, SourceWhen, Upstream, Waived, Wake, WhenDown, WhenNotEnrolled, WhenSecondIsDown, WhenUnanswered, WhenUnknown,
};
use crate::rehearsal::{Persona, Rehearsal, RehearsedLogin};
use bivector_model::grant::Grant;
use bivector_model::pool::AddressPool;
use bivector_model::rule::{Rule, Then, When};
use bivector_wire::IntegrityPolicy;
use serde::{Deserialize, Serialize};
use std::time::Duration;
use utoipa::ToSchema;

/// One difference between two sites.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Difference {
    /// What it is about, such as `chain staff`.
    pub about: String,
    /// What changes, in a sentence.
    pub said: String,
    /// Whether it makes logging in weaker.
    pub weaker: bool,
    /// Its line in the new file, where it stands there.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub line: Option<u32>,
}

/// Gathers what differs about one thing.
struct About<'d> {
    about: String,
    line: Option<u32>,
    found: &'d mut Vec<Difference>,
}

impl About<'_> {
    fn say(&mut self, said: impl Into<String>) {
        self.push(said.into(), false);
    }

    fn weaker(&mut self, said: impl Into<String>) {
        self.push(said.into(), true);
    }

    fn push(&mut self, said: String, weaker: bool) {
        self.found.push(Difference { about: self.about.clone(), said, weaker, line: self.line });
    }

    /// A value that is told with what it was and is.
    fn value<T: PartialEq>(&mut self, what: &str, old: &T, new: &T, show: impl Fn(&T) -> String) {
        if old != new {
            self.say(format!("{what}: {} (was {})", show(new), show(old)));
        }
    }

    /// A list in which things are added and taken out; gives what was added and what was taken out.
    fn list(&mut self, what: &str, old: &[String], new: &[String]) {
        let missing = |from: &[String], list: &[String]| from.iter().filter(|one| !list.contains(one)).cloned().collect::<Vec<_>>();
        let (added, gone) = (missing(new, old), missing(old, new));
        if !added.is_empty() {
            self.say(format!("{what}: added {}", added.join(", ")));
        }
        if !gone.is_empty() {
            self.say(format!("{what}: removed {}", gone.join(", ")));
        }
        if added.is_empty() && gone.is_empty() && old != new {
            self.say(format!("{what}: new order {}", new.join(", ")));
        }
    }
}

/// Everything that differs, in the order of the file's sections.
pub fn compare(old: &Site, new: &Site) -> Vec<Difference> {
    let mut found = Vec::new();
    let mut site = About { about: "site".into(), line: None, found: &mut found };
    site.value("name", &old.name, &new.name, Clone::clone);
    site.list("doors", &texts(&old.radius.listen), &texts(&new.radius.listen));
    site.list("accounting doors", &texts(&old.radius.accounting), &texts(&new.radius.accounting));
    site.value("time until a session begins", &old.radius.session_within, &new.radius.session_within, time);
    site.value("logins in flight", &old.radius.logins_in_flight, &new.radius.logins_in_flight, ToString::to_string);
    site.value("replies kept", &old.radius.replies_kept, &new.radius.replies_kept, time);
    let kept = |keeping: &super::TraceKeeping| super::TraceKeeping { keep_unknown_names: false, ..*keeping };
    site.value("traces kept", &kept(&old.traces), &kept(&new.traces), ToString::to_string);
    match (old.traces.keep_unknown_names, new.traces.keep_unknown_names) {
        (false, true) => {
            site.weaker("names that nobody is known by are kept as they were typed, even if they are passwords in the wrong field")
        }
        (true, false) => site.say("of names that nobody is known by only the beginning is kept"),
        _ => {}
    }
    codes(old, new, &mut site);
    each(
        "gateway",
        &old.gateways,
        &new.gateways,
        |gateway| (&gateway.name, gateway.line),
        &mut found,
        |was, is, about| {
            gateway(was, is, (old, new), about);
        },
    );
    each("directory", &old.directories, &new.directories, |one| (&one.name, one.line), &mut found, directory);
    each("issuer", &old.issuers, &new.issuers, |one| (&one.name, one.line), &mut found, issuer);
    each("courier", &old.couriers, &new.couriers, |one| (&one.name, one.line), &mut found, courier);
    each("upstream", &old.upstreams, &new.upstreams, |one| (&one.name, one.line), &mut found, upstream);
    each(
        "chain",
        &old.chains,
        &new.chains,
        |chain| (&chain.name, chain.line),
        &mut found,
        |was, is, about| chain((was, old), (is, new), about),
    );
    each("pool", &old.pools, &new.pools, |pool| (&pool.name, pool.line), &mut found, pool);
    each("grant", &old.grants, &new.grants, |grant| (&grant.name, grant.line), &mut found, grant);
    each(
        "persona",
        &old.personas,
        &new.personas,
        |one| (&one.name, one.line),
        &mut found,
        |was, is, about| {
            if (Persona { line: 0, ..was.clone() }) != (Persona { line: 0, ..is.clone() }) {
                about.say("types or holds something else");
            }
        },
    );
    each(
        "rehearsal",
        &old.rehearsals,
        &new.rehearsals,
        |one| (&one.name, one.line),
        &mut found,
        |was, is, about| {
            rehearsal((was, old), (is, new), about);
        },
    );
    found
}

/// Pairs things by name: those that are new, gone, and changed.
fn each<T>(
    what: &str,
    old: &[T],
    new: &[T],
    key: impl Fn(&T) -> (&String, u32),
    found: &mut Vec<Difference>,
    mut differ: impl FnMut(&T, &T, &mut About<'_>),
) {
    for is in new {
        let (name, line) = key(is);
        let mut about = About { about: format!("{what} {name}"), line: Some(line), found };
        match old.iter().find(|was| key(was).0 == name) {
            Some(was) => differ(was, is, &mut about),
            None => about.say("added"),
        }
    }
    for was in old.iter().filter(|was| !new.iter().any(|is| key(is).0 == key(was).0)) {
        About { about: format!("{what} {}", key(was).0), line: None, found }.say("removed");
    }
}

/// How codes are read and sent, and when wrong ones lock.
fn codes(old: &Site, new: &Site, site: &mut About<'_>) {
    let mut wider = |what: &str, old: u64, new: u64| match new.cmp(&old) {
        std::cmp::Ordering::Greater => site.weaker(format!("{what} {new} (was {old})")),
        std::cmp::Ordering::Less => site.say(format!("{what} {new} (was {old})")),
        std::cmp::Ordering::Equal => {}
    };
    wider("TOTP window (time steps each way):", old.codes.window, new.codes.window);
    wider("TOTP drift limit (time steps):", old.codes.drift, new.codes.drift);
    wider("HOTP look-ahead:", old.codes.look_ahead, new.codes.look_ahead);
    wider("wrong codes before lockout:", u64::from(old.lockout.after), u64::from(new.lockout.after));
    wider("wrong passwords before a person waits:", u64::from(old.passwords.after), u64::from(new.passwords.after));
    wider("wrong passwords before a caller waits:", u64::from(old.passwords.per_caller), u64::from(new.passwords.per_caller));
    wider("lifetime of sent codes (s):", old.sending.lasts.as_secs(), new.sending.lasts.as_secs());
    if new.lockout.time < old.lockout.time {
        site.weaker(format!("a lock lasts {} (was {})", time(&new.lockout.time), time(&old.lockout.time)));
    } else {
        site.value("how long a lock lasts", &old.lockout.time, &new.lockout.time, time);
    }
    let (before, after) = (old.passwords.hash, new.passwords.hash);
    let work = |hash: HashSettings| u64::from(hash.memory_mib) * u64::from(hash.passes);
    let hashed = |hash: &HashSettings| format!("{} MiB and {} passes", hash.memory_mib, hash.passes);
    match work(after) < work(before) {
        true => site.weaker(format!("new password hashes take {} (was {})", hashed(&after), hashed(&before))),
        false => site.value("new hashes of passwords", &before, &after, hashed),
    }
    for (what, old, new) in [
        ("the first wait after wrong passwords", old.passwords.wait, new.passwords.wait),
        ("the longest wait after wrong passwords", old.passwords.longest, new.passwords.longest),
    ] {
        if new < old {
            site.weaker(format!("{what} is {} (was {})", time(&new), time(&old)));
        } else {
            site.value(what, &old, &new, time);
        }
    }
    if new.sending.digits < old.sending.digits {
        site.weaker(format!("sent codes have {} digits (was {})", new.sending.digits, old.sending.digits));
    } else {
        site.value("digits of codes that are sent", &old.sending.digits, &new.sending.digits, ToString::to_string);
    }
    site.value("counters ahead in which two codes bring a device back", &old.codes.resync, &new.codes.resync, ToString::to_string);
    let limits = |sending: &super::Sending| {
        format!(
            "{} more in one login, {} to one person in an hour, {} in a minute",
            sending.resends, sending.per_person, sending.per_minute
        )
    };
    let bounds = |site: &Site| (site.sending.resends, site.sending.per_person, site.sending.per_minute);
    if bounds(old) != bounds(new) {
        site.say(format!("limits of sent codes: {} (was {})", limits(&new.sending), limits(&old.sending)));
    }
    handset(old, new, site);
    site.value("how long a prompt may be answered", &old.prompt_lasts, &new.prompt_lasts, time);
    if old.texts != new.texts {
        site.say("texts that people read change");
    }
}

/// How people get their devices, and how far approvals go.
fn handset(old: &Site, new: &Site, site: &mut About<'_>) {
    let (was, is) = (&old.handset, &new.handset);
    match (was.confirmed_by, is.confirmed_by) {
        (ConfirmedBy::Operator, ConfirmedBy::Invitation) => site.weaker("new devices no longer need confirmation by an operator"),
        (ConfirmedBy::Invitation, ConfirmedBy::Operator) => site.say("new devices count once an operator has confirmed them"),
        _ => {}
    }
    site.value("where the handset page is reached", &was.address, &is.address, |address| {
        address.clone().unwrap_or_else(|| "nowhere".into())
    });
    let chain = |site: &Site| site.handset.chain.and_then(|index| site.chains.get(index)).map_or("none", |chain| &chain.name).to_owned();
    site.value("the chain that signs people in to their own page", &chain(old), &chain(new), Clone::clone);
    site.value("how long an invitation may be used", &was.invitation_lasts, &is.invitation_lasts, time);
    site.value("approvals for one person in an hour", &was.per_person, &is.per_person, ToString::to_string);
    if is.stop < was.stop {
        site.weaker(format!("\"that was not me\" stops approvals for {} (was {})", time(&is.stop), time(&was.stop)));
    } else {
        site.value("how long \"that was not me\" stops approvals", &was.stop, &is.stop, time);
    }
    if was.shows_code != is.shows_code {
        site.say(if is.shows_code { "handsets show the person's codes" } else { "handsets no longer show codes" });
    }
    push(&old.push, &new.push, site);
    site.value("silent sessions count as lost after", &old.sessions.lost_after, &new.sessions.lost_after, time);
    site.value("sessions that are kept", &old.sessions.count, &new.sessions.count, ToString::to_string);
    site.value("time zone", &old.zone, &new.zone, |zone| zone.iana_name().unwrap_or("UTC").to_owned());
    eap(&old.eap, &new.eap, site);
    let who = |site: &Site| site.newcomers.iter().map(|one| (one.group.clone(), one.factor, one.send_by)).collect::<Vec<_>>();
    if who(old) != who(new) {
        site.say("the factors offered to newcomers change");
    }
}

fn push(old: &Push, new: &Push, site: &mut About<'_>) {
    site.list("push services", &texts(&old.services.0), &texts(&new.services.0));
    let known = |text: &Option<String>| text.clone().unwrap_or_else(|| "none".into());
    site.value("the contact that push services are told", &old.contact, &new.contact, known);
    site.value("the proxy to push services", &old.proxy, &new.proxy, known);
    site.value("time for a push service to accept a message", &old.patience, &new.patience, time);
    site.value("push messages for one person in an hour", &old.per_person, &new.per_person, ToString::to_string);
    site.value("lifetime of the push signing key", &old.key_lasts, &new.key_lasts, time);
}

fn issuer(old: &Issuer, new: &Issuer, about: &mut About<'_>) {
    about.value("the certificates that are trusted", &old.trust, &new.trust, Clone::clone);
    about.value("the name that says whose a certificate is", &old.name_from, &new.name_from, |from| from.words().to_owned());
    about.list("revocation lists", &old.lists, &new.lists);
    match (&old.responder, &new.responder) {
        (Some(_), None) => about.weaker("its OCSP responder is not asked any more"),
        (old, new) => about.value("the OCSP responder", old, new, |one| one.as_ref().map_or("none", Responder::name).to_owned()),
    }
    about.value("how often revocation lists are read", &old.refresh, &new.refresh, time);
    match (old.when_unknown, new.when_unknown) {
        (WhenUnknown::Refuse, WhenUnknown::Accept) => about.weaker("certificates whose status is not known are accepted"),
        (WhenUnknown::Accept, WhenUnknown::Refuse) => about.say("certificates whose status is not known are refused"),
        _ => {}
    }
    match (old.same_person, new.same_person) {
        (true, false) => about.weaker("certificate and password may belong to different people"),
        (false, true) => about.say("certificate and password must belong to the same person"),
        _ => {}
    }
    if old.of_devices != new.of_devices {
        about.say(if new.of_devices { "its certificates belong to devices" } else { "its certificates belong to people" });
    }
    if new.key_bits < old.key_bits {
        about.weaker(format!("RSA keys of {} bits are accepted (was {})", new.key_bits, old.key_bits));
    } else {
        about.value("bits of an RSA key at least", &old.key_bits, &new.key_bits, ToString::to_string);
    }
}

fn eap(old: &Eap, new: &Eap, site: &mut About<'_>) {
    let files = |eap: &Eap| eap.certificate.as_ref().map_or_else(|| "none".to_owned(), |files| format!("`{}`", files.certificate));
    site.value("the server's certificate for EAP", &files(old), &files(new), Clone::clone);
    match (old.tls12, new.tls12) {
        (false, true) => site.weaker("EAP accepts TLS 1.2 again"),
        (true, false) => site.say("EAP accepts TLS 1.3 only"),
        _ => {}
    }
    let resume = |eap: &Eap| eap.resume.unwrap_or_default();
    match resume(old) < resume(new) {
        true => site.weaker(format!("a TLS session may be resumed without the password for {}", time(&resume(new)))),
        false => site.value("time for which a TLS session may be resumed", &resume(old), &resume(new), time),
    }
    site.value("bytes of TLS data in an EAP packet", &old.fragment, &new.fragment, ToString::to_string);
    site.value("EAP conversations that may be open at once", &old.conversations, &new.conversations, ToString::to_string);
    site.value("time without a packet after which an EAP conversation ends", &old.idle, &new.idle, time);
}

fn courier(old: &Courier, new: &Courier, about: &mut About<'_>) {
    about.value("carries", &old.carries, &new.carries, |carries| carries.name().to_owned());
    let clear = |courier: &Courier| match &courier.by {
        CourierBy::Http { url, .. } => url.starts_with("http://"),
        CourierBy::Smtp { server, start_tls, .. } => !server.tls && !start_tls,
    };
    match (clear(old), clear(new)) {
        (false, true) => about.weaker("codes are sent to it unencrypted"),
        (true, false) => about.say("codes are now sent to it encrypted"),
        _ => {}
    }
    if old.by != new.by {
        about.say("its address or protocol changes");
    }
    about.value("secret", &old.secret, &new.secret, |name| name.as_ref().map_or("none".into(), |name| format!("`{name}`")));
    about.value("trust", &old.trust, &new.trust, |trust| trust.clone().unwrap_or_else(|| "the usual issuers".into()));
    about.value("patience", &old.patience, &new.patience, time);
}

/// Whom a chain lets in without a second factor, and when.
fn exceptions(old: &Chain, new: &Chain, about: &mut About<'_>) {
    match (old.code_only, new.code_only) {
        (false, true) => about.weaker("the password is no longer checked here"),
        (true, false) => about.say("the password is checked here now"),
        _ => {}
    }
    match (old.when_second_is_down, new.when_second_is_down) {
        (was, is) if was == is => {}
        (_, WhenSecondIsDown::FirstOnly) => about.weaker("if the second factor is unavailable, the first check alone is now enough"),
        (_, WhenSecondIsDown::Next) => about.say("if a second factor is unavailable, people are asked for their next one"),
        (_, WhenSecondIsDown::Refuse) => about.say("if the second factor is unavailable, the login is now refused"),
    }
    match (old.when_not_enrolled, new.when_not_enrolled) {
        (was, is) if was == is => {}
        (_, WhenNotEnrolled::LetInUntil(_)) => about.weaker("people without a factor can log in with the first check alone until a date"),
        (_, WhenNotEnrolled::Enrol) => about.weaker("people without a factor may set one up with the first check alone"),
        (_, WhenNotEnrolled::Refuse) => about.say("people without a factor are refused now"),
    }
    match (old.remember, new.remember) {
        (was, is) if was == is => {}
        (was, Some(is)) if was.is_none_or(|was| was < is) => {
            about.weaker(format!("a device is remembered and needs no second factor for {}", time(&is)))
        }
        (_, Some(is)) => about.say(format!("a device is remembered for {}", time(&is))),
        (_, None) => about.say("devices are no longer remembered"),
    }
    if old.match_number && !new.match_number && new.asks_handsets() {
        about.weaker("approvals no longer ask for the number that the gateway shows");
    } else if !old.match_number && new.match_number {
        about.say("approvals ask for the number that the gateway shows");
    }
    about.value("how long an approval may take", &old.second_patience, &new.second_patience, time);
    if old.when_unanswered != new.when_unanswered {
        about.say(match new.when_unanswered {
            WhenUnanswered::Refuse => "an approval that nobody answers refuses the login",
            WhenUnanswered::Next => "an approval that nobody answers passes people on to their next factor",
        });
    }
    let line = about.line;
    for waiver in new.waive.iter().filter(|waiver| !old.waive.iter().any(|was| was.who == waiver.who)) {
        about.line = Some(waiver.line);
        about.weaker(format!("{} no longer need a second factor ({})", whom(&waiver.who), waiver.reason));
    }
    about.line = line;
    for gone in old.waive.iter().filter(|was| !new.waive.iter().any(|waiver| waiver.who == was.who)) {
        about.say(format!("{} need a second factor now", whom(&gone.who)));
    }
}

fn whom(who: &Waived) -> String {
    match who {
        Waived::Network(ranges) => format!("people at {}", texts(ranges).join(", ")),
        Waived::Group(groups) => format!("members of {}", groups.join(", ")),
        Waived::Person(people) => format!("people called {}", people.join(", ")),
    }
}

fn gateway(old: &Gateway, new: &Gateway, (old_site, new_site): (&Site, &Site), about: &mut About<'_>) {
    let from = |gateway: &Gateway| {
        gateway.from.iter().map(bivector_model::addresses::show).chain(gateway.hosts.iter().cloned()).collect::<Vec<_>>()
    };
    about.list("addresses", &from(old), &from(new));
    about.value("secret", &old.secret, &new.secret, |name| format!("`{name}`"));
    match (old.integrity, new.integrity) {
        (IntegrityPolicy::Required, IntegrityPolicy::WhenPresent) => {
            about.weaker("its requests no longer need Message-Authenticator: an attacker on the network path can forge them");
        }
        (IntegrityPolicy::WhenPresent, IntegrityPolicy::Required) => about.say("its requests have to be signed now"),
        _ => {}
    }
    if !old.identifiers.is_empty() && new.identifiers.is_empty() {
        about.weaker("NAS-Identifier is no longer checked");
    } else {
        about.list("device names", &old.identifiers, &new.identifiers);
    }
    about.value("labels", &old.labels, &new.labels, |labels| {
        if labels.is_empty() {
            "none".into()
        } else {
            labels.iter().map(|(key, value)| format!("{key} {value}")).collect::<Vec<_>>().join(", ")
        }
    });
    about.value("character set", &old.charset, &new.charset, |charset| format!("{charset:?}").to_lowercase());
    about.value("patience", &old.patience, &new.patience, |patience| {
        patience.map_or("not stated".into(), |patience| format!("{} per try, {} tries", time(&patience.wait), patience.tries))
    });
    about.value("client patience", &old.client_patience, &new.client_patience, |patience| {
        patience.map_or("not stated".into(), |patience| time(&patience))
    });
    about.value("returns a Class that leads to the login", &old.session_class, &new.session_class, yes);
    about.value("takes requests to end sessions", &old.dynamic, &new.dynamic, |dynamic| {
        dynamic.as_ref().map_or_else(|| "no".to_owned(), |dynamic| format!("at {}", dynamic.to))
    });
    about.value("reads password fields as", &old.fields, &new.fields, |fields| match fields {
        PasswordFields::One => "one text".into(),
        PasswordFields::Packed => "two, packed as SCRV1".into(),
    });
    about.value("shows prompts", &old.shows_challenges, &new.shows_challenges, yes);
    about.value("shows the text of a refusal", &old.shows_refusals, &new.shows_refusals, |shows| {
        shows.as_ref().map_or("not stated".into(), yes)
    });
    match (old.joins_without_caller, new.joins_without_caller) {
        (false, true) => about.weaker("a login without a caller joins an approval that waits for another one"),
        (true, false) => about.say("a login without a caller joins no approval any more"),
        _ => {}
    }
    about.value("language", &old.language, &new.language, |tag| if tag.is_empty() { "the site's".into() } else { tag.clone() });
    about.value("longest prompt", &old.prompt_limit, &new.prompt_limit, |bytes| format!("{bytes} bytes"));
    about.value("logins in flight", &old.logins_in_flight, &new.logins_in_flight, ToString::to_string);
    let names = |gateway: &Gateway, site: &Site| site.chains_of(gateway).into_iter().map(str::to_owned).collect::<Vec<_>>();
    about.list("chains", &names(old, old_site), &names(new, new_site));
}

fn directory(old: &Directory, new: &Directory, about: &mut About<'_>) {
    let urls = |directory: &Directory| directory.servers.iter().map(|server| server.url.clone()).collect::<Vec<_>>();
    about.list("servers", &urls(old), &urls(new));
    let clear = |directory: &Directory| !directory.start_tls && directory.servers.iter().any(|server| !server.tls);
    match (clear(old), clear(new)) {
        (false, true) => about.weaker("passwords are sent to it unencrypted"),
        (true, false) => about.say("passwords are now sent to it encrypted"),
        _ => {}
    }
    about.value("pool", &old.pool, &new.pool, |pool| format!("{pool:?}").to_lowercase());
    about.value("kind", &old.kind, &new.kind, |kind| format!("{kind:?}"));
    about.value("trust", &old.trust, &new.trust, |trust| trust.clone().unwrap_or_else(|| "the usual issuers".into()));
    about.value("base", &old.base, &new.base, |base| format!("`{base}`"));
    about.value("scope", &old.scope, &new.scope, |scope| format!("{scope:?}").to_lowercase());
    about.value("naming attributes", &old.login, &new.login, |login| format!("`{}`", login.join("`, `")));
    about.value("service account", &old.reader, &new.reader, |reader| reader.as_ref().map_or("nobody".into(), |reader| reader.dn.clone()));
    about.value("binds are made as", &old.bind_as, &new.bind_as, |bind| format!("{bind:?}"));
    if old.groups != new.groups {
        about.say("the way groups are read changes");
    }
    about.value("attributes of people", &old.attributes, &new.attributes, |own| {
        let hash = own.nt_hash.as_ref().map(|hash| format!(", {hash}")).unwrap_or_default();
        format!("{}, {}, {}{hash}", own.mail, own.phone, own.language)
    });
    about.value("connect patience", &old.connect_patience, &new.connect_patience, time);
    about.value("answer patience", &old.answer_patience, &new.answer_patience, time);
    about.value("hedge", &old.hedge, &new.hedge, time);
    about.value("connections per server", &old.connections, &new.connections, ToString::to_string);
}

fn upstream(old: &Upstream, new: &Upstream, about: &mut About<'_>) {
    let urls = |upstream: &Upstream| upstream.servers.iter().map(|server| server.url.clone()).collect::<Vec<_>>();
    about.list("servers", &urls(old), &urls(new));
    about.value("secret", &old.secret, &new.secret, |name| format!("`{name}`"));
    if (old.integrity, new.integrity) == (IntegrityPolicy::Required, IntegrityPolicy::WhenPresent) {
        about.weaker("its replies no longer have to be signed: whoever can write to the network between can forge an accept");
    } else {
        about.value("replies signed", &old.integrity, &new.integrity, |policy| format!("{policy:?}").to_lowercase());
    }
    about.value("pool", &old.pool, &new.pool, |pool| format!("{pool:?}").to_lowercase());
    about.value("source address", &old.source_address, &new.source_address, |own| {
        own.map_or("the system's choice".into(), |own| own.to_string())
    });
    about.value("wait per try", &old.wait, &new.wait, time);
    about.value("tries", &old.tries, &new.tries, ToString::to_string);
    about.list("attributes up", &texts(&old.up), &texts(&new.up));
    about.list("attributes back", &texts(&old.back), &texts(&new.back));
    about.value("name", &old.name_as, &new.name_as, |name| format!("{name:?}").to_lowercase());
    about.value("groups from", &old.groups_from, &new.groups_from, |from| from.map_or("nowhere".into(), |from| from.to_string()));
    about.value("status checks", &old.status_checks, &new.status_checks, yes);
}

fn chain((old, old_site): (&Chain, &Site), (new, new_site): (&Chain, &Site), about: &mut About<'_>) {
    if !old.second.is_empty() && new.second.is_empty() {
        about.weaker("the second factor is no longer asked for");
    } else if old.second.is_empty() && !new.second.is_empty() {
        about.say("a second factor is asked for now");
    } else {
        about.list("second factor", &factors(old, old_site), &factors(new, new_site));
    }
    about.list("sources", &sources(old, old_site), &sources(new, new_site));
    match (old.when_source_is_down, new.when_source_is_down) {
        (WhenDown::Refuse, WhenDown::Next) => about.weaker("if a source cannot answer, the next one is asked"),
        (WhenDown::Next, WhenDown::Refuse) => about.say("a source that cannot answer refuses the login now"),
        _ => {}
    }
    about.list("methods", &names(&old.methods, |method| method.name()), &names(&new.methods, |method| method.name()));
    let issuers = |chain: &Chain, site: &Site| {
        chain.issuers.iter().filter_map(|index| site.issuers.get(*index)).map(|issuer| issuer.name.clone()).collect::<Vec<_>>()
    };
    match (old.issuers.is_empty(), new.issuers.is_empty()) {
        (false, true) => about.weaker("a certificate is no longer asked for"),
        _ => about.list("issuers of certificates", &issuers(old, old_site), &issuers(new, new_site)),
    }
    about.list("forms", &texts(&old.forms), &texts(&new.forms));
    about
        .value("reading used when no code is valid", &old.when_unclear, &new.when_unclear, |unclear| format!("{unclear:?}").to_lowercase());
    exceptions(old, new, about);
    let ways = |chain: &Chain, site: &Site| {
        let name = |wake: &Wake| match wake {
            Wake::Push => "push".to_owned(),
            Wake::Courier(index) => site.couriers.get(*index).map_or_else(String::new, |courier| courier.name.clone()),
        };
        chain.wake.iter().map(name).collect::<Vec<_>>()
    };
    about.list("what wakes people for an approval", &ways(old, old_site), &ways(new, new_site));
    about.value("time until the next way to wake people is tried", &old.wake_after, &new.wake_after, time);
    let spelt = |chain: &Chain| chain.spelt.clone();
    about.list("factor words", &spelt(old), &spelt(new));
    about.value("with several factors", &old.when_several, &new.when_several, |several| format!("{several:?}").to_lowercase());
    about.value("MS-CHAPv2 may be tried again", &old.retry, &new.retry, yes);
    about.value("an expired password may be changed", &old.change_password, &new.change_password, yes);
    about.list("ports", &texts(&old.ports), &texts(&new.ports));
    about.list("realms", &old.realms, &new.realms);
    if !old.refusal_pace.is_zero() && new.refusal_pace.is_zero() {
        about.weaker("the timing of a refusal reveals whether a login name exists");
    } else {
        about.value("refusal pace", &old.refusal_pace, &new.refusal_pace, time);
    }
    if old.identity.strip_prefix != new.identity.strip_prefix
        || old.identity.strip_suffix != new.identity.strip_suffix
        || old.identity.realms != new.identity.realms
        || old.identity.case != new.identity.case
        || old.identity.aliases != new.identity.aliases
    {
        about.say(format!("names are read by `{}` in another way", new.identity.name));
    }
    rules((old.rules.rules(), old_site), (new.rules.rules(), new_site), about);
}

/// Rules by name. Weaker is what keeps fewer people out, or lets everybody in.
fn rules((old, old_site): (&[Rule], &Site), (new, new_site): (&[Rule], &Site), about: &mut About<'_>) {
    let line = about.line;
    for was in old.iter().filter(|was| !new.iter().any(|is| is.name == was.name)) {
        match was.then {
            Then::Refuse(_) => about.weaker(format!("the rule `{}` no longer refuses {}", was.name, was.when)),
            Then::Grant(_) => about.say(format!("the rule `{}` no longer admits {}", was.name, was.when)),
        }
    }
    for is in new {
        about.line = Some(is.line);
        let Some(was) = old.iter().find(|was| was.name == is.name) else {
            let said = format!("the new rule `{}` {}", is.name, effect(is, new_site));
            if matches!(is.then, Then::Grant(_)) && is.when.groups.is_empty() && is.when.more.is_empty() {
                about.weaker(said)
            } else {
                about.say(said)
            }
            continue;
        };
        let (before, now) = (effect(was, old_site), effect(is, new_site));
        if before == now {
            continue;
        }
        let said = format!("the rule `{}` {now} (before: {before})", is.name);
        let wider = matches!(is.then, Then::Grant(_))
            && (matches!(was.then, Then::Refuse(_))
                || is.when.groups.is_empty() && !was.when.groups.is_empty()
                || was.when.more != is.when.more && !only_more(&was.when, &is.when));
        let narrower_refusal = matches!((&was.then, &is.then), (Then::Refuse(_), Then::Refuse(_))) && !is.when.covers(&was.when);
        if wider || narrower_refusal { about.weaker(said) } else { about.say(said) }
    }
    about.line = line;
    let order = |rules: &[Rule], others: &[Rule]| {
        rules.iter().filter(|rule| others.iter().any(|other| other.name == rule.name)).map(|rule| rule.name.clone()).collect::<Vec<_>>()
    };
    let (before, now) = (order(old, new), order(new, old));
    if before != now {
        let passed = new.iter().enumerate().any(|(at, rule)| {
            let behind = || new[..at].iter().any(|earlier| matches!(earlier.then, Then::Grant(_)) && was_behind(old, rule, earlier));
            matches!(rule.then, Then::Refuse(_)) && behind()
        });
        let said = format!("its rules are asked in the order {}", now.join(", "));
        if passed { about.weaker(format!("{said}: a rule that grants access now precedes one that refuses it")) } else { about.say(said) }
    }
}

/// Whether a rule asks for more than before, beside groups and labels, and for nothing less.
fn only_more(was: &When, is: &When) -> bool {
    was.more.iter().all(|one| is.more.contains(one))
}

/// Whether a rule that now comes before a refusal came behind it.
fn was_behind(old: &[Rule], refusal: &Rule, grant: &Rule) -> bool {
    let place = |rule: &Rule| old.iter().position(|one| one.name == rule.name);
    matches!((place(refusal), place(grant)), (Some(refusal), Some(grant)) if refusal < grant)
}

fn effect(rule: &Rule, site: &Site) -> String {
    match &rule.then {
        Then::Refuse(reason) => format!("refuses {} ({reason})", rule.when),
        Then::Grant(grant) => {
            format!("admits {} with the grant `{}`", rule.when, site.grants.get(*grant).map_or("?", |grant| grant.name.as_str()))
        }
    }
}

fn pool(old: &AddressPool, new: &AddressPool, about: &mut About<'_>) {
    let ranges = |pool: &AddressPool| pool.ranges.iter().map(ToString::to_string).collect::<Vec<_>>();
    about.list("ranges", &ranges(old), &ranges(new));
    if old.gives != new.gives {
        about.say("what it hands out changes");
    }
    about.value("time of a lease without a session", &old.lasts, &new.lasts, time);
}

fn grant(old: &Grant, new: &Grant, about: &mut About<'_>) {
    if old.reply != new.reply {
        let shown = |grant: &Grant| grant.reply.iter().map(|item| item.target.to_string()).collect::<Vec<_>>();
        about.list("attributes", &shown(old), &shown(new));
        if shown(old) == shown(new) {
            about.say("values of its attributes change");
        }
    }
    let limit = |grant: &Grant| grant.limit.map(|limit| (limit.most, limit.beyond));
    match (limit(old), limit(new)) {
        (Some((most, _)), None) => about.weaker(format!("a person may have any number of sessions (was {most})")),
        (Some((was, _)), Some((is, _))) if is > was => about.weaker(format!("a person may have {is} sessions (was {was})")),
        (was, is) if was != is => about.say("the limit of sessions changes"),
        _ => {}
    }
    if old.pools.len() != new.pools.len() {
        about.say("its pools change");
    }
}

fn sources(chain: &Chain, site: &Site) -> Vec<String> {
    let show = |first: &FirstSource| {
        let name = site.source_name(first.source);
        match &first.when {
            SourceWhen::Always => name.to_owned(),
            SourceWhen::Name(pattern) => format!("{name} for names like {pattern}"),
            SourceWhen::Realm(realm) => format!("{name} for the realm {realm}"),
            SourceWhen::Group(group) => format!("{name} for members of {group}"),
        }
    };
    chain.first.iter().map(show).collect()
}

/// Logins of a rehearsal, by title; what else changed in them is told without its parts.
fn rehearsal((was, old): (&Rehearsal, &Site), (is, new): (&Rehearsal, &Site), about: &mut About<'_>) {
    let titles = |rehearsal: &Rehearsal| rehearsal.logins.iter().map(|login| login.title.clone()).collect::<Vec<_>>();
    about.list("logins", &titles(was), &titles(is));
    let plain = |login: &RehearsedLogin, site: &Site| {
        let named =
            (site.personas.get(login.persona).map(|one| one.name.clone()), site.gateways.get(login.via).map(|one| one.name.clone()));
        (named, RehearsedLogin { line: 0, persona: 0, via: 0, ..login.clone() })
    };
    let pairs = is.logins.iter().filter_map(|is| Some((was.logins.iter().find(|was| was.title == is.title)?, is)));
    for (_, is) in pairs.filter(|(was, is)| plain(was, old) != plain(is, new)) {
        about.say(format!("`{}` changes, or its expected result does", is.title));
    }
}

fn factors(chain: &Chain, site: &Site) -> Vec<String> {
    chain.second.iter().map(|kind| site.factor_name(*kind).to_owned()).collect()
}

fn texts<T: ToString>(values: &[T]) -> Vec<String> {
    values.iter().map(ToString::to_string).collect()
}

fn names<T>(values: &[T], name: impl Fn(&T) -> &'static str) -> Vec<String> {
    values.iter().map(|value| name(value).to_owned()).collect()
}

fn time(duration: &Duration) -> String {
    super::section::show(*duration)
}

fn yes(flag: &bool) -> String {
    if *flag { "yes" } else { "no" }.to_owned()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Known;

    const SITE: &str = include_str!("../../../demo/site.toml");

    /// What is replaced in the demo's site, and by what.
    type Change<'c> = (&'c str, &'c str);

    fn differences(change: &[Change]) -> Vec<Difference> {
        let read = |text: &str| {
            let (site, findings) = Site::read(text, &Known::default());
            site.unwrap_or_else(|| panic!("{findings:#?}"))
        };
        let changed = change.iter().fold(SITE.to_owned(), |text, (from, to)| {
            assert!(text.contains(from), "{from}");
            text.replacen(from, to, 1)
        });
        compare(&read(SITE), &read(&changed))
    }

    #[test]
    fn what_makes_logging_in_weaker_is_said_and_marked() {
        let forms = ("forms = [\"password code(6)\", \"password\"]", "forms = [\"password\"]");
        let cases: [(&[Change], &str); 9] = [
            (&[("second = [\"totp\"]", "second = []"), forms], "the second factor is no longer asked for"),
            (&[("client_patience = \"60s\"", "message_authenticator = \"when-present\"")], "no longer need Message-Authenticator"),
            (&[("[\"ldaps://127.0.0.1:18636\", ", "[\"ldap://127.0.0.1:18636\", ")], "are sent to it unencrypted"),
            (&[("when_unclear = \"code\"", "when_unclear = \"code\"\nwhen_source_is_down = \"next\"")], "the next one is asked"),
            (&[("when_unclear = \"code\"", "when_unclear = \"code\"\nrefusal_pace = \"0s\"")], "reveals whether a login name exists"),
            (&[("[[identity]]", "[factors.totp]\nwindow = 4\n[[identity]]")], "TOTP window (time steps each way): 4 (was 1)"),
            (&[("when = { group = \"remote-suspended\" }", "when = { group = \"somebody-else\" }")], "refuses members of somebody-else"),
            (&[("when = { group = \"control-room\" }\n", "")], "admits everybody with the grant `control-room`"),
            (&[("name = \"suspended people stay out\"", "name = \"renamed\"")], "`suspended people stay out` no longer refuses"),
        ];
        for (change, said) in cases {
            let found = differences(change);
            assert!(found.iter().any(|one| one.weaker && one.said.contains(said)), "{said}: {found:#?}");
        }
    }

    #[test]
    fn what_changes_otherwise_is_said_without_alarm_and_nothing_else_is() {
        assert_eq!(differences(&[("# VPN for staff", "# the VPN")]), []);
        let found = differences(&[
            ("\"127.0.0.11\", ", ""),
            ("client_patience = \"60s\"", "client_patience = \"90s\""),
            ("first = [\"tidehall\", \"roster\"]", "first = [\"roster\", \"tidehall\"]"),
            ("{ attribute = \"Filter-Id\", text = \"no-ping\" },", ""),
        ]);
        let said: Vec<String> = found.iter().map(|one| format!("{}: {}", one.about, one.said)).collect();
        assert_eq!(
            said,
            [
                "gateway breakwater: addresses: removed 127.0.0.11",
                "gateway breakwater: client patience: 90s (was 60s)",
                "chain staff: sources: new order roster, tidehall",
                "grant control-room: attributes: removed Filter-Id",
            ]
        );
        assert!(found.iter().all(|one| !one.weaker));
    }

    #[test]
    fn a_grant_that_moves_before_a_refusal_is_weaker_and_the_other_way_is_not() {
        let (refuse, grant) = (
            "[[rules]]\nname = \"suspended people stay out\"\nchain = \"staff\"\nwhen = { group = \"remote-suspended\" }\nrefuse = \"suspended\"\n",
            "[[rules]]\nname = \"control room\"\nchain = \"staff\"\nwhen = { group = \"control-room\" }\ngrant = \"control-room\"\n",
        );
        let found = differences(&[(refuse, ""), (grant, &format!("{grant}\n{refuse}"))]);
        assert!(found.len() == 1 && found[0].weaker && found[0].said.contains("now precedes one that refuses it"), "{found:#?}");
    }
}
