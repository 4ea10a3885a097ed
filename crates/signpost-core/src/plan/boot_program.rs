//! Host "signpost": boot program and menu on the home volume, one load option that starts it.
//!
//! The order of the writes: boot program, then slot, then load option, then the boot order. Until the order
//! names the new option, nothing of it counts.

use std::collections::BTreeSet;

use signpost_facts::change::{Change, FileWrite, Write};
use signpost_facts::ours::OurVariables;
use signpost_facts::{Code, Error, OptionNumber, Refusal, Result};
use signpost_firmware::boot_variables;
use signpost_firmware::image::pe::Pe;
use signpost_firmware::variable::{Contents, VariableName};
use signpost_menu::ours;
use signpost_menu::picture_place::PICTURE_PATH;
use signpost_menu::resolve::Surroundings;
use signpost_menu::slot::{HOME_FOLDER, SLOT_NAMES, Slots, newest};
use signpost_place::Look;
use signpost_place::boot_program::{self, BootProgram};
use signpost_place::hardware::SurveyedHardware;
use signpost_place::home::Home;
use signpost_place::look::Room;
use signpost_place::started_from::StartedFrom;

use super::homes::{self, Homes, Place};
use super::options::{self, MENU_ID, Numbers};
use super::planned::{Action, EntryPlan, Plan, ToKeep, Wishes, file_write, ours_first, state_after, words};
use super::{guards, leftovers, safe, slots, tries};
use crate::draft;
use crate::history::History;
use crate::home;
use crate::menu_file::MenuFile;
use crate::news::News;
use crate::rehearse::rehearse_state;
use crate::resolve::{ResolvedEntry, describe, resolve};

pub(super) fn plan(
    look: &Look,
    menu: &MenuFile,
    history: &History,
    wishes: &Wishes,
    contents: &Contents,
) -> Result<Plan> {
    let program = wishes.boot_program.as_ref().ok_or_else(no_boot_program)?;
    fits(look, program)?;
    let homes = homes::of(look, &menu.document, wishes)?;
    // The firmware does not see such a partition, so nothing more can be planned on it.
    if let Some(refusal) = homes.here().find_map(|home| safe::misplaced(look, home.volume)) {
        return Err(Error::Refused(vec![refusal]));
    }
    let volumes: Vec<usize> = homes.here().map(|home| home.volume).collect();
    let is_alone = homes.places.len() == 1;
    let files =
        homes.here().map(|home| Files::new(look, home, is_alone)).collect::<Result<Vec<Files<'_>>>>()?;
    let machine_id = signpost_place::home::machine_id(look);
    let file_writes = first_files(look, (&files, &homes), (menu, &machine_id), (program, wishes))?;
    let news = News::of(look, &menu.document);
    let mut numbers = Numbers::new(&look.boot, history.owned());
    let (ours, options) = load_options(look, contents, (&homes, program.path()), &mut numbers)?;
    let removed = numbers.not_given();
    let order = ours_first(look, ours.clone(), &removed);
    let mut variables = variables(contents, options, &order, &removed);
    if look.ours.kept.is_some() && news.default.is_none() {
        let what = "forget what was kept as the default at boot: the menu says it now".to_string();
        variables.push(Write::removal(contents, OurVariables::name(ours::KEPT), what));
    }
    let after = state_after(look, contents, &variables)?;
    let mut tidied = leftovers::of(look, (&volumes, program), &after, &machine_id)?;
    if menu.document.look.picture.is_none() {
        for volume in &volumes {
            tidied.extend(leftovers::removal(look, *volume, PICTURE_PATH, "the picture")?);
        }
    }
    let (last, no_fallback) = last_files(&files, menu, program)?;
    let mut notes = notes(look, menu, &homes);
    notes.extend(no_fallback);
    let all_files: Vec<FileWrite> = file_writes.iter().chain(&last).chain(&tidied).cloned().collect();
    let state = after.state(&all_files);
    let outcome = rehearse_state(look, state, None).outcome;
    let hardware = SurveyedHardware::new(look).with_planned(state.planned);
    let around = |home: &usize| StartedFrom::volume(look, *home).in_forecast(state.boot, &hardware);
    let around = volumes.first().map(around);
    let resolved = around.map_or_else(Vec::new, |around| resolve(&around, &menu.document));
    let opening = super::opening_after(&menu.document, &resolved, &after);
    notes.extend(tries::instead(&opening, &menu.document));
    let nothing = guards::nothing_starts(&outcome);
    let mut refusals: Vec<Refusal> = guards::by_itself(nothing, &opening, &resolved).collect();
    refusals.extend(guards::started_from(look, &removed));
    refusals.extend(home::other_system(look, history, volumes.iter().copied().chain(look.home)));
    refusals.extend(news.refusal());
    refusals.extend(super::last_way(look, &menu.document, state));
    let verdict = look.secure_boot_verdict_of(program.bytes());
    refusals.extend(guards::secure_boot("the boot program", verdict.as_ref()));
    refusals.extend(super::default_refused(look, &resolved, &opening));
    for files in &files {
        refusals.extend(no_room(look, files, room(look, files.volume)?, &file_writes));
    }
    let mut writes: Vec<Change> = file_writes.into_iter().map(Change::File).collect();
    writes.extend(variables.into_iter().map(Change::Variable));
    writes.extend(last.into_iter().chain(tidied).map(Change::File));
    refusals.extend(safe::refusals(look, &writes));
    let names = homes.places.iter().map(|place| place.name(look)).collect::<Result<Vec<String>>>()?;
    Ok(Plan {
        entries: entries(look, &resolved),
        order_before: look.boot.order.iter().map(|number| OptionNumber(*number)).collect(),
        order_after: order.iter().map(|number| OptionNumber(*number)).collect(),
        timeout_before: look.boot.timeout,
        timeout_after: None,
        writes,
        home: homes.words(look, 0),
        second_home: homes.words(look, 1),
        left_out: draft::left_out(look, &menu.document, &resolved),
        notes,
        refusals,
        outcome,
        kept: ToKeep {
            homes: names,
            options: ours.into_iter().map(OptionNumber).collect(),
            picture: None,
            out_of_step: homes.notes,
        },
    })
}

