//! The acts of cures, gathered: what they do to menu, files, entries and order is written once, in an order in which every prefix
//! starts what started before or what starts then.

mod sectors;

use std::collections::BTreeMap;
use std::path::Path;

use signpost_facts::cause::Act;
use signpost_facts::change::{Change, FileWrite, SectorWrite, Write};
use signpost_facts::ours::OurVariables;
use signpost_facts::{Code, DiskNumber, Error, OptionNumber, Refusal, Result, VolumeNumber};
use signpost_firmware::boot_variables::{boot_option, boot_order};
use signpost_firmware::load_option::{LoadOption, LoadOptionAttributes};
use signpost_firmware::variable::{Contents, VariableName};
use signpost_menu::document::Host;
use signpost_place::Look;
use signpost_place::boot_program::sha256;
use signpost_place::look::MAX_PROGRAM;

use super::applies_a_menu;
use crate::check::Case;
use crate::draft::{self, draft};
use crate::edit::tune;
use crate::firmware::called;
use crate::history::Action;
use crate::hold::{Held, hold};
use crate::menu_file::MenuFile;
use crate::plan::{self, Plan, Wishes, device_path, guards, words};

/// What is gathered.
pub(super) struct Work<'a> {
    case: &'a Case<'a>,
    look: &'a Look,
    contents: &'a Contents,
    /// Acts that change the menu, each once.
    menu_acts: Vec<Act>,
    holds: bool,
    files: Vec<FileWrite>,
    /// Entries that change, by their number; `None` where they go.
    options: BTreeMap<u16, Option<LoadOption>>,
    /// Why each of them changes.
    what: BTreeMap<u16, String>,
    /// Entries that are made, and whether each comes first.
    made: Vec<(LoadOption, bool)>,
    first: Vec<u16>,
    last: Vec<u16>,
    clears_next: bool,
    cleans_order: bool,
    /// Variables of ours that go.
    forgets: Vec<&'static str>,
    sectors: Vec<SectorWrite>,
    tables: Vec<DiskNumber>,
    refusals: Vec<Refusal>,
}

/// What comes of it.
pub(super) struct Done {
    pub(super) writes: Vec<Change>,
    pub(super) refusals: Vec<Refusal>,
    pub(super) menu: Option<MenuFile>,
    pub(super) plan: Option<Plan>,
    /// Disks whose tables are corrected.
    pub(super) tables: Vec<DiskNumber>,
    /// Whether the rest can be planned once this is done.
    pub(super) goes_on: bool,
}

impl<'a> Work<'a> {
    pub(super) fn new(case: &'a Case<'a>, contents: &'a Contents) -> Self {
        Self {
            case,
            look: case.look,
            contents,
            menu_acts: Vec::new(),
            holds: false,
            files: Vec::new(),
            options: BTreeMap::new(),
            what: BTreeMap::new(),
            made: Vec::new(),
            first: Vec::new(),
            last: Vec::new(),
            clears_next: false,
            cleans_order: false,
            forgets: Vec::new(),
            sectors: Vec::new(),
            tables: Vec::new(),
            refusals: Vec::new(),
        }
    }

    /// Takes in one act.
    pub(super) fn act(&mut self, act: &Act) -> Result<()> {
        match act {
            Act::Hold => self.holds = true,
            act if applies_a_menu(act) && !self.menu_acts.contains(act) => self.menu_acts.push(act.clone()),
            Act::ClearNext => self.clears_next = true,
            Act::CleanOrder => self.cleans_order = true,
            Act::First(number) => self.first.push(number.0),
            Act::Enable(number) => {
                let mut option = self.option(*number)?;
                option.attributes.set(LoadOptionAttributes::ACTIVE, true);
                self.change(*number, option, "enable");
            }
            Act::Remove(number) => {
                self.options.insert(number.0, None);
            }
            Act::Point(number, volume, path) => {
                let mut option = self.option(*number)?;
                option.path = self.device_path(*volume, path)?;
                self.change(*number, option, "correct");
            }
            Act::Make { label, volume, path, is_first } => self.make(label, (*volume, path), *is_first)?,
            Act::Copy { from, to } => self.copy(from, to)?,
            Act::Table(disk) => self.table(*disk),
            Act::Sector(act) => self.sector(act)?,
            Act::Forget(name) => self.forgets.push(name),
            _ => {}
        }
        Ok(())
    }

