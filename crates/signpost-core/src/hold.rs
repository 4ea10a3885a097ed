//! Holding: the order, our entries, the boot program and the menu's slots stay as they were decided, whatever another
//! system's update makes of them.

mod log;
mod picture;

use std::path::Path;

pub use log::{Correction, Log, MAX_SAME};
use picture::{Lost, lost_picture};
use serde::{Deserialize, Serialize};
use signpost_facts::change::{Change, FileWrite, SectorWrite, Write};
use signpost_facts::{Code, FirmwareKind, OptionNumber, Refusal, Result};
use signpost_firmware::bios::SECTOR;
use signpost_firmware::boot_variables::boot_order;
use signpost_menu::document::Host;
use signpost_menu::picture_place::{PicturePlace, is_picture_path};
use signpost_menu::place::VolumeRef;
use signpost_menu::slot::{SLOT_NAMES, Writer};
use signpost_place::Look;
use signpost_place::boot_program::{BootProgram, sha256};

use crate::history::{Action, History, Record};
use crate::home;
use crate::menu_file::MenuFile;
use crate::plan::{self, Plan, Wishes, guards, safe, state_after, words};
use crate::rehearse::{Outcome, rehearse, rehearse_bios, rehearse_state};
use crate::ways;

const FORMAT: u32 = 1;
/// What is left to the person whose menu it is.
const CHANGED_AT_BOOT: &str =
    "the menu was changed at boot: `signpost draft --take-saved` adds that to the menu file";

/// What was applied last, as hold needs it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Held {
    format: u32,
    /// The record of it; none where all was so already.
    record: Option<u32>,
    /// The menu file's text.
    menu: String,
    /// Our entries, in the order that was decided.
    ours: Vec<HeldEntry>,
    /// The home volume, where the boot program shows the menu.
    home: Option<String>,
    /// That of the second one, where the menu was put on two.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    second_home: Option<String>,
    /// The boot program's path on them.
    boot_program: Option<String>,
    /// SHA-256 of the picture behind the menu, as it stood on the home volume.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    picture: Option<String>,
    /// Where it lies, where sectors are home.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    picture_place: Option<PicturePlace>,
}

/// The picture of a look as the boot program reads it, by the name that a menu file has for it.
pub type Pictures<'a> = dyn Fn(&str) -> Option<Vec<u8>> + 'a;

/// What there is to write again what was applied.
#[derive(Clone, Copy)]
pub struct Material<'a> {
    /// The boot program that is found beside this one; it is used where it is the very one that was applied.
    pub program: Option<&'a BootProgram>,
    /// The picture of its look.
    pub picture: &'a Pictures<'a>,
}

/// An entry of ours.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
struct HeldEntry {
    /// The menu entry's id.
    entry: String,
    /// The firmware's number for it then.
    number: OptionNumber,
}

/// What hold would correct.
#[derive(Clone, Debug, Serialize)]
pub struct HoldPlan {
    /// What would be written, in this order.
    pub writes: Vec<Change>,
    /// What is different, and is left as it is.
    pub left: Vec<String>,
    /// Whether the picture behind the menu is among that.
    #[serde(skip)]
    pub(crate) lacks_picture: bool,
    /// What stands against it.
    pub refusals: Vec<Refusal>,
    /// What would start without it.
    pub found: String,
    /// What starts with it, rehearsed.
    pub outcome: Outcome,
}

impl Held {
    /// What a plan makes active; `record` is its number in the history.
    pub fn of(look: &Look, menu: &MenuFile, plan: &Plan, wishes: &Wishes, history: &History) -> Self {
        let record = history.last_applied().map(|record| record.serial);
        let entry = |entry: &str, number: &OptionNumber| HeldEntry { entry: entry.into(), number: *number };
        let ours: Vec<HeldEntry> = match menu.document.settings.host {
            Host::Signpost => plan.kept.options.iter().map(|number| entry(plan::MENU_ID, number)).collect(),
            Host::Firmware => {
                let of = |number: &OptionNumber| {
                    plan.entries.iter().find(|entry| entry.number.as_ref() == Some(number))
                };
                let order = plan.order_after.iter();
                order.filter_map(|number| Some(entry(&of(number)?.id, number))).collect()
            }
        };
        let is_shown_by_us = menu.document.settings.host == Host::Signpost;
        let is_bios = look.survey.machine.firmware == FirmwareKind::Bios;
        let [home, second_home] = [0, 1].map(|index| plan.kept.homes.get(index).cloned());
        let has_picture = menu.document.look.picture.is_some();
        let picture_place = plan.kept.picture.clone();
        let mut places = picture::places(&plan.kept.homes, picture_place.as_ref()).into_iter();
        let picture = places.find_map(|place| picture::at(look, &place)).filter(|_| has_picture);
        Self {
            format: FORMAT,
            record,
            menu: menu.text.clone(),
            ours,
            home,
            second_home,
            boot_program: wishes.boot_program.as_ref().filter(|_| is_shown_by_us).and_then(|program| {
                if is_bios { plan::bios_menu::name_of(program) } else { Some(program.path().into()) }
            }),
            picture: picture.as_deref().map(sha256),
            picture_place,
        }
    }

