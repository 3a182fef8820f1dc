//! How a command ends when it does not end well: a sentence, a remedy and an exit status.

use bivector_api::problem::Problem;
use bivector_store::ServiceError;
use std::process::ExitCode;

/// A command that did not do what was asked.
#[derive(Debug)]
pub struct Failure {
    code: u8,
    message: String,
    remedy: String,
    /// Already told in another form, such as a table.
    told: bool,
}

impl Failure {
    /// The answer is no (exit status 1).
    pub fn no(message: impl Into<String>, remedy: impl Into<String>) -> Self {
        Failure { code: 1, message: message.into(), remedy: remedy.into(), told: false }
    }

    /// Wrong use (exit status 2).
    pub fn usage(message: impl Into<String>, remedy: impl Into<String>) -> Self {
        Failure { code: 2, ..Failure::no(message, remedy) }
    }

    /// The service could not be reached (exit status 3).
    pub fn unreachable(message: impl Into<String>, remedy: impl Into<String>) -> Self {
        Failure { code: 3, ..Failure::no(message, remedy) }
    }

    /// Whether the service said no, rather than that it was asked wrongly or not at all.
    pub fn is_no(&self) -> bool {
        self.code == 1
    }

    /// Whether no service was asked: none answers, or nobody said how to ask it.
    pub fn asked_nobody(&self) -> bool {
        self.code != 1
    }

    /// What went wrong.
    pub fn message(&self) -> &str {
        &self.message
    }

    /// Prints it to standard error and gives the exit status.
    #[allow(clippy::print_stderr, reason = "the command line's own output")]
    pub fn report(self, json: bool) -> ExitCode {
        if json && !self.told {
            eprintln!("{}", serde_json::json!({ "error": self.message, "remedy": self.remedy }));
        } else if !self.told {
            eprintln!("error: {}", self.message);
            if !self.remedy.is_empty() {
                eprintln!(" help: {}", self.remedy);
            }
        }
        ExitCode::from(self.code)
    }
}

impl From<ServiceError> for Failure {
    fn from(error: ServiceError) -> Self {
        let remedy = error.remedy();
        Failure::no(error.to_string(), remedy)
    }
}

impl From<Problem> for Failure {
    fn from(problem: Problem) -> Self {
        Failure::no(problem.title, problem.remedy)
    }
}