    fn option(&self, number: OptionNumber) -> Result<LoadOption> {
        let held = self.look.boot.options.get(&number.0).and_then(|option| option.decoded.as_ref().ok());
        held.cloned().ok_or_else(|| Error::WrongUse(format!("there is no entry {number}")))
    }

    fn device_path(
        &self,
        volume: VolumeNumber,
        path: &str,
    ) -> Result<signpost_firmware::device_path::DevicePath> {
        let place = self.look.survey.at(volume, path);
        device_path(self.look, volume.index(), path).map_err(|why| Error::Unusable { place, why })
    }

    fn change(&mut self, number: OptionNumber, option: LoadOption, verb: &str) {
        self.what.insert(number.0, format!("{verb} entry {}", called(self.look, number.0)));
        self.options.insert(number.0, Some(option));
    }

    /// An entry for a file; its number is given once it is known which others are made.
    fn make(&mut self, label: &str, (volume, path): (VolumeNumber, &str), is_first: bool) -> Result<()> {
        let option = LoadOption::new(label, self.device_path(volume, path)?, Vec::new());
        let verdict = self.look.secure_boot_verdict(volume.index(), path).and_then(std::result::Result::ok);
        self.refusals.extend(guards::secure_boot(&self.look.survey.at(volume, path), verdict.as_ref()));
        self.made.push((option, is_first));
        Ok(())
    }

    /// Gives numbers to the entries that are made, none that is in use or that the menu's plan gives away.
    fn number_what_is_made(&mut self, base: &[Change]) -> Result<()> {
        let given: Vec<u16> = base
            .iter()
            .filter_map(|change| change.variable()?.variable_name().boot_option_number())
            .collect();
        for (option, is_first) in std::mem::take(&mut self.made) {
            let is_free = |number: &u16| {
                self.look.boot.is_free(*number)
                    && !given.contains(number)
                    && !self.options.contains_key(number)
            };
            let number = (0..=u16::MAX).find(is_free);
            let number = number.ok_or_else(|| Error::unusable("firmware entries", "no number is free"))?;
            self.what
                .insert(number, format!("make entry {} \"{}\"", OptionNumber(number), option.description));
            self.options.insert(number, Some(option));
            if is_first { &mut self.first } else { &mut self.last }.push(number);
        }
        Ok(())
    }

    /// Puts a file back. A volume whose file system is not whole is left to the guards.
    fn copy(&mut self, from: &(VolumeNumber, String), to: &(VolumeNumber, String)) -> Result<()> {
        let survey = &self.look.survey;
        let place = |(volume, path): &(VolumeNumber, String)| survey.at(*volume, path);
        let bytes = self.look.read_file(from.0.index(), &from.1, MAX_PROGRAM)?;
        let bytes = bytes.ok_or_else(|| Error::unusable(place(from), "it is not there any more"))?;
        let before = self.look.read_file(to.0.index(), &to.1, MAX_PROGRAM)?;
        let location = Look::location(self.look, to.0.index())
            .ok_or_else(|| Error::unusable(place(to), "its partition is not there"))?;
        let room = self.look.room(to.0.index()).map_err(|why| Error::Unusable { place: place(to), why })?;
        if before.is_none() && room.free < bytes.len() as u64 {
            self.refusals.push(Refusal {
                code: Code::NoRoom,
                message: format!(
                    "{} has {} bytes free, {} are needed",
                    survey.name(to.0),
                    room.free,
                    bytes.len()
                ),
                way: "make room on it".into(),
            });
        }
        self.files.push(FileWrite {
            what: format!("copy {} to {}", place(from), place(to)),
            volume: self.look.stable_name(to.0.index())?.to_string(),
            path: to.1.clone(),
            before,
            is_left_out: false,
            after_sha256: Some(sha256(&bytes)),
            after: Some(bytes),
            location: Some(location),
        });
        Ok(())
    }

