//! All keys, in the file's order.

use alloc::string::{String, ToString};

use super::{Key, Kind, or_none};
use crate::appearance::{Countdown, Detail, LookName, Role};
use crate::document::{DefaultEntry, Host, MenuDocument, Show, Timeout};

/// A colour of `[look]`.
macro_rules! colour_key {
    ($key:literal, $role:expr, $meaning:literal, $example:literal) => {
        Key {
            name: concat!("look.", $key),
            table: "look",
            key: $key,
            values: "a colour: #rrggbb or a name",
            default: "the look's",
            meaning: $meaning,
            example: concat!("look.", $key, "=", $example),
            kind: Kind::Colour,
            value: |menu| match menu.look.own($role) {
                Some(colour) => colour.to_string(),
                None => "the look's".into(),
            },
        }
    };
}

/// All of them, in the file's order.
pub static KEYS: [Key; 25] = [
    Key {
        name: "heading",
        table: "menu",
        key: "heading",
        values: "text",
        default: "none",
        meaning: "the heading above the menu",
        example: "heading=\"Tide bench PC 2\"",
        kind: Kind::Text,
        value: |menu| or_none(menu.settings.heading.as_deref().unwrap_or_default()),
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
        value: |menu| menu.settings.host.word().into(),
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
        value: default_entry,
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
        value: timeout,
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
        value: |menu| menu.settings.show.word().into(),
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
        value: |menu| menu.settings.keyboard.name.into(),
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
        value: |menu| menu.settings.fallback_path.to_string(),
    },
    Key {
        name: "look",
        table: "look",
        key: "name",
        values: "dusk, chalk or contrast",
        default: "dusk",
        meaning: "the look that the other keys of [look] change: dark, light, or with the strongest contrast",
        example: "look=chalk",
        kind: Kind::Words(&[LookName::Dusk.word(), LookName::Chalk.word(), LookName::Contrast.word()]),
        value: |menu| menu.look.name.word().into(),
    },
    Key {
        name: "look.scale",
        table: "look",
        key: "scale",
        values: "auto, 1, 1.5, 2, 3 or 4",
        default: "auto",
        meaning: "how large letters are: 1 is 16 pixels high; auto goes by the screen's height",
        example: "look.scale=2",
        kind: Kind::Words(&["auto", "1", "1.5", "2", "3", "4"]),
        value: |menu| menu.look.scale.word().into(),
    },
    Key {
        name: "look.screen",
        table: "look",
        key: "screen",
        values: "keep, native, text or a size in pixels",
        default: "keep",
        meaning: "what the menu is drawn on: the screen as firmware leaves it, its largest mode, firmware's own letters, \
                  or the nearest mode that is not larger than this",
        example: "look.screen=1280x800",
        kind: Kind::Screen,
        value: |menu| menu.look.screen.text(),
    },
    Key {
        name: "look.turn",
        table: "look",
        key: "turn",
        values: "0, 90, 180 or 270",
        default: "0",
        meaning: "how far the picture is turned clockwise, for a panel that is built in sideways",
        example: "look.turn=90",
        kind: Kind::Words(&["0", "90", "180", "270"]),
        value: |menu| menu.look.turn.word().into(),
    },
    Key {
        name: "look.detail",
        table: "look",
        key: "detail",
        values: "title or full",
        default: "title",
        meaning: "what each row says: the title alone, or what it starts too",
        example: "look.detail=full",
        kind: Kind::Words(&[Detail::Title.word(), Detail::Full.word()]),
        value: |menu| menu.look.detail.word().into(),
    },
    Key {
        name: "look.symbols",
        table: "look",
        key: "symbols",
        values: "true or false",
        default: "true",
        meaning: "whether a symbol before each title shows what it starts",
        example: "look.symbols=false",
        kind: Kind::Flag,
        value: |menu| (!menu.look.without_symbols).to_string(),
    },
    Key {
        name: "look.countdown",
        table: "look",
        key: "countdown",
        values: "number or bar",
        default: "number",
        meaning: "whether the countdown is shown as a bar beside its number of seconds",
        example: "look.countdown=bar",
        kind: Kind::Words(&[Countdown::Number.word(), Countdown::Bar.word()]),
        value: |menu| menu.look.countdown.word().into(),
    },
    Key {
        name: "look.closing",
        table: "look",
        key: "closing",
        values: "text",
        default: "none",
        meaning: "a line of your own at the bottom, such as whom to call",
        example: "look.closing=\"Help: Wendel Okoro, extension 12\"",
        kind: Kind::Text,
        value: |menu| or_none(menu.look.closing.as_deref().unwrap_or_default()),
    },
    colour_key!("ground", Role::Ground, "the colour behind everything", "#161e26"),
    colour_key!("text", Role::Text, "the colour of plain text", "#d9e0e6"),
    colour_key!("faint", Role::Faint, "the colour of what matters less", "#8fa3b3"),
    colour_key!("heading", Role::Heading, "the colour of the heading", "white"),
    colour_key!("warning", Role::Warning, "the colour of warnings", "yellow"),
    colour_key!("chosen", Role::Chosen, "the colour of the bar under the chosen entry", "#9fd3c7"),
    colour_key!("chosen-text", Role::ChosenText, "the colour of the text on that bar", "black"),
    colour_key!("accent", Role::Accent, "the colour of symbols and of the countdown's bar", "#4c9a8b"),
    Key {
        name: "kernel.args",
        table: "kernel",
        key: "args",
        values: "text",
        default: "none",
        meaning: "added to the arguments of every Linux entry",
        example: "kernel.args=\"quiet\"",
        kind: Kind::Text,
        value: |menu| or_none(&menu.kernel_args),
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
        value: |menu| menu.include_bls.to_string(),
    },
];

fn default_entry(menu: &MenuDocument) -> String {
    match &menu.settings.default {
        DefaultEntry::First => "first".into(),
        DefaultEntry::LastStarted => "last-started".into(),
        DefaultEntry::Id(id) => id.to_string(),
    }
}

fn timeout(menu: &MenuDocument) -> String {
    match menu.settings.timeout {
        Timeout::Seconds(seconds) => seconds.to_string(),
        Timeout::Never => "never".into(),
    }
}
