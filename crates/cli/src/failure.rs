//! How a command fails: a message for people and an exit code for programs.

use std::{fmt, process::ExitCode};

use fenetre_wire::problem::Problem;

/// Done.
pub const DONE: u8 = 0;
/// It failed.
pub const FAILED: u8 = 1;
/// The command line, the query or a file that goes with it is wrong.
pub const WRONG: u8 = 2;
/// No service answers.
pub const UNREACHED: u8 = 3;
/// Done, but some rows were rejected.
pub const SOME_REJECTED: u8 = 4;
/// The pipe of the result is closed: the exit code that a shell gives to a program ended by SIGPIPE (13).
pub const READER_GONE: u8 = 128 + 13;

/// Why a command failed.
#[derive(Debug)]
pub struct Failure {
    code: u8,
    message: String,
}

impl Failure {
    /// A failure with its exit code.
    pub fn new(code: u8, message: impl Into<String>) -> Self {
        Self { code, message: message.into() }
    }

    /// The same, about a file.
    pub fn of(self, file: &str) -> Self {
        Self { message: format!("{file}: {}", self.message), ..self }
    }

    /// Whether no service answered.
    pub fn is_unreached(&self) -> bool {
        self.code == UNREACHED
    }

    /// The same, with what follows from it.
    pub fn with(self, consequence: &str) -> Self {
        Self { message: format!("{}{consequence}", self.message), ..self }
    }

    /// Prints the message and gives the exit code.
    pub fn report(self) -> ExitCode {
        if self.code != READER_GONE {
            noteln!("fenetre: {}", self.message);
        }
        ExitCode::from(self.code)
    }
}

impl fmt::Display for Failure {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.message)
    }
}

impl From<Problem> for Failure {
    fn from(problem: Problem) -> Self {
        let code = if ["query", "request"].contains(&problem.word()) { WRONG } else { FAILED };
        let message = match &problem.place {
            Some(place) if place.text == "frame" => format!("in the frame given by options: {}", place.drawing),
            Some(place) => place.drawing.clone(),
            None => problem.detail,
        };
        Self::new(code, message)
    }
}

impl From<std::io::Error> for Failure {
    fn from(error: std::io::Error) -> Self {
        let code = if error.kind() == std::io::ErrorKind::BrokenPipe { READER_GONE } else { FAILED };
        Self::new(code, error.to_string())
    }
}

impl From<serde_json::Error> for Failure {
    fn from(error: serde_json::Error) -> Self {
        Self::new(FAILED, error.to_string())
    }
}
