//! Getting people enrolled: invitations, what comes of them, and who says that a new device is the person's.

use crate::live::LiveSite;
use crate::roster::seed_purpose;
use crate::shared::Shared;
use bivector_api::people::{Made, NewApp};
use bivector_core::login::{NewDevice, PersonAnswer, Sendable, masked};
use bivector_model::Moment;
use bivector_model::device::{CodeKind, Device, Makes, Used};
use bivector_model::prompt::Text;
use bivector_model::totp::Algorithm;
use bivector_model::totp::Settings;
use bivector_outbound::courier::escape_url;
use bivector_site::{Carries, ConfirmedBy, Invited, Site};
use bivector_store::clock;
use bivector_store::records::person_key;
use bivector_store::records::{
    DeviceKind, FactorSettings, Invitation, NewFactor, NewInvitation, NewPerson, Opened, PersonRow, RecordsError, WaitsFor,
};
use bivector_store::seal::{hash_token, random};
use bivector_wire::Secret;
use data_encoding::{BASE32_NOPAD, Encoding};
use serde::{Deserialize, Serialize};
use std::sync::{Arc, LazyLock};
use std::time::Duration;

/// Characters of an invitation's code: 60 bits, so that guessing is hopeless even without the limit on tries.
const CODE: usize = 12;
/// Characters of the reference that an operator compares: it is compared once, by somebody who knows what to expect.
const REFERENCE: usize = 6;
/// How long a new app has to show its first code.
const TICKET: Duration = Duration::from_secs(1800);
const TICKETS: &str = "app-ticket";

/// Crockford's alphabet: no I, L, O or U, so that a code can be read over the telephone.
static LETTERS: LazyLock<Encoding> = LazyLock::new(|| {
    let mut spec = data_encoding::Specification::new();
    spec.symbols.push_str("0123456789ABCDEFGHJKMNPQRSTVWXYZ");
    spec.encoding().expect("thirty-two different symbols make an encoding")
});

