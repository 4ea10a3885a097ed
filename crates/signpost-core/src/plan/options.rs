//! Menu entries as load options.

use std::collections::BTreeMap;

use signpost_facts::OptionNumber;
use signpost_facts::change::Write;
use signpost_firmware::boot_variables::{BootVariables, boot_option};
use signpost_firmware::load_option::{LoadOption, LoadOptionAttributes};
use signpost_firmware::variable::Contents;
use signpost_menu::MenuDocument;
use signpost_place::Look;

use super::planned::{Action, EntryPlan};
use super::wanted::{device_path, wanted};
use crate::resolve::{ResolvedEntry, StartTarget};

/// Load options by number: which are ours, which a plan has given away.
pub(super) struct Numbers<'a> {
    boot: &'a BootVariables,
    /// Ours, unchanged since we wrote them: number to menu entry.
    ours: BTreeMap<u16, String>,
    given: Vec<u16>,
}

impl<'a> Numbers<'a> {
    pub(super) fn new(boot: &'a BootVariables, owned: BTreeMap<u16, (Vec<u8>, String)>) -> Self {
        // One that holds something else by now is somebody else's.
        let unchanged = owned
            .into_iter()
            .filter(|(number, (data, _))| boot.options.get(number).is_some_and(|option| option.raw == *data));
        Self {
            boot,
            ours: unchanged.map(|(number, (_, entry))| (number, entry)).collect(),
            given: Vec::new(),
        }
    }

    /// Ours for this menu entry.
    fn own(&self, id: &str) -> Option<u16> {
        let mut own = self.ours.iter().filter(|(_, entry)| *entry == id).map(|(number, _)| *number);
        own.find(|number| !self.given.contains(number))
    }

    /// Ours for this menu entry that leads to the same partition.
    fn on_same_partition(&self, id: &str, wanted: &LoadOption) -> Option<u16> {
        let drive =
            |option: &LoadOption| option.path.hard_drive().map(|drive| (drive.number, drive.signature));
        let own = self.ours.iter().filter(|(number, entry)| *entry == id && !self.given.contains(number));
        let held = |number: &u16| self.boot.options.get(number)?.decoded.as_ref().ok();
        let mut same = own.filter(|(number, _)| held(number).and_then(drive) == drive(wanted));
        same.next().map(|(number, _)| *number)
    }

    /// Keeps what is left of ours for this menu entry: its numbers, in the boot order.
    pub(super) fn keep_those_of(&mut self, id: &str) -> Vec<u16> {
        let is_left = |number: &&u16| {
            self.ours.get(number).is_some_and(|entry| entry == id) && !self.given.contains(number)
        };
        let kept: Vec<u16> = self.boot.order.iter().filter(is_left).copied().collect();
        self.given.extend(&kept);
        kept
    }

    /// One that somebody made, first in the order, that starts the same file with the same data.
    fn equal(&self, wanted: &LoadOption) -> Option<u16> {
        let ordered = self.boot.order.iter().copied();
        let rest = self.boot.options.keys().copied();
        ordered.chain(rest).find(|number| {
            let held = self.boot.options.get(number).and_then(|option| option.decoded.as_ref().ok());
            !self.given.contains(number) && held.is_some_and(|held| starts_the_same(held, wanted))
        })
    }

    /// The lowest number that nothing names.
    fn free(&self) -> Option<u16> {
        (0..=u16::MAX).find(|number| self.boot.is_free(*number) && !self.given.contains(number))
    }

    /// Ours that the plan has no use for.
    pub(super) fn not_given(&self) -> Vec<u16> {
        self.ours.keys().copied().filter(|number| !self.given.contains(number)).collect()
    }

    /// Ours whose menu entry is gone.
    pub(super) fn leftovers(&self, document: &MenuDocument) -> Vec<u16> {
        let gone = |id: &String| document.entry(id).is_none();
        let leftovers =
            self.ours.iter().filter(|(number, entry)| gone(entry) && !self.given.contains(number));
        leftovers.map(|(number, _)| *number).collect()
    }
}

