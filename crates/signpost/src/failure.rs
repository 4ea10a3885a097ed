//! Exit codes, decided in one place, and how errors are told.

use std::process::ExitCode;

use serde::Serialize;
use signpost_facts::{Error, Refusal};

use crate::global::Global;
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
        Self::Other(error.to_string())
    }
}

#[derive(Serialize)]
struct MenuErrors<'a> {
    schema: u32,
    file: &'a str,
    errors: Vec<MenuError<'a>>,
}

#[derive(Serialize)]
struct MenuError<'a> {
    line: usize,
    column: usize,
    message: &'a str,
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

    /// Tells it on standard error; errors of a menu file are a JSON document too, where one was asked for.
    pub fn print(&self, global: &Global) {
        match self {
            Self::Core(Error::MenuFile { file, problems }) => {
                if global.json {
                    let errors = problems
                        .iter()
                        .map(|p| MenuError { line: p.line, column: p.column, message: &p.message })
                        .collect();
                    out::json(&MenuErrors { schema: signpost_facts::SCHEMA, file, errors });
                }
                for problem in problems {
                    out::error(&format!("{file}, {problem}"));
                }
            }
            Self::Core(Error::Refused(refusals)) => {
                for Refusal { code, message, way } in refusals {
                    out::error(&format!("refused ({code}): {message}"));
                    out::error(&format!("  instead: {way}"));
                }
                let mut guards: Vec<String> = Vec::new();
                for refusal in refusals.iter().filter(|refusal| refusal.code.is_guard()) {
                    let code = refusal.code.to_string();
                    if !guards.contains(&code) {
                        guards.push(code);
                    }
                }
                if !guards.is_empty() {
                    out::error(&format!("  to do it all the same: --despite {}", guards.join(",")));
                }
            }
            Self::Core(error) => out::error(&error.to_string()),
            Self::Usage(message) | Self::Problem(message) | Self::Other(message) => out::error(message),
        }
    }
}
