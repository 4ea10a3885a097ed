//! The keys of the menu's policy: one table, which the file's reader, `tune`, its messages, completion and the documentation
//! are made from.

use alloc::format;
use alloc::string::{String, ToString};

mod table;

pub use table::KEYS;

use crate::appearance::{Colour, ScreenMode};
use crate::document::MenuDocument;

/// A key.
#[derive(Clone, Copy, Debug)]
pub struct Key {
    /// As it is typed: `timeout`, `kernel.args`.
    pub name: &'static str,
    /// The table of the file that it stands in.
    pub table: &'static str,
    /// Its name there.
    pub key: &'static str,
    /// Its values, in words.
    pub values: &'static str,
    /// What counts where the file does not say it.
    pub default: &'static str,
    /// What it is for.
    pub meaning: &'static str,
    /// One that may be typed.
    pub example: &'static str,
    /// What its values are.
    pub kind: Kind,
    /// Its value in a menu, as it would be typed.
    pub value: fn(&MenuDocument) -> String,
}

/// What a key's values are.
#[derive(Clone, Copy, Debug)]
pub enum Kind {
    /// Any text.
    Text,
    /// One of these words.
    Words(&'static [&'static str]),
    /// Whole seconds up to [`MAX_SECONDS`], or `never`.
    Seconds,
    /// Yes or no.
    Flag,
    /// How many homes, up to [`MAX_HOMES`].
    Homes,
    /// A colour, by name or as `#rrggbb`.
    Colour,
    /// A screen: a word, or its size in pixels.
    Screen,
}

/// A value of a key.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Value {
    /// A text, in quotes in the file.
    Text(String),
    /// A whole number.
    Number(i64),
    /// Yes or no.
    Flag(bool),
}

/// Longest timeout, in seconds.
pub const MAX_SECONDS: i64 = 3600;

/// What `serial-port` takes: none, or one of the four.
pub const SERIAL_PORTS: [&str; 5] = ["none", "com1", "com2", "com3", "com4"];

/// Volumes, or disks, on which boot program and menu stand, at most.
pub const MAX_HOMES: u8 = 2;

/// The keys of a table of the file.
pub fn of_table(table: &str) -> impl Iterator<Item = &'static str> {
    KEYS.iter().filter(move |key| key.table == table).map(|key| key.key)
}

/// The key of this name, or of its place in the file: `look.name` is `look`.
pub fn find(name: &str) -> Option<&'static Key> {
    KEYS.iter().find(|key| key.name == name || name.split_once('.') == Some((key.table, key.key)))
}

impl Key {
    fn refused(&self, text: &str, why: &str) -> String {
        format!("{} is {text}: {why}", self.name)
    }

    /// The value that is typed.
    ///
    /// # Errors
    /// What would be right.
    pub fn parse(&self, text: &str) -> Result<Value, String> {
        let as_text = || Value::Text(text.to_string());
        let value = match self.kind {
            Kind::Text => Some(as_text()),
            Kind::Words(words) => words.contains(&text).then(as_text),
            Kind::Seconds if text == "never" => Some(as_text()),
            Kind::Seconds => {
                let seconds = text.parse::<i64>().ok().filter(|seconds| (0..=MAX_SECONDS).contains(seconds));
                seconds.map(Value::Number)
            }
            Kind::Flag => text.parse::<bool>().ok().map(Value::Flag),
            Kind::Homes => {
                let homes = text.parse::<u8>().ok().filter(|homes| (1..=MAX_HOMES).contains(homes));
                homes.map(|homes| Value::Number(homes.into()))
            }
            Kind::Colour => {
                return Colour::parse(text).map(|_| as_text()).map_err(|why| self.refused(text, &why));
            }
            Kind::Screen => {
                return ScreenMode::parse(text).map(|_| as_text()).map_err(|why| self.refused(text, &why));
            }
        };
        value.ok_or_else(|| {
            format!("{} takes {}, such as {}; you wrote {text}", self.name, self.values, self.example)
        })
    }
}

/// A text, or `none`.
fn or_none(text: &str) -> String {
    if text.is_empty() { "none".into() } else { text.into() }
}

#[cfg(test)]
mod tests {
    use alloc::vec::Vec;

    use super::*;

    #[test]
    fn defaults_and_examples_are_what_the_file_takes() {
        let nothing = crate::parse("format = 1\n").unwrap();
        for key in &KEYS {
            assert_eq!((key.value)(&nothing), key.default, "{}", key.name);
            let (name, value) = key.example.split_once('=').unwrap();
            assert_eq!(name, key.name);
            key.parse(value.trim_matches('"')).unwrap();
        }
    }

    #[test]
    fn keyboards_are_those_that_there_are() {
        let names: Vec<&str> = crate::keyboard::KEYBOARDS.iter().map(|keyboard| keyboard.name).collect();
        let key = KEYS.iter().find(|key| key.name == "keyboard").unwrap();
        assert!(matches!(key.kind, Kind::Words(words) if words == names));
        assert_eq!(key.values.replace(" or ", ", "), names.join(", "));
    }

    #[test]
    fn the_documentation_has_every_key_as_it_is() {
        const PAGE: &str = include_str!("../../../docs/menu-file.md");
        for key in &KEYS {
            let row = format!("| `{}` | {} | {} | {} |", key.name, key.values, key.default, key.meaning);
            assert!(PAGE.contains(&row), "docs/menu-file.md lacks this row:\n{row}");
        }
    }
}
