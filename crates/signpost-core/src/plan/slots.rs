//! Which slot a menu goes into, and what becomes of the other.

use signpost_facts::{Error, Result};
use signpost_menu::slot::{SLOT_SIZE, Slot, SlotFault, Writer, newest};
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

/// The menu goes into the slot that does not hold the newest one; nothing where that one is this menu. One that is damaged is
/// emptied. `names` are those of the slots.
///
/// # Errors
/// Where the menu does not fit.
pub(super) fn wanted(
    look: &Look,
    slots: &[std::result::Result<Slot, SlotFault>; 2],
    (menu, machine): (&MenuFile, &str),
    names: [&str; 2],
) -> Result<Vec<SlotWrite>> {
    let held = newest(slots);
    let is_damaged = |index: usize| slots[index].as_ref().is_err_and(SlotFault::is_damage);
    let emptied = |index: usize, why: &str| SlotWrite {
        index,
        bytes: empty(),
        what: format!("empty {}, {why}", names[index]),
    };
    let numbers = look.known.with(&look.survey, &look.identities).numbers_by_table();
    let counts_alike = |slot: &Slot| {
        let own = look.survey.disks.iter().filter(|disk| disk.takes_part);
        let mut tables = own.filter_map(|disk| disk.table.identity());
        tables.all(|table| slot.disks.of(table) == numbers.of(table))
    };
    let is_same = |slot: &Slot| slot.text == menu.text && slot.machine == machine && counts_alike(slot);
    if let Some((index, _)) = held.filter(|(_, slot)| is_same(slot)) {
        let damaged = Some(1 - index).filter(|other| is_damaged(*other));
        return Ok(damaged.map(|index| emptied(index, "which is damaged")).into_iter().collect());
    }
    // Behind the last serial the count starts anew: then the slot that holds it must go for the new one to count.
    let next = |slot: &Slot| slot.serial.checked_add(1);
    let (index, serial) = held.map_or((0, 1), |(index, slot)| (1 - index, next(slot).unwrap_or(1)));
    let outlived = held.filter(|(_, slot)| next(slot).is_none()).map(|(index, _)| index);
    let (machine, text) = (machine.to_string(), menu.text.clone());
    let slot = Slot { serial, writer: Writer::Desk, machine, disks: numbers, text };
    let bytes = slot.encode().ok_or_else(|| Error::Unusable {
        place: "menu file".into(),
        why: format!("it does not fit a slot of {SLOT_SIZE} bytes together with its first line"),
    })?;
    let mut writes = vec![SlotWrite { index, bytes, what: format!("write the menu into {}", names[index]) }];
    if let Some(outlived) = outlived {
        writes.push(emptied(outlived, "whose number is the last there is"));
    } else if is_damaged(1 - index) {
        writes.push(emptied(1 - index, "which is damaged"));
    }
    Ok(writes)
}
