//! Changes to the firmware's entries, planned: what would be written, what stands against it, what starts then.

use serde::Serialize;
use signpost_facts::change::{Change, Write};
use signpost_facts::{Code, Error, OptionNumber, Refusal, Result};
use signpost_firmware::boot_variables::{boot_next, boot_option, boot_order};
use signpost_firmware::image::loading;
use signpost_firmware::load_option::{LoadOption, LoadOptionAttributes};
use signpost_firmware::start::{Program, Verdict};
use signpost_firmware::variable::{Contents, VariableName};
use signpost_menu::place::Place;
use signpost_place::Look;
use signpost_place::hardware::HEAD;

use super::{called, list};
use crate::history::History;
use crate::plan::{device_path, guards, state_after, text_data, words};
use crate::rehearse::{Outcome, State, rehearse, rehearse_state};
use crate::ways;

/// What is wanted.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Wish {
    /// These first, all others behind in their order.
    Order(Vec<u16>),
    /// The next start goes there; `None` undoes that.
    Next(Option<u16>),
    /// An entry more.
    Add(NewFirmwareEntry),
    /// Another label.
    Rename(u16, String),
    /// In use, or not.
    Use(u16, bool),
    /// An entry less.
    Remove(u16),
}

/// An entry to be made.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct NewFirmwareEntry {
    /// Its label.
    pub label: String,
    /// The program that it starts.
    pub program: Place,
    /// Arguments for it, handed over as text.
    pub args: String,
    /// Whether it is in use.
    pub is_active: bool,
    /// Whether it comes first in the order; else it comes last.
    pub is_first: bool,
}

/// A change, planned.
#[derive(Clone, Debug, Serialize)]
pub struct FirmwareChange {
    /// The boot order now.
    pub order_before: Vec<OptionNumber>,
    /// The boot order then.
    pub order_after: Vec<OptionNumber>,
    /// What would be written, in this order.
    pub writes: Vec<Change>,
    /// What else is worth saying.
    pub notes: Vec<String>,
    /// What stands against it.
    pub refusals: Vec<Refusal>,
    /// What starts then, rehearsed.
    pub outcome: Outcome,
}

/// Plans a change.
///
/// # Errors
/// Where it cannot be done as it was asked for.
pub fn change(look: &Look, history: &History, wish: &Wish) -> Result<FirmwareChange> {
    let contents = look.contents()?;
    let mut work = Work { look, contents, writes: Vec::new(), notes: Vec::new(), refusals: Vec::new() };
    match wish {
        Wish::Order(first) => {
            first.first().map_or(Ok(()), |number| work.need_start(*number))?;
            work.order(first);
        }
        Wish::Next(Some(number)) => {
            work.need_start(*number)?;
            let what = format!("next boot {}", called(look, *number));
            work.writes.push(Write::to(contents, boot_next(*number), what, None));
        }
        Wish::Next(None) => {
            let what = "clear the next boot".to_string();
            work.writes.push(Write::removal(contents, VariableName::global("BootNext"), what));
        }
        Wish::Add(new) => work.add(new)?,
        Wish::Rename(number, label) => work.rename(history, *number, label)?,
        Wish::Use(number, is_active) => work.set_active(*number, *is_active)?,
        Wish::Remove(number) => work.remove(history, *number),
    }
    work.finish()
}

pub(super) struct Work<'a> {
    pub(super) look: &'a Look,
    pub(super) contents: &'a Contents,
    pub(super) writes: Vec<Write>,
    pub(super) notes: Vec<String>,
    pub(super) refusals: Vec<Refusal>,
}

