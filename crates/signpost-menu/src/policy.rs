//! How the menu opens: whether it is shown, what is chosen, and how long it waits.

use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec::Vec;
use core::fmt;

use crate::document::{DefaultEntry, MenuDocument, Show, Timeout};
use crate::ids::EntryId;
use crate::tries::Unconfirmed;

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
    /// How often entries were started without coming up.
    pub unconfirmed: &'a Unconfirmed,
    /// Why a start from this menu has failed just now.
    pub failed: Option<&'a str>,
}

/// How the menu opens.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Opening {
    /// Whether it is shown, and how long it waits.
    pub shown: Shown,
    /// The entry that is marked: its index.
    pub chosen: Option<usize>,
    /// Who chose what is to start by itself.
    pub by: ChosenBy,
    /// Why nothing starts by itself, where something should.
    pub reason: Option<Reason>,
    /// The entry that is meant to start where nobody chooses, whether it does or not: its index.
    pub named: Option<usize>,
    /// What was to start, and why its fallback does instead; several where that has used up its tries too.
    pub skipped: Vec<Reason>,
}

impl Opening {
    /// What is to be said of it: why something starts instead of what was named, or why nothing does.
    pub fn note(&self, document: &MenuDocument) -> Option<String> {
        let mut said: Vec<String> =
            self.skipped.iter().chain(&self.reason).map(ToString::to_string).collect();
        let instead = self.default().and_then(|index| document.entries.get(index));
        if let Some(entry) = instead.filter(|_| !self.skipped.is_empty()) {
            said.push(format!("{} starts instead", entry.title));
        }
        (!said.is_empty()).then(|| said.join("; "))
    }

    /// The entry that is to start where nobody chooses another: its index. Whether it waits for a key first, `shown` says.
    pub fn default(&self) -> Option<usize> {
        self.chosen.filter(|_| self.reason.is_none())
    }

    /// The entry that starts where nobody presses a key: its index.
    pub fn starts(&self) -> Option<usize> {
        self.default().filter(|_| self.shown != Shown::Waiting)
    }
}

/// Who chose what is to start by itself.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ChosenBy {
    /// Somebody, for this start alone.
    Once,
    /// Somebody, for good, at an earlier start.
    Kept,
    /// The menu's `default`.
    Default,
    /// The start before this one.
    LastStarted,
    /// The `fallback` of what one of these named.
    Fallback,
}

impl ChosenBy {
    fn words(self) -> &'static str {
        match self {
            Self::Once => "what this start was to go to once",
            Self::Kept => "what was kept as the default",
            Self::Default => "the default",
            Self::LastStarted => "what was started last",
            Self::Fallback => "the fallback",
        }
    }
}

/// Why nothing starts by itself.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Reason {
    /// A start from this menu has failed just now.
    Failed(String),
    /// The menu has no entry of this id.
    NoEntry {
        /// Who named it.
        by: ChosenBy,
        /// The id.
        id: EntryId,
    },
    /// The menu has no entry that starts a system.
    NoSystem,
    /// The entry starts no system: a group, a tool, a restart.
    StartsNoSystem {
        /// Who named it.
        by: ChosenBy,
        /// Its title.
        title: String,
        /// Its kind, as the menu file writes it.
        kind: &'static str,
    },
    /// The entry cannot start.
    CannotStart {
        /// Its title.
        title: String,
        /// Why.
        why: String,
    },
    /// The entry was started as often as its `tries` say, and did not come up.
    TriesUsedUp {
        /// Its title.
        title: String,
        /// How often it was started.
        starts: u8,
    },
}

impl fmt::Display for Reason {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Failed(why) => f.write_str(why),
            Self::NoEntry { by: ChosenBy::Once, id } => {
                write!(f, "{id}, which this start was to go to once, is not an entry of the menu")
            }
            Self::NoEntry { by, id } => write!(f, "{}, {id}, is not an entry of the menu", by.words()),
            Self::NoSystem => f.write_str("the menu has no entry that starts a system"),
            Self::StartsNoSystem { by, title, kind } => {
                write!(f, "{title} is {}, and starts no system: {kind}", by.words())
            }
            Self::CannotStart { title, why } => write!(f, "{title} cannot start: {why}"),
            Self::TriesUsedUp { title, starts: 1 } => write!(f, "{title} was started and did not come up"),
            Self::TriesUsedUp { title, starts } => {
                write!(f, "{title} was started {starts} times and did not come up")
            }
        }
    }
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

