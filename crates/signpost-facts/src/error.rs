//! What can go wrong, told apart by whose fault it is.

use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec::Vec;
use core::fmt::Display;

use signpost_firmware::variable::StoreError;
use signpost_menu::Problem;

use crate::code::Code;

/// What went wrong.
#[derive(Debug, thiserror::Error)]
pub enum Error {
    /// A file of the machine cannot be read or written, or does not say what it should.
    #[error("{place}: {why}")]
    Unusable {
        /// The file, with line or offset where there is one.
        place: String,
        /// What was found, what was expected, what to do next.
        why: String,
    },
    /// The firmware's variables cannot be read or written.
    #[error("firmware variables: {0}")]
    Variables(#[from] StoreError),
    /// What was asked for names nothing that is there, or is written in the wrong way.
    #[error("{0}")]
    WrongUse(String),
    /// The menu file has errors.
    #[error("{file} has {} error{}", problems.len(), if problems.len() == 1 { "" } else { "s" })]
    MenuFile {
        /// The file.
        file: String,
        /// All of them.
        problems: Vec<Problem>,
    },
    /// Guards refused; nothing was changed.
    #[error("{}", refused(.0))]
    Refused(Vec<Refusal>),
    /// Somebody stopped us between two writes.
    #[error(
        "stopped after {done} of {all} writes; the machine starts as it is: the same command goes on, \
         `signpost undo` undoes what was written"
    )]
    Interrupted {
        /// Writes that were done.
        done: usize,
        /// All.
        all: usize,
    },
    /// What was written does not read back.
    #[error("{what}: what was written does not read back; {way}")]
    NotReadBack {
        /// What was written.
        what: String,
        /// What to do.
        way: String,
    },
}

fn refused(refusals: &[Refusal]) -> String {
    let lines = refusals.iter().map(|refusal| format!("refused ({}): {}", refusal.code, refusal.message));
    lines.collect::<Vec<_>>().join("; ")
}

/// Why a guard refused, and the way on.
#[derive(Clone, Debug, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub struct Refusal {
    /// The guard.
    pub code: Code,
    /// What would happen.
    pub message: String,
    /// What to do instead.
    pub way: String,
}

impl Error {
    /// A file that cannot be used.
    pub fn unusable(place: impl Display, why: impl ToString) -> Self {
        Self::Unusable { place: place.to_string(), why: why.to_string() }
    }
}

/// What comes of a call.
pub type Result<T> = core::result::Result<T, Error>;
