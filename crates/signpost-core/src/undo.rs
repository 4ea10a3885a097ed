//! Undoing what was done: a three-way merge of everything that *we* wrote since, since the firmware and other systems write
//! too.

mod files;
mod sectors;

use serde::Serialize;
use signpost_facts::change::{Change, Write};
use signpost_facts::{Code, Error, OptionNumber, Refusal, Result};
use signpost_firmware::boot_variables::boot_order;
use signpost_firmware::variable::{Attributes, Contents, Variable, VariableName};
use signpost_menu::ours;
use signpost_place::Look;

use crate::history::{Action, History, Record};
use crate::plan::{guards, safe, state_after, words};
use crate::rehearse::{Outcome, State, rehearse_state};
use crate::ways;

/// What would undo a step, and all that came after it.
#[derive(Clone, Debug, Serialize)]
pub struct Undo {
    /// The record that is undone.
    pub of: u32,
    /// When it was made.
    pub time: String,
    /// What would be written, in this order.
    pub writes: Vec<Change>,
    /// What was changed since by others and stays, and what else is worth saying.
    pub notes: Vec<String>,
    /// Guards that stand against it.
    pub refusals: Vec<Refusal>,
    /// What starts then, rehearsed.
    pub outcome: Outcome,
}

/// Plans how to undo the last step that was not undone yet, or to go back to before the step of a number. A step that was not
/// finished is undone as far as it came; an undoing that was not finished is finished.
///
/// # Errors
/// Where there is none, a record since then cannot be read or is a copy that does not hold what is needed, or the variables
/// cannot be read.
pub fn undo(look: &Look, history: &History, to: Option<u32>) -> Result<Undo> {
    let record = step(history, to)?;
    if let Some(fault) = history.gap_since(record.serial) {
        return Err(Error::Unusable {
            place: "history".into(),
            why: format!("a record since then cannot be read, so what was done is not known: {fault}"),
        });
    }
    let contents = look.contents()?;
    let since: Vec<&Record> = history.since(record.serial).collect();
    let mut notes = Vec::new();
    let (restored, removed) = options(&since, contents, &mut notes);
    let removed_numbers: Vec<u16> =
        removed.iter().filter_map(|write| write.variable_name().boot_option_number()).collect();
    let mut variables = restored;
    variables.extend(order(&since, contents, &removed_numbers, &mut notes));
    variables.extend(others(&since, contents, &mut notes));
    variables.extend(removed);
    variables.retain(|write| !write.is_done());
    let after = state_after(look, contents, &variables)?;
    let (put_back, taken_off) = files::files(look, &since, &after, &mut notes)?;
    let all: Vec<_> = put_back.iter().chain(&taken_off).cloned().collect();
    let sectors = sectors::sectors(look, &since, &mut notes);
    let state = State { sectors: &sectors, ..after.state(&all) };
    let outcome = rehearse_state(look, state, None).outcome;
    let lost = ways::lost_by(look, State::of(look), state);
    notes.extend(
        lost.iter()
            .map(|system| format!("no active entry starts {} then, as before that step", system.title)),
    );
    let mut refusals: Vec<Refusal> = Vec::new();
    // Where nothing starts as it is, undoing need not mend it.
    if guards::nothing_starts(&rehearse_state(look, State::of(look), None).outcome).is_none() {
        refusals.extend(guards::nothing_starts(&outcome));
    }
    refusals.extend(guards::started_from(look, &removed_numbers));
    // What a variable names is there before it, and goes after it.
    let mut writes: Vec<Change> = sectors.iter().cloned().map(Change::Sectors).collect();
    writes.extend(put_back.into_iter().map(Change::File));
    writes.extend(variables.into_iter().map(Change::Variable));
    writes.extend(taken_off.into_iter().map(Change::File));
    refusals.extend(safe::refusals(look, &writes));
    refusals.extend(history.since(record.serial).find_map(foreign));
    let (of, time) = (record.serial, record.time.clone());
    Ok(Undo { of, time, writes, notes, refusals, outcome })
}

/// The step that is to be undone.
fn step(history: &History, to: Option<u32>) -> Result<&Record> {
    let nothing = |why: String| Error::Unusable { place: "history".into(), why };
    if let Some(serial) = to {
        let wrong = |why: String| Err(Error::WrongUse(format!("{why}; `signpost history` lists the steps")));
        return match history.record(serial) {
            Some(record) if history.is_undone(serial) => {
                wrong(format!("record {serial} of {} is undone already", record.time))
            }
            Some(record) if record.action.is_asked() => Ok(record),
            Some(_) => wrong(format!("record {serial} is not a step that can be undone by itself")),
            None => wrong(format!("there is no record {serial}")),
        };
    }
    let begun = history.unfinished().and_then(|record| match record.action {
        Action::Undo { of } => history.record(of),
        _ => None,
    });
    begun.or_else(|| history.last_step()).ok_or_else(|| match history.faults().next() {
        Some(fault) => nothing(format!("the record of what was done cannot be read: {fault}")),
        None => nothing("there is nothing that could be undone".into()),
    })
}

