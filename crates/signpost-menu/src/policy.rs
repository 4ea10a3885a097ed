//! How the menu opens: whether it is shown, what is chosen, and how long it waits.

use alloc::format;
use alloc::string::String;

use crate::document::{DefaultEntry, MenuDocument, Show, Timeout};

/// How long a key is waited for where the menu only shows on a key, in milliseconds.
pub const KEY_WINDOW: u32 = 800;

/// What decides.
#[derive(Clone, Debug)]
pub struct Situation<'a> {
    /// The menu.
    pub document: &'a MenuDocument,
    /// For each entry, why it cannot start, if it cannot.
    pub faults: &'a [Option<String>],
    /// What was asked for this start alone: an entry's id, or `menu`.
    pub once: Option<&'a str>,
    /// The id that was kept as the default for good at an earlier start.
    pub kept: Option<&'a str>,
    /// The id of what was started last.
    pub last_started: Option<&'a str>,
    /// Why a start from this menu has failed just now.
    pub failed: Option<&'a str>,
}

/// How the menu opens.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Opening {
    /// Whether it is shown, and how long it waits.
    pub shown: Shown,
    /// The entry that is chosen: its index.
    pub chosen: Option<usize>,
    /// Why there is no countdown where one is expected.
    pub reason: Option<String>,
}

/// Whether the menu is shown.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Shown {
    /// It is shown, and starts the chosen entry after this many seconds.
    Counting(u16),
    /// It is shown until a key.
    Waiting,
    /// A key within [`KEY_WINDOW`] shows it; else the chosen entry starts.
    OnKey,
    /// The chosen entry starts at once.
    Hidden,
}

/// Decides how the menu opens.
pub fn open(situation: &Situation<'_>) -> Opening {
    let document = situation.document;
    let index_of = |id: &str| document.entries.iter().position(|entry| entry.id == id);
    let waiting = |chosen, reason| Opening { shown: Shown::Waiting, chosen, reason };
    let (chosen, missing) = match situation.once {
        Some("menu") | None => default(situation),
        Some(id) => {
            (index_of(id), format!("{id}, which this start was to go to once, is no entry of the menu"))
        }
    };
    if let Some(reason) = situation.failed {
        return waiting(chosen.or(first_startable(situation)), Some(reason.into()));
    }
    let Some(index) = chosen else {
        return waiting(first_startable(situation), Some(missing));
    };
    let title = document.entries.get(index).map(|entry| entry.title.as_str()).unwrap_or_default();
    if let Some(fault) = situation.faults.get(index).and_then(Option::as_ref) {
        return waiting(chosen, Some(format!("{title} cannot start: {fault}")));
    }
    if situation.once == Some("menu") {
        return waiting(chosen, None);
    }
    let shown = match (document.settings.show, document.settings.timeout) {
        (Show::Never, _) | (Show::Always, Timeout::Seconds(0)) => Shown::Hidden,
        (Show::OnKey, _) => Shown::OnKey,
        (Show::Always, Timeout::Seconds(seconds)) => Shown::Counting(seconds),
        (Show::Always, Timeout::Never) => Shown::Waiting,
    };
    Opening { shown, chosen, reason: None }
}

/// The entry that starts where nobody chooses, and what to say where there is none.
fn default(situation: &Situation<'_>) -> (Option<usize>, String) {
    let document = situation.document;
    let index_of = |id: &str| document.entries.iter().position(|entry| entry.id == id);
    let first = || document.entries.iter().position(|entry| entry.starts.is_system());
    if let Some(kept) = situation.kept.and_then(index_of) {
        return (Some(kept), String::new());
    }
    match &document.settings.default {
        DefaultEntry::First => (first(), "the menu has no entry that starts a system".into()),
        DefaultEntry::LastStarted => {
            let last = situation.last_started.and_then(index_of);
            (last.or_else(first), "the menu has no entry that starts a system".into())
        }
        DefaultEntry::Id(id) => (index_of(id), format!("the default, {id}, is no entry of the menu")),
    }
}

/// What to put the mark on where nothing else says it.
fn first_startable(situation: &Situation<'_>) -> Option<usize> {
    let entries = situation.document.entries.iter().zip(situation.faults);
    entries
        .enumerate()
        .find(|(_, (entry, fault))| entry.starts.is_system() && fault.is_none())
        .map(|(i, _)| i)
}

#[cfg(test)]
mod tests {
    use super::*;
    use alloc::vec::Vec;

