//! Which slot a menu goes into, and what becomes of the other.

use signpost_facts::{Error, Result};
use signpost_menu::picture_place::PicturePlace;
use signpost_menu::slot::{SLOT_SIZE, Slot, SlotFault, Slots, Writer, newest};
use signpost_place::Look;

use crate::menu_file::MenuFile;

/// A slot that is written.
pub(super) struct SlotWrite {
    /// Which of the two.
    pub(super) index: usize,
    /// What it holds then.
    pub(super) bytes: Vec<u8>,
    /// What that does, in words.
    pub(super) what: String,
}

/// A slot without a menu.
pub(super) fn empty() -> Vec<u8> {
    vec![b'\n'; SLOT_SIZE]
}

/// What the slots of all homes are to hold.
pub(super) struct Wanted {
    slot: Slot,
    /// Whether the count begins anew, so that every older slot has to go for the new one to count.
    begins_anew: bool,
    is_same: Vec<bool>,
}

/// The menu with the number that makes it count on all homes, whose slots these are. A home that has it already says its number.
pub(super) fn wanted(
    look: &Look,
    slots: &[Slots],
    (menu, machine): (&MenuFile, String),
    (homes, picture): (Vec<String>, Option<PicturePlace>),
) -> Wanted {
    let disks = look.known.with(&look.survey, &look.identities).numbers_by_table();
    let counts_alike = |slot: &Slot| {
        let own = look.survey.disks.iter().filter(|disk| disk.takes_part);
        let mut tables = own.filter_map(|disk| disk.table.identity.as_ref());
        tables.all(|table| slot.disks.of(table) == disks.of(table))
    };
    let is_same = |slot: &Slot| {
        slot.text == menu.text
            && slot.machine == machine
            && slot.homes == homes
            && slot.picture == picture
            && counts_alike(slot)
    };
    let held: Vec<Option<&Slot>> = slots.iter().map(|slots| newest(slots).map(|(_, slot)| slot)).collect();
    let last = held.iter().flatten().map(|slot| slot.serial).max();
    let mut with_last = held.iter().flatten().filter(|slot| Some(slot.serial) == last);
    let next = last.map_or(Some(1), |last| last.checked_add(1));
    let (serial, begins_anew) = match last.filter(|_| with_last.all(|slot| is_same(slot))) {
        Some(last) => (last, false),
        None => (next.unwrap_or(1), next.is_none()),
    };
    let is_same =
        held.iter().map(|slot| slot.is_some_and(|slot| slot.serial == serial && is_same(slot))).collect();
    let text = menu.text.clone();
    let slot = Slot { serial, writer: Writer::Desk, machine, disks, homes, picture, text };
    Wanted { slot, begins_anew, is_same }
}

impl Wanted {
    /// What is written into the slots of a home, by its place among the homes: the menu, into the slot that does not hold the newest
    /// one; nothing where that one is this menu. One that is damaged is emptied. `names` are those of the slots.
    ///
    /// # Errors
    /// Where the menu does not fit.
    pub(super) fn writes(&self, home: usize, slots: &Slots, names: [&str; 2]) -> Result<Vec<SlotWrite>> {
        let held = newest(slots).map(|(index, _)| index);
        let is_damaged = |index: usize| slots[index].as_ref().is_err_and(SlotFault::is_damage);
        let emptied = |index: usize, why: &str| SlotWrite {
            index,
            bytes: empty(),
            what: format!("empty {}, {why}", names[index]),
        };
        if let Some(index) = held.filter(|_| self.is_same.get(home) == Some(&true)) {
            let damaged = Some(1 - index).filter(|other| is_damaged(*other));
            return Ok(damaged.map(|index| emptied(index, "which is damaged")).into_iter().collect());
        }
        let index = held.map_or(0, |held| 1 - held);
        let bytes = self.slot.encode().ok_or_else(|| Error::Unusable {
            place: "menu file".into(),
            why: format!("it does not fit a slot of {SLOT_SIZE} bytes together with its first line"),
        })?;
        let mut writes =
            vec![SlotWrite { index, bytes, what: format!("write the menu into {}", names[index]) }];
        if let Some(outlived) = held.filter(|_| self.begins_anew) {
            writes.push(emptied(outlived, "whose number is the last there is"));
        } else if is_damaged(1 - index) {
            writes.push(emptied(1 - index, "which is damaged"));
        }
        Ok(writes)
    }
}
