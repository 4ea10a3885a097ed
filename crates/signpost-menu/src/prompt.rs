//! The prompt: booting by hand, in one language at the desk and at boot.

mod complete;
mod compose;
mod composed;
mod find;
mod help;
mod image;
mod look;
mod place;
mod review;
mod save;
mod screen;

use alloc::string::{String, ToString};
use alloc::vec::Vec;
use alloc::{format, vec};

pub use complete::{Completions, places_from};
pub use compose::initrds_of;
pub use composed::Composed;
pub use help::{WORDS, Word};
pub use look::nearest_folder;
pub use save::saved;
pub use screen::PromptScreen;

use crate::document::Starts;
use crate::keyboard::{KEYBOARDS, Keyboard};
use crate::linux_system::{LinuxKernel, LinuxSystem};
use crate::resolve::{ResolvedEntry, StartTarget, Surroundings, Within};
use crate::{MenuDocument, text};

/// What the prompt needs of a machine beside what a menu needs.
pub trait Hands: Surroundings {
    /// What a volume is.
    fn facts(&self, volume: usize) -> VolumeFacts;

    /// What stands in a folder; `None` where there is no such folder.
    ///
    /// # Errors
    /// Why the volume cannot be read, in words.
    fn items(&self, volume: usize, folder: &str) -> Result<Option<Vec<Item>>, String>;

    /// The Linux systems of the machine; those of one volume one after the other, the one that is mounted where nobody
    /// names one first.
    fn systems(&self) -> &[LinuxSystem];

    /// Ids of systems, each with the volume that is meant by it: its root; for a program its ESP.
    fn system_ids(&self) -> Vec<(String, usize)>;

    /// The kernels on a volume, the newest first.
    fn kernels_on(&self, volume: usize) -> Vec<LinuxKernel>;

    /// The kernels in a folder, the newest first.
    fn kernels_in(&self, within: Within<'_>, folder: &str) -> Vec<LinuxKernel>;

    /// Label and UUID of the first volume inside an image file that can be looked into; `None` where it holds none.
    ///
    /// # Errors
    /// Why the file cannot be looked into, in words.
    fn inside(&self, volume: usize, image: &str) -> Result<Option<Names>, String>;

    /// A file's first bytes, at most `most`.
    ///
    /// # Errors
    /// Why it cannot be read, in words.
    fn head(&self, volume: usize, path: &str, most: usize) -> Result<Vec<u8>, String>;

    /// What a file is by its first bytes, in a few words; `None` where that says nothing.
    fn kind_of_file(&self, head: &[u8]) -> Option<String>;
}

/// What a volume goes by: its label and its UUID.
pub type Names = (Option<String>, Option<String>);

/// What a volume is.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct VolumeFacts {
    /// Kind of its file system.
    pub kind: String,
    /// Its label.
    pub label: Option<String>,
    /// Bytes.
    pub size: u64,
    /// Whether it takes a key to read.
    pub is_encrypted: bool,
    /// What is wrong with it.
    pub fault: Option<String>,
}

/// One item of a folder.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Item {
    /// Its name.
    pub name: String,
    /// Whether it is a folder.
    pub is_folder: bool,
}

/// What the carrier is to do behind the answer.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Then {
    /// Take the next line.
    Nothing,
    /// Start this.
    Start {
        /// What it is called.
        title: String,
        /// What it is.
        target: StartTarget,
    },
    /// Put an entry into the menu.
    Save {
        /// Its title.
        title: String,
        /// Whether it is to be the default.
        is_default: bool,
        /// Its keys but id and title, with values as the menu file writes them.
        body: Vec<(&'static str, String)>,
    },
    /// Send the next start to an entry, or to the menu; `None` undoes that.
    Once(Option<String>),
    /// Send the next start to an entry of the firmware's.
    NextBoot(u16),
    /// Put an entry of the firmware's first in its order, for good.
    First(u16),
    /// Open firmware setup.
    SetupScreen,
    /// Read keys as those of another keyboard.
    Keyboard(&'static Keyboard),
    /// Back to what stands behind the prompt.
    Close,
    /// Back to the menu; where there is none, on to the firmware's next entry.
    Leave,
    /// Restart.
    Restart,
    /// Power off.
    PowerOff,
}

/// An answer.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Reply {
    /// Its lines.
    pub lines: Vec<String>,
    /// What is to be done.
    pub then: Then,
    /// Whether the line was not understood, or could not be carried out.
    pub is_refusal: bool,
}

