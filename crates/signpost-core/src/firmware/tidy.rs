//! Tidying: second entries for one target, leftovers, an order with numbers that do not exist. What is not understood is
//! left, and so is what the firmware makes by itself.

use serde::Serialize;
use signpost_firmware::load_option::LoadOption;

use super::change::{FirmwareChange, Work};
use super::list::is_same_target;
use super::named;
use crate::error::Result;
use crate::hardware::SurveyedHardware;
use crate::history::History;
use crate::survey::{FirmwareEntry, Look};

/// What tidying would do.
#[derive(Clone, Debug, Serialize)]
pub struct Tidy {
    /// What would go, and why.
    pub goes: Vec<Told>,
    /// What is odd, and is left, and why.
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
pub fn tidy(look: &Look<'_>, history: &History) -> Result<Tidy> {
    let contents = look.machine.contents()?;
    let entries = &look.survey.firmware.entries;
    let (mut goes, mut left, mut numbers) = (Vec::new(), Vec::new(), Vec::new());
    let told = |entry: &FirmwareEntry, why: String| Told { entry: named(entry), why };
    for entry in entries {
        match fate(look, history, entry) {
            Fate::Goes(why) => {
                numbers.push(entry.number());
                goes.push(told(entry, why));
            }
            Fate::Left(why) => left.push(told(entry, why)),
            Fate::Plain => {}
        }
    }
    let mut work =
        Work { look, contents: &contents, writes: Vec::new(), notes: Vec::new(), refusals: Vec::new() };
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
fn clean_order(look: &Look<'_>, gone: &[u16]) -> Vec<u16> {
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

fn fate(look: &Look<'_>, history: &History, entry: &FirmwareEntry) -> Fate {
    let entries = &look.survey.firmware.entries;
    let Some(Ok(option)) = look.boot.options.get(&entry.number()).map(|option| &option.decoded) else {
        return Fate::Left("it is broken, and the firmware passes it over".into());
    };
    let twin = entries
        .iter()
        .filter(|other| other.number != entry.number && is_same_target(other, entry))
        .find(|other| !other.is_made_by_firmware);
    let leftover = leftover(look, option);
    let data = |entry: &FirmwareEntry| {
        let its = look.boot.options.get(&entry.number())?.decoded.as_ref().ok()?;
        Some(its.optional_data.clone())
    };
    let is_twin = twin.is_some_and(|twin| data(twin).as_ref() == Some(&option.optional_data));
    let odd = leftover.is_some() || is_twin || (entry.is_made_by_firmware && twin.is_some());
    let stays = |why: &str| if odd { Fate::Left(why.into()) } else { Fate::Plain };
    if entry.is_made_by_firmware {
        return stays("the firmware makes it by itself, and would make it anew");
    }
    if look.boot.current == Some(entry.number()) {
        return stays("the machine was started from it, so it would come back");
    }
    if let Some(why) = leftover {
        return Fate::Goes(why);
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

/// What an entry names and is not there.
fn leftover(look: &Look<'_>, option: &LoadOption) -> Option<String> {
    let hardware = SurveyedHardware::new(look);
    let verdict = signpost_firmware::start::locate(option, &hardware);
    // A file that is not there may come back with its system; its folder gone means that the system is.
    match crate::words::kind(&verdict) {
        "no-partition" | "no-device" => Some(crate::words::verdict(look, &verdict)),
        "no-file" if has_no_folder(look, option) => {
            Some(format!("{}, nor its folder", crate::words::verdict(look, &verdict)))
        }
        _ => None,
    }
}

fn has_no_folder(look: &Look<'_>, option: &LoadOption) -> bool {
    let (Some(drive), Some(file)) = (option.path.hard_drive(), option.path.file()) else { return false };
    let path = crate::words::volume_path(&file);
    let Some((folder, _)) = path.rsplit_once('/') else { return false };
    let volume = look.survey.disks.iter().find_map(|disk| {
        let is_it = |partition: &&crate::survey::Partition| {
            partition.number == drive.number && disk.path_signature(partition) == Some(drive.signature)
        };
        disk.partitions.iter().find(is_it)?.volume
    });
    let reader = volume.and_then(|volume| look.reader(volume - 1));
    reader.is_some_and(|reader| !folder.is_empty() && reader.list(folder).is_err())
}

/// The entry to keep among those that start the same file with the same data, and why it is the better one; `None` where
/// it is this one.
fn better<'e>(
    look: &Look<'_>,
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
        ["from which the machine was started", "which is ours", "which is in use", "which is in the order"];
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