    /// The menu with what the acts change in it.
    fn menu(&self) -> Result<Option<MenuFile>> {
        if self.menu_acts.is_empty() {
            return Ok(None);
        }
        let path = self.case.menu_path;
        let mut menu = self.menu_to_begin_with()?;
        for act in &self.menu_acts {
            menu = match act {
                Act::Redraft | Act::TakeSaved => Some(self.drafted(menu.as_ref(), *act == Act::TakeSaved)?),
                Act::Default(id) => tuned(path, menu, &format!("default={id}"))?,
                Act::Show => tuned(path, menu, "show=always")?,
                _ => menu,
            };
        }
        Ok(menu)
    }

    /// The menu file; where there is none, or one with errors, what was applied, or what is active.
    fn menu_to_begin_with(&self) -> Result<Option<MenuFile>> {
        let path = self.case.menu_path;
        let is_anew = self.menu_acts.contains(&Act::Reapply);
        if let Some(held) = self.case.held.filter(|_| is_anew) {
            return MenuFile::new(path, self.with_new_home(held)?).map(Some);
        }
        if let Some(Ok(menu)) = self.case.menu {
            return Ok(Some(menu.clone()));
        }
        let applied = self.case.held.map(|held| held.menu().to_string());
        let text = applied.or_else(|| signpost_place::home::newest_text(self.look));
        text.map(|text| MenuFile::new(path, text)).transpose()
    }

    /// The menu that was applied, its home called by the name that it has now: the file system is another, what is on it is the
    /// same.
    fn with_new_home(&self, held: &Held) -> Result<String> {
        let home = signpost_place::home::choose(self.look, None)?.volume;
        let name = self.look.stable_name(home)?.to_string();
        let renamed = |line: &str| match held.home() {
            Some(old) => {
                let at = line.to_lowercase().find(&old.to_lowercase());
                at.map_or_else(
                    || line.to_string(),
                    |at| format!("{}{name}{}", &line[..at], &line[at + old.len()..]),
                )
            }
            None => line.to_string(),
        };
        Ok(held.menu().split_inclusive('\n').map(renamed).collect())
    }

    fn drafted(&self, existing: Option<&MenuFile>, takes_saved: bool) -> Result<MenuFile> {
        let path = self.case.menu_path;
        let new_host = if self.case.program.is_some() { Host::Signpost } else { Host::Firmware };
        let wishes = draft::Wishes { new_host, takes_saved, hides_snapshots: false };
        let draft = draft(self.look, path, existing, wishes, self.case.base.clone())?;
        MenuFile::new(path, draft.text)
    }

    /// All of it as writes: files, then entries, then the order, then what goes.
    pub(super) fn finish(mut self) -> Result<Done> {
        let (mut menu, mut base, mut planned, mut goes_on) = (None, Vec::new(), None, false);
        match self.base() {
            Ok(of_menu) => (menu, base, planned) = of_menu,
            // What lies behind a table is planned once the table is whole.
            Err(_) if !self.tables.is_empty() => goes_on = true,
            Err(error) => return Err(error),
        }
        if planned.is_some() {
            // What the menu starts is the menu's to say.
            self.first.clear();
        }
        self.number_what_is_made(&base)?;
        let writes = self.together(base);
        Ok(Done { writes, refusals: self.refusals, plan: planned, menu, tables: self.tables, goes_on })
    }

    /// What the menu, or holding what was applied, takes: the menu, what is written for it, and its plan.
    fn base(&mut self) -> Result<(Option<MenuFile>, Vec<Change>, Option<Plan>)> {
        let refusals =
            |all: Vec<Refusal>| all.into_iter().filter(|refusal| !is_judged_as_a_whole(refusal.code));
        if let Some(menu) = self.menu()? {
            let picture = menu.document.look.picture.as_deref().and_then(self.case.picture);
            let wishes = Wishes { boot_program: self.case.program.clone(), picture, ..Wishes::default() };
            let plan = plan::plan(self.look, &menu, self.case.history, &wishes)?;
            self.refusals.extend(refusals(plan.refusals.clone()));
            return Ok((Some(menu), plan.writes.clone(), Some(plan)));
        }
        if !self.holds {
            return Ok((None, Vec::new(), None));
        }
        let plan = hold(self.look, self.case.history, self.case.held, self.case.material(), Action::Mend)?;
        self.refusals.extend(refusals(plan.refusals));
        Ok((None, plan.writes, None))
    }

