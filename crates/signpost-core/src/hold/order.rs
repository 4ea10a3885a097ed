//! The order of the firmware's entries that is held.

use signpost_facts::change::{Change, Write};
use signpost_place::Look;

use super::{Held, HeldEntry};
use crate::history::{Action, History, Record};

/// The order with ours first, as they were decided; what somebody has put first by `firmware order` since stays there.
pub(super) fn decided_order(look: &Look, held: &Held, history: &History, writes: &[Write]) -> Vec<u16> {
    let made = writes.iter().filter_map(|write| write.variable_name().boot_option_number());
    let exists = |number: &u16| look.boot.options.contains_key(number);
    let owned = history.owned();
    let is_ours = |number: &u16, data: &Vec<u8>| {
        look.boot.options.get(number).is_some_and(|option| option.raw == *data)
    };
    // One that had to be made again may have another number by now; and another system may have taken the number of ours.
    let number = |held: &HeldEntry| {
        let mut own = owned.iter().filter(|(_, (_, entry))| *entry == held.entry);
        let is_noted = |number: &u16| *number == held.number.0;
        let there =
            own.clone().filter(|(number, (data, _))| is_ours(number, data)).map(|(number, _)| *number);
        let was_ours = own.next().is_some();
        let noted = there.clone().find(is_noted).or_else(|| there.clone().next());
        noted.or_else(|| Some(held.number.0).filter(|_| !was_ours))
    };
    let ours: Vec<u16> = held.ours.iter().filter_map(number).filter(|number| exists(number)).collect();
    let made: Vec<u16> = made.filter(|number| !ours.contains(number)).collect();
    let first = first_by_hand(history, held.record).filter(|number| exists(number));
    let mut order: Vec<u16> = Vec::new();
    for number in first.iter().chain(&made).chain(&ours).chain(&look.boot.order) {
        if !order.contains(number) {
            order.push(*number);
        }
    }
    order
}

/// What the last change of the order by hand, after the menu was applied, put first. An order that was only written
/// since an entry was removed decides nothing.
fn first_by_hand(history: &History, applied: Option<u32>) -> Option<u16> {
    let since = |record: &&Record| {
        record.action == Action::Firmware
            && Some(record.serial) > applied
            && !history.is_undone(record.serial)
    };
    let removes = |record: &&Record| {
        record.writes.iter().any(|change| change.variable().is_some_and(|write| write.after.is_none()))
    };
    let decided = history.records().iter().filter(since).filter(|record| !removes(record));
    let orders = decided.flat_map(|record| &record.writes);
    let last = orders.filter_map(Change::variable).rfind(|write| write.name == "BootOrder")?;
    let bytes = last.after.as_ref()?.first_chunk::<2>()?;
    Some(u16::from_le_bytes(*bytes))
}
