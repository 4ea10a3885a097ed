//! The keys of the menu's policy: one table, which `tune`, its messages and the documentation are made from.

use serde::Serialize;
use signpost_menu::MenuDocument;
use signpost_menu::document::{DefaultEntry, Host, Show, Timeout};
use toml_edit::Value;

/// A key.
#[derive(Clone, Copy, Debug, Serialize)]
pub struct Key {
    /// As it is typed: `timeout`, `kernel.args`.
    pub name: &'static str,
    #[serde(skip)]
    pub(super) table: &'static str,
    #[serde(skip)]
    pub(super) key: &'static str,
    /// Its values, in words.
    pub values: &'static str,
    /// What counts where the file does not say it.
    pub default: &'static str,
    /// What it is for.
    pub meaning: &'static str,
    /// One that may be typed.
    pub example: &'static str,
    #[serde(skip)]
    kind: Kind,
}

#[derive(Clone, Copy, Debug)]
enum Kind {
    Text,
    Words(&'static [&'static str]),
    Seconds,
    Flag,
}

/// Longest timeout in seconds, as the file's reader has it.
const MAX_SECONDS: i64 = 3600;

/// All of them, in the file's order.
pub const KEYS: [Key; 9] = [
    Key {
        name: "heading",
        table: "menu",
        key: "heading",
        values: "text",
        default: "none",
        meaning: "what stands above the menu",
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
        kind: Kind::Words(&["firmware", "signpost"]),
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
        kind: Kind::Words(&["always", "on-key", "never"]),
    },
    Key {
        name: "keyboard",
        table: "menu",
        key: "keyboard",
        values: "de, es, fr, gb, it, se or us",
        default: "us",
        meaning: "what stands on the keys at boot; firmware reads them all as us",
        example: "keyboard=de",
        kind: Kind::Words(&["de", "es", "fr", "gb", "it", "se", "us"]),
    },
    Key {
        name: "spare-path",
        table: "menu",
        key: "spare-path",
        values: "true or false",
        default: "false",
        meaning: "whether the boot program stands in the home volume's spare path too, where that is free or ours",
        example: "spare-path=true",
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
    /// The value that is typed; or what would be right.
    pub(super) fn parse(&self, text: &str) -> Result<Value, String> {
        let value = match self.kind {
            Kind::Text => Some(Value::from(text)),
            Kind::Words(words) => words.contains(&text).then(|| Value::from(text)),
            Kind::Seconds if text == "never" => Some(Value::from(text)),
            Kind::Seconds => {
                let seconds = text.parse::<i64>().ok().filter(|seconds| (0..=MAX_SECONDS).contains(seconds));
                seconds.map(Value::from)
            }
            Kind::Flag => text.parse::<bool>().ok().map(Value::from),
        };
        value.ok_or_else(|| format!("{}: {}; you wrote {text}", self.example, self.values))
    }
}

/// The value of each key, in the order of [`KEYS`]: as it would be typed.
pub fn values(document: &MenuDocument) -> [String; KEYS.len()] {
    let settings = &document.settings;
    let text = |text: &str| if text.is_empty() { "none".to_string() } else { text.to_string() };
    [
        text(settings.heading.as_deref().unwrap_or_default()),
        match settings.host {
            Host::Firmware => "firmware".into(),
            Host::Signpost => "signpost".into(),
        },
        match &settings.default {
            DefaultEntry::First => "first".into(),
            DefaultEntry::LastStarted => "last-started".into(),
            DefaultEntry::Id(id) => id.clone(),
        },
        match settings.timeout {
            Timeout::Seconds(seconds) => seconds.to_string(),
            Timeout::Never => "never".into(),
        },
        match settings.show {
            Show::Always => "always".into(),
            Show::OnKey => "on-key".into(),
            Show::Never => "never".into(),
        },
        settings.keyboard.name.into(),
        settings.spare_path.to_string(),
        text(&document.kernel_args),
        document.include_bls.to_string(),
    ]
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn defaults_and_examples_are_what_the_file_takes() {
        let nothing = signpost_menu::parse("format = 1\n").unwrap();
        let defaults = KEYS.map(|key| key.default.to_string());
        assert_eq!(values(&nothing), defaults);
        for key in KEYS {
            let (name, value) = key.example.split_once('=').unwrap();
            assert_eq!(name, key.name);
            key.parse(value.trim_matches('"')).unwrap();
        }
    }

    #[test]
    fn keyboards_are_those_that_there_are() {
        let names: Vec<&str> =
            signpost_menu::keyboard::KEYBOARDS.iter().map(|keyboard| keyboard.name).collect();
        let key = KEYS.iter().find(|key| key.name == "keyboard").unwrap();
        assert!(matches!(key.kind, Kind::Words(words) if words == names));
        assert_eq!(key.values.replace(" or ", ", "), names.join(", "));
    }

    #[test]
    fn the_documentation_has_every_key_as_it_is() {
        const PAGE: &str = include_str!("../../../../docs/menu-format.md");
        for key in KEYS {
            let row = format!("| `{}` | {} | {} | {} |", key.name, key.values, key.default, key.meaning);
            assert!(PAGE.contains(&row), "docs/menu-format.md lacks this row:\n{row}");
        }
    }
}
