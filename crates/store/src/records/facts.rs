//! Everything that the records hold of one person: what a view in memory takes over after a change.

use super::DeviceState;
use super::factors::{read_lock_of, read_state_of};
use super::invitations::{read_invitation_of, read_stop_of};
use super::people::read_people;
use super::{Invitation, LockRow, PersonRow, Records, RecordsError, StopRow, person_key};
use bivector_core::login::TrustedDevice;
use bivector_model::Moment;

/// Everything that the records hold of one person.
#[derive(Debug, Clone)]
pub struct PersonFacts {
    /// The person with the factors; nothing where there is none.
    pub person: Option<PersonRow>,
    /// What the factors are at, by record number, but for what logins have used since it was last folded in.
    pub states: Vec<(u64, DeviceState)>,
    /// Stopped approvals.
    pub stop: Option<StopRow>,
    /// The newest invitation that was not withdrawn.
    pub invitation: Option<Invitation>,
    /// Wrong codes.
    pub lock: Option<LockRow>,
    /// Trusted devices.
    pub devices: Vec<(TrustedDevice, Moment)>,
}

impl Records {
    /// What the records hold of one person.
    ///
    /// # Errors
    /// They cannot be read.
    pub async fn facts_of(&self, source: &str, login: &str) -> Result<PersonFacts, RecordsError> {
        let (source, login) = (source.to_owned(), login.to_lowercase());
        let now = crate::clock::now();
        self.read(move |connection| {
            let key = person_key(&source, &login);
            let person = read_people(connection, Some((&source, &login)))?.pop();
            let factors = person.iter().flat_map(|person| &person.factors);
            let states = factors.map(|factor| Ok((factor.id, read_state_of(connection, factor.id)?)));
            Ok(PersonFacts {
                states: states.collect::<rusqlite::Result<_>>()?,
                stop: read_stop_of(connection, &key)?,
                invitation: read_invitation_of(connection, &key)?,
                lock: read_lock_of(connection, &key)?,
                devices: super::invitations::devices(connection, Some(&key), now)?,
                person,
            })
        })
        .await
    }
}
