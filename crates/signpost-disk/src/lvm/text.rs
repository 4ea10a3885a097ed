//! The text of LVM2's metadata: sections in braces, `key = value`, lists in brackets.

use alloc::collections::BTreeMap;
use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec::Vec;

/// Sections in one another.
const MAX_DEPTH: usize = 8;
/// Words of a text.
const MAX_WORDS: usize = 500_000;

/// A section.
#[derive(Debug, Default)]
pub(super) struct Section {
    pub(super) sections: BTreeMap<String, Section>,
    values: BTreeMap<String, Vec<String>>,
}

impl Section {
    pub(super) fn section(&self, name: &str) -> Option<&Self> {
        self.sections.get(name)
    }

    pub(super) fn text(&self, key: &str) -> Option<&str> {
        self.values.get(key)?.first().map(String::as_str)
    }

    pub(super) fn number(&self, key: &str) -> Option<u64> {
        self.text(key)?.parse().ok()
    }

    pub(super) fn list(&self, key: &str) -> &[String] {
        self.values.get(key).map(Vec::as_slice).unwrap_or_default()
    }
}

#[derive(Debug, PartialEq, Eq)]
enum Word {
    Sign(char),
    Text(String),
}

/// Reads a text.
pub(super) fn parse(text: &str) -> Result<Section, String> {
    let words = words(text)?;
    let mut rest = words.as_slice();
    section(&mut rest, 0)
}

fn words(text: &str) -> Result<Vec<Word>, String> {
    let mut words = Vec::new();
    let mut chars = text.chars().peekable();
    while let Some(c) = chars.next() {
        if words.len() > MAX_WORDS {
            return Err("LVM2's metadata is longer than any in use".into());
        }
        match c {
            '#' => while chars.next().is_some_and(|c| c != '\n') {},
            '"' => {
                let mut value = String::new();
                loop {
                    match chars.next() {
                        Some('"') => break,
                        Some('\\') => value.extend(chars.next()),
                        Some(c) => value.push(c),
                        None => return Err("LVM2's metadata ends inside of a text".into()),
                    }
                }
                words.push(Word::Text(value));
            }
            '{' | '}' | '[' | ']' | '=' | ',' => words.push(Word::Sign(c)),
            c if c.is_whitespace() || c == '\0' => {}
            c => {
                let mut value = c.to_string();
                while let Some(c) =
                    chars.next_if(|c| c.is_alphanumeric() || matches!(c, '_' | '.' | '+' | '-'))
                {
                    value.push(c);
                }
                words.push(Word::Text(value));
            }
        }
    }
    Ok(words)
}

fn section(rest: &mut &[Word], depth: usize) -> Result<Section, String> {
    if depth > MAX_DEPTH {
        return Err("LVM2's metadata is nested deeper than any in use".into());
    }
    let mut found = Section::default();
    while let Some((word, after)) = rest.split_first() {
        *rest = after;
        let name = match word {
            Word::Sign('}') => return Ok(found),
            Word::Text(name) => name.clone(),
            Word::Sign(sign) => return Err(format!("LVM2's metadata has a \"{sign}\" where a name belongs")),
        };
        match next(rest) {
            Some(Word::Sign('{')) => {
                let inner = section(rest, depth.saturating_add(1))?;
                found.sections.insert(name, inner);
            }
            Some(Word::Sign('=')) => {
                found.values.insert(name, value(rest)?);
            }
            _ => return Err(format!("LVM2's metadata has nothing behind \"{name}\"")),
        }
    }
    Ok(found)
}

fn value(rest: &mut &[Word]) -> Result<Vec<String>, String> {
    match next(rest) {
        Some(Word::Text(text)) => Ok([text.clone()].into()),
        Some(Word::Sign('[')) => {
            let mut list = Vec::new();
            loop {
                match next(rest) {
                    Some(Word::Text(text)) => list.push(text.clone()),
                    Some(Word::Sign(',')) => {}
                    Some(Word::Sign(']')) => return Ok(list),
                    _ => return Err("LVM2's metadata has a list that does not end".into()),
                }
            }
        }
        _ => Err("LVM2's metadata has no value where one belongs".into()),
    }
}

fn next<'a>(rest: &mut &'a [Word]) -> Option<&'a Word> {
    let (word, after) = rest.split_first()?;
    *rest = after;
    Some(word)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sections_values_and_lists_are_read() {
        let text = "tide { # group\nid = \"a-b\"\nseqno = 7\nstatus = [\"READ\", \"WRITE\"]\nempty = []\n\
                    logical_volumes { root { segment1 { stripes = [\"pv0\", 12] } } } }\nversion = 1\n";
        let parsed = parse(text).unwrap();
        let group = parsed.section("tide").unwrap();
        assert_eq!((group.text("id"), group.number("seqno")), (Some("a-b"), Some(7)));
        assert_eq!(group.list("status"), ["READ", "WRITE"]);
        assert_eq!((group.list("empty").len(), group.text("none")), (0, None));
        let segment =
            group.section("logical_volumes").and_then(|list| list.section("root")?.section("segment1"));
        assert_eq!(segment.unwrap().list("stripes"), ["pv0", "12"]);
        for broken in ["a", "a =", "a = [", "a = [1", "a { = }", "\"", &"a {".repeat(20), "= 1"] {
            assert!(parse(broken).is_err(), "{broken}");
        }
    }
}