    /// Three entries: `a` and `b` start, `gone` does not.
    fn document(settings: &str) -> MenuDocument {
        let mut text = format!("format = 1\n[menu]\n{settings}\n");
        for id in ["a", "b", "gone"] {
            text.push_str(&format!(
                "[[entry]]\nid = \"{id}\"\nstarts = \"firmware-entry\"\nlabel = \"{id}\"\n"
            ));
        }
        crate::parse_leniently(&text).0.unwrap()
    }

    struct Row {
        settings: &'static str,
        once: Option<&'static str>,
        kept: Option<&'static str>,
        last: Option<&'static str>,
        failed: Option<&'static str>,
        expected: (Shown, Option<usize>, &'static str),
    }

    const PLAIN: Row = Row {
        settings: "",
        once: None,
        kept: None,
        last: None,
        failed: None,
        expected: (Shown::Counting(5), Some(0), ""),
    };

    fn rows() -> Vec<Row> {
        use Shown::{Counting, Hidden, OnKey, Waiting};
        let row = |settings, expected| Row { settings, expected, ..PLAIN };
        Vec::from([
            PLAIN,
            row("timeout = 9", (Counting(9), Some(0), "")),
            row("timeout = 0", (Hidden, Some(0), "")),
            row("timeout = \"never\"", (Waiting, Some(0), "")),
            row("show = \"on-key\"", (OnKey, Some(0), "")),
            row("show = \"on-key\"\ntimeout = 0", (OnKey, Some(0), "")),
            row("show = \"never\"", (Hidden, Some(0), "")),
            row("default = \"b\"", (Counting(5), Some(1), "")),
            row("default = \"first\"", (Counting(5), Some(0), "")),
            row("default = \"gone\"", (Waiting, Some(2), "gone cannot start: no file")),
            row("default = \"gone\"\nshow = \"never\"", (Waiting, Some(2), "gone cannot start: no file")),
            row("default = \"c\"", (Waiting, Some(0), "the default, c, is no entry of the menu")),
            row("default = \"last-started\"", (Counting(5), Some(0), "")),
            Row { last: Some("b"), ..row("default = \"last-started\"", (Counting(5), Some(1), "")) },
            Row { last: Some("c"), ..row("default = \"last-started\"", (Counting(5), Some(0), "")) },
            Row { last: Some("b"), ..PLAIN },
            Row { kept: Some("b"), ..row("default = \"a\"", (Counting(5), Some(1), "")) },
            Row { kept: Some("c"), ..row("default = \"a\"", (Counting(5), Some(0), "")) },
            Row { once: Some("b"), kept: Some("a"), ..row("default = \"a\"", (Counting(5), Some(1), "")) },
            Row { once: Some("b"), ..row("show = \"never\"", (Hidden, Some(1), "")) },
            Row {
                once: Some("gone"),
                ..row("show = \"never\"", (Waiting, Some(2), "gone cannot start: no file"))
            },
            Row {
                once: Some("c"),
                ..row(
                    "",
                    (Waiting, Some(0), "c, which this start was to go to once, is no entry of the menu"),
                )
            },
            Row { once: Some("menu"), ..row("show = \"never\"", (Waiting, Some(0), "")) },
            Row { once: Some("menu"), ..row("timeout = 0", (Waiting, Some(0), "")) },
            Row { failed: Some("a was refused"), ..row("timeout = 0", (Waiting, Some(0), "a was refused")) },
            Row { failed: Some("x"), once: Some("b"), ..row("show = \"never\"", (Waiting, Some(1), "x")) },
        ])
    }

    #[test]
    fn the_policy_row_by_row() {
        for (number, row) in rows().into_iter().enumerate() {
            let document = document(row.settings);
            let faults = [None, None, Some("no file".into())];
            let opening = open(&Situation {
                document: &document,
                faults: &faults,
                once: row.once,
                kept: row.kept,
                last_started: row.last,
                failed: row.failed,
            });
            let found = (opening.shown, opening.chosen, opening.reason.as_deref().unwrap_or_default());
            assert_eq!(found, row.expected, "row {number}: {}", row.settings);
        }
    }

    #[test]
    fn a_menu_without_entries_waits() {
        let (document, faults) = (MenuDocument::default(), []);
        let situation = Situation {
            document: &document,
            faults: &faults,
            once: None,
            kept: None,
            last_started: None,
            failed: None,
        };
        let opening = open(&situation);
        assert_eq!((opening.shown, opening.chosen), (Shown::Waiting, None));
        assert!(opening.reason.is_some());
    }
}
