//! Taking back what was put in force: a three-way merge of what *we* wrote, since the firmware and other
//! systems write too.

mod files;

use serde::Serialize;
use signpost_firmware::boot_variables::boot_order;
use signpost_firmware::variable::{Attributes, Contents, Variable, VariableName};

use crate::error::{Error, Refusal, Result};
use crate::history::{Change, History, Record, Write};
use crate::plan::{guards, state_after, words};
use crate::rehearse::{Outcome, rehearse};
use crate::survey::{Look, hex};

/// What would take back the last menu put in force.
#[derive(Clone, Debug, Serialize)]
pub struct Undo {
    /// Version of this document.
    pub schema: u32,
    /// The record that is taken back.
    pub of: u32,
    /// When it was made.
    pub time: String,
    /// What would be written, in this order.
    pub writes: Vec<Change>,
    /// What was changed since by others and stays.
    pub notes: Vec<String>,
    /// Guards that stand against it.
    pub refusals: Vec<Refusal>,
    /// What starts then, rehearsed.
    pub outcome: Outcome,
}

/// Plans how to take back the last step that was not taken back yet.
///
/// # Errors
/// Where there is none, or the variables cannot be read.
pub fn undo(look: &Look<'_>, history: &History) -> Result<Undo> {
    let record = history.last_step().ok_or_else(|| Error::Unusable {
        place: "history".into(),
        why: "nothing was put in force that could be taken back".into(),
    })?;
    let contents = look.machine.contents()?;
    let mut notes = Vec::new();
    let (restored, removed) = options(record, &contents, &mut notes);
    let removed_numbers: Vec<u16> =
        removed.iter().filter_map(|write| write.variable_name().boot_option_number()).collect();
    let mut writes = restored;
    writes.extend(order(record, &contents, &removed_numbers, &mut notes));
    writes.extend(others(record, &contents, &mut notes));
    writes.extend(removed);
    writes.retain(|write| !write.is_done());
    let outcome = rehearse(look, &state_after(look, &contents, &writes)?).outcome;
    let mut writes: Vec<Change> = writes.into_iter().map(Change::Variable).collect();
    writes.extend(files::take_back(look, record, &mut notes));
    let mut refusals: Vec<Refusal> = guards::nothing_starts(&outcome).into_iter().collect();
    refusals.extend(guards::started_from(look, &removed_numbers));
    Ok(Undo {
        schema: crate::SCHEMA,
        of: record.serial,
        time: record.time.clone(),
        writes,
        notes,
        refusals,
        outcome,
    })
}

/// Load options: what to put back, and what to remove.
fn options(record: &Record, contents: &Contents, notes: &mut Vec<String>) -> (Vec<Write>, Vec<Write>) {
    let variables = record.writes.iter().filter_map(Change::variable);
    let ours = variables.filter(|write| write.variable_name().boot_option_number().is_some());
    ours.filter_map(|write| restore(write, contents, notes)).partition(|write| write.after.is_some())
}

/// Everything else that is one value: `Timeout`.
fn others(record: &Record, contents: &Contents, notes: &mut Vec<String>) -> Vec<Write> {
    let variables = record.writes.iter().filter_map(Change::variable);
    let ours = variables
        .filter(|write| write.name != "BootOrder" && write.variable_name().boot_option_number().is_none());
    ours.filter_map(|write| restore(write, contents, notes)).collect()
}

/// Puts a variable back, if it still holds what we wrote.
fn restore(write: &Write, contents: &Contents, notes: &mut Vec<String>) -> Option<Write> {
    let now = contents.get(&write.variable_name()).map(|variable| variable.data.clone());
    if now == write.before {
        return None;
    }
    if now != write.after {
        notes.push(format!("{} was changed since by somebody else; it stays as it is", thing(write)));
        return None;
    }
    Some(match &write.before {
        Some(data) => {
            let attributes = Attributes::from_bits_retain(write.attributes);
            let variable = Variable { name: write.variable_name(), attributes, data: data.clone() };
            Write::to(contents, variable, format!("put back {}", thing(write)), None)
        }
        None => Write::removal(contents, write.variable_name(), format!("remove {}", thing(write))),
    })
}

/// A variable in words.
fn thing(write: &Write) -> String {
    match write.variable_name().boot_option_number() {
        Some(number) => format!("entry {}", hex(number)),
        None if write.name == "Timeout" => "the timeout".into(),
        None => write.name.clone(),
    }
}

