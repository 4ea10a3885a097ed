//! Where text goes: results to standard output, all else to standard error. Colours are dropped where the
//! stream or the person does not want them. A pipe that was closed is not an error worth telling.
//!
//! Facts are safe to show from where they are read on; here is the last look: nothing but lines and our own colours goes to a
//! terminal.

use std::borrow::Cow;
use std::io::Write;

use serde::Serialize;
use signpost_menu::text::{acts, shown};

use super::style;

/// A result.
pub fn text(text: &str) {
    let _ = anstream::stdout().write_all(safe(text).as_bytes());
}

/// A picture, of which every sign is our own.
pub fn picture(sixels: &str) {
    let _ = std::io::stdout().write_all(sixels.as_bytes());
}

/// A result as one JSON document.
pub fn json(facts: &impl Serialize) {
    if let Ok(document) = serde_json::to_string_pretty(facts) {
        // JSON has an escape of its own for what acts; line ends stand between values alone.
        let plain = document.chars().all(|c| c == '\n' || !acts(c));
        let document = if plain { Cow::Borrowed(&document) } else { Cow::Owned(escaped(&document)) };
        let _ = anstream::stdout().write_all(format!("{document}\n").as_bytes());
    }
}

/// What acts as UTF-16 units, as JSON writes them (RFC 8259, 7).
fn escaped(document: &str) -> String {
    let mut out = String::with_capacity(document.len());
    for c in document.chars() {
        if c == '\n' || !acts(c) {
            out.push(c);
        } else {
            let mut units = [0; 2];
            c.encode_utf16(&mut units).iter().for_each(|unit| out.push_str(&format!("\\u{unit:04x}")));
        }
    }
    out
}

/// Something that helps, and is not a result.
pub fn note(text: &str) {
    let _ = anstream::stderr().write_all(safe(text).as_bytes());
}

/// An error; where there are several, a line each.
pub fn error(message: &str) {
    message.lines().for_each(|line| note(&format!("{} {line}\n", style::bad("signpost:"))));
}

/// A text with nothing in it that acts on a terminal but line ends, tabs, and colours (ECMA-48, SGR).
fn safe(text: &str) -> Cow<'_, str> {
    if text.chars().all(|c| c == '\n' || c == '\t' || !acts(c)) {
        return Cow::Borrowed(text);
    }
    let mut out = String::with_capacity(text.len());
    let mut rest = text;
    while let Some(at) = rest.find(|c| acts(c) && c != '\n' && c != '\t') {
        let (before, behind) = rest.split_at(at);
        out.push_str(before);
        let length = match colour(behind) {
            Some(length) => {
                out.push_str(&behind[..length]);
                length
            }
            None => {
                let length = behind.chars().next().map_or(0, char::len_utf8);
                out.push_str(&shown(&behind[..length]));
                length
            }
        };
        rest = &behind[length..];
    }
    out.push_str(rest);
    Cow::Owned(out)
}

/// How long a colour is that a text starts with, in bytes.
fn colour(text: &str) -> Option<usize> {
    let numbers = text.strip_prefix("\x1b[")?;
    let end = numbers.find(|c: char| !c.is_ascii_digit() && c != ';')?;
    numbers[end..].starts_with('m').then_some("\x1b[".len() + end + 1)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_and_colours_pass_and_nothing_else() {
        assert_eq!(safe("a\n\x1b[1;31mred\x1b[0m\tb"), "a\n\x1b[1;31mred\x1b[0m\tb");
        assert_eq!(
            safe("\x1b[2J\u{9b}1m\r\u{202e}x\x1b]0;t\x07"),
            "\\u{1b}[2J\\u{9b}1m\\u{d}\\u{202e}x\\u{1b}]0;t\\u{7}"
        );
        assert_eq!(escaped("\"\u{9b}\u{e0041}\""), "\"\\u009b\\udb40\\udc41\"");
    }
}
