//! What a plan says, and the state that it would make.

use serde::Serialize;
use signpost_facts::change::{Change, FileWrite, Write};
use signpost_facts::ours::OurVariables;
use signpost_facts::{OptionNumber, Refusal, Result};
use signpost_firmware::boot_variables::BootVariables;
use signpost_firmware::start::{locate, volume_path};
use signpost_firmware::store::MemoryStore;
use signpost_firmware::variable::{Contents, VariableStore};
use signpost_menu::ids::EntryId;
use signpost_menu::picture_place::PicturePlace;
use signpost_place::Look;
use signpost_place::boot_program::BootProgram;
use signpost_place::hardware::SurveyedHardware;

use crate::rehearse::{Outcome, State};

/// What would make a menu active.
#[derive(Clone, Debug, Serialize)]
pub struct Plan {
    /// What becomes of each entry of the menu, in its order.
    pub entries: Vec<EntryPlan>,
    /// The boot order now.
    pub order_before: Vec<OptionNumber>,
    /// The boot order then.
    pub order_after: Vec<OptionNumber>,
    /// `Timeout` now, in seconds.
    pub timeout_before: Option<u16>,
    /// `Timeout` then; none where it stays.
    pub timeout_after: Option<u16>,
    /// What would be written, in this order: after each write the machine still starts.
    pub writes: Vec<Change>,
    /// The home volume and why it is that one, where the boot program shows the menu.
    pub home: Option<String>,
    /// The second home volume likewise, where the menu wants two and one was found.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub second_home: Option<String>,
    /// Systems of the machine that the menu does not start, each with the reason or the command that adds it.
    pub left_out: Vec<String>,
    /// What else is worth saying.
    pub notes: Vec<String>,
    /// Guards that stand against it.
    pub refusals: Vec<Refusal>,
    /// What starts then, rehearsed.
    pub outcome: Outcome,
    /// What there is to keep of it for hold.
    #[serde(skip)]
    pub kept: ToKeep,
}

/// Where boot program and menu are, once a plan is carried out.
#[derive(Clone, Debug, Default)]
pub struct ToKeep {
    /// Stable names of the home volumes.
    pub homes: Vec<String>,
    /// The load options that start the boot program, in their order.
    pub options: Vec<OptionNumber>,
    /// Where the picture behind the menu lies, where that is not on the home volumes.
    pub picture: Option<PicturePlace>,
    /// What is to be said of a home that cannot be written to.
    pub out_of_step: Vec<String>,
}

/// What becomes of an entry.
#[derive(Clone, Debug, Serialize)]
pub struct EntryPlan {
    /// Its id.
    pub id: EntryId,
    /// Its title.
    pub title: String,
    /// The load option that stands for it.
    pub number: Option<OptionNumber>,
    /// What happens to that.
    pub action: Action,
    /// Why, and what would help.
    pub detail: String,
}

/// What happens to an entry's load option.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Action {
    /// It is made.
    Make,
    /// Ours is brought up to date.
    Change,
    /// It is as it should be.
    Keep,
    /// One that somebody else made is taken as it is.
    Adopt,
    /// The firmware's list cannot hold the entry.
    LeaveOut,
    /// The boot program's menu shows it.
    Show,
}

impl Action {
    /// The action in a word.
    pub fn word(self) -> &'static str {
        match self {
            Self::Make => "make",
            Self::Change => "change",
            Self::Keep => "keep",
            Self::Adopt => "adopt",
            Self::LeaveOut => "leave out",
            Self::Show => "show",
        }
    }
}

/// What is asked for beside the menu.
#[derive(Clone, Debug, Default)]
pub struct Wishes {
    /// The boot program, where one was found.
    pub boot_program: Option<BootProgram>,
    /// The home volume, as a person names it.
    pub home: Option<String>,
    /// The second home volume likewise.
    pub second_home: Option<String>,
    /// Whether the homes are those where the menu was applied, and no other one is looked for.
    pub stays: bool,
    /// The look's picture as the boot program reads it; where it is not known, the one on the home volume stays.
    pub picture: Option<Vec<u8>>,
}

/// A file that is to hold this; nothing where it does already.
///
/// # Errors
/// Where what is there cannot be read, or nothing tells the volume from others.
pub(super) fn file_write(
    look: &Look,
    volume: usize,
    path: String,
    after: Vec<u8>,
    what: String,
) -> Result<Option<FileWrite>> {
    let before = look.read_file(volume, &path, signpost_place::home::MAX_FILE)?;
    if before.as_ref() == Some(&after) {
        return Ok(None);
    }
    Ok(Some(FileWrite {
        what,
        volume: look.stable_name(volume)?.to_string(),
        path,
        before,
        is_left_out: false,
        after_sha256: Some(signpost_place::boot_program::sha256(&after)),
        after: Some(after),
        location: look.location(volume),
    }))
}

/// These first, all others behind in their order.
pub(super) fn ours_first(look: &Look, ours: Vec<u16>, removed: &[u16]) -> Vec<u16> {
    let others = look.boot.order.iter().filter(|number| !ours.contains(number) && !removed.contains(number));
    let others: Vec<u16> = others.copied().collect();
    [ours, others].concat()
}

/// The numbers as the standard writes them, one behind the other.
pub(crate) fn words(order: &[u16]) -> String {
    order.iter().map(|number| OptionNumber(*number).to_string()).collect::<Vec<_>>().join(" ")
}

/// The variables that decide, once a plan is carried out.
pub(crate) struct After {
    /// The firmware's.
    pub(crate) boot: BootVariables,
    /// Ours.
    pub(crate) ours: OurVariables,
}

impl After {
    /// The machine with these variables and files.
    pub(crate) fn state<'a>(&'a self, planned: &'a [FileWrite]) -> State<'a> {
        State { boot: &self.boot, ours: &self.ours, planned, tables: &[], sectors: &[] }
    }

    /// Files that some load option names: volume and path.
    pub(crate) fn named_files(&self, look: &Look) -> Vec<(usize, String)> {
        let hardware = SurveyedHardware::new(look);
        let options = self.boot.options.values().filter_map(|option| option.decoded.as_ref().ok());
        let named = options.filter_map(|option| {
            let verdict = locate(option, &hardware);
            let target = verdict.target()?;
            Some((target.partition, volume_path(&target.path)))
        });
        named.collect()
    }
}

/// The variables once these writes are done.
///
/// # Errors
/// Never with a store in memory.
pub(crate) fn state_after(look: &Look, contents: &Contents, writes: &[Write]) -> Result<After> {
    let mut store = MemoryStore::new(contents.variables.clone());
    for write in writes {
        match write.variable() {
            Some(variable) => store.write(&variable)?,
            None => store.remove(&write.variable_name())?,
        }
    }
    let contents = store.read_all()?;
    let mut boot = BootVariables::read(&contents);
    boot.current = boot.current.or(look.boot.current);
    Ok(After { boot, ours: OurVariables::read(&contents) })
}