/// What keeps somebody from being invited.
#[derive(Debug, thiserror::Error)]
pub enum NotInvited {
    /// Nobody of this name is known to the source.
    #[error("{source} has no person `{login}`", source = .0, login = .1)]
    Nobody(String, String),
    /// The source could not answer.
    #[error("{0}")]
    SourceDown(String),
    /// There is no such courier.
    #[error("unknown courier `{0}`")]
    NoCourier(String),
    /// The courier has nowhere to go.
    #[error("no {what} is recorded for this person", what = .0)]
    NoAddress(&'static str),
    /// The courier failed. The invitation is withdrawn again.
    #[error("the invitation could not be sent: {0}")]
    NotSent(String),
    /// No site is active.
    #[error("no site is active yet")]
    NoSite,
    /// The records failed.
    #[error(transparent)]
    Records(#[from] RecordsError),
    /// The records failed.
    #[error(transparent)]
    Service(#[from] bivector_store::ServiceError),
}

/// A code as people may type it: in any case, with hyphens and spaces, O for 0 and I or L for 1.
pub fn plain_code(typed: &str) -> String {
    let plain = |character: char| match character.to_ascii_uppercase() {
        'O' => '0',
        'I' | 'L' => '1',
        other => other,
    };
    typed.chars().filter(char::is_ascii_alphanumeric).map(plain).collect()
}

fn new_code(length: usize) -> String {
    let mut code = LETTERS.encode(&random::<10>());
    code.truncate(length);
    code
}

fn grouped(code: &str, by: usize) -> String {
    code.as_bytes().chunks(by).map(|chunk| String::from_utf8_lossy(chunk)).collect::<Vec<_>>().join("-")
}

/// The hash that an invitation is looked up by.
pub fn hash_code(typed: &str) -> Vec<u8> {
    hash_token(&format!("invitation/{}", plain_code(typed)))
}

/// A person with where they are reached: a directory is asked, the roster knows its own.
#[derive(Debug, Clone)]
pub struct Whom {
    /// The source.
    pub source: String,
    /// The login name there.
    pub login: String,
    /// The name for display.
    pub name: String,
    /// Groups, in lower case.
    pub groups: Vec<String>,
    /// Where mail goes.
    pub mail: Option<String>,
    /// Where text messages and calls go.
    pub phone: Option<String>,
    /// The language.
    pub language: String,
}

/// Finds out who somebody is, and writes a directory's person down here if that was not done before.
///
/// # Errors
/// [`NotInvited`].
pub async fn make_known(shared: &Shared, live: &LiveSite, source: &str, login: &str) -> Result<Whom, NotInvited> {
    let login = login.trim().to_lowercase();
    let nobody = || NotInvited::Nobody(source.to_owned(), login.clone());
    let Some(directory) = live.directories.iter().find(|directory| directory.name() == source) else {
        let person = shared.roster.get(&person_key(source, &login)).ok_or_else(nobody)?;
        return Ok(whom_of(&person));
    };
    let found = match directory.find(&login).await.value {
        PersonAnswer::Found(found) => {
            let mut found = Arc::unwrap_or_clone(found);
            shared.roster.complete(&mut found);
            found
        }
        PersonAnswer::Unavailable(why) => return Err(NotInvited::SourceDown(format!("{source} could not answer: {}", why.seen))),
        _ => return Err(nobody()),
    };
    let whom = Whom {
        source: source.to_owned(),
        login: found.login.to_lowercase(),
        name: found.name,
        groups: found.groups.names().into_iter().map(str::to_lowercase).collect(),
        mail: found.mail,
        phone: found.phone,
        language: found.language,
    };
    if shared.roster.get(&person_key(source, &whom.login)).is_none() {
        let person = NewPerson { source: whom.source.clone(), login: whom.login.clone(), name: whom.name.clone(), ..NewPerson::default() };
        shared.records.keep_people(vec![person], clock::now()).await?;
        shared.catch_up().await?;
    }
    Ok(whom)
}

fn whom_of(person: &PersonRow) -> Whom {
    Whom {
        source: person.source.clone(),
        login: person.login.clone(),
        name: person.name.clone(),
        groups: person.groups.iter().map(|group| group.to_lowercase()).collect(),
        mail: person.mail.clone(),
        phone: person.phone.clone(),
        language: person.language.clone(),
    }
}

/// Invites a person; an earlier invitation to the same factor ends with it.
///
/// # Errors
/// [`NotInvited`]; then no invitation is open.
pub async fn invite(
    shared: &Shared,
    live: &LiveSite,
    whom: &Whom,
    factor: Invited,
    send_by: Option<usize>,
    operator: &str,
) -> Result<Made, NotInvited> {
    let (site, now, person) = (&live.site, clock::now(), person_key(&whom.source, &whom.login));
    let until = now.plus(site.handset.invitation_lasts);
    let code = Secret::new(grouped(&new_code(CODE), 4));
    let link = site.handset.address.as_ref().map(|address| format!("{address}/handset#{}", code.expose()));
    let to = send_by.map(|courier| reach(site, courier, whom)).transpose()?;
    let sent_to = to.as_deref().map(masked);
    let hash = hash_code(code.expose());
    let new = NewInvitation { person: person.clone(), factor, hash, until, operator: operator.to_owned(), sent_to: sent_to.clone() };
    shared.records.invite(new, now).await?;
    shared.catch_up().await.map_err(|error| RecordsError(error.to_string()))?;
    if let (Some(courier), Some(to)) = (send_by.and_then(|index| live.couriers.get(index)), to) {
        let sendable = Sendable {
            courier: send_by.unwrap_or_default(),
            person: person.clone(),
            to,
            name: whom.name.clone(),
            language: whom.language.clone(),
        };
        let hours = site.handset.invitation_lasts.as_secs().div_ceil(3600).to_string();
        let shown = link.clone().unwrap_or_default();
        let places =
            [("name", whom.name.as_str()), ("site", &site.name), ("link", &shown), ("code", code.expose()), ("hours", hours.as_str())];
        let text = Secret::new(site.texts.say(&whom.language, Text::Invitation, &places));
        let subject = site.texts.say(&whom.language, Text::InvitationSubject, &places);
        if let Err(why) = courier.send_text(&sendable, &code, &text, subject).await {
            shared.records.withdraw_invitations(person.clone()).await?;
            shared.catch_up().await.map_err(|error| RecordsError(error.to_string()))?;
            return Err(NotInvited::NotSent(why));
        }
    }
    shared.tell_person(&person);
    Ok(Made { person, factor, code: code.expose().clone(), link, until_us: until.micros(), sent_to })
}

fn reach(site: &Site, courier: usize, whom: &Whom) -> Result<String, NotInvited> {
    let (address, what) = match site.couriers.get(courier).map(|courier| courier.carries) {
        Some(Carries::Mail) => (&whom.mail, "mail address"),
        Some(Carries::Text | Carries::Call) => (&whom.phone, "phone number"),
        None => return Err(NotInvited::NoCourier(courier.to_string())),
    };
    address.clone().filter(|to| !to.trim().is_empty()).ok_or(NotInvited::NoAddress(what))
}

/// Invites newcomers as the site says for their groups; gives how many were invited, and whom it did not reach and why.
pub async fn welcome(shared: &Shared, live: &LiveSite, people: &[Whom], operator: &str) -> (usize, Vec<String>) {
    let (mut invited, mut missed) = (0, Vec::new());
    for whom in people {
        let template = live.site.newcomers.iter().find(|template| whom.groups.contains(&template.group));
        let Some(template) = template else { continue };
        match invite(shared, live, whom, template.factor, template.send_by, operator).await {
            Ok(_) => invited += 1,
            Err(why) => missed.push(format!("{}: {why}", person_key(&whom.source, &whom.login))),
        }
    }
    (invited, missed)
}

/// A name for a new device that no other of its kind has.
pub fn free_label(person: &PersonRow, kind: DeviceKind, wanted: &str) -> String {
    let taken = |label: &str| person.factors.iter().any(|factor| factor.kind == kind && factor.label == label);
    let numbered = (2..).map(|number| format!("{wanted} {number}"));
    std::iter::once(wanted.to_owned()).chain(numbered).find(|label| !taken(label)).unwrap_or_default()
}

/// Whether a new handset waits for an operator, by what the site says.
pub fn waits_for(site: &Site) -> Option<WaitsFor> {
    match site.handset.confirmed_by {
        ConfirmedBy::Operator => Some(WaitsFor::Operator(new_code(REFERENCE))),
        ConfirmedBy::Invitation => None,
    }
}

/// Whether a typed reference is the one that the device shows.
pub fn is_reference(typed: &str, reference: &str) -> bool {
    use subtle::ConstantTimeEq;
    plain_code(typed).as_bytes().ct_eq(reference.as_bytes()).into()
}

/// A reference for reading aloud.
pub fn shown_reference(reference: &str) -> String {
    grouped(reference, 3)
}

/// An authenticator app that is being set up: it is kept once it has shown a right code.
#[derive(Serialize, Deserialize)]
struct Ticket {
    person: String,
    seed: Vec<u8>,
    until: Moment,
}

impl Drop for Ticket {
    fn drop(&mut self) {
        zeroize::Zeroize::zeroize(&mut self.seed);
    }
}

/// Begins an app for a person. Nothing is kept yet.
pub fn begin_app(shared: &Shared, site: &Site, person: &PersonRow) -> NewApp {
    let seed = Secret::new(random::<20>().to_vec());
    let key = person_key(&person.source, &person.login);
    let ticket = Ticket { person: key, seed: seed.expose().clone(), until: clock::now().plus(TICKET) };
    let bytes = Secret::new(serde_json::to_vec(&ticket).unwrap_or_default());
    let text = BASE32_NOPAD.encode(seed.expose());
    let link = otpauth(&site.name, &person.login, CodeKind::Totp, &text, &FactorSettings::default());
    NewApp { link, seed: text, ticket: data_encoding::BASE64URL_NOPAD.encode(&shared.seal.seal(TICKETS, bytes.expose())) }
}

/// What to keep of an app whose first code was correct.
pub struct ProvedApp {
    /// The person's key.
    pub person: String,
    /// The seed, sealed.
    pub sealed: Vec<u8>,
    /// Its first code.
    pub used: Used,
}

/// Why an app is not kept.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum NotProved {
    /// The ticket is none of ours, or of another person.
    #[error("this app enrolment is not valid")]
    Ticket,
    /// It took too long.
    #[error("the app enrolment expired after half an hour")]
    Ended,
    /// The code is wrong.
    #[error("the code does not match the new app")]
    Code,
}

/// Checks the first code of an app.
///
/// # Errors
/// [`NotProved`].
pub fn prove_app(shared: &Shared, live: &LiveSite, person: &PersonRow, ticket: &str, code: &str) -> Result<ProvedApp, NotProved> {
    let sealed = data_encoding::BASE64URL_NOPAD.decode(ticket.as_bytes()).map_err(|_| NotProved::Ticket)?;
    let opened = shared.seal.open(TICKETS, &sealed).map_err(|_| NotProved::Ticket)?;
    let ticket: Ticket = serde_json::from_slice(opened.expose()).map_err(|_| NotProved::Ticket)?;
    if ticket.person != person_key(&person.source, &person.login) {
        return Err(NotProved::Ticket);
    }
    if ticket.until < clock::now() {
        return Err(NotProved::Ended);
    }
    let makes = Makes::ByTime { seed: Secret::new(ticket.seed.clone()), settings: Settings::default(), drift: 0 };
    let device = Device { id: 0, label: String::new(), has_pin: false, makes };
    let code = bivector_model::prompt::plain_answer(code);
    let verified = device.verify(&code, clock::now(), &live.site.codes).ok_or(NotProved::Code)?;
    let sealed = shared.seal.seal(&seed_purpose(&person.source, &person.login), &ticket.seed);
    Ok(ProvedApp { person: ticket.person.clone(), sealed, used: verified.used() })
}

/// The app as a factor.
pub fn app_factor(person: &PersonRow, sealed: Vec<u8>, label: &str) -> NewFactor {
    let kind = DeviceKind::Code(CodeKind::Totp);
    NewFactor { kind, label: free_label(person, kind, label), sealed, settings: FactorSettings::default(), pin: None }
}

/// Keeps an app that a login has set up; nothing where the person has got a factor meanwhile.
///
/// # Errors
/// The records failed.
pub async fn keep_enrolled(device: NewDevice, shared: &Shared, now: Moment) -> Result<Option<u64>, RecordsError> {
    let Some((source, login)) = device.person.split_once(':').map(|(source, login)| (source.to_owned(), login.to_owned())) else {
        return Err(RecordsError(format!("`{}` is not a person's key", device.person)));
    };
    let sealed = shared.seal.seal(&seed_purpose(&source, &login), device.seed.expose());
    let kind = DeviceKind::Code(CodeKind::Totp);
    let factor = NewFactor { kind, label: "app".into(), sealed, settings: FactorSettings::default(), pin: None };
    let person = NewPerson { source: source.clone(), login: login.clone(), name: device.name, ..NewPerson::default() };
    let added = shared.records.enrol(person, factor, device.used, now).await?;
    if let Some((id, state)) = added {
        shared.catch_up().await.map_err(|error| RecordsError(error.to_string()))?;
        shared.roster.note_state(id, state);
        shared.tell_person(&device.person);
    }
    Ok(added.map(|(id, _)| id))
}

/// Says what an invitation's code leads to, without a hint to whoever guesses: only a whole code that was once real is told more.
pub fn why_not(opened: &Opened) -> Option<(&'static str, &'static str)> {
    match opened {
        Opened::Open(_) => None,
        Opened::Expired(_) => Some(("this invitation has expired", "ask for a new one")),
        Opened::Used => Some(("this invitation was already used or replaced by a newer one", "ask for a new one")),
        Opened::Unknown => Some(("there is no such invitation", "check the code, or ask for a new invitation")),
    }
}

/// The person of an invitation.
pub fn invited_person(shared: &Shared, invitation: &Invitation) -> Option<Arc<PersonRow>> {
    shared.roster.get(&invitation.person)
}

/// What authenticator apps read from a QR code.
pub fn otpauth(site: &str, login: &str, kind: CodeKind, seed: &str, settings: &FactorSettings) -> String {
    let algorithm = match settings.code.algorithm {
        Algorithm::Sha1 => "SHA1",
        Algorithm::Sha256 => "SHA256",
        Algorithm::Sha512 => "SHA512",
    };
    let (site, login) = (escape_url(site), escape_url(login));
    let moving = match settings.counter {
        Some(counter) => format!("counter={counter}"),
        None => format!("period={}", settings.code.period),
    };
    let digits = settings.code.digits;
    format!("otpauth://{kind}/{site}:{login}?secret={seed}&issuer={site}&algorithm={algorithm}&digits={digits}&{moving}")
}
