//! The keys of the menu's policy: one table, which the file's reader, `tune`, its messages, completion and the documentation
//! are made from.

use alloc::format;
use alloc::string::{String, ToString};

use crate::document::{DefaultEntry, Host, MenuDocument, Show, Timeout};

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

/// The keys of a table of the file.
pub fn of_table(table: &str) -> impl Iterator<Item = &'static str> {
    KEYS.iter().filter(move |key| key.table == table).map(|key| key.key)
}

/// All of them, in the file's order.
pub static KEYS: [Key; 9] = [
    Key {
        name: "heading",
        table: "menu",
        key: "heading",
        values: "text",
        default: "none",
        meaning: "the heading above the menu",
        example: "heading=\"Tide bench PC 2\"",
        kind: Kind::Text,
    },
    Key {
        name: "host",
        table: "menu",
        key: "host",
        values: "firmware or signpost",
        default: "firmware",
        meaning: "who shows the menu: the firmware's own list, or the boot program",
        example: "host=signpost",
        kind: Kind::Words(&[Host::Firmware.word(), Host::Signpost.word()]),
    },
    Key {
        name: "default",
        table: "menu",
        key: "default",
        values: "an entry's id, first or last-started",
        default: "first",
        meaning: "what starts where nobody chooses",
        example: "default=larkspur",
        kind: Kind::Text,
    },
    Key {
        name: "timeout",
        table: "menu",
        key: "timeout",
        values: "whole seconds from 0 to 3600, or never",
        default: "5",
        meaning: "how long the menu waits; 0 starts at once, never waits for a key",
        example: "timeout=10",
        kind: Kind::Seconds,
    },
    Key {
        name: "show",
        table: "menu",
        key: "show",
        values: "always, on-key or never",
        default: "always",
        meaning: "when the boot program shows the menu",
        example: "show=on-key",
        kind: Kind::Words(&[Show::Always.word(), Show::OnKey.word(), Show::Never.word()]),
    },
    Key {
        name: "keyboard",
        table: "menu",
        key: "keyboard",
        values: "de, es, fr, gb, it, se or us",
        default: "us",
        meaning: "the keyboard layout at boot; firmware reads them all as us",
        example: "keyboard=de",
        kind: Kind::Words(&["de", "es", "fr", "gb", "it", "se", "us"]),
    },
    Key {
        name: "fallback-path",
        table: "menu",
        key: "fallback-path",
        values: "true or false",
        default: "false",
        meaning: "whether the boot program is at the home volume's fallback path too, where that is free or ours",
        example: "fallback-path=true",
        kind: Kind::Flag,
    },
    Key {
        name: "kernel.args",
        table: "kernel",
        key: "args",
        values: "text",
        default: "none",
        meaning: "added to the arguments of every Linux entry",
        example: "kernel.args=\"quiet\"",
        kind: Kind::Text,
    },
    Key {
        name: "include.bls",
        table: "include",
        key: "bls",
        values: "true or false",
        default: "true",
        meaning: "whether entry files and unified images are looked for at boot",
        example: "include.bls=false",
        kind: Kind::Flag,
    },
];

impl Key {
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
        };
        value.ok_or_else(|| {
            format!("{} takes {}, such as {}; you wrote {text}", self.name, self.values, self.example)
        })
    }
}

/// The value of each key, in the order of [`KEYS`]: as it would be typed.
pub fn values(document: &MenuDocument) -> [String; 9] {
    let settings = &document.settings;
    let text = |text: &str| if text.is_empty() { "none".to_string() } else { text.to_string() };
    [
        text(settings.heading.as_deref().unwrap_or_default()),
        settings.host.word().into(),
        match &settings.default {
            DefaultEntry::First => "first".into(),
            DefaultEntry::LastStarted => "last-started".into(),
            DefaultEntry::Id(id) => id.to_string(),
        },
        match settings.timeout {
            Timeout::Seconds(seconds) => seconds.to_string(),
            Timeout::Never => "never".into(),
        },
        settings.show.word().into(),
        settings.keyboard.name.into(),
        settings.fallback_path.to_string(),
        text(&document.kernel_args),
        document.include_bls.to_string(),
    ]
}

#[cfg(test)]
mod tests {
    use alloc::vec::Vec;

    use super::*;

    #[test]
    fn defaults_and_examples_are_what_the_file_takes() {
        let nothing = crate::parse("format = 1\n").unwrap();
        let defaults: Vec<&str> = KEYS.iter().map(|key| key.default).collect();
        assert_eq!(values(&nothing).as_slice(), defaults);
        for key in &KEYS {
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
