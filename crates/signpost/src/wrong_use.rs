//! A command line that cannot be read, told as all other errors are.

use std::ffi::OsString;

use clap::Error;
use clap::error::ErrorKind;

use crate::envelope;
use crate::failure::Exit;
use crate::render::out;

/// Tells it; help and version are asked for, and no error.
pub fn tell(error: &Error, words: &[OsString]) -> Exit {
    if matches!(
        error.kind(),
        ErrorKind::DisplayHelp
            | ErrorKind::DisplayVersion
            | ErrorKind::DisplayHelpOnMissingArgumentOrSubcommand
    ) {
        let _ = error.print();
        return if error.use_stderr() { Exit::WrongUse } else { Exit::Done };
    }
    let lines = lines(&error.to_string());
    if words.iter().any(|word| word == "--json") {
        envelope::print_wrong_use(lines.join("; "));
    }
    lines.iter().for_each(|line| out::error(line));
    Exit::WrongUse
}

/// The message and its hints, a line each, and where to read on.
fn lines(message: &str) -> Vec<String> {
    let mut lines: Vec<String> = Vec::new();
    let mut usage = None;
    for line in message.lines().map(str::trim).filter(|line| !line.is_empty()) {
        if let Some(words) = line.strip_prefix("Usage: ") {
            usage = Some(words);
        } else if usage.is_none() && !line.starts_with("For more information") {
            let line = line.strip_prefix("error: ").or_else(|| line.strip_prefix("tip: ")).unwrap_or(line);
            lines.push(line.to_string());
        }
    }
    // The words of a command stand before what it takes.
    let command = usage.map(|words| {
        let is_word =
            |word: &&str| word.chars().all(|c| c.is_ascii_lowercase() || c == '-') && !word.starts_with('-');
        words.split(' ').take_while(is_word).collect::<Vec<_>>().join(" ")
    });
    let command = command.unwrap_or_else(|| "signpost".into());
    lines.push(format!("`{command} --help` shows how to use it"));
    lines
}
