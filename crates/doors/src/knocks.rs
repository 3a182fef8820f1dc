//! Knocks: packets that get no answer, gathered by sender and reason, so that a flood costs one row a second.

use bivector_api::knocks::{Guess, Knock};
use bivector_engine::live::LiveSite;
use bivector_engine::shared::Shared;
use bivector_model::Cause;
use bivector_store::clock;
use bivector_wire::{AttributeType, IntegrityPolicy, Packet};
use std::collections::HashMap;
use std::net::IpAddr;
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

/// Knocks of one sender are written this often at most.
pub(super) const KNOCKS_EVERY: Duration = Duration::from_secs(1);
/// Senders whose knocks are told apart between two sweeps; each takes about 300 bytes.
const KNOCKERS: usize = 1024;
/// Strangers whose gateway is guessed at between two sweeps: a guess tries every gateway's secret, 0.4 ms for a thousand.
const GUESSES: u32 = 10;

/// Knocks of one sender for one reason since they were last written.
#[derive(Debug)]
struct Gathered {
    written: Instant,
    waiting: Knock,
}

/// The knocks at one door.
#[derive(Debug)]
pub(super) struct Knocks {
    shared: Arc<Shared>,
    gathered: Mutex<HashMap<(IpAddr, Cause), Gathered>>,
    guesses: Mutex<u32>,
}

impl Knocks {
    pub(super) fn new(shared: Arc<Shared>) -> Self {
        Knocks { shared, gathered: Mutex::new(HashMap::new()), guesses: Mutex::new(0) }
    }

    /// Counts one. The first of a sender is written at once. `guess` is only asked for a sender that is new here.
    pub(super) fn add(&self, sender: IpAddr, cause: Cause, gateway: &str, said: &str, guess: impl FnOnce() -> Option<Guess>) {
        let Ok(mut gathered) = self.gathered.lock() else { return };
        let now = clock::now().micros();
        let sender = sender.to_canonical();
        let known = gathered.contains_key(&(sender, cause));
        // A flood from many addresses: the ones beyond are counted in the figures only.
        if gathered.len() >= KNOCKERS && !known {
            return;
        }
        let knock = |guess| Knock {
            sender: sender.to_string(),
            cause,
            gateway: gateway.to_owned(),
            count: 0,
            first_us: now,
            last_us: now,
            said: String::new(),
            guess,
        };
        let entry = gathered.entry((sender, cause)).or_insert_with(|| {
            let guess = if self.may_guess() { guess() } else { None };
            Gathered { written: Instant::now().checked_sub(KNOCKS_EVERY).unwrap_or_else(Instant::now), waiting: knock(guess) }
        });
        entry.waiting.count += 1;
        entry.waiting.last_us = now;
        said.clone_into(&mut entry.waiting.said);
        if entry.written.elapsed() >= KNOCKS_EVERY {
            self.write(entry, knock(None));
        }
    }

    fn may_guess(&self) -> bool {
        self.guesses.lock().is_ok_and(|mut guesses| {
            *guesses += 1;
            *guesses <= GUESSES
        })
    }

    /// Writes what was gathered, and forgets senders that have gone quiet.
    pub(super) fn flush(&self) {
        if let Ok(mut guesses) = self.guesses.lock() {
            *guesses = 0;
        }
        let Ok(mut gathered) = self.gathered.lock() else { return };
        gathered.retain(|_, entry| {
            if entry.waiting.count > 0 {
                let next = Knock { count: 0, said: String::new(), guess: None, ..entry.waiting.clone() };
                self.write(entry, next);
                return true;
            }
            entry.written.elapsed() < KNOCKS_EVERY
        });
    }

    fn write(&self, entry: &mut Gathered, next: Knock) {
        entry.written = Instant::now();
        self.shared.keep_knock(std::mem::replace(&mut entry.waiting, next));
    }
}

/// Which gateway an unknown sender may be: the one whose secret fits, else the one whose name it gives.
pub(super) fn guess(datagram: &[u8], live: &LiveSite) -> Option<Guess> {
    let packet = Packet::parse(datagram).ok()?;
    let gateways = live.site.gateways.iter().zip(&live.secrets);
    let signed = gateways.clone().find(|(_, secret)| secret.authenticate(packet, IntegrityPolicy::Required).is_ok());
    if let Some((gateway, _)) = signed {
        return Some(Guess { gateway: gateway.name.clone(), why: "the packet is signed with its shared secret".into() });
    }
    let named = packet.text(AttributeType::NasIdentifier)?;
    let (gateway, _) = gateways.clone().find(|(gateway, _)| gateway.name.eq_ignore_ascii_case(named))?;
    Some(Guess { gateway: gateway.name.clone(), why: "its NAS-Identifier matches, but the shared secret does not".into() })
}
