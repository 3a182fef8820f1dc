//! What the API says of people and takes about them: never a seed, a password or a whole address.

use bivector_core::login::{SecretAnswer, WrongTry, masked};
use bivector_engine::roster::Roster;
use bivector_engine::shared::Shared;
use bivector_manage::edits::Leavers;
pub use bivector_manage::people::PersonRequest;
use bivector_model::Moment;
use bivector_model::device::Makes;
use bivector_model::text::shown;
use bivector_site::Invited;
use bivector_store::clock;
use bivector_store::records::person_key;
use bivector_store::records::{Change, FactorRow, PersonRow};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use utoipa::{IntoParams, ToSchema};

/// A person, without anything secret.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct PersonView {
    /// The login name.
    pub login: String,
    /// The source that knows the person.
    pub source: String,
    /// The name for display.
    pub name: String,
    /// Groups kept here, for people of the roster.
    pub groups: Vec<String>,
    /// Whether the person is kept out.
    pub disabled: bool,
    /// Whether a password is kept here.
    pub has_password: bool,
    /// What is kept of it for methods that prove it: `text`, `nt-hash` or nothing.
    pub keeps: Option<String>,
    /// Where codes by mail go, mostly hidden; none where only the source knows it.
    pub mail: Option<String>,
    /// Where codes by text message and voice go, mostly hidden; none where only the source knows it.
    pub phone: Option<String>,
    /// The language that the person reads; empty if not known here.
    pub language: String,
    /// Wrong codes since the last right one.
    pub lock: Option<LockView>,
    /// Wrong passwords since the last right one.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub passwords: Option<GuessesView>,
    /// How far the person is on the way to a second factor.
    pub state: PersonState,
    /// The newest invitation.
    pub invitation: Option<InvitationView>,
    /// Approvals that are stopped.
    pub stop: Option<StopView>,
    /// Factors.
    pub factors: Vec<FactorView>,
}

/// Wrong codes and PINs of a person since the last right one.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct LockView {
    /// How many.
    pub wrong: u32,
    /// How many lock.
    pub after: u32,
    /// When the first was typed, in microseconds since 1970.
    pub first_us: u64,
    /// When the last was typed.
    pub last_us: u64,
    /// The gateway of the last one.
    pub gateway: String,
    /// Until when the person is locked, if so.
    pub locked_until_us: Option<u64>,
}

/// Wrong passwords of a person since the last right one, over all gateways and the own page.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct GuessesView {
    /// How many.
    pub wrong: u32,
    /// How many make the person wait.
    pub after: u32,
    /// When the last was typed, in microseconds since 1970.
    pub last_us: u64,
    /// The gateway of the last one.
    pub gateway: String,
    /// Until when no source is asked, if so.
    pub until_us: Option<u64>,
}

/// What became of a person's wrong codes and passwords.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct Released {
    /// The person's key.
    pub person: String,
    /// Whether there were any to forget.
    pub released: bool,
}

/// An invitation, without its code.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct InvitationView {
    /// What it is to.
    pub factor: Invited,
    /// When it was made, in microseconds since 1970.
    pub created_us: u64,
    /// Until when it may be used.
    pub until_us: u64,
    /// Whether that is over.
    pub expired: bool,
    /// When it was used.
    pub used_us: Option<u64>,
    /// Where it was sent, mostly hidden.
    pub sent_to: Option<String>,
    /// Who made it.
    pub operator: String,
}

/// Approvals that are stopped, since the person said that a login was not theirs.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct StopView {
    /// When the person said so, in microseconds since 1970.
    pub at_us: u64,
    /// Until when they are stopped.
    pub until_us: u64,
    /// The gateway of that login.
    pub gateway: String,
    /// Where it came from.
    pub from: String,
    /// Its reference.
    pub reference: String,
}

/// How far a person is on the way to a second factor.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum PersonState {
    /// Nothing has happened yet.
    NotYet,
    /// An invitation is open.
    Invited,
    /// The last invitation has expired unused.
    Expired,
    /// A new device waits until an operator confirms it.
    Waiting,
    /// There is a factor that no login has used yet.
    Enrolled,
    /// A login has used a factor.
    Proven,
    /// Too many wrong codes have locked the person, or approvals are stopped.
    Locked,
    /// Kept out.
    Suspended,
}

/// How many people are how far.
#[derive(Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct RollOut {
    /// People known here.
    pub people: usize,
    /// Of them, by state: `not-yet`, `invited`, `expired`, `waiting`, `enrolled`, `proven`, `locked`, `suspended`.
    pub states: BTreeMap<String, usize>,
}