/// What we made of one variable since a step.
struct Ours<'r> {
    first: &'r Write,
    /// Everything that we wrote into it; nothing for removals.
    wrote: Vec<&'r Option<Vec<u8>>>,
}

/// Every variable that was written since a step, in the order in which each was written first.
fn variables<'r>(since: &[&'r Record]) -> Vec<Ours<'r>> {
    let mut all: Vec<Ours<'r>> = Vec::new();
    for write in since.iter().flat_map(|record| &record.writes).filter_map(Change::variable) {
        match all.iter_mut().find(|ours| ours.first.variable_name() == write.variable_name()) {
            Some(ours) => ours.wrote.push(&write.after),
            None => all.push(Ours { first: write, wrote: vec![&write.after] }),
        }
    }
    all
}

/// Load options: what to put back, and what to remove.
fn options(since: &[&Record], contents: &Contents, notes: &mut Vec<String>) -> (Vec<Write>, Vec<Write>) {
    let all = variables(since).into_iter();
    let ours = all.filter(|ours| ours.first.variable_name().boot_option_number().is_some());
    ours.filter_map(|ours| restore(&ours, contents, notes)).partition(|write| write.after.is_some())
}

/// Everything else that is one value: `Timeout`, and variables of ours.
fn others(since: &[&Record], contents: &Contents, notes: &mut Vec<String>) -> Vec<Write> {
    let all = variables(since).into_iter();
    let ours = all.filter(|ours| {
        ours.first.name != "BootOrder" && ours.first.variable_name().boot_option_number().is_none()
    });
    ours.filter_map(|ours| restore(&ours, contents, notes)).collect()
}

/// Puts a variable back to what it was before the step, if it still holds something that we wrote.
fn restore(ours: &Ours<'_>, contents: &Contents, notes: &mut Vec<String>) -> Option<Write> {
    let write = ours.first;
    let now = contents.get(&write.variable_name()).map(|variable| variable.data.clone());
    if now == write.before {
        return None;
    }
    if !ours.wrote.iter().any(|wrote| **wrote == now) {
        // The firmware uses the next boot up.
        if !(write.name == "BootNext" && now.is_none()) {
            notes.push(format!("{} was changed since by somebody else; it stays as it is", thing(write)));
        }
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
        Some(number) => format!("entry {}", OptionNumber(number)),
        None if write.name == "Timeout" => "the timeout".into(),
        None if write.name == "BootNext" => "the next boot".into(),
        None if write.name == ours::ONCE => "what the menu would do once".into(),
        None if write.name == ours::KEPT => "the default that was kept at boot".into(),
        None if write.name == ours::TRIES => "how often entries were started".into(),
        None if write.name == ours::LAST => "what was started last".into(),
        None => write.name.clone(),
    }
}

fn order(since: &[&Record], contents: &Contents, removed: &[u16], notes: &mut Vec<String>) -> Option<Write> {
    let writes = since.iter().flat_map(|record| &record.writes).filter_map(Change::variable);
    let writes: Vec<&Write> = writes.filter(|write| write.name == "BootOrder").collect();
    if writes.is_empty() && removed.is_empty() {
        return None;
    }
    let numbers =
        |data: &[u8]| data.chunks_exact(2).map(|pair| u16::from_le_bytes([pair[0], pair[1]])).collect();
    let now = contents.get(&VariableName::global("BootOrder"));
    let now_data = now.map(|held| held.data.clone());
    let now: Vec<u16> = now.map(|held| numbers(&held.data)).unwrap_or_default();
    let side =
        |data: &Option<Vec<u8>>| -> Vec<u16> { data.as_ref().map(|data| numbers(data)).unwrap_or_default() };
    let before = writes.first().map_or_else(|| now.clone(), |write| side(&write.before));
    // What of ours stands there now: the last order of ours that is there, else the last that was written.
    let there = writes.iter().rev().find(|write| write.after == now_data);
    let after = there.or(writes.last()).map_or_else(|| now.clone(), |write| side(&write.after));
    let original = writes.first().map(|write| &write.before);
    if original == Some(&now_data) && !now.iter().any(|number| removed.contains(number)) {
        return None;
    }
    if original == Some(&None) && there.is_some() {
        let name = VariableName::global("BootOrder");
        return Some(Write::removal(contents, name, "remove the boot order, which was not there".into()));
    }
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

/// The guard against a record that somebody else made.
fn foreign(record: &Record) -> Option<Refusal> {
    let change = record.foreign()?;
    Some(Refusal {
        code: Code::RecordForeign,
        message: format!(
            "record {} says \"{}\", which no step of this program writes",
            record.serial,
            change.what()
        ),
        way: "look at it with `signpost history`; whoever wrote it may have meant harm".into(),
    })
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

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
