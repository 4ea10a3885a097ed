//! A start that was put together at the prompt.

use alloc::string::String;

use crate::resolve::StartTarget;

/// A start, composed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Composed {
    /// What it is called.
    pub title: String,
    /// What would be started.
    pub target: StartTarget,
    /// Where its parts come from.
    pub from: String,
    /// Whether its kernel is its system's newest one, whichever that is.
    pub is_newest: bool,
}
