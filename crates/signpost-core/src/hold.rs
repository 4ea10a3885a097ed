//! Holding: the order, our entries, the boot program and the menu's slots stay as they were decided, whatever another
//! system's update makes of them.

mod log;
mod order;
mod picture;
mod writes;

use std::path::Path;

pub use log::{Correction, Log, MAX_SAME};
use picture::{Lost, lost_picture};
use serde::{Deserialize, Serialize};
use signpost_facts::change::{Change, FileWrite};
use signpost_facts::{Code, FirmwareKind, OptionNumber, Refusal, Result};
use signpost_firmware::bios::{SECTOR, area};
use signpost_menu::document::Host;
use signpost_menu::picture_place::{PicturePlace, is_picture_path};
use signpost_menu::place::VolumeRef;
use signpost_place::Look;
use signpost_place::boot_program::{BootProgram, sha256};

use crate::history::{Action, History, Record};
use crate::home;
use crate::menu_file::MenuFile;
use crate::plan::{self, Plan, Wishes};
use crate::rehearse::{Outcome, rehearse};
use crate::ways;

const FORMAT: u32 = 1;

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
    /// The copies of a boot program among the sectors of disks, where BIOS starts them; in the same way.
    pub copies: &'a [Vec<u8>],
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

impl HoldPlan {
    /// Nothing is written, for that reason.
    fn nothing(now: Outcome, why: String) -> Self {
        Self {
            writes: Vec::new(),
            left: vec![why],
            lacks_picture: false,
            refusals: Vec::new(),
            found: now.text.clone(),
            outcome: now,
        }
    }
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
    let held = match to_hold(look, history, held, by) {
        Ok(held) => held,
        Err(why) => return Ok(HoldPlan::nothing(now, why)),
    };
    let menu = MenuFile::new(Path::new("the held menu"), held.menu.clone())?;
    let picture = lost_picture(look, held, material);
    let (is_lost, is_gone) = (picture.is_some(), picture == Some(Lost::Gone));
    let wishes = Wishes {
        home: held.home.clone().filter(|_| held.second_home.is_none()),
        second_home: None,
        stays: true,
        boot_program: boot_program(look, history, held, material),
        picture: picture.and_then(Lost::bytes),
    };
    // Another version is not what was applied: somebody decides on that one.
    if held.boot_program.is_some() && wishes.boot_program.is_none() {
        let why = "the boot program that was applied is gone, and another version is installed: `signpost apply` makes that active";
        return Ok(HoldPlan::nothing(now, why.into()));
    }
    let plan = plan::plan(look, &menu, history, &wishes)?;
    if let Some(other) = plan.refusals.iter().find(|refusal| refusal.code == Code::OtherSystem) {
        return Ok(HoldPlan::nothing(now, format!("{}, and hold leaves that", other.message)));
    }
    let is_picture = |write: &FileWrite| is_picture_path(&write.path) && write.after.is_some();
    let lacks_picture = is_lost && !plan.writes.iter().filter_map(Change::file).any(is_picture);
    let left = left_alone(&plan, lacks_picture.then_some(is_gone));
    if look.survey.machine.firmware == FirmwareKind::Bios {
        return Ok(writes::in_sectors(look, plan, (now, left), lacks_picture));
    }
    writes::in_variables(look, (history, held), plan, (now, left), lacks_picture)
}

/// What is to be held; or why nothing is.
fn to_hold<'h>(
    look: &Look,
    history: &History,
    held: Option<&'h Held>,
    by: Action,
) -> std::result::Result<&'h Held, String> {
    let others = |record: &&Record| record.action != Action::Hold && record.action != by;
    if let Some(record) = history.unfinished().filter(others) {
        let what = match record.action {
            Action::Undo { .. } => "an undo was not finished: `signpost undo` finishes it",
            Action::Apply => {
                "an apply was not finished: `signpost apply` finishes it, `signpost undo` undoes it"
            }
            _ => "the last change was not finished: the same command finishes it, `signpost undo` undoes it",
        };
        return Err(format!("{what}; until then hold leaves all as it is"));
    }
    let held = held.ok_or_else(|| {
        // What this system applied counts no more once another one has applied its own.
        match home::other_system(look, history, look.home) {
            Some(other) => format!("{}, and hold leaves that", other.message),
            None => "no menu is active, so there is nothing to hold".into(),
        }
    })?;
    match held.out_of_reach(look) {
        None => Ok(held),
        Some(home) => Err(format!(
            "{home}, where the menu was applied, is not attached or cannot be read: hold leaves all as it is"
        )),
    }
}

/// What hold does not write, and says: a picture that stays away, gone for good or not, a default that does not start, a system
/// without a way.
fn left_alone(plan: &Plan, is_picture_gone: Option<bool>) -> Vec<String> {
    let picture = is_picture_gone.map(|is_gone| match is_gone {
        true => {
            "the picture behind the menu is gone or damaged, and the one that was applied is not to be had: `signpost apply` \
             writes the menu file's"
        }
        false => {
            "the picture behind the menu is gone or damaged, and its volume has to be mounted for it to be written again"
        }
    });
    let told = [Code::DefaultGone, Code::LastWay, Code::SecureBootRefuses, Code::NothingStarts];
    let told = plan.refusals.iter().filter(|refusal| told.contains(&refusal.code));
    let picture = picture.map(str::to_string).into_iter();
    picture.chain(plan.kept.out_of_step.clone()).chain(told.map(|refusal| refusal.message.clone())).collect()
}

/// The boot program that was applied: from where it was put, else the installed one, where it is the very same.
fn boot_program(look: &Look, history: &History, held: &Held, material: Material<'_>) -> Option<BootProgram> {
    let path = held.boot_program.as_ref()?;
    if look.survey.machine.firmware == FirmwareKind::Bios {
        let is_it = |program: &BootProgram| plan::bios_menu::name_of(program).as_ref() == Some(path);
        let there = || {
            let code = code_of_first(look, history, material)?;
            let mut programs =
                material.copies.iter().map(|copy| BootProgram::new([code.as_slice(), copy].concat()));
            programs.find(is_it)
        };
        return material.program.filter(|program| is_it(program)).cloned().or_else(there);
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
        .or_else(|| material.program.filter(|program| is_it(program)).cloned())
}

/// Whether the boot program that was applied is nowhere any more: neither where it was put nor beside this program.
pub(crate) fn has_lost_its_program(
    look: &Look,
    history: &History,
    held: &Held,
    material: Material<'_>,
) -> bool {
    held.boot_program.is_some() && boot_program(look, history, held, material).is_none()
}

/// A first sector with our code: one that stands there, else the last that was written, else the installed program's. It is the same
/// for all versions whose copies it loads.
fn code_of_first(look: &Look, history: &History, material: Material<'_>) -> Option<[u8; SECTOR]> {
    let ours = |bytes: &[u8]| bytes.first_chunk().copied().filter(area::is_first);
    let written = || {
        let changes = history.records().iter().rev().flat_map(|record| record.writes.iter().rev());
        let mut first = changes.filter_map(Change::sectors).filter(|write| write.offset == 0);
        first.find_map(|write| ours(write.after.as_ref()?))
    };
    let there = look.survey.boot_sectors.first.iter().find_map(|first| ours(&first.bytes));
    there.or_else(written).or_else(|| material.program?.bytes().first_chunk().copied())
}