/// Whether to keep a person out.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct Suspension {
    /// Whether to keep out.
    pub suspended: bool,
}

/// A list of changes.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct EditRequest {
    /// A CSV file with a header: `login`, `action`, `source`, `factor`, `value`.
    pub csv: String,
    /// Whether to look at it only.
    #[serde(default)]
    pub preview: bool,
}

/// A directory's group to match.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct SyncRequest {
    /// The directory.
    pub directory: String,
    /// The group, by name or whole DN.
    pub group: String,
    /// What happens to people known here who are not in it.
    #[serde(default)]
    pub leavers: Leavers,
    /// Whether to look only.
    #[serde(default)]
    pub preview: bool,
}

/// A change that was taken back.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct Undone {
    /// The change.
    pub change: Change,
}

/// Which people are listed.
#[derive(Debug, Deserialize, IntoParams)]
pub(super) struct PeopleFilter {
    /// Part of the login name, the name for display, the source or a group.
    pub(super) search: Option<String>,
    /// Only people who are this far.
    pub(super) state: Option<PersonState>,
    /// At most so many; all if not given.
    pub(super) limit: Option<usize>,
}

/// How a factor is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum FactorState {
    /// It can be used.
    Ready,
    /// All its codes are used.
    UsedUp,
    /// Its time is over.
    Ended,
    /// It does not count before an operator has confirmed it, or a right code has.
    Waiting,
    /// Its secret does not open with this key file.
    Unreadable,
}

/// A factor, without its seed and codes.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct FactorView {
    /// Its number.
    pub id: u64,
    /// `totp`, `hotp`, `recovery`, `temporary`, `handset` or `key`.
    pub kind: String,
    /// What the person calls it.
    pub label: String,
    /// How it is.
    pub state: FactorState,
    /// Digits of a code; none where it makes no codes.
    pub digits: u8,
    /// Seconds that a code by time lives.
    pub period: Option<u32>,
    /// Seconds that its clock was off when it was last right; negative is late.
    pub drift_seconds: Option<i64>,
    /// The next counter of a device by count.
    pub counter: Option<u64>,
    /// Codes of a list, or uses of a temporary code, that are left.
    pub left: Option<u32>,
    /// When a temporary code ends, in microseconds since 1970.
    pub until_us: Option<u64>,
    /// Why a temporary code was issued.
    pub reason: Option<String>,
    /// Who issued it.
    pub operator: Option<String>,
    /// Whether a PIN was set for it.
    pub has_pin: bool,
    /// When it was added, in microseconds since 1970.
    pub created_us: u64,
    /// When it last let somebody in.
    pub last_used_us: Option<u64>,
}

/// People to import.
#[derive(Deserialize, ToSchema)]
pub struct ImportRequest {
    /// A CSV file with a header.
    pub(super) csv: String,
    /// Whether to look at it only.
    #[serde(default)]
    pub(super) preview: bool,
}

impl FactorView {
    pub(super) fn of(person: &PersonRow, factor: &FactorRow, roster: &Roster, now: Moment) -> Self {
        let device = roster.device(person, factor, now);
        let at = roster.state(factor);
        let mut view = FactorView {
            id: factor.id,
            kind: factor.kind.to_string(),
            label: shown(&factor.label).into_owned(),
            state: FactorState::Unreadable,
            digits: match factor.kind.code() {
                Some(_) => device.as_ref().map_or(factor.settings.code.digits, bivector_model::device::Device::digits),
                None => 0,
            },
            period: None,
            drift_seconds: None,
            counter: None,
            left: None,
            until_us: factor.settings.until_us,
            reason: factor.settings.reason.clone(),
            operator: factor.settings.operator.clone(),
            has_pin: factor.pin.is_some(),
            created_us: factor.created_us,
            last_used_us: at.last_used_us,
        };
        if factor.settings.waits_for.is_some() {
            view.state = FactorState::Waiting;
            return view;
        }
        if factor.kind.code().is_none() {
            let opens = roster.opened(person, factor).is_some();
            view.state = if opens { FactorState::Ready } else { FactorState::Unreadable };
            return view;
        }
        let Some(device) = device else { return view };
        match &device.makes {
            Makes::ByTime { settings, drift, .. } => {
                (view.period, view.drift_seconds) = (Some(settings.period), Some(drift * i64::from(settings.period)));
            }
            Makes::ByCount { counter, .. } => view.counter = Some(*counter),
            Makes::List { codes, used } => view.left = Some(codes.expose().len() as u32 - used.count_ones()),
            Makes::Issued { left, .. } => view.left = Some(*left),
        }
        view.state = match &device.makes {
            _ if device.can_be_used(now) => FactorState::Ready,
            Makes::Issued { until, .. } if now > *until => FactorState::Ended,
            _ => FactorState::UsedUp,
        };
        view
    }
}

