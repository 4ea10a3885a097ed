//! Where text goes: results to standard output, all else to standard error. Colours are dropped where the
//! stream or the person does not want them. A pipe that was closed is no error worth telling.

use std::io::Write;

use serde::Serialize;

use super::style;

/// A result.
pub fn text(text: &str) {
    let _ = anstream::stdout().write_all(text.as_bytes());
}

/// A result as one JSON document.
pub fn json(facts: &impl Serialize) {
    if let Ok(mut document) = serde_json::to_string_pretty(facts) {
        document.push('\n');
        text(&document);
    }
}

/// Something that helps, and is no result.
pub fn note(text: &str) {
    let _ = anstream::stderr().write_all(text.as_bytes());
}

/// An error; where there are several, a line each.
pub fn error(message: &str) {
    message.lines().for_each(|line| note(&format!("{} {line}\n", style::bad("signpost:"))));
}