    fn together(&mut self, base: Vec<Change>) -> Vec<Change> {
        let order_of_base = base.iter().filter_map(Change::variable).find(|write| write.name == "BootOrder");
        let order = order_of_base.and_then(|write| write.after.as_ref()).map(|bytes| {
            bytes.chunks_exact(2).map(|pair| u16::from_le_bytes([pair[0], pair[1]])).collect::<Vec<u16>>()
        });
        let order = self.order(order.unwrap_or_else(|| self.look.boot.order.clone()));
        let mut writes: Vec<Change> = self.sectors.drain(..).map(Change::Sectors).collect();
        writes.extend(self.files.drain(..).map(Change::File));
        let is_after_the_order = |change: &Change| match change {
            Change::Sectors(_) => false,
            Change::Variable(write) => write.after.is_none(),
            Change::File(write) => {
                write.after.is_none() || write.path.to_uppercase().starts_with("/EFI/BOOT/")
            }
        };
        let is_order = |change: &Change| change.variable().is_some_and(|write| write.name == "BootOrder");
        let base = base.into_iter().filter(|change| !is_order(change));
        let (late, early): (Vec<Change>, Vec<Change>) = base.partition(is_after_the_order);
        writes.extend(early);
        let mut gone = Vec::new();
        for (number, option) in &self.options {
            let name = VariableName::boot_option(*number);
            match option {
                Some(option) => {
                    let what = self.what.get(number).cloned().unwrap_or_default();
                    writes.push(Change::Variable(Write::to(
                        self.contents,
                        boot_option(*number, option),
                        what,
                        None,
                    )));
                }
                None => {
                    let what = format!("remove entry {}", called(self.look, *number));
                    gone.push(Change::Variable(Write::removal(self.contents, name, what)));
                }
            }
        }
        if order != self.look.boot.order {
            let what = format!("boot order {}", words(&order));
            writes.push(Change::Variable(Write::to(self.contents, boot_order(&order), what, None)));
        }
        if self.clears_next && self.look.boot.next.is_some() {
            let what = "clear the next boot".to_string();
            writes.push(Change::Variable(Write::removal(
                self.contents,
                VariableName::global("BootNext"),
                what,
            )));
        }
        for name in &self.forgets {
            let what = "forget what was decided at boot".to_string();
            writes.push(Change::Variable(Write::removal(self.contents, OurVariables::name(name), what)));
        }
        writes.extend(gone);
        writes.extend(late);
        writes.retain(|change| change.variable().is_none_or(|write| !write.is_done()));
        writes
    }

    fn order(&self, base: Vec<u16>) -> Vec<u16> {
        let is_gone = |number: &u16| self.options.get(number).is_some_and(Option::is_none);
        let mut all: Vec<u16> = [self.first.clone(), base, self.last.clone()].concat();
        if self.cleans_order {
            all.extend(self.look.boot.options.keys());
            all.retain(|number| {
                self.look.boot.options.contains_key(number) || self.options.contains_key(number)
            });
        }
        let mut order = Vec::new();
        for number in all {
            if !is_gone(&number)
                && (!order.contains(&number) || !self.cleans_order && !self.first.contains(&number))
            {
                order.push(number);
            }
        }
        order
    }
}

/// Guards that are asked of all that is mended together, and not of one cure alone.
fn is_judged_as_a_whole(code: Code) -> bool {
    matches!(
        code,
        Code::NothingStarts | Code::LastWay | Code::PartitionUnsafe | Code::Hibernated | Code::VolumeBroken
    )
}

fn tuned(path: &Path, menu: Option<MenuFile>, assignment: &str) -> Result<Option<MenuFile>> {
    let Some(menu) = menu else { return Ok(None) };
    let tuned = tune(path, &menu.text, &[assignment.to_string()], &[])?;
    MenuFile::new(path, tuned.text).map(Some)
}
