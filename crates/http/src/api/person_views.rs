//! What the API says of people and takes about them: never a seed, a password or a whole address.

use super::push_views::{Pushes, pushes};
pub(super) use bivector_api::people::PersonRequest;
use bivector_api::people::{FactorState, FactorView, GuessesView, InvitationView, LockView, PersonState, PersonView, StopView};
use bivector_core::login::{SecretAnswer, WrongTry, masked};
use bivector_engine::roster::Roster;
use bivector_engine::shared::Shared;
use bivector_model::Moment;
use bivector_model::device::Makes;
use bivector_model::text::shown;
use bivector_store::clock;
use bivector_store::records::person_key;
use bivector_store::records::{FactorRow, PersonRow, RecordsError};
use serde::Deserialize;
use utoipa::IntoParams;

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

pub(super) fn factor_view(person: &PersonRow, factor: &FactorRow, roster: &Roster, pushes: &Pushes, now: Moment) -> FactorView {
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
        push: pushes.get(&factor.id).cloned(),
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

pub(super) fn person_state(person: &PersonRow, shared: &Shared, now: Moment) -> PersonState {
    let key = person_key(&person.source, &person.login);
    let counts = |factor: &&FactorRow| factor.settings.waits_for.is_none();
    let locked = shared.roster.lock_of(&key, now).is_some_and(|lock| lock.locked_until_us.is_some());
    let invitation = || shared.roster.invitation_of(&key).filter(|invitation| invitation.used_us.is_none());
    match () {
        () if person.disabled => PersonState::Suspended,
        () if locked || guesses_of(shared, &key, now).is_some_and(|guesses| guesses.until_us.is_some()) => PersonState::Locked,
        () if shared.roster.stop_of(&key, now).is_some() => PersonState::Locked,
        () if person.factors.iter().filter(counts).any(|factor| shared.roster.state(factor).last_used_us.is_some()) => PersonState::Proven,
        () if person.factors.iter().any(|factor| counts(&factor)) => PersonState::Enrolled,
        () if !person.factors.is_empty() => PersonState::Waiting,
        () => match invitation() {
            Some(invitation) if invitation.until_us < now.micros() => PersonState::Expired,
            Some(_) => PersonState::Invited,
            None => PersonState::NotYet,
        },
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

/// One person.
pub(super) async fn person_view(person: &PersonRow, shared: &Shared) -> Result<PersonView, RecordsError> {
    let pushes = pushes(shared, std::iter::once(person)).await?;
    Ok(person_view_with(person, shared, &pushes))
}

/// A person, with how the handsets of several are woken.
pub(super) fn person_view_with(person: &PersonRow, shared: &Shared, pushes: &Pushes) -> PersonView {
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
        state: person_state(person, shared, now),
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
        factors: person.factors.iter().map(|factor| factor_view(person, factor, &shared.roster, pushes, now)).collect(),
    }
}
