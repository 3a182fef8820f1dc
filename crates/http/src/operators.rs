//! Operators in memory, as the records hold them: who has which token and role, and who may sign in to the console.

use crate::api::{ApiState, Problem};
use axum::http::StatusCode;
use bivector_api::operators::Role;
use bivector_engine::hashing::For;
use bivector_engine::tries::seconds_until;
use bivector_model::Moment;
use bivector_model::device::{CodeLimits, Device, Used};
use bivector_model::totp::Settings;
use bivector_store::agreement::Tally;
use bivector_store::clock;
use bivector_store::error::ServiceError;
use bivector_store::records::{OperatorRow, Records, RecordsError};
use bivector_store::seal::hash_token;
use bivector_wire::Secret;
use std::collections::HashMap;
use std::time::Duration;

/// A mark of a used code is kept this long, in seconds: longer than the code counts.
const MARK: u64 = 300;

/// Everybody who may call.
#[derive(Debug, Default)]
pub struct Operators {
    by_hash: HashMap<Vec<u8>, TokenOf>,
    by_name: HashMap<String, OperatorRow>,
    /// Labels of tokens by operator.
    pub labels: HashMap<String, Vec<String>>,
}

/// Whose a token is, and what for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TokenOf {
    /// The operator.
    pub operator: String,
    /// What it is for.
    pub label: String,
}

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
            operators.labels.entry(token.operator.clone()).or_default().push(token.label.clone());
            operators.by_hash.insert(token.hash, TokenOf { operator: token.operator, label: token.label });
        }
        operators.by_name = records.operators()?.into_iter().map(|operator| (operator.name.clone(), operator)).collect();
        Ok(operators)
    }

    /// Tokens are looked up by their hash, so comparing takes no longer for a token that is nearly right.
    pub fn by_token(&self, token: &str) -> Option<TokenOf> {
        self.by_hash.get(&hash_token(token)).cloned()
    }

    /// Whether there is a token with this hash.
    pub fn has_token(&self, hash: &[u8]) -> bool {
        self.by_hash.contains_key(hash)
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
    /// A name that has failed too often waits longer and longer. Whoever has the operator's right code passes that, so that nobody is
    /// locked out by strangers; the code is used up by it, so that each is worth one guess at the password.
    ///
    /// # Errors
    /// They do not fit, the name has failed too often, or too many sign in at this moment.
    pub async fn check_sign_in(state: &ApiState, name: &str, password: Secret<String>, code: Secret<String>) -> Result<(), Problem> {
        let known = state.operators.load().by_name.get(name).cloned();
        let step = known.as_ref().and_then(|operator| step_of(state, operator, &code));
        let (attempt, spent) = match state.shared.tries.begin(Tally::ConsoleAs, name).await? {
            Ok(attempt) => (attempt, false),
            Err(refused) => {
                let code = state.shared.tries.begin(Tally::ConsoleCode, name).await?.map_err(|refused| waits(refused.until))?;
                match (&known, step) {
                    (Some(operator), Some(step)) if use_step(state, operator, step).await? => code.uncounted(),
                    _ => return Err(waits(refused.until)),
                }
                (state.shared.tries.begin_anyway(Tally::ConsoleAs, name).await?.map_err(|refused| waits(refused.until))?, true)
            }
        };
        // Without such an operator, or without a password, it takes as long: its time does not tell a name.
        let hash = known.as_ref().and_then(|operator| operator.password.clone());
        let right = state.shared.hashing.verify(hash, password, For::Other, None).await? == Some(true);
        let proved = match (&known, step) {
            (Some(operator), Some(step)) if right => spent || use_step(state, operator, step).await?,
            _ => false,
        };
        if proved {
            attempt.right();
            return Ok(());
        }
        tracing::warn!(name = state.shared.roster.names().loggable(name, known.is_some()), "a sign-in to the console failed");
        Err(Problem::new(StatusCode::UNAUTHORIZED, "sign-in", "name, password and code do not fit", "type them again, with the next code"))
    }
}

fn waits(until: Moment) -> Problem {
    Problem::new(
        StatusCode::TOO_MANY_REQUESTS,
        "sign-in-waits",
        "too many sign-ins of this name have failed",
        format!("wait {} seconds, type the right code beside the password, or use a token", seconds_until(until)),
    )
}

/// The step of an operator's code, if it is right now.
fn step_of(state: &ApiState, operator: &OperatorRow, code: &Secret<String>) -> Option<u64> {
    let seed = operator.seed.as_ref().and_then(|sealed| state.shared.seal.open(&operator_purpose(&operator.name), sealed).ok())?;
    let device = Device::by_time(0, "", seed, Settings::default());
    match device.verify(code.expose(), clock::now(), &CodeLimits::default())?.used() {
        Used::Step { step, .. } => Some(step),
        _ => None,
    }
}

/// Uses an operator's code up, and those before it that could still be right; `false` if it was used before.
async fn use_step(state: &ApiState, operator: &OperatorRow, step: u64) -> Result<bool, RecordsError> {
    let now = clock::now();
    let mut is_new = false;
    for step in step.saturating_sub(2 * CodeLimits::default().window)..=step {
        let mark = [operator_purpose(&operator.name).as_bytes(), &step.to_be_bytes()].concat();
        is_new = state.shared.agreement.mark(mark, now.plus(Duration::from_secs(MARK)), now).await?;
    }
    Ok(is_new)
}
