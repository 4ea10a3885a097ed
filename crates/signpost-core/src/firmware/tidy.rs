//! Tidying: second entries for one target, leftovers, an order with numbers that do not exist. What is not understood is
//! left, and so is what the firmware makes by itself.

use serde::Serialize;
use signpost_facts::{FirmwareEntry, Result};
use signpost_place::Look;

use super::change::{FirmwareChange, Work};
use super::list::is_same_target;
use super::named;
use crate::history::History;
use crate::rehearse::State;
use crate::ways::{self, Reach};

/// What tidying would do.
#[derive(Clone, Debug, Serialize)]
pub struct Tidy {
    /// What would go, and why.
    pub goes: Vec<Told>,
    /// Entries with a problem that stay, and why.
    pub left: Vec<Told>,
    /// The change as a whole.
    #[serde(flatten)]
    pub change: FirmwareChange,
}

/// An entry, and something about it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Told {
    /// Its number and label.
    pub entry: String,
    /// Why.
    pub why: String,
}

/// Plans to tidy the firmware's list.
///
/// # Errors
/// Where the variables cannot be read.
pub fn tidy(look: &Look, history: &History) -> Result<Tidy> {
    let contents = look.contents()?;
    let entries = &look.survey.firmware.entries;
    let (mut goes, mut left, mut numbers) = (Vec::new(), Vec::new(), Vec::new());
    let active = ways::ways(look, State::of(look));
    let has_way = |system: &str| active.iter().any(|way| way.system == system);
    let told = |entry: &FirmwareEntry, why: String| Told { entry: named(entry), why };
    for entry in entries {
        match fate(look, history, entry, &has_way) {
            Fate::Goes(why) => {
                numbers.push(entry.number());
                goes.push(told(entry, why));
            }
            Fate::Left(why) => left.push(told(entry, why)),
            Fate::Plain => {}
        }
    }
    let mut work = Work { look, contents, writes: Vec::new(), notes: Vec::new(), refusals: Vec::new() };
    let order = clean_order(look, &numbers);
    if order != look.boot.order {
        work.write_order(&order);
    }
    work.remove_all(&numbers);
    // The order is written once, without what goes.
    work.writes.dedup_by(|second, first| second.name == "BootOrder" && first.name == "BootOrder");
    Ok(Tidy { goes, left, change: work.finish()? })
}

/// The order without what goes, without numbers that do not exist or come again; what is in none is put behind.
fn clean_order(look: &Look, gone: &[u16]) -> Vec<u16> {
    let mut order: Vec<u16> = Vec::new();
    for number in look.boot.order.iter().chain(look.boot.options.keys()) {
        if look.boot.options.contains_key(number) && !gone.contains(number) && !order.contains(number) {
            order.push(*number);
        }
    }
    order
}

enum Fate {
    Goes(String),
    Left(String),
    Plain,
}

fn fate(look: &Look, history: &History, entry: &FirmwareEntry, has_way: &dyn Fn(&str) -> bool) -> Fate {
    let entries = &look.survey.firmware.entries;
    let Some(Ok(option)) = look.boot.options.get(&entry.number()).map(|option| &option.decoded) else {
        return Fate::Left("it is broken, and the firmware skips it".into());
    };
    let twin = entries
        .iter()
        .filter(|other| other.number != entry.number && is_same_target(other, entry))
        .find(|other| !other.is_made_by_firmware);
    let reach = ways::of_load_option(look, entry.number());
    let leftover = (reach == Reach::Gone).then(|| entry.finding.clone());
    let data = |entry: &FirmwareEntry| {
        let its = look.boot.options.get(&entry.number())?.decoded.as_ref().ok()?;
        Some(its.optional_data.clone())
    };
    let is_twin = twin.is_some_and(|twin| data(twin).as_ref() == Some(&option.optional_data));
    let has_problem = reach != Reach::There || is_twin || (entry.is_made_by_firmware && twin.is_some());
    let stays = |why: &str| if has_problem { Fate::Left(why.into()) } else { Fate::Plain };
    if entry.is_made_by_firmware {
        return stays("the firmware makes it by itself, and would create it again");
    }
    if look.boot.current == Some(entry.number()) {
        return stays("the machine was started from it, so it would come back");
    }
    if reach == Reach::OutOfReach {
        return Fate::Left(format!(
            "{}; that is not attached or cannot be read now, and so not gone",
            entry.finding
        ));
    }
    if let Some(why) = leftover {
        let lost = ways::of_load_entry(look, entry.number()).into_iter().find(|system| !has_way(&system.id));
        return match lost {
            Some(system) => {
                Fate::Left(format!("{why}; nothing else would start {}, once its file is back", system.title))
            }
            None => Fate::Goes(why),
        };
    }
    let Some(twin) = twin else { return Fate::Plain };
    if !is_twin {
        return Fate::Left(format!("it starts the same file as {}, and hands other data to it", twin.number));
    }
    match better(look, history, entries, entry) {
        Some((kept, why)) => Fate::Goes(format!("it starts the same file as {}, {why}", kept.number)),
        None => Fate::Plain,
    }
}

/// The entry to keep among those that start the same file with the same data, and why it is the better one; `None` where
/// it is this one.
fn better<'e>(
    look: &Look,
    history: &History,
    entries: &'e [FirmwareEntry],
    entry: &FirmwareEntry,
) -> Option<(&'e FirmwareEntry, &'static str)> {
    let owned = history.owned();
    let data = |entry: &FirmwareEntry| {
        let option = look.boot.options.get(&entry.number())?.decoded.as_ref().ok()?;
        Some(option.optional_data.clone())
    };
    // What speaks for an entry, the weightiest first; true is better.
    let merits = |entry: &FirmwareEntry| {
        [
            look.boot.current == Some(entry.number()),
            owned.contains_key(&entry.number()),
            entry.is_active,
            entry.place.is_some(),
        ]
    };
    const WORDS: [&str; 4] =
        ["from which the machine was started", "which is ours", "which is enabled", "which is in the order"];
    let same = entries.iter().filter(|other| {
        !other.is_made_by_firmware && is_same_target(other, entry) && data(other) == data(entry)
    });
    let rank = |entry: &FirmwareEntry| {
        let place = std::cmp::Reverse(entry.place.unwrap_or(usize::MAX));
        (merits(entry), place, std::cmp::Reverse(entry.number()))
    };
    let best = same.max_by_key(|other| rank(other))?;
    if best.number == entry.number {
        return None;
    }
    let differs = merits(best).into_iter().zip(merits(entry)).position(|(best, own)| best && !own);
    Some((best, differs.map_or("which comes first in the order", |index| WORDS[index])))
}