impl Reply {
    fn said(lines: Vec<String>) -> Self {
        Self { lines, then: Then::Nothing, is_refusal: false }
    }

    fn then(line: &str, then: Then) -> Self {
        Self { lines: vec![line.to_string()], then, is_refusal: false }
    }
}

/// The prompt under way.
#[derive(Clone, Debug)]
pub struct Prompt {
    document: MenuDocument,
    composed: Option<Composed>,
    /// A line that is carried out once the answer is `yes`.
    asked: Option<String>,
    keyboard: &'static Keyboard,
}

impl Prompt {
    /// A prompt beside this menu.
    pub fn new(document: MenuDocument) -> Self {
        let keyboard = document.settings.keyboard;
        Self { document, composed: None, asked: None, keyboard }
    }

    /// Says what keyboards are read as, where that is not what the menu says.
    pub fn set_keyboard(&mut self, keyboard: &'static Keyboard) {
        self.keyboard = keyboard;
    }

    /// Goes on beside a menu that has changed.
    pub fn take_menu(&mut self, document: MenuDocument) {
        self.document = document;
    }

    /// What was composed.
    pub fn composed(&self) -> Option<&Composed> {
        self.composed.as_ref()
    }

    /// Carries out a line.
    pub fn run(&mut self, line: &str, hands: &impl Hands) -> Reply {
        let reply = match self.carry_out(line.trim(), hands) {
            Ok(reply) => reply,
            Err(why) => Reply { lines: vec![why], then: Then::Nothing, is_refusal: true },
        };
        // Names and files of others stand in them.
        let lines = reply.lines.iter().map(|line| text::shown(line).into_owned()).collect();
        Reply { lines, ..reply }
    }

    fn carry_out(&mut self, line: &str, hands: &impl Hands) -> Result<Reply, String> {
        let asked = self.asked.take();
        let (word, rest) = line.split_once(char::is_whitespace).unwrap_or((line, ""));
        let rest = rest.trim();
        if word.is_empty() || word.starts_with('#') {
            self.asked = asked;
            return Ok(Reply::said(Vec::new()));
        }
        match (word, asked) {
            ("yes" | "y", Some(line)) => return self.carry_out(&line, hands),
            ("no" | "n", Some(_)) => return Ok(Reply::said(vec!["nothing was done".to_string()])),
            ("yes" | "y" | "no" | "n", None) => return Err(format!("{word} to what? No question was asked")),
            _ => {}
        }
        match help::word(word)? {
            Word::Volumes => Ok(Reply::said(look::volumes(hands))),
            Word::Who => look::who(hands, self.volume(hands, line, rest)?).map(Reply::said),
            Word::Look => look::look(hands, &self.place(hands, line, rest)?).map(Reply::said),
            Word::Show => look::show(hands, &self.place(hands, line, rest)?).map(Reply::said),
            Word::Find => find::find(hands, rest).map(Reply::said),
            Word::Compose => self.compose(hands, line, rest),
            Word::Kernel => self.set_kernel(hands, rest),
            Word::Initrd => self.set_initrd(hands, rest),
            Word::Args => self.set_args(rest),
            Word::Review => review::review(hands, self.need_composed()?).map(Reply::said),
            Word::Start => self.start(hands, rest),
            Word::Save => save::save(hands, self.need_composed()?, rest),
            Word::Entries => self.entries(hands, rest),
            Word::Once => self.once(rest),
            Word::Firmware => look::firmware(hands, rest),
            Word::Keyboard => self.keyboard(rest),
            Word::Help => help::help(hands, rest).map(Reply::said),
            Word::Leave => Ok(Reply::then("", Then::Leave)),
            Word::Restart => Ok(Reply::then("", Then::Restart)),
            Word::PowerOff => Ok(Reply::then("", Then::PowerOff)),
        }
    }

