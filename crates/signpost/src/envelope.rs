//! The one form of every JSON document: `schema`, `command`, and `result`, `error`, or both.

use clap::ArgMatches;
use serde::Serialize;
use serde_json::Value;

use crate::failure::{ErrorFacts, Failure};
use crate::render::out;

#[derive(Serialize)]
struct Envelope<'a> {
    /// Version of this form; fields are added to it, and none is changed.
    schema: u32,
    /// The command, with its subcommand.
    command: &'a str,
    #[serde(skip_serializing_if = "Option::is_none")]
    result: Option<Value>,
    #[serde(skip_serializing_if = "Option::is_none")]
    error: Option<ErrorFacts<'a>>,
}

/// The command as it was typed: `firmware order`; `survey` where none was.
pub fn command(matches: &ArgMatches) -> String {
    let mut words = Vec::new();
    let mut matches = matches;
    while let Some((word, below)) = matches.subcommand() {
        words.push(word);
        matches = below;
    }
    if words.is_empty() { "survey".into() } else { words.join(" ") }
}

/// Prints the document; nothing, where a command has nothing to say.
pub fn print(command: &str, result: Option<Value>, failure: Option<&Failure>) {
    let error = failure.map(Failure::facts);
    if result.is_some() || error.is_some() {
        out::json(&Envelope { schema: signpost_facts::SCHEMA, command, result, error });
    }
}

/// Prints the document of a command line that is none.
pub fn print_wrong_use(message: String) {
    let error = Some(ErrorFacts::of_words(message));
    out::json(&Envelope { schema: signpost_facts::SCHEMA, command: "", result: None, error });
}
