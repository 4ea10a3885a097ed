//! One command, one file: what can be typed for it, and what it does.

pub mod apply;
pub mod demo;
pub mod draft;
pub mod explain;
pub mod history;
pub mod menu;
pub mod plan;
pub mod rehearse;
pub mod survey;
pub mod undo;

use clap::builder::{PossibleValuesParser, TypedValueParser};
use signpost_core::Code;

/// Reads a guard's code.
pub fn guard_codes() -> impl TypedValueParser<Value = Code> {
    let words = Code::ALL.into_iter().filter(|code| code.is_guard()).map(Code::word);
    PossibleValuesParser::new(words).try_map(|word| Code::parse(&word).ok_or("no such code"))
}