    fn need_composed(&self) -> Result<&Composed, String> {
        self.composed.as_ref().ok_or_else(|| NOTHING.to_string())
    }

    /// Starts what is composed, or an entry of the menu.
    fn start(&self, hands: &impl Hands, rest: &str) -> Result<Reply, String> {
        if let Some(which) = rest.strip_prefix("entry") {
            let resolved = crate::resolve::resolve(hands, &self.document);
            let listed = self.listed(&resolved, which.trim())?;
            let (_, entry) = listed.one()?;
            let target = entry.target.clone();
            let target = target.map_err(|why| format!("{} cannot start: {why}", entry.entry.title))?;
            let title = entry.entry.title.clone();
            return Ok(Reply::then(&crate::resolve::describe(hands, entry), Then::Start { title, target }));
        }
        if !rest.is_empty() {
            return Err(format!("start {rest}: `start` takes nothing, or an entry: `start entry 1`"));
        }
        let composed = self.need_composed()?;
        let lines = review::review(hands, composed)?;
        if let Some(fault) = review::fault(hands, composed) {
            return Err(format!("it cannot start: {fault}"));
        }
        let then = Then::Start { title: composed.title.clone(), target: composed.target.clone() };
        Ok(Reply { lines, then, is_refusal: false })
    }

    /// The menu's entries with the numbers that they have on the screen; those of a group; or one by its number.
    fn entries(&self, hands: &impl Hands, rest: &str) -> Result<Reply, String> {
        let resolved = crate::resolve::resolve(hands, &self.document);
        let listed = self.listed(&resolved, rest)?;
        if listed.wanted.is_some() {
            let (number, entry) = listed.one()?;
            let mut lines = vec![line_of(hands, *number, entry)];
            if entry.target.is_ok() && entry.entry.starts != Starts::Group {
                lines.push(format!("`start entry {}` starts it", rest.trim()));
            }
            return Ok(Reply::said(lines));
        }
        if listed.rows.is_empty() {
            return Ok(Reply::said(vec!["the menu has no entries".to_string()]));
        }
        Ok(Reply::said(listed.rows.iter().map(|(number, entry)| line_of(hands, *number, entry)).collect()))
    }

    /// The entries that `[GROUP] [NUMBER]` names.
    fn listed<'r, 'd>(
        &self,
        resolved: &'r [ResolvedEntry<'d>],
        rest: &str,
    ) -> Result<Listed<'r, 'd>, String> {
        let (first, behind) = rest.split_once(char::is_whitespace).unwrap_or((rest, ""));
        let group = self.document.entry(first).filter(|entry| entry.starts == Starts::Group);
        let (group, wanted) = group.map_or((None, rest), |group| (Some(&group.id), behind.trim()));
        let numbers = self.document.numbers();
        let rows: Vec<(usize, &ResolvedEntry<'_>)> = numbers
            .into_iter()
            .zip(resolved)
            .filter(|(_, entry)| entry.entry.group.as_ref() == group)
            .collect();
        if wanted.is_empty() {
            return Ok(Listed { rows, wanted: None });
        }
        // An entry goes by its id too.
        let by_id =
            rows.iter().find(|(_, entry)| entry.entry.id.as_str() == wanted).map(|(number, _)| *number);
        let number = by_id.or_else(|| wanted.parse().ok());
        let number = number.ok_or_else(|| {
            format!("{wanted} is neither an id nor a number of the list that `entries` shows")
        })?;
        Ok(Listed { rows, wanted: Some(number) })
    }

    /// The keyboards, or another one than the menu's, until the machine restarts.
    fn keyboard(&mut self, rest: &str) -> Result<Reply, String> {
        if rest.is_empty() {
            let row = |keyboard: &&'static Keyboard| {
                let mark = if *keyboard == self.keyboard { "keys are read as these" } else { "" };
                [keyboard.name, keyboard.country, mark].map(String::from).to_vec()
            };
            return Ok(Reply::said(columns(KEYBOARDS.iter().map(row).collect())));
        }
        let chosen = Keyboard::named(rest).ok_or_else(|| {
            let names: Vec<&str> = KEYBOARDS.iter().map(|keyboard| keyboard.name).collect();
            format!("there is no keyboard {rest}; there are {}", names.join(", "))
        })?;
        self.keyboard = chosen;
        let line = format!(
            "keys at boot are read as those of {} ({}) until a restart; keyboard = \"{}\" under [menu] keeps it",
            chosen.name, chosen.country, chosen.name
        );
        Ok(Reply::then(&line, Then::Keyboard(chosen)))
    }

    fn once(&self, rest: &str) -> Result<Reply, String> {
        if rest.is_empty() {
            return Ok(Reply::then("the next start goes where the menu says", Then::Once(None)));
        }
        if rest != "menu" && !self.document.entry(rest).is_some_and(|entry| entry.starts.is_system()) {
            let ids: Vec<&str> = self
                .document
                .entries
                .iter()
                .filter(|entry| entry.starts.is_system())
                .map(|entry| entry.id.as_str())
                .collect();
            return Err(format!("once takes menu, or one of {}; `once` alone undoes it", ids.join(", ")));
        }
        Ok(Reply::then(&format!("the next start goes to {rest}"), Then::Once(Some(rest.to_string()))))
    }
}

