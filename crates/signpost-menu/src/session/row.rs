//! The lines of the menu: its entries, and what can be reached without one.

use alloc::string::{String, ToString};
use alloc::vec::Vec;

use crate::document::Starts;
use crate::ids::EntryId;
use crate::resolve::{Firmware, ResolvedEntry, StartTarget};
use crate::symbol::Symbol;

/// A line of the menu.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Row {
    /// Its title.
    pub title: String,
    /// What it starts, or why it cannot, on one line.
    pub line: String,
    /// Whether it can start.
    pub can_start: bool,
    /// What stands beside it.
    pub symbol: Symbol,
    pub(super) what: What,
    pub(super) args: Option<String>,
    pub(super) group: Option<EntryId>,
}

#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum What {
    Entry(usize),
    Group(EntryId),
    SetupScreen,
    Restart,
    PowerOff,
}

impl Row {
    pub(super) fn of_entry(index: usize, resolved: &ResolvedEntry<'_>, line: &str) -> Self {
        let entry = resolved.entry;
        Self {
            title: entry.title.clone(),
            line: line.to_string(),
            can_start: resolved.target.is_ok(),
            symbol: entry.shown_symbol(),
            what: match &entry.starts {
                Starts::Group => What::Group(entry.id.clone()),
                Starts::SetupScreen => What::SetupScreen,
                Starts::Restart => What::Restart,
                Starts::PowerOff => What::PowerOff,
                Starts::Linux(_)
                | Starts::Efi { .. }
                | Starts::Sector { .. }
                | Starts::FirmwareEntry { .. }
                | Starts::Image { .. }
                | Starts::Unknown { .. } => What::Entry(index),
            },
            args: match &resolved.target {
                Ok(StartTarget::Linux { args, .. } | StartTarget::Image { args, .. }) => Some(args.clone()),
                _ => None,
            },
            group: entry.group.clone(),
        }
    }
}

/// Setup-screen, restart and power-off, where the menu does not have them, and the firmware can do them.
pub(super) fn always_reachable(rows: &[Row], resolved: &[ResolvedEntry<'_>], firmware: Firmware) -> Vec<Row> {
    let setup =
        (What::SetupScreen, Symbol::Sliders, "Firmware setup", "opens firmware setup after a restart");
    let has_setup = firmware.cannot(&Starts::SetupScreen).is_none();
    let built_in = Some(setup).filter(|_| has_setup).into_iter().chain([
        (What::Restart, Symbol::Restart, "Restart", "restarts this machine"),
        (What::PowerOff, Symbol::Power, "Power off", "turns this machine off"),
    ]);
    // One inside a group is reachable too; a group that is not an entry holds nothing.
    let is_there = |what: &What| rows.iter().zip(resolved).any(|(row, _)| row.what == *what);
    let missing = built_in.filter(|(what, ..)| !is_there(what));
    missing
        .map(|(what, symbol, title, line)| Row {
            title: title.into(),
            line: line.into(),
            can_start: true,
            symbol,
            what,
            args: None,
            group: None,
        })
        .collect()
}