    /// The menu file's text that was applied.
    pub fn menu(&self) -> &str {
        &self.menu
    }

    /// A name of the home volume, where the boot program shows the menu.
    pub fn home(&self) -> Option<&str> {
        self.home.as_deref()
    }

    /// The home volume, where it is out of reach and so is every other one.
    pub(crate) fn out_of_reach(&self, look: &Look) -> Option<VolumeRef> {
        let all: Option<Vec<VolumeRef>> =
            self.homes().map(|home| ways::home_out_of_reach(look, Some(home))).collect();
        all?.into_iter().next()
    }

    /// Names of all home volumes.
    pub fn homes(&self) -> impl Iterator<Item = &str> {
        self.home.iter().chain(&self.second_home).map(String::as_str)
    }

    /// Where its picture lies, in words.
    pub(crate) fn picture_place(&self) -> String {
        let homes: Vec<String> = self.homes().map(str::to_string).collect();
        let first = picture::places(&homes, self.picture_place.as_ref()).into_iter().next();
        first.map(|place| format!("{}{}", place.volume, place.path)).unwrap_or_default()
    }

    /// The boot program's path on it.
    pub fn boot_program(&self) -> Option<&str> {
        self.boot_program.as_deref()
    }

    /// All that is kept then: this, beside what was applied before. Once this is undone, that counts again.
    pub fn kept_with(self, before: Option<Kept>) -> Kept {
        let mut earlier = before.map(Kept::all).unwrap_or_default();
        earlier.retain(|held| held.record != self.record && held.record < self.record);
        earlier.drain(..earlier.len().saturating_sub(MAX_EARLIER));
        Kept { newest: self, earlier }
    }
}

/// What was applied last, and what before that.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Kept {
    #[serde(flatten)]
    newest: Held,
    #[serde(default)]
    earlier: Vec<Held>,
}

/// Menus that were applied before the last one, and are kept.
const MAX_EARLIER: usize = 9;

impl Kept {
    /// What is held of the menu that is active; nothing, where none is.
    pub fn active(&self, history: &History) -> Option<&Held> {
        self.of_record(history.last_applied().map(|record| record.serial))
    }

    fn of_record(&self, record: Option<u32>) -> Option<&Held> {
        let all = self.earlier.iter().chain([&self.newest]).filter(|held| held.format == FORMAT);
        all.into_iter().rfind(|held| held.record == record)
    }

    fn all(self) -> Vec<Held> {
        self.earlier.into_iter().chain([self.newest]).collect()
    }
}