impl PersonState {
    pub(super) fn of(person: &PersonRow, shared: &Shared, now: Moment) -> Self {
        let key = person_key(&person.source, &person.login);
        let counts = |factor: &&FactorRow| factor.settings.waits_for.is_none();
        let locked = shared.roster.lock_of(&key, now).is_some_and(|lock| lock.locked_until_us.is_some());
        let invitation = || shared.roster.invitation_of(&key).filter(|invitation| invitation.used_us.is_none());
        match () {
            () if person.disabled => PersonState::Suspended,
            () if locked || guesses_of(shared, &key, now).is_some_and(|guesses| guesses.until_us.is_some()) => PersonState::Locked,
            () if shared.roster.stop_of(&key, now).is_some() => PersonState::Locked,
            () if person.factors.iter().filter(counts).any(|factor| shared.roster.state(factor).last_used_us.is_some()) => {
                PersonState::Proven
            }
            () if person.factors.iter().any(|factor| counts(&factor)) => PersonState::Enrolled,
            () if !person.factors.is_empty() => PersonState::Waiting,
            () => match invitation() {
                Some(invitation) if invitation.until_us < now.micros() => PersonState::Expired,
                Some(_) => PersonState::Invited,
                None => PersonState::NotYet,
            },
        }
    }
}

/// Wrong passwords about somebody, if there are any.
fn guesses_of(shared: &Shared, key: &str, now: Moment) -> Option<GuessesView> {
    let limits = shared.live.load().as_ref().map(|live| live.site.passwords).unwrap_or_default();
    shared.guesses.of(key, limits, now).map(|guesses| GuessesView {
        wrong: guesses.wrong,
        after: limits.after,
        last_us: guesses.last_us,
        gateway: guesses.gateway,
        until_us: guesses.until.map(Moment::micros),
    })
}

impl PersonView {
    pub(super) fn of(person: &PersonRow, shared: &Shared) -> Self {
        let now = clock::now();
        let after = shared.live.load().as_ref().map_or(0, |live| live.site.lockout.after);
        let key = person_key(&person.source, &person.login);
        let lock = shared.roster.lock_of(&key, now);
        let keeps = || match shared.roster.kept(&person.login) {
            SecretAnswer::Text(_) => Some("text".to_owned()),
            SecretAnswer::NtHash(_) => Some("nt-hash".to_owned()),
            _ => None,
        };
        PersonView {
            login: person.login.clone(),
            source: person.source.clone(),
            name: shown(&person.name).into_owned(),
            groups: person.groups.iter().map(|group| shown(group).into_owned()).collect(),
            disabled: person.disabled,
            has_password: person.password.is_some(),
            keeps: person.kept.as_ref().and_then(|_| keeps()),
            mail: person.mail.as_deref().map(masked),
            phone: person.phone.as_deref().map(masked),
            language: person.language.clone(),
            lock: lock.map(|lock| LockView {
                wrong: lock.points / WrongTry::CODE,
                after,
                first_us: lock.first_us,
                last_us: lock.last_us,
                gateway: lock.gateway,
                locked_until_us: lock.locked_until_us,
            }),
            passwords: guesses_of(shared, &key, now),
            state: PersonState::of(person, shared, now),
            invitation: shared.roster.invitation_of(&key).map(|invitation| InvitationView {
                factor: invitation.factor,
                created_us: invitation.created_us,
                until_us: invitation.until_us,
                expired: invitation.until_us < now.micros(),
                used_us: invitation.used_us,
                sent_to: invitation.sent_to,
                operator: invitation.operator,
            }),
            stop: shared.roster.stop_of(&key, now).map(|stop| StopView {
                at_us: stop.at_us,
                until_us: stop.until_us,
                gateway: stop.gateway,
                from: stop.caller,
                reference: stop.reference,
            }),
            factors: person.factors.iter().map(|factor| FactorView::of(person, factor, &shared.roster, now)).collect(),
        }
    }
}