/// What is written to files before anything leads there: boot programs, pictures, then the menus that show them.
fn first_files(
    look: &Look,
    (files, homes): (&[Files<'_>], &Homes),
    (menu, machine_id): (&MenuFile, &str),
    (program, wishes): (&BootProgram, &Wishes),
) -> Result<Vec<FileWrite>> {
    let mut writes: Vec<FileWrite> = Vec::new();
    for files in files {
        writes.extend(files.boot_program(program)?);
    }
    for files in files {
        writes.extend(files.picture(wishes)?);
    }
    writes.extend(slot_writes(look, files, (menu, machine_id), homes)?);
    Ok(writes)
}

/// What is written behind all else: the fallback paths, where the menu says so; and why not, where they stay as they are.
fn last_files(
    files: &[Files<'_>],
    menu: &MenuFile,
    program: &BootProgram,
) -> Result<(Vec<FileWrite>, Vec<String>)> {
    let (mut writes, mut notes) = (Vec::new(), Vec::new());
    for files in files.iter().filter(|_| menu.document.settings.fallback_path) {
        match files.fallback_path(program)? {
            Ok(write) => writes.extend(write),
            Err(note) => notes.push(note),
        }
    }
    Ok((writes, notes))
}

fn notes(look: &Look, menu: &MenuFile, homes: &Homes) -> Vec<String> {
    let mut notes = next_boot_note(look.boot.next);
    notes.extend(homes.notes.clone());
    if menu.document.settings.serial_port.is_some() {
        let note = "serial-port: UEFI firmware shows the menu on its own consoles, serial lines among them; its setup turns these on";
        notes.push(note.into());
    }
    notes
}

/// Firmware runs programs of its own kind alone, whatever the processor could.
fn fits(look: &Look, program: &BootProgram) -> Result<()> {
    let firmware = look.architecture;
    let unfit = |why: String| Error::Unusable { place: "the boot program".into(), why };
    let pe = Pe::decode(program.bytes()).map_err(|fault| unfit(fault.to_string()))?;
    if !boot_program::has_mark(&pe) {
        return Err(unfit(
            "it is a program, and not this one's boot program; `cargo xtask boot` builds that".into(),
        ));
    }
    if pe.machine == firmware {
        return pe.refusal(program.bytes().len() as u64).map_or(Ok(()), |why| Err(unfit(why)));
    }
    let own = pe.machine;
    Err(unfit(format!(
        "it is built for {own}, and this machine's firmware is {firmware}; host = \"firmware\" works without it"
    )))
}

pub(super) fn no_boot_program() -> Error {
    Error::Unusable {
        place: "[menu] host".into(),
        why: "\"signpost\" needs the boot program, and none was found; `cargo xtask boot` builds it, \
              --boot-program FILE names it; host = \"firmware\" works without"
            .into(),
    }
}

fn variables(contents: &Contents, options: Vec<Write>, order: &[u16], removed: &[u16]) -> Vec<Write> {
    let mut writes = options;
    let what = format!("boot order {}", words(order));
    writes.push(Write::to(contents, boot_variables::boot_order(order), what, None));
    for number in removed {
        let what = format!("remove entry {}, which the menu shows now", OptionNumber(*number));
        writes.push(Write::removal(contents, VariableName::boot_option(*number), what));
    }
    writes.retain(|write| !write.is_done());
    writes
}

pub(super) fn entries(look: &Look, resolved: &[ResolvedEntry<'_>]) -> Vec<EntryPlan> {
    let planned = resolved.iter().map(|entry| EntryPlan {
        id: entry.entry.id.clone(),
        title: entry.entry.title.clone(),
        number: None,
        action: Action::Show,
        detail: std::iter::once(describe(look, entry))
            .chain(entry.notes.clone())
            .collect::<Vec<_>>()
            .join("; "),
    });
    planned.collect()
}

fn next_boot_note(next: Option<u16>) -> Vec<String> {
    next.map(|next| format!("the next start goes to {} once, before the menu", OptionNumber(next)))
        .into_iter()
        .collect()
}

/// Every new file takes whole clusters, and so does each folder that is made for it or has to grow.
fn no_room(look: &Look, files: &Files<'_>, room: Room, writes: &[FileWrite]) -> Option<Refusal> {
    /// Entries that a new folder takes in the root folder, with a long name.
    const FOLDER_ENTRIES: u64 = 3;
    let new: Vec<&FileWrite> = writes
        .iter()
        .filter(|write| write.volume == files.name && write.before.is_none() && write.after.is_some())
        .collect();
    let folders: BTreeSet<&str> =
        new.iter().filter_map(|write| Some(write.path.rsplit_once('/')?.0)).collect();
    let sizes = new.iter().filter_map(|write| write.after.as_ref()).map(|bytes| bytes.len() as u64);
    // A folder on the way to each, and room for the folder itself to grow.
    let folders_size = (folders.len() as u64).saturating_mul(2).saturating_mul(room.cluster);
    let needed = sizes
        .map(|size| size.next_multiple_of(room.cluster.max(1)))
        .sum::<u64>()
        .saturating_add(folders_size);
    let refusal = |message: String| {
        let way = "make room on it, or name another FAT volume with --home".into();
        Some(Refusal { code: Code::NoRoom, message, way })
    };
    let is_new = look.reader(files.volume).is_some_and(|reader| reader.list("/EFI").is_err());
    match room.root_entries {
        _ if new.is_empty() => None,
        Some(entries) if is_new && entries < FOLDER_ENTRIES => {
            refusal("the root folder of the home volume is full, and a folder has to be made in it".into())
        }
        _ if needed > room.free => {
            refusal(format!("the home volume has {} bytes free, {needed} are needed", room.free))
        }
        _ => None,
    }
}

fn room(look: &Look, volume: usize) -> Result<Room> {
    look.room(volume).map_err(|why| Error::Unusable { place: look.survey.volumes[volume].name.clone(), why })
}

/// Files on the home volume.
struct Files<'a> {
    look: &'a Look,
    volume: usize,
    name: String,
    /// What is said of it behind what stands on every home; nothing where it is the only one.
    on: String,
}

impl<'a> Files<'a> {
    fn new(look: &'a Look, home: &Home, is_alone: bool) -> Result<Self> {
        let gone = || Error::Unusable { place: "home".into(), why: "its partition is not there".into() };
        look.location(home.volume).ok_or_else(gone)?;
        let on =
            if is_alone { String::new() } else { format!(" of {}", look.survey.volumes[home.volume].name) };
        Ok(Self { look, volume: home.volume, name: look.stable_name(home.volume)?.to_string(), on })
    }

    fn write(&self, path: String, after: Vec<u8>, what: String) -> Result<Option<FileWrite>> {
        file_write(self.look, self.volume, path, after, what)
    }

    fn boot_program(&self, program: &BootProgram) -> Result<Option<FileWrite>> {
        let what = format!("write the boot program, {}", self.look.at(self.volume, program.path()));
        self.write(program.path().into(), program.bytes().to_vec(), what)
    }

    fn picture(&self, wishes: &Wishes) -> Result<Option<FileWrite>> {
        let Some(picture) = &wishes.picture else { return Ok(None) };
        let what = format!("write the picture, {}", self.look.at(self.volume, PICTURE_PATH));
        self.write(PICTURE_PATH.into(), picture.clone(), what)
    }

    /// The fallback path too, last of all: only where it is free, or ours already. The inner error says why not.
    fn fallback_path(&self, program: &BootProgram) -> Result<std::result::Result<Option<FileWrite>, String>> {
        let name = self.look.architecture.fallback_file_name().unwrap_or_default();
        let path = format!("/EFI/BOOT/{name}");
        let held = self.look.read_file(self.volume, &path, signpost_place::home::MAX_FILE)?;
        let is_ours = held.as_ref().is_none_or(|bytes| boot_program::says_so(bytes));
        if !is_ours {
            return Ok(Err(format!("fallback-path: {path} is another program's, and stays")));
        }
        let what =
            format!("copy the boot program to the fallback path, {}", self.look.at(self.volume, &path));
        self.write(path, program.bytes().to_vec(), what).map(Ok)
    }

    /// The slots that have to change. The spare one is made too, so that later writes only overwrite.
    fn slots(&self, home: usize, held: &Slots, wanted: &slots::Wanted) -> Result<Vec<FileWrite>> {
        let path = |index: usize| format!("{HOME_FOLDER}/{}", SLOT_NAMES[index]);
        let wanted = wanted.writes(home, held, SLOT_NAMES)?;
        let mut writes = Vec::new();
        for (index, name) in SLOT_NAMES.into_iter().enumerate() {
            let is_there = || {
                let held = self.look.read_file(self.volume, &path(index), signpost_place::home::MAX_FILE);
                held.map(|held| held.is_some())
            };
            if newest(held).is_none() && wanted.iter().all(|write| write.index != index) && !is_there()? {
                let what = format!("make the spare slot, {name}{}", self.on);
                writes.extend(self.write(path(index), slots::empty(), what)?);
            }
        }
        for write in wanted {
            writes.extend(self.write(
                path(write.index),
                write.bytes,
                format!("{}{}", write.what, self.on),
            )?);
        }
        Ok(writes)
    }
}

/// The slots of all homes.
fn slot_writes(
    look: &Look,
    files: &[Files<'_>],
    (menu, machine): (&MenuFile, &str),
    homes: &Homes,
) -> Result<Vec<FileWrite>> {
    let held: Vec<Slots> =
        files.iter().map(|files| signpost_place::home::slots(look, files.volume)).collect();
    let wanted = slots::wanted(look, &held, (menu, machine.to_string()), (homes.identities(look), None));
    let mut writes = Vec::new();
    for (index, (files, held)) in files.iter().zip(&held).enumerate() {
        writes.extend(files.slots(index, held, &wanted)?);
    }
    Ok(writes)
}

/// The load options that start the boot program, one a home, and the writes for them.
fn load_options(
    look: &Look,
    contents: &Contents,
    (homes, path): (&Homes, &str),
    numbers: &mut Numbers<'_>,
) -> Result<(Vec<u16>, Vec<Write>)> {
    let (mut order, mut writes) = (Vec::new(), Vec::new());
    let count = homes.places.len();
    for (index, place) in homes.places.iter().enumerate() {
        if let Place::Here(home) = place {
            let option = options::boot_program(look, contents, (home.volume, path), (index, count), numbers);
            let (number, write) = option.map_err(|why| Error::Unusable { place: "home".into(), why })?;
            order.push(number);
            writes.extend(write);
        }
    }
    // What leads to a home that is out of reach stays where it is.
    if homes.has_left() {
        let left = numbers.keep_those_of(MENU_ID);
        let at = if matches!(homes.places.first(), Some(Place::Left(..))) { 0 } else { order.len() };
        order.splice(at..at, left);
    }
    Ok((order, writes))
}
