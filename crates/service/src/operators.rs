//! Operators in memory, as the records hold them: who has which token and role, and who may sign in to the console.

use crate::api::{ApiState, Problem};
use crate::clock;
use crate::error::ServiceError;
use crate::records::{OperatorRow, Records, RecordsError, Role};
use crate::roster::verify_password;
use crate::seal::hash_token;
use axum::http::StatusCode;
use bivector_core::device::{CodeLimits, Device, Used};
use bivector_core::totp::Settings;
use bivector_wire::Secret;
use std::collections::HashMap;
use std::sync::Mutex;
use std::time::{Duration, Instant};

/// Failed sign-ins of one name before it has to wait.
const TRIES: u32 = 5;
/// How long it has to wait then.
const WAIT: Duration = Duration::from_secs(300);
/// Names whose failures are counted; more are refused until the oldest are over.
const COUNTED: usize = 1024;
/// A mark of a used code is kept this long, in seconds: longer than the code counts.
const MARK: u64 = 300;

/// Everybody who may call.
#[derive(Debug, Default)]
pub struct Operators {
    by_hash: HashMap<Vec<u8>, String>,
    by_name: HashMap<String, OperatorRow>,
    /// Labels of tokens by operator.
    pub labels: HashMap<String, Vec<String>>,
}

/// Failed sign-ins by name.
pub type SignInFailures = Mutex<HashMap<String, (u32, Instant)>>;

/// What an operator's seed is sealed for.
pub fn operator_purpose(name: &str) -> String {
    format!("operator/{name}")
}

impl Operators {
    /// Reads them from the records.
    ///
    /// # Errors
    /// The records cannot be read.
    pub fn load(records: &Records) -> Result<Self, ServiceError> {
        let mut operators = Operators::default();
        for token in records.tokens()? {
            operators.labels.entry(token.operator.clone()).or_default().push(token.label);
            operators.by_hash.insert(token.hash, token.operator);
        }
        operators.by_name = records.operators()?.into_iter().map(|operator| (operator.name.clone(), operator)).collect();
        Ok(operators)
    }

    /// Tokens are looked up by their hash, so comparing takes no longer for a token that is nearly right.
    pub fn by_token(&self, token: &str) -> Option<String> {
        self.by_hash.get(&hash_token(token)).cloned()
    }

    /// What an operator may do; none where there is no such operator.
    pub fn role(&self, name: &str) -> Option<Role> {
        self.by_name.get(name).map(|operator| operator.role)
    }

    /// All by name.
    pub fn all(&self) -> Vec<&OperatorRow> {
        let mut all: Vec<_> = self.by_name.values().collect();
        all.sort_by(|a, b| a.name.cmp(&b.name));
        all
    }

    /// Checks name, password and code. The answer is the same whichever of them is wrong; a code works once.
    ///
    /// # Errors
    /// They do not fit, or the name has failed too often.
    pub async fn check_sign_in(state: &ApiState, name: &str, password: Secret<String>, code: Secret<String>) -> Result<(), Problem> {
        if !may_try(&state.failures, name) {
            return Err(Problem::new(
                StatusCode::TOO_MANY_REQUESTS,
                "sign-in-waits",
                "too many sign-ins of this name have failed",
                format!("wait {} minutes, or use a token", WAIT.as_secs() / 60),
            ));
        }
        let known = state.operators.load().by_name.get(name).cloned();
        let right = match known {
            Some(operator) => fits(state, &operator, password, &code).await?,
            // As long as a real one, so that its time does not tell a name.
            None => verify_password(None, password).await.unwrap_or(false),
        };
        note(&state.failures, name, right);
        if right {
            return Ok(());
        }
        tracing::warn!(name = %name.escape_debug(), "a sign-in to the console failed");
        Err(Problem::new(StatusCode::UNAUTHORIZED, "sign-in", "name, password and code do not fit", "type them again, with the next code"))
    }
}

async fn fits(state: &ApiState, operator: &OperatorRow, password: Secret<String>, code: &Secret<String>) -> Result<bool, RecordsError> {
    let has_password = operator.password.is_some();
    let right = verify_password(operator.password.clone(), password).await.unwrap_or(false) && has_password;
    let purpose = operator_purpose(&operator.name);
    let seed = operator.seed.as_ref().and_then(|sealed| state.shared.seal.open(&purpose, sealed).ok());
    let Some(seed) = seed else { return Ok(false) };
    let now = clock::now();
    let device = Device::by_time(0, "", seed, Settings::default());
    let verified = device.verify(code.expose(), now, &CodeLimits::default()).filter(|_| right).map(|verified| verified.used());
    let Some(Used::Step { step, .. }) = verified else { return Ok(false) };
    let mark = [purpose.as_bytes(), &step.to_be_bytes()].concat();
    state.shared.agreement.put_if_absent(mark, now.plus(Duration::from_secs(MARK)), now).await
}

/// Tries of invitations and of sign-ins to people's own pages from one address, before it has to wait. Many people may share one.
const TRIES_OF_ADDRESS: u32 = 10;

/// Whether another try from an address is let through.
pub(crate) fn may_try_often(failures: &SignInFailures, address: &str) -> bool {
    tries_left(failures, address, TRIES_OF_ADDRESS)
}

fn may_try(failures: &SignInFailures, name: &str) -> bool {
    tries_left(failures, name, TRIES)
}

fn tries_left(failures: &SignInFailures, name: &str, most: u32) -> bool {
    let Ok(mut failures) = failures.lock() else { return false };
    failures.retain(|_, (_, last)| last.elapsed() < WAIT);
    match failures.get(name) {
        Some((count, _)) => *count < most,
        None => failures.len() < COUNTED,
    }
}

/// Counts a try.
pub(crate) fn note(failures: &SignInFailures, name: &str, right: bool) {
    let Ok(mut failures) = failures.lock() else { return };
    if right {
        failures.remove(name);
    } else {
        let entry = failures.entry(name.to_owned()).or_insert((0, Instant::now()));
        *entry = (entry.0 + 1, Instant::now());
    }
}