/// Said where a word needs something composed.
const NOTHING: &str = "nothing is composed yet: `compose linux on VOLUME` does it";

/// Entries with their numbers, and the one that is wanted.
struct Listed<'r, 'd> {
    rows: Vec<(usize, &'r ResolvedEntry<'d>)>,
    wanted: Option<usize>,
}

impl<'r, 'd> Listed<'r, 'd> {
    fn one(&self) -> Result<&(usize, &'r ResolvedEntry<'d>), String> {
        let number = self.wanted.ok_or("which entry? `entries` shows their numbers")?;
        let entry = self.rows.iter().find(|(own, _)| *own == number);
        entry.ok_or_else(|| match self.rows.len() {
            0 => "the menu has no entries".to_string(),
            count => format!("there is no entry {number}; there are 1 to {count}"),
        })
    }
}

fn line_of(hands: &impl Hands, number: usize, entry: &ResolvedEntry<'_>) -> String {
    let cannot = if entry.target.is_ok() { "" } else { "cannot start: " };
    let what = match entry.entry.starts {
        Starts::Group => format!("a group: `entries {}` shows what is in it", entry.entry.id),
        _ => crate::resolve::describe(hands, entry),
    };
    format!("{number:>3}  {}  {cannot}{what}", entry.entry.title)
}

/// Bytes in the unit that reads best.
fn size(bytes: u64) -> String {
    const UNITS: [(&str, u32); 3] = [("GiB", 30), ("MiB", 20), ("KiB", 10)];
    let fits = |(_, shift): &&(&str, u32)| bytes >> shift >= 1;
    match UNITS.iter().find(fits) {
        Some((unit, shift)) => format!("{} {unit}", bytes >> shift),
        None => format!("{bytes} bytes"),
    }
}

/// Lines of columns, each as wide as its widest cell.
fn columns(rows: Vec<Vec<String>>) -> Vec<String> {
    let count = rows.iter().map(Vec::len).max().unwrap_or_default();
    let width =
        |column: usize| rows.iter().filter_map(|row| row.get(column)).map(|cell| cell.chars().count()).max();
    let widths: Vec<usize> = (0..count).map(|column| width(column).unwrap_or_default()).collect();
    let line = |row: &Vec<String>| {
        let cells = row.iter().zip(&widths).map(|(cell, width)| format!("{cell:width$}"));
        cells.collect::<Vec<_>>().join("  ").trim_end().to_string()
    };
    rows.iter().map(line).collect()
}

#[cfg(test)]
mod tests;
