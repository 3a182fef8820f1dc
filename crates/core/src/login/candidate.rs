//! The user whom a login is about, with everything known about them so far. Every station after the search owns it and passes it on.

use super::fact::{Approved, Factors, Found};
use super::pending::{Carried, KeptBytes};
use super::upstream::HiddenValue;
use bivector_model::cause::Cause;
use bivector_model::device::Device;
use bivector_model::directory::Notice;
use bivector_model::moment::Moment;
use bivector_model::rule::Groups;
use bivector_site::SourceRef;
use bivector_wire::MsChapProved;
use std::ops::Deref;
use std::sync::Arc;

/// A user who has not proved yet that they are who they claim to be.
#[derive(Debug)]
pub(super) struct Candidate {
    /// The user's entry at the source.
    pub(super) person: Arc<Found>,
    /// The source that has the user.
    pub(super) found_by: SourceRef,
    /// Why an earlier source could not answer.
    pub(super) down: Option<Cause>,
    /// The user's factors that the chain accepts.
    pub(super) factors: Factors,
    /// Whether the user has any factor, accepted by this chain or not.
    pub(super) has_any_factor: bool,
    /// An approval on the user's handset, given before the password was checked.
    pub(super) passed: Option<Approved>,
    /// A pending approval; withdrawn if another factor is given instead.
    pub(super) waiting_approval: Option<u64>,
    /// Data for the reply that the checks produced.
    pub(super) yields: Yields,
}

/// Data for the reply that the checks produced in addition to their result.
#[derive(Debug, Default)]
pub(super) struct Yields {
    /// Encoded attributes from upstreams.
    pub(super) attributes: Vec<u8>,
    /// Values from upstreams that must be encrypted again for the gateway.
    pub(super) hidden: Vec<HiddenValue>,
    /// Groups that an upstream returned.
    pub(super) groups: Groups,
    /// The directory's warning with a correct password.
    pub(super) notice: Option<Notice>,
    /// What a proof of the password has yielded.
    pub(super) keys: Option<Box<MsChapProved>>,
}

impl Deref for Candidate {
    type Target = Found;

    fn deref(&self) -> &Found {
        &self.person
    }
}

impl Candidate {
    pub(super) fn new(person: Arc<Found>, found_by: SourceRef, down: Option<Cause>) -> Box<Self> {
        Box::new(Candidate {
            person,
            found_by,
            down,
            factors: Factors::default(),
            has_any_factor: false,
            passed: None,
            waiting_approval: None,
            yields: Yields::default(),
        })
    }

    /// The devices and lists of the kinds that the chain takes.
    pub(super) fn devices(&self) -> &[Device] {
        &self.factors.devices
    }

    /// Until when the person is locked, if so.
    pub(super) fn locked(&self, now: Moment) -> Option<Moment> {
        self.factors.locked_until.filter(|until| *until > now)
    }

    /// Takes over groups that an upstream named. What a directory knows of the person counts more.
    pub(super) fn take_groups(&mut self, groups: Groups) {
        if self.person.groups.names().is_empty() && !groups.names().is_empty() {
            Arc::make_mut(&mut self.person).groups = groups.clone();
        }
        self.yields.groups = groups;
    }
}

impl Yields {
    /// What a round before has kept.
    pub(super) fn from_carried(carried: &Carried) -> Self {
        let keys = carried.keys.as_ref().map(|(success, send, receive)| {
            Box::new(MsChapProved { success: success.clone(), send_key: send.open(), receive_key: receive.open() })
        });
        let hidden = carried.hidden.iter().map(|(kind, clear)| HiddenValue { kind: *kind, clear: clear.open() });
        Yields {
            attributes: carried.attributes.clone(),
            hidden: hidden.collect(),
            groups: carried.groups.clone(),
            notice: carried.notice,
            keys,
        }
    }

    /// To be kept for the next round.
    pub(super) fn into_carried(self) -> Carried {
        let hidden = self.hidden.iter().map(|value| (value.kind, KeptBytes::new(&value.clear))).collect();
        let keys = self.keys.map(|keys| (keys.success, KeptBytes::new(&keys.send_key), KeptBytes::new(&keys.receive_key)));
        Carried { notice: self.notice, attributes: self.attributes, hidden, groups: self.groups, keys }
    }
}
