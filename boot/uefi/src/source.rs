//! Where the menu comes from: the newest whole slot of the home volume.

use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec::Vec;

use signpost_menu::slot::{SLOT_NAMES, Slot, SlotFault, newest};
use signpost_menu::{MenuDocument, parse_leniently};

use signpost_place::slots;

use crate::machine::Machine;

/// The active menu, and what is to be said of it.
pub struct Source {
    /// The menu, where there is one.
    pub document: Option<MenuDocument>,
    /// What was skipped and why.
    pub notes: Vec<String>,
    /// Whether there is none since what is kept here is damaged.
    pub is_damaged: bool,
}

impl Source {
    fn without_menu(notes: Vec<String>) -> Self {
        Self { document: None, notes, is_damaged: false }
    }
}

/// Reads it.
pub fn read(machine: &Machine) -> Source {
    let Some(home) = machine.home else {
        return Source::without_menu(Vec::from(["the volume this program came from is not found".into()]));
    };
    let fs = match machine.file_system(home) {
        Ok(fs) => fs,
        Err(why) => return Source::without_menu(Vec::from([why])),
    };
    let slots = slots::read(fs);
    let mut notes: Vec<String> = SLOT_NAMES
        .iter()
        .zip(&slots)
        .filter_map(|(name, slot)| match slot {
            Err(SlotFault::Empty) | Ok(_) => None,
            Err(fault) => Some(format!("{name} is skipped: {fault}")),
        })
        .collect();
    let Some((_, slot)) = newest(&slots) else {
        let is_damaged = !notes.is_empty();
        if !is_damaged {
            notes.push("no menu was found here".to_string());
        }
        return Source { is_damaged, ..Source::without_menu(notes) };
    };
    let (document, problems) = parse_leniently(&slot.text);
    notes.extend(problems.iter().map(|problem| format!("menu, {problem}")));
    Source { document, notes, is_damaged: false }
}

/// Both slots as they are; `None` where the home volume is not found.
pub fn slots(machine: &Machine) -> Option<[Result<Slot, SlotFault>; 2]> {
    machine.file_system(machine.home?).ok().map(slots::read)
}