/// The load option that starts the boot program on a volume, which is a home by its place among so many, and the write that makes or changes it, if one is due.
pub(super) fn boot_program(
    look: &Look,
    contents: &Contents,
    (volume, path): (usize, &str),
    homes: (usize, usize),
    numbers: &mut Numbers<'_>,
) -> Result<(u16, Option<Write>), String> {
    let (index, count) = homes;
    let label = if index == 0 { "Signpost".to_string() } else { format!("Signpost {}", index + 1) };
    let wanted = LoadOption::new(&label, device_path(look, volume, path)?, Vec::new());
    // Beside another home, an option of ours that leads elsewhere may be that one's.
    let moved = || numbers.own(MENU_ID).filter(|_| count == 1);
    let own = numbers.on_same_partition(MENU_ID, &wanted).or_else(moved).or_else(|| numbers.equal(&wanted));
    let number = own.or_else(|| numbers.free()).ok_or("no number is free in the firmware's list")?;
    numbers.given.push(number);
    let is_same = look.boot.options.get(&number).is_some_and(|held| held.raw == wanted.encode());
    let action = if own.is_some() { "change" } else { "make" };
    let what = format!("{action} entry {}, {label}", OptionNumber(number));
    let write = Write::to(contents, boot_option(number, &wanted), what, Some(MENU_ID.into()));
    Ok((number, (!is_same).then_some(write)))
}

/// What the boot program's own option goes by in the history: an id that no entry can have.
pub(crate) const MENU_ID: &str = "menu";

/// Firmware looks at a partition's identity and number and at the file, in any case.
fn starts_the_same(held: &LoadOption, wanted: &LoadOption) -> bool {
    let key = |option: &LoadOption| {
        let drive = option.path.hard_drive()?;
        let file = option.path.file()?.trim_start_matches('\\').to_lowercase();
        Some((drive.number, drive.signature, file))
    };
    key(held).is_some() && key(held) == key(wanted) && held.optional_data == wanted.optional_data
}

/// What becomes of an entry, and what must be written for it.
pub(super) fn entry(
    look: &Look,
    contents: &Contents,
    resolved: &ResolvedEntry<'_>,
    numbers: &mut Numbers<'_>,
) -> (EntryPlan, Option<Write>) {
    let mut planned = EntryPlan {
        id: resolved.entry.id.clone(),
        title: resolved.entry.title.clone(),
        number: None,
        action: Action::LeaveOut,
        detail: String::new(),
    };
    let wanted = match &resolved.target {
        Err(why) => Err(why.to_string()),
        Ok(StartTarget::FirmwareEntry { number, .. }) => {
            numbers.given.push(*number);
            planned.number = Some(OptionNumber(*number));
            planned.action = Action::Adopt;
            planned.detail = "the firmware's own entry".into();
            let write = put_in_use(look, contents, *number);
            return (planned, write);
        }
        Ok(target) => wanted(look, resolved, target),
    };
    match wanted {
        Err(why) => {
            planned.detail = why;
            (planned, None)
        }
        Ok((wanted, detail)) => {
            planned.detail = detail;
            let write = place(look, contents, &wanted, &mut planned, numbers);
            (planned, write)
        }
    }
}

/// Finds or makes the load option for what an entry wants.
fn place(
    look: &Look,
    contents: &Contents,
    wanted: &LoadOption,
    planned: &mut EntryPlan,
    numbers: &mut Numbers<'_>,
) -> Option<Write> {
    let own = numbers.own(&planned.id);
    let (number, action) = if let Some(own) = own {
        let is_same = look.boot.options.get(&own).is_some_and(|held| held.raw == wanted.encode());
        (own, if is_same { Action::Keep } else { Action::Change })
    } else if let Some(equal) = numbers.equal(wanted) {
        (equal, Action::Adopt)
    } else if let Some(free) = numbers.free() {
        (free, Action::Make)
    } else {
        planned.detail = "no number is free in the firmware's list".into();
        return None;
    };
    numbers.given.push(number);
    planned.number = Some(OptionNumber(number));
    planned.action = action;
    match action {
        Action::Adopt => {
            let held = look.boot.options.get(&number).and_then(|option| option.decoded.as_ref().ok())?;
            let label = held.description.to_string();
            if label != planned.title {
                planned.detail = format!("starts the same; not ours, so its label stays \"{label}\"");
            }
            put_in_use(look, contents, number)
        }
        Action::Make | Action::Change => {
            let what = format!("{} entry {} \"{}\"", action.word(), OptionNumber(number), planned.title);
            Some(Write::to(contents, boot_option(number, wanted), what, Some(planned.id.to_string())))
        }
        Action::Keep | Action::LeaveOut | Action::Show => None,
    }
}

/// The write that puts an option in use, where it is not.
fn put_in_use(look: &Look, contents: &Contents, number: u16) -> Option<Write> {
    let held = look.boot.options.get(&number)?.decoded.as_ref().ok()?;
    if held.is_active() {
        return None;
    }
    let mut active = held.clone();
    active.attributes |= LoadOptionAttributes::ACTIVE;
    let what = format!("enable entry {} \"{}\"", OptionNumber(number), held.description);
    // Not named as ours: it stays somebody else's.
    Some(Write::to(contents, boot_option(number, &active), what, None))
}