impl Work<'_> {
    fn option(&self, number: u16) -> Result<&LoadOption> {
        let held = self.look.boot.options.get(&number).map(|option| &option.decoded);
        match held {
            Some(Ok(option)) => Ok(option),
            Some(Err(fault)) => {
                Err(Error::WrongUse(format!("entry {} is broken: {fault}", OptionNumber(number))))
            }
            None => Err(Error::WrongUse(format!("there is no entry {}", OptionNumber(number)))),
        }
    }

    /// Nothing is sent to, or put first, that starts nothing.
    fn need_start(&self, number: u16) -> Result<()> {
        let entry = self.look.survey.firmware.entries.iter().find(|entry| entry.number() == number);
        let Some(entry) = entry else {
            return Err(Error::WrongUse(format!("there is no entry {}", OptionNumber(number))));
        };
        let starts_nothing = entry.judged.as_ref().is_none_or(Verdict::starts_nothing);
        if starts_nothing {
            let called = called(self.look, number);
            return Err(Error::WrongUse(format!("entry {called} starts nothing: {}", entry.finding)));
        }
        Ok(())
    }

    pub(super) fn write_order(&mut self, order: &[u16]) {
        let what = format!("boot order {}", words(order));
        self.writes.push(Write::to(self.contents, boot_order(order), what, None));
    }

    fn order(&mut self, first: &[u16]) {
        let mut order = Vec::new();
        let options = self.look.boot.options.keys();
        for number in first.iter().chain(&self.look.boot.order).chain(options) {
            if !order.contains(number) {
                order.push(*number);
            }
        }
        self.write_order(&order);
    }

    fn add(&mut self, new: &NewFirmwareEntry) -> Result<()> {
        let wrong = |why: String| Error::WrongUse(why);
        let volume = self.look.resolve(&new.program.volume).map_err(|error| wrong(error.to_string()))?;
        let facts = &self.look.survey.volumes[volume];
        let at = facts.where_it_is();
        let reader = self.look.reader(volume).ok_or_else(|| wrong(format!("{at} cannot be looked into")))?;
        let head =
            reader.read_head(&new.program.path, HEAD).map_err(|error| wrong(format!("{at}: {error}")))?;
        let size = reader.metadata(&new.program.path).map_or(0, |found| found.size);
        match loading::becomes(&head, size, self.look.architecture) {
            Program::Unfit(why) | Program::Hangs(why) => {
                return Err(wrong(format!("{}: {why}", new.program)));
            }
            Program::Missing | Program::CannotTell(_) | Program::Starts => {}
        }
        let verdict =
            self.look.secure_boot_verdict(volume, &new.program.path).and_then(std::result::Result::ok);
        self.refusals.extend(guards::secure_boot(&new.program.to_string(), verdict.as_ref()));
        let target = |entry: &&signpost_facts::FirmwareEntry| {
            entry.target.as_ref().is_some_and(|target| {
                target.volume.index() == volume && target.file.eq_ignore_ascii_case(&new.program.path)
            })
        };
        let entries = &self.look.survey.firmware.entries;
        let data = text_data(&new.args);
        let hands_the_same = |entry: &&signpost_facts::FirmwareEntry| {
            let option =
                self.look.boot.options.get(&entry.number()).and_then(|option| option.decoded.as_ref().ok());
            option.is_some_and(|option| option.optional_data == data)
        };
        let by_others = entries.iter().filter(|entry| !entry.is_made_by_firmware);
        if let Some(held) = by_others.filter(hands_the_same).find(target) {
            return Err(wrong(format!(
                "entry {} \"{}\" starts this file already with these arguments; `signpost firmware order {}` puts it first",
                held.number, held.label, held.number
            )));
        }
        let path = device_path(self.look, volume, &new.program.path).map_err(wrong)?;
        let mut option = LoadOption::new(&new.label, path, text_data(&new.args));
        option.attributes.set(LoadOptionAttributes::ACTIVE, new.is_active);
        let number = (0..=u16::MAX).find(|number| self.look.boot.is_free(*number));
        let number = number.ok_or_else(|| wrong("no number is free in the firmware's list".into()))?;
        let what = format!("make entry {} \"{}\"", OptionNumber(number), new.label);
        self.writes.push(Write::to(self.contents, boot_option(number, &option), what, None));
        let order = self.look.boot.order.clone();
        let order =
            if new.is_first { [vec![number], order].concat() } else { [order, vec![number]].concat() };
        self.write_order(&order);
        Ok(())
    }

    fn rename(&mut self, history: &History, number: u16, label: &str) -> Result<()> {
        let mut option = self.option(number)?.clone();
        let is_ours = history.owned().get(&number).is_some_and(|(data, _)| *data == option.encode());
        if is_ours {
            let way = "`signpost entry rename` gives the menu's entry another title, and `signpost apply` makes it active";
            return Err(Error::WrongUse(format!("entry {} is the menu's; {way}", OptionNumber(number))));
        }
        if option.is_made_by_firmware() {
            self.notes.push(format!(
                "the firmware made entry {} by itself, and may create it again",
                OptionNumber(number)
            ));
        }
        let what = format!("call entry {} \"{label}\"", called(self.look, number));
        option.description = label.into();
        self.writes.push(Write::to(self.contents, boot_option(number, &option), what, None));
        Ok(())
    }

    fn set_active(&mut self, number: u16, is_active: bool) -> Result<()> {
        let mut option = self.option(number)?.clone();
        option.attributes.set(LoadOptionAttributes::ACTIVE, is_active);
        let what = if is_active { "enable" } else { "disable" };
        let what = format!("{what} entry {}", called(self.look, number));
        self.writes.push(Write::to(self.contents, boot_option(number, &option), what, None));
        Ok(())
    }

    fn remove(&mut self, history: &History, number: u16) {
        self.refusals.extend(started_from(self.look, number));
        let entry = self.look.survey.firmware.entries.iter().find(|entry| entry.number() == number);
        if entry.is_some_and(|entry| entry.is_made_by_firmware) {
            self.notes.push(format!(
                "the firmware made entry {} by itself, and creates it again while its device is there",
                OptionNumber(number)
            ));
        }
        let raw = self.look.boot.options.get(&number).map(|option| &option.raw);
        if history.owned().get(&number).is_some_and(|(data, _)| Some(data) == raw) {
            self.notes.push(format!(
                "entry {} is the menu's: `signpost apply` and `signpost hold` make it again; `signpost undo` undoes the menu as a whole",
                OptionNumber(number)
            ));
        }
        self.remove_all(&[number]);
    }

    /// Out of the order first: one that is in no order any more is nothing that anybody starts.
    pub(super) fn remove_all(&mut self, numbers: &[u16]) {
        let order = &self.look.boot.order;
        if order.iter().any(|number| numbers.contains(number)) {
            let left: Vec<u16> = order.iter().copied().filter(|number| !numbers.contains(number)).collect();
            self.write_order(&left);
        }
        for number in numbers {
            let what = format!("remove entry {}", called(self.look, *number));
            self.writes.push(Write::removal(self.contents, VariableName::boot_option(*number), what));
        }
        if self.look.boot.next.is_some_and(|next| numbers.contains(&next)) {
            let what = "clear the next boot, which goes to it".to_string();
            self.writes.push(Write::removal(self.contents, VariableName::global("BootNext"), what));
        }
    }

    pub(super) fn finish(mut self) -> Result<FirmwareChange> {
        self.writes.retain(|write| !write.is_done());
        let after = state_after(self.look, self.contents, &self.writes)?;
        let state = after.state(&[]);
        let outcome = rehearse_state(self.look, state, None).outcome;
        let now_starts = rehearse(self.look).outcome;
        let way = "`signpost firmware enable NUMBER` or `signpost firmware add` gives it another way first";
        self.refusals.extend(ways::last_way(self.look, State::of(self.look), state, way));
        // Where nothing starts as it is, this change need not mend it.
        if guards::nothing_starts(&now_starts).is_none() {
            self.refusals.extend(guards::nothing_starts(&outcome));
        }
        let in_words = |order: &[u16]| order.iter().map(|number| OptionNumber(*number)).collect();
        Ok(FirmwareChange {
            order_before: in_words(&self.look.boot.order),
            order_after: in_words(&after.boot.order),
            writes: self.writes.into_iter().map(Change::Variable).collect(),
            notes: self.notes,
            refusals: self.refusals,
            outcome,
        })
    }
}

/// The entry that the machine was started from: it would come back.
fn started_from(look: &Look, number: u16) -> Option<Refusal> {
    let entries = &look.survey.firmware.entries;
    let own = entries.iter().find(|entry| entry.number() == number && look.boot.current == Some(number))?;
    let keep = entries.iter().find(|other| other.number != own.number && list::is_same_target(other, own));
    let keep = keep.or_else(|| {
        entries
            .iter()
            .find(|other| other.number != own.number && own.system.is_some() && other.system == own.system)
    });
    let way = match keep {
        Some(keep) => format!(
            "start from the one to keep, then remove this one: `signpost firmware next {}`, restart, `signpost firmware remove {}`",
            keep.number, own.number
        ),
        None => "start from another entry, then remove this one".into(),
    };
    Some(Refusal {
        code: Code::StartedFrom,
        message: format!(
            "the machine was started from entry {} \"{}\": the firmware or the system would make it again",
            own.number, own.label
        ),
        way,
    })
}