/// Plans to correct what differs from what was last applied. `by` is the step that this is for: it goes on with one of its
/// own that was not finished, and with no other.
///
/// # Errors
/// Where the variables cannot be read.
pub fn hold(
    look: &Look,
    history: &History,
    held: Option<&Held>,
    material: Material<'_>,
    by: Action,
) -> Result<HoldPlan> {
    let now = rehearse(look).outcome;
    let nothing = |why: &str| HoldPlan {
        writes: Vec::new(),
        left: vec![why.to_string()],
        lacks_picture: false,
        refusals: Vec::new(),
        found: now.text.clone(),
        outcome: now.clone(),
    };
    if let Some(record) =
        history.unfinished().filter(|record| record.action != Action::Hold && record.action != by)
    {
        let what = match record.action {
            Action::Undo { .. } => "an undo was not finished: `signpost undo` finishes it",
            Action::Apply => {
                "an apply was not finished: `signpost apply` finishes it, `signpost undo` undoes it"
            }
            _ => "the last change was not finished: the same command finishes it, `signpost undo` undoes it",
        };
        return Ok(nothing(&format!("{what}; until then hold leaves all as it is")));
    }
    let Some(held) = held else {
        // What this system applied counts no more once another one has applied its own.
        let other = home::other_system(look, history, look.home);
        return Ok(match other {
            Some(other) => nothing(&format!("{}, and hold leaves that", other.message)),
            None => nothing("no menu is active, so there is nothing to hold"),
        });
    };
    if let Some(home) = held.out_of_reach(look) {
        return Ok(nothing(&format!(
            "{home}, where the menu was applied, is not attached or cannot be read: hold leaves all as it is"
        )));
    }
    let menu = MenuFile::new(Path::new("the held menu"), held.menu.clone())?;
    let mut left = Vec::new();
    let is_bios = look.survey.machine.firmware == FirmwareKind::Bios;
    let picture = lost_picture(look, held, material);
    let lacks_picture = picture == Some(Lost::Gone);
    if lacks_picture {
        left.push(
            "the picture behind the menu is gone or damaged, and the one that was applied is not to be had: `signpost apply` \
             writes the menu file's"
                .into(),
        );
    }
    let is_lost = picture.is_some();
    let wishes = Wishes {
        home: held.home.clone().filter(|_| held.second_home.is_none()),
        second_home: None,
        stays: true,
        boot_program: boot_program(look, held, material.program),
        picture: picture.and_then(Lost::bytes),
    };
    // Another version is not what was applied: somebody decides on that one.
    if held.boot_program.is_some() && wishes.boot_program.is_none() {
        return Ok(nothing(
            "the boot program that was applied is gone, and another version is installed: `signpost apply` makes that active",
        ));
    }
    let plan = plan::plan(look, &menu, history, &wishes)?;
    let is_picture = |write: &FileWrite| is_picture_path(&write.path) && write.after.is_some();
    let is_written = plan.writes.iter().filter_map(Change::file).any(is_picture);
    if is_lost && !lacks_picture && !is_written {
        left.push(
            "the picture behind the menu is gone or damaged, and its volume has to be mounted for it to be written again"
                .into(),
        );
    }
    let lacks_picture = is_lost && !is_written;
    left.extend(plan.kept.out_of_step.clone());
    // What hold does not write, it says: a default that does not start, a system without a way.
    let told = [Code::DefaultGone, Code::LastWay, Code::SecureBootRefuses, Code::NothingStarts];
    let told = plan.refusals.iter().filter(|refusal| told.contains(&refusal.code));
    left.extend(told.map(|refusal| refusal.message.clone()));
    if let Some(other) = plan.refusals.iter().find(|refusal| refusal.code == Code::OtherSystem) {
        return Ok(nothing(&format!("{}, and hold leaves that", other.message)));
    }
    if is_bios {
        return Ok(in_sectors(look, plan, (now, left), lacks_picture));
    }
    let (mut variables, mut files) = (Vec::new(), Vec::new());
    for change in plan.writes {
        match change {
            Change::Variable(write) if is_held(&write) => variables.push(write),
            Change::Variable(_) | Change::Sectors(_) => {}
            // What is left over from before goes at an apply.
            Change::File(write) if write.after.is_none() => {}
            Change::File(write) => files.push(write),
        }
    }
    if was_changed_at_boot(look, held) {
        let is_slot = |path: &str| SLOT_NAMES.iter().any(|name| path.ends_with(name));
        files.retain(|write| !is_slot(&write.path));
        left.push(CHANGED_AT_BOOT.into());
    }
    let contents = look.contents()?;
    let order = decided_order(look, held, history, &variables);
    if order != look.boot.order {
        let what = format!("boot order {}", words(&order));
        variables.push(Write::to(contents, boot_order(&order), what, None));
    }
    let after = state_after(look, contents, &variables)?;
    let outcome = rehearse_state(look, after.state(&files), None).outcome;
    // Where nothing starts as it is, what hold corrects is not the worse for that.
    let mut refusals: Vec<Refusal> = Vec::new();
    if guards::nothing_starts(&now).is_none() {
        refusals.extend(guards::nothing_starts(&outcome));
    }
    refusals.extend(plan.refusals.into_iter().filter(|refusal| refusal.code == Code::NoRoom));
    let mut writes: Vec<Change> = files.into_iter().map(Change::File).collect();
    writes.extend(variables.into_iter().map(Change::Variable));
    refusals.extend(safe::refusals(look, &writes));
    Ok(HoldPlan { writes, left, lacks_picture, refusals, found: now.text, outcome })
}

