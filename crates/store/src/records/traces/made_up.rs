//! Traces of nobody, for measuring.

use super::chunk::{Entry, FULL};
use super::keep::{chunks, insert_chunks};
use crate::clock;
use crate::records::{Records, RecordsError};
use bivector_model::Cause;
use bivector_model::device::CodeKind;
use bivector_model::facts::{CheckFact, CodeFact, FactorFacts, Facts, PersonFact, TypedFact};
use bivector_model::person::Found;
use bivector_model::rule::Groups;
use bivector_model::trace::{Hop, Origin, Outcome, Step, Tone, Trace};
use std::sync::Arc;

/// People of the made-up logins.
const PEOPLE: u64 = 500;
/// Traces in one commit.
const AT_ONCE: u64 = 20 * FULL as u64;

impl Records {
    /// Writes so many made-up traces, the newest of them ending now.
    pub async fn make_up_traces(&self, count: u64) -> Result<(), RecordsError> {
        let now_us = clock::now().micros();
        let mut written = 0;
        while written < count {
            let first = self.skip_trace();
            let some = AT_ONCE.min(count - written);
            // The numbers are taken, so that real logins go on behind them.
            for _ in 1..some {
                self.skip_trace();
            }
            let began_us = now_us - (count - written) * 1_000;
            self.write(move |transaction| {
                let entries: Vec<Entry> =
                    (0..some).map(|place| Entry::of(first + place, made_up(first + place, began_us + place * 1_000))).collect();
                insert_chunks(transaction, &chunks(&entries))
            })
            .await?;
            written += some;
        }
        Ok(())
    }
}

/// One of ten is refused, for one of three causes; one of two hundred is rehearsed.
fn made_up(number: u64, began_us: u64) -> Trace {
    let login = format!("person{:03}", number * 7_919 % PEOPLE);
    let cause = match number % 30 {
        0 => Some(Cause::PasswordWrong),
        10 => Some(Cause::CodeWrong),
        20 => Some(Cause::ApprovalUnanswered),
        _ => None,
    };
    let step = |hop, what: &'static str, said: String| Step {
        hop,
        what: what.into(),
        tone: Tone::Good,
        at_us: 10,
        took_us: 900,
        said,
        line: Some(40),
    };
    Trace {
        reference: format!("{:08X}", number.wrapping_mul(0x9E37_79B1) & 0xffff_ffff),
        began_us,
        took_us: 2_000 + number % 977,
        origin: if number.is_multiple_of(200) { Origin::Rehearsal } else { Origin::Gateway },
        gateway: ["breakwater", "lantern", "slipway"][(number % 3) as usize].into(),
        sender: format!("192.0.2.10:{}", 1024 + number % 60_000),
        chain: ["staff", "contractors", "watch"][(number % 3) as usize].into(),
        typed_name: format!("NORTHMOOR\\{login}"),
        person: Some(format!("tidehall:{login}")),
        method: "pap".into(),
        source: Some("tidehall".into()),
        outcome: if cause.is_some() { Outcome::Refused } else { Outcome::Accepted },
        cause,
        grant: cause.is_none().then(|| "turbine-crew".into()),
        factor: cause.is_none().then(|| "totp".into()),
        waived: None,
        revision: 1 + number / 100_000,
        steps: vec![
            step(Hop::Gateway, "request", "Access-Request of 118 bytes from breakwater, signed by its Message-Authenticator".into()),
            step(Hop::Reading, "name", format!("`NORTHMOOR\\{login}` is `{login}` once `NORTHMOOR\\` is taken off")),
            step(Hop::First, "find person", format!("tidehall knows {login} as uid={login},ou=people,dc=northmoor,dc=example")),
            step(Hop::First, "password", "tidehall says the password is right".into()),
            step(Hop::Second, "code", "the code is correct (of this step) and is now marked as used".into()),
            step(Hop::Reply, "accept", "Access-Accept with the grant `turbine-crew`".into()),
        ],
        facts: Box::new(facts(&login, cause)),
    }
}

/// What such a login would have learned.
fn facts(login: &str, cause: Option<Cause>) -> Facts {
    let found = Found {
        key: format!("tidehall:{login}"),
        login: login.into(),
        name: login.into(),
        handle: format!("uid={login},ou=people,dc=northmoor,dc=example"),
        groups: Groups::new(["cn=turbine-crew,ou=groups,dc=northmoor,dc=example"]),
        ..Found::default()
    };
    let right = |good: bool| if good { CheckFact::Right } else { CheckFact::Wrong };
    let verdict = if cause == Some(Cause::CodeWrong) { CodeFact::Wrong } else { CodeFact::Right(CodeKind::Totp) };
    Facts {
        port: 1812,
        signed: true,
        people: vec![("tidehall".into(), PersonFact::Found(Arc::new(found)))],
        factors: Some(FactorFacts { devices: vec![(CodeKind::Totp, 6, false)], ..FactorFacts::default() }),
        typed: Some(TypedFact {
            form: "password code(6)".into(),
            password: 17,
            code: Some(6),
            verdict: Some(verdict),
            ..TypedFact::default()
        }),
        passwords: vec![("tidehall".into(), right(cause != Some(Cause::PasswordWrong)))],
        mark: cause.is_none().then_some(CheckFact::Right),
        ..Facts::default()
    }
}
