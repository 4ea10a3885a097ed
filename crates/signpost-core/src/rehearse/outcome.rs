//! A start as it was followed, and the state of a machine in which it is.

use serde::Serialize;
use signpost_facts::change::{FileWrite, SectorWrite};
use signpost_facts::ours::OurVariables;
use signpost_facts::{DiskNumber, OptionNumber};
use signpost_firmware::boot_variables::BootVariables;
use signpost_firmware::start::Kind as VerdictKind;
use signpost_menu::ids::EntryId;
use signpost_place::Look;

/// A start, followed.
#[derive(Clone, Debug, Serialize)]
pub struct Rehearsal {
    /// Every step, in order.
    pub steps: Vec<Step>,
    /// How it ends.
    pub outcome: Outcome,
    /// Why what was to be chosen in our menu cannot be.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub choice: Option<Choice>,
}

/// Why nobody can choose an entry of our menu.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Choice {
    /// Our menu is not reached.
    NotReached,
    /// It has no such entry; those that it has.
    NoEntry(Vec<EntryId>),
}

/// One step.
#[derive(Clone, Debug, Serialize)]
pub struct Step {
    /// The load option's number.
    pub entry: Option<OptionNumber>,
    /// Its label.
    pub label: Option<String>,
    /// Why it is looked at.
    pub reason: String,
    /// What came of it, in one word.
    pub verdict: StepVerdict,
    /// What came of it.
    pub finding: String,
}

/// What came of a step, in one word.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(untagged)]
pub enum StepVerdict {
    /// Of a load option, by the firmware's rules.
    Firmware(VerdictKind),
    /// Of an entry of our menu, or of code in a sector.
    End(Kind),
    /// Of code that leads on.
    Through(Through),
}

/// What code does that starts nothing itself.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Through {
    /// It starts what comes next.
    LeadsOn,
    /// It shows our menu.
    Menu,
}

/// How a start ends.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Outcome {
    /// How.
    pub kind: Kind,
    /// The load option's number.
    pub entry: Option<OptionNumber>,
    /// The id of the system that starts.
    pub system: Option<String>,
    /// All of it in one line.
    pub text: String,
    /// What is handed over, and problems with it.
    pub notes: Vec<String>,
    /// The title in that line of what starts, which depends on what else is called so.
    #[serde(skip)]
    pub(crate) title: Option<String>,
    /// The file that starts: its volume by index, and its path.
    #[serde(skip)]
    pub(crate) file: Option<(usize, String)>,
}

/// Kinds of end.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Kind {
    /// A system or program of a disk starts.
    Starts,
    /// It may start; whether it does cannot be told.
    MayStart,
    /// Our menu waits for a key, since that is what was asked for, and what it would start can start.
    WaitsAsAsked,
    /// Our menu waits for a key, since nothing starts by itself.
    Waits,
    /// A program inside the firmware takes over.
    BuiltIn,
    /// A program is started that the machine stands still in.
    Hangs,
    /// Nothing starts.
    Nothing,
}

impl Kind {
    /// The kind in a word.
    pub fn word(self) -> &'static str {
        match self {
            Self::Starts => "starts",
            Self::MayStart => "may-start",
            Self::WaitsAsAsked => "waits-as-asked",
            Self::Waits => "waits",
            Self::BuiltIn => "built-in",
            Self::Hangs => "hangs",
            Self::Nothing => "nothing",
        }
    }
}

impl Outcome {
    pub(crate) fn new(kind: Kind, text: String) -> Self {
        Self { kind, entry: None, system: None, text, notes: Vec::new(), title: None, file: None }
    }

    /// Whether two starts end alike. Where systems are called otherwise than before, as another volume is home, it is files that
    /// are compared.
    pub fn is_like(&self, other: &Self) -> bool {
        if self.title == other.title {
            return self == other;
        }
        (self.kind, self.entry, &self.file) == (other.kind, other.entry, &other.file)
    }

    /// Whether a system or program of a disk starts by itself, for all that can be told.
    pub fn is_start(&self) -> bool {
        matches!(self.kind, Kind::Starts | Kind::MayStart)
    }

    /// Whether that, or somebody who presses a key where one is asked for, starts it.
    pub fn is_sound(&self) -> bool {
        self.is_start() || self.kind == Kind::WaitsAsAsked
    }
}

/// A machine's state: as it is, or as it would be.
#[derive(Clone, Copy)]
pub struct State<'a> {
    /// The boot variables.
    pub boot: &'a BootVariables,
    /// What boot program and desk tell each other.
    pub ours: &'a OurVariables,
    /// Files that would be written or removed.
    pub planned: &'a [FileWrite],
    /// Disks whose partition tables would be corrected.
    pub tables: &'a [DiskNumber],
    /// Sectors that would be written.
    pub sectors: &'a [SectorWrite],
}

impl<'a> State<'a> {
    /// The machine as it is.
    pub fn of(look: &'a Look) -> Self {
        Self::with_sectors(look, &[])
    }

    /// The machine as it is, but for these sectors.
    pub fn with_sectors(look: &'a Look, sectors: &'a [SectorWrite]) -> Self {
        Self { boot: &look.boot, ours: &look.ours, planned: &[], tables: &[], sectors }
    }
}