/// What is held among the sectors of a disk: code, copies and slots, but for a menu that was changed at boot. Which partition is active
/// is everybody's to change.
fn in_sectors(
    look: &Look,
    plan: Plan,
    (now, mut left): (Outcome, Vec<String>),
    lacks_picture: bool,
) -> HoldPlan {
    let newest = signpost_place::home::newest_at_home(look);
    let is_news = newest.is_some_and(|slot| slot.writer == Writer::Boot);
    let ours = look.survey.boot_sectors.home().and_then(|first| first.ours.as_ref());
    let is_slot = |write: &SectorWrite| {
        ours.is_some_and(|ours| {
            [0, 1].into_iter().any(|index| u64::from(ours.area.slot(index)) * SECTOR as u64 == write.offset)
        })
    };
    let is_held = |write: &SectorWrite| plan.home.is_some() && !(is_news && is_slot(write));
    if is_news {
        left.push(CHANGED_AT_BOOT.into());
    }
    let writes: Vec<SectorWrite> =
        plan.writes.iter().filter_map(Change::sectors).filter(|write| is_held(write)).cloned().collect();
    let outcome = rehearse_bios(look, &writes, None).outcome;
    let mut refusals: Vec<Refusal> = Vec::new();
    if guards::no_system_starts(&now).is_none() {
        refusals.extend(guards::no_system_starts(&outcome));
    }
    refusals.extend(plan.refusals.into_iter().filter(|refusal| refusal.code == Code::GapInUse));
    let picture =
        plan.writes.into_iter().filter(|change| change.file().is_some_and(|file| file.after.is_some()));
    let writes = picture.chain(writes.into_iter().map(Change::Sectors)).collect();
    HoldPlan { writes, left, lacks_picture, refusals, found: now.text, outcome }
}

/// Entries of ours that are not there or not as they were; the order has a rule of its own, and firmware writes the
/// time-out anew at every start.
fn is_held(write: &Write) -> bool {
    write.after.is_some() && write.variable_name().boot_option_number().is_some()
}

/// The boot program that was applied: from the home volume, else the installed one, where it is the very same.
fn boot_program(look: &Look, held: &Held, packaged: Option<&BootProgram>) -> Option<BootProgram> {
    let path = held.boot_program.as_ref()?;
    if look.survey.machine.firmware == FirmwareKind::Bios {
        return packaged.filter(|program| plan::bios_menu::name_of(program).as_ref() == Some(path)).cloned();
    }
    let on_home = |home: &str| {
        let volume = look.resolve(&VolumeRef::parse(home).ok()?).ok()?;
        let bytes = look.reader(volume)?.read(path, signpost_place::home::MAX_FILE);
        bytes.ok().map(BootProgram::new)
    };
    let is_it = |program: &BootProgram| program.path() == *path;
    held.homes()
        .filter_map(on_home)
        .find(is_it)
        .or_else(|| packaged.filter(|program| is_it(program)).cloned())
}

/// Whether the boot program that was applied is nowhere any more: neither on the home volume nor beside this program.
pub(crate) fn has_lost_its_program(look: &Look, held: &Held, packaged: Option<&BootProgram>) -> bool {
    held.boot_program.is_some() && boot_program(look, held, packaged).is_none()
}

/// Whether the newest slot was written at boot.
fn was_changed_at_boot(look: &Look, held: &Held) -> bool {
    let volumes = held.homes().filter_map(|home| look.resolve(&VolumeRef::parse(home).ok()?).ok());
    let slots = volumes.filter_map(|volume| signpost_place::home::newest_slot(look, volume));
    slots.max_by_key(|(_, slot)| slot.serial).is_some_and(|(_, slot)| slot.writer == Writer::Boot)
}

/// The order with ours first, as they were decided; what somebody has put first by `firmware order` since stays there.
fn decided_order(look: &Look, held: &Held, history: &History, writes: &[Write]) -> Vec<u16> {
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
