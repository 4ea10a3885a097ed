//! Exit codes, decided in one place, and how errors are shown.

use std::process::ExitCode;

use serde::Serialize;
use signpost_facts::{Code, Error, Refusal};
use signpost_machine::os_words;
use signpost_menu::Problem;

use crate::render::out;

/// How the program ends. Most wrong use is clap's to tell, which ends with 2 too.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Exit {
    /// Done.
    Done = 0,
    /// Problems found: nothing starts, a menu file with errors.
    Problems = 1,
    /// Wrong use.
    WrongUse = 2,
    /// A guard refused.
    Refused = 3,
    /// The machine or a file could not be read or written.
    Unusable = 4,
}

impl From<Exit> for ExitCode {
    fn from(exit: Exit) -> Self {
        Self::from(exit as u8)
    }
}

/// Why a command did not do what it was asked for.
#[derive(Debug)]
pub enum Failure {
    /// The core says so.
    Core(Error),
    /// What was typed names nothing that is there.
    Usage(String),
    /// A problem was found, and told in words.
    Problem(String),
    /// Something of the command line's own, such as the terminal.
    Other(String),
}

impl From<Error> for Failure {
    fn from(error: Error) -> Self {
        Self::Core(error)
    }
}

impl From<std::io::Error> for Failure {
    fn from(error: std::io::Error) -> Self {
        Self::Other(os_words::words(&error))
    }
}

impl Failure {
    /// The exit code.
    pub fn exit(&self) -> Exit {
        match self {
            Self::Core(Error::MenuFile { .. }) | Self::Problem(_) => Exit::Problems,
            Self::Core(Error::Refused(_)) => Exit::Refused,
            Self::Usage(_) | Self::Core(Error::WrongUse(_)) => Exit::WrongUse,
            Self::Core(
                Error::Unusable { .. }
                | Error::Variables(_)
                | Error::NotReadBack { .. }
                | Error::Interrupted { .. },
            )
            | Self::Other(_) => Exit::Unusable,
        }
    }

    /// Its code in JSON documents; that of the first guard, where guards refused.
    pub fn code(&self) -> &'static str {
        match self {
            Self::Core(Error::MenuFile { .. }) => Code::MenuFileBroken.word(),
            Self::Core(Error::Refused(refusals)) => {
                refusals.first().map_or("refused", |refusal| refusal.code.word())
            }
            Self::Core(Error::WrongUse(_)) | Self::Usage(_) => "wrong-use",
            Self::Core(Error::Unusable { .. } | Error::Variables(_)) | Self::Other(_) => "unusable",
            Self::Core(Error::NotReadBack { .. }) => "not-read-back",
            Self::Core(Error::Interrupted { .. }) => "interrupted",
            Self::Problem(_) => "problem",
        }
    }

    /// What goes into the JSON document.
    pub fn facts(&self) -> ErrorFacts<'_> {
        let (refusals, errors): (&[Refusal], &[Problem]) = match self {
            Self::Core(Error::Refused(refusals)) => (refusals, &[]),
            Self::Core(Error::MenuFile { problems, .. }) => (&[], problems),
            _ => (&[], &[]),
        };
        let error = |problem: &Problem| MenuError {
            line: problem.line,
            column: problem.column,
            message: problem.message.clone(),
        };
        ErrorFacts {
            code: self.code(),
            message: refusals.first().map_or_else(|| self.message(), |refusal| refusal.message.clone()),
            instead: refusals.first().map(|refusal| refusal.way.as_str()),
            refusals,
            errors: errors.iter().map(error).collect(),
        }
    }

    /// What it says, in words.
    pub fn message(&self) -> String {
        match self {
            Self::Core(error) => error.to_string(),
            Self::Usage(message) | Self::Problem(message) | Self::Other(message) => message.clone(),
        }
    }

    /// Tells it on standard error.
    pub fn print(&self) {
        match self {
            Self::Core(Error::MenuFile { file, problems }) => {
                problems.iter().for_each(|problem| out::error(&format!("{file}, {problem}")));
            }
            Self::Core(Error::Refused(refusals)) => {
                for Refusal { code, message, way } in refusals {
                    out::error(&format!("refused ({code}): {message}"));
                    out::error(&format!("  instead: {way}"));
                }
                let mut guards: Vec<&str> = Vec::new();
                for refusal in refusals.iter().filter(|refusal| refusal.code.is_guard()) {
                    if !guards.contains(&refusal.code.word()) {
                        guards.push(refusal.code.word());
                    }
                }
                if !guards.is_empty() {
                    out::error(&format!("  to do it anyway: --despite {}", guards.join(",")));
                }
            }
            _ => out::error(&self.message()),
        }
    }
}

/// Why a command did not do what it was asked for, as JSON.
#[derive(Serialize)]
pub struct ErrorFacts<'a> {
    code: &'static str,
    message: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    instead: Option<&'a str>,
    #[serde(skip_serializing_if = "<[_]>::is_empty")]
    refusals: &'a [Refusal],
    #[serde(skip_serializing_if = "Vec::is_empty")]
    errors: Vec<MenuError>,
}

/// An error of a menu file.
#[derive(Serialize)]
struct MenuError {
    line: usize,
    column: usize,
    message: String,
}

impl ErrorFacts<'_> {
    /// What was typed is not a command line.
    pub fn of_words(message: String) -> Self {
        Self { code: "wrong-use", message, instead: None, refusals: &[], errors: Vec::new() }
    }
}