/// Decides how the menu opens: the one rule of what starts where nobody chooses.
pub fn open(situation: &Situation<'_>) -> Opening {
    let document = situation.document;
    let (by, named) = named(situation);
    let meant = named.as_ref().ok().copied();
    let (named, skipped) = match named {
        Ok(index) => with_fallbacks(situation, by, index),
        Err(reason) => (Err(reason), Vec::new()),
    };
    let by = if skipped.is_empty() { by } else { ChosenBy::Fallback };
    let reason = situation.failed.map(|why| Reason::Failed(why.into())).or(named.as_ref().err().cloned());
    if let Some(reason) = reason {
        // The mark stands on what was named where that is a row, so that one sees what is meant.
        let chosen = named.ok().or(meant).or_else(|| first_startable(situation));
        return Opening { shown: Shown::Waiting, chosen, by, reason: Some(reason), named: meant, skipped };
    }
    let shown = match (document.settings.show, document.settings.timeout) {
        _ if situation.once == Some(MENU) => Shown::Waiting,
        (Show::Never, _) | (Show::Always, Timeout::Seconds(0)) => Shown::Hidden,
        (Show::OnKey, _) => Shown::OnKey,
        (Show::Always, Timeout::Seconds(seconds)) => Shown::Counting(seconds),
        (Show::Always, Timeout::Never) => Shown::Waiting,
    };
    Opening { shown, chosen: named.ok(), by, reason: None, named: meant, skipped }
}

/// What stands for the menu itself where an entry's id is expected.
pub const MENU: &str = "menu";

fn index_of(document: &MenuDocument, id: &str) -> Option<usize> {
    document.entries.iter().position(|entry| entry.id == id)
}

/// The entry that is to start where nobody chooses, and who says so.
fn named(situation: &Situation<'_>) -> (ChosenBy, Result<usize, Reason>) {
    let document = situation.document;
    let by_id =
        |by, id: &str| (by, index_of(document, id).ok_or_else(|| Reason::NoEntry { by, id: id.into() }));
    if let Some(id) = situation.once.filter(|id| *id != MENU) {
        return by_id(ChosenBy::Once, id);
    }
    // One that was kept and stands in the menu no more, keeps nothing.
    if let Some(kept) = situation.kept.and_then(|id| index_of(document, id)) {
        return (ChosenBy::Kept, Ok(kept));
    }
    let first = || document.entries.iter().position(|entry| entry.starts.is_system());
    let first = || first().ok_or(Reason::NoSystem);
    match &document.settings.default {
        DefaultEntry::First => (ChosenBy::Default, first()),
        DefaultEntry::LastStarted => match situation.last_started.and_then(|id| index_of(document, id)) {
            Some(last) => (ChosenBy::LastStarted, Ok(last)),
            None => (ChosenBy::Default, first()),
        },
        DefaultEntry::Id(id) => by_id(ChosenBy::Default, id),
    }
}

/// Only what starts a system, and can, is started by itself, whoever names it.
fn startable(situation: &Situation<'_>, by: ChosenBy, index: usize) -> Result<usize, Reason> {
    let Some(entry) = situation.document.entries.get(index) else { return Err(Reason::NoSystem) };
    let title = entry.title.clone();
    if !entry.starts.is_system() {
        return Err(Reason::StartsNoSystem { by, title, kind: entry.starts.word() });
    }
    match situation.faults.get(index).and_then(Option::as_ref) {
        Some(fault) => Err(Reason::CannotStart { title, why: fault.clone() }),
        None => Ok(index),
    }
}

/// The entry, or the first behind it in the row of fallbacks that starts by itself, and why those before do not. What somebody has
/// asked for this one start is tried however often it was.
fn with_fallbacks(
    situation: &Situation<'_>,
    by: ChosenBy,
    index: usize,
) -> (Result<usize, Reason>, Vec<Reason>) {
    let (mut at, mut skipped) = (index, Vec::new());
    // A menu that was not checked may lead round.
    for _ in 0..situation.document.entries.len() {
        let tried = startable(situation, by, at).and_then(|index| match used_up(situation, index) {
            Some(reason) if by != ChosenBy::Once => Err(reason),
            _ => Ok(index),
        });
        let reason = match tried {
            Ok(index) => return (Ok(index), skipped),
            Err(reason) => reason,
        };
        let fallback = situation.document.entries.get(at).and_then(|entry| entry.fallback.as_ref());
        let Some(next) = fallback.and_then(|id| index_of(situation.document, id)) else {
            return (Err(reason), skipped);
        };
        skipped.push(reason);
        at = next;
    }
    let last = skipped.pop().unwrap_or(Reason::NoSystem);
    (Err(last), skipped)
}

/// Whether an entry's tries are used up.
fn used_up(situation: &Situation<'_>, index: usize) -> Option<Reason> {
    let entry = situation.document.entries.get(index)?;
    let starts = situation.unconfirmed.of(&entry.id);
    (starts >= entry.tries?).then(|| Reason::TriesUsedUp { title: entry.title.clone(), starts })
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
mod tests;