fn order(record: &Record, contents: &Contents, removed: &[u16], notes: &mut Vec<String>) -> Option<Write> {
    let write = record.writes.iter().filter_map(Change::variable).find(|write| write.name == "BootOrder");
    let numbers =
        |data: &[u8]| data.chunks_exact(2).map(|pair| u16::from_le_bytes([pair[0], pair[1]])).collect();
    let now: Vec<u16> =
        contents.get(&VariableName::global("BootOrder")).map(|held| numbers(&held.data)).unwrap_or_default();
    let unchanged = now.clone();
    let (before, after) = match write {
        Some(write) => {
            let side = |data: &Option<Vec<u8>>| data.as_ref().map(|data| numbers(data)).unwrap_or_default();
            (side(&write.before), side(&write.after))
        }
        None => (unchanged.clone(), unchanged),
    };
    let (order, was_reordered) = merge_order(&before, &after, &now, removed);
    if was_reordered {
        notes.push(
            "the boot order was changed since by somebody else; only what we added is taken out of it".into(),
        );
    }
    Some(Write::to(contents, boot_order(&order), format!("boot order {}", words(&order)), None))
}

/// Merges orders: `before` we wrote, `after` we wrote, and `now`. Whoever only added or dropped numbers
/// keeps that; whoever put ours in another order keeps his. Also says which of the two it was.
fn merge_order(before: &[u16], after: &[u16], now: &[u16], removed: &[u16]) -> (Vec<u16>, bool) {
    let ours_now: Vec<u16> = now.iter().copied().filter(|number| after.contains(number)).collect();
    let expected: Vec<u16> = after.iter().copied().filter(|number| now.contains(number)).collect();
    let stays = |number: &u16| !removed.contains(number);
    if ours_now != expected {
        return (now.iter().copied().filter(stays).collect(), true);
    }
    let first_ours = now.iter().position(|number| after.contains(number)).unwrap_or(now.len());
    let (leading, rest) = now.split_at(first_ours);
    let added = |number: &&u16| !after.contains(number);
    // What others dropped since stays dropped; what we dropped comes back.
    let kept = before.iter().copied().filter(|number| now.contains(number) || !after.contains(number));
    let left_over: Vec<u16> = expected.iter().copied().filter(|number| !before.contains(number)).collect();
    let mut order: Vec<u16> = Vec::new();
    let all = leading.iter().copied().chain(kept).chain(left_over).chain(rest.iter().filter(added).copied());
    for number in all.filter(stays) {
        if !order.contains(&number) {
            order.push(number);
        }
    }
    (order, false)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn an_order_nobody_touched_comes_back_as_it_was() {
        assert_eq!(merge_order(&[1, 3, 0], &[5, 1, 3, 0], &[5, 1, 3, 0], &[5]), (vec![1, 3, 0], false));
    }

    #[test]
    fn what_the_firmware_added_at_the_end_stays_there() {
        assert_eq!(merge_order(&[1, 0], &[5, 0, 1], &[5, 0, 1, 7, 8], &[5]), (vec![1, 0, 7, 8], false));
    }

    #[test]
    fn what_another_system_put_first_stays_first() {
        assert_eq!(merge_order(&[1, 0], &[5, 0, 1], &[9, 5, 0, 1], &[5]), (vec![9, 1, 0], false));
    }

    #[test]
    fn an_order_that_others_changed_only_loses_what_we_added() {
        assert_eq!(merge_order(&[1, 0], &[5, 0, 1], &[1, 5, 0], &[5]), (vec![1, 0], true));
    }

    #[test]
    fn an_entry_of_ours_that_somebody_changed_stays_in_the_order() {
        assert_eq!(merge_order(&[1, 0], &[5, 0, 1], &[5, 0, 1], &[]), (vec![1, 0, 5], false));
    }

    proptest! {
        #[test]
        fn nothing_is_lost_and_nothing_comes_twice(
            before in prop::collection::hash_set(0u16..12, 0..8), now in prop::collection::vec(0u16..12, 0..8), new in 20u16..22
        ) {
            let before: Vec<u16> = before.into_iter().collect();
            let mut after = before.clone();
            after.insert(0, new);
            let (order, _) = merge_order(&before, &after, &now, &[new]);
            let mut unique = order.clone();
            unique.sort_unstable();
            unique.dedup();
            for number in &now {
                prop_assert!(*number == new || order.contains(number), "{number} of {now:?} is lost in {order:?}");
            }
            prop_assert!(!order.contains(&new));
            let twice_now = now.iter().collect::<std::collections::BTreeSet<_>>().len() != now.len();
            prop_assert!(twice_now || unique.len() == order.len(), "{order:?}");
        }
    }
}
