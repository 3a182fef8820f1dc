//! The tokens of the demo's people: which code to type next.

use bivector_model::totp::{Settings, code};
use bivector_wire::Secret;
use std::collections::{HashMap, HashSet};
use std::time::{Duration, SystemTime, UNIX_EPOCH};

/// Seeds by login name, and the newest step of each whose code was typed.
pub(crate) struct Codes {
    seeds: HashMap<String, Secret<Vec<u8>>>,
    typed: HashMap<String, u64>,
}

impl Codes {
    /// Reads the seeds of a people file.
    pub(crate) fn new(people: &str) -> Self {
        let mut seeds = HashMap::new();
        for line in people.lines().skip(1) {
            let fields: Vec<&str> = line.split(',').collect();
            let seed = fields.get(5).and_then(|seed| data_encoding::BASE32_NOPAD.decode(seed.as_bytes()).ok());
            if let (Some(login), Some(seed)) = (fields.first(), seed) {
                seeds.insert((*login).to_owned(), Secret::new(seed));
            }
        }
        Codes { seeds, typed: HashMap::new() }
    }

    /// Whether somebody has a seed.
    pub(crate) fn has(&self, login: &str) -> bool {
        self.seeds.contains_key(login)
    }

    /// The code that a person's token shows now, typed or not.
    pub(crate) fn now(&self, login: &str) -> String {
        self.seeds.get(login).map(|seed| code_at(seed, step_now())).unwrap_or_default()
    }

    /// A code that has not been typed yet and is right now; waits for the next one where all of the window are typed.
    pub(crate) async fn fresh(&mut self, login: &str) -> String {
        let Some(seed) = self.seeds.get(login) else { return "000000".to_owned() };
        loop {
            let step = step_now();
            // The oldest first: once a code is used, older ones of its device are refused.
            let near_end = seconds_now() % 30 > 26;
            let newest = self.typed.get(login).copied();
            let mut candidates = (!near_end).then_some(step - 1).into_iter().chain([step, step + 1]);
            if let Some(next) = candidates.find(|step| newest.is_none_or(|newest| *step > newest)) {
                self.typed.insert(login.to_owned(), next);
                return code_at(seed, next);
            }
            tokio::time::sleep(Duration::from_millis(500)).await;
        }
    }

    /// A code of the right length that is none of the person's around now.
    pub(crate) fn wrong(&self, login: &str) -> String {
        let Some(seed) = self.seeds.get(login) else { return "000000".to_owned() };
        let step = step_now();
        let right: HashSet<String> = (step - 60..step + 60).map(|step| code_at(seed, step)).collect();
        (0..1_000_000u32).map(|number| format!("{number:06}")).find(|code| !right.contains(code)).unwrap_or_default()
    }
}

fn code_at(seed: &Secret<Vec<u8>>, step: u64) -> String {
    code(seed.expose(), step, Settings::default())
}

fn seconds_now() -> u64 {
    SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default().as_secs()
}

fn step_now() -> u64 {
    seconds_now() / 30
}
