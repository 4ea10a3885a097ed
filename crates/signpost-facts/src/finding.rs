//! The problems that a survey finds, and what each is about.

use alloc::string::String;

use serde::{Deserialize, Serialize};
use signpost_menu::ids::EntryId;

use crate::code::Code;
use crate::number::{DiskNumber, OptionNumber, VolumeNumber};

/// A problem.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Finding {
    /// Its code.
    pub code: Code,
    /// What it is about; nothing where that is several things, or none that has a name.
    #[serde(default)]
    pub subject: Option<Subject>,
    /// What was found, with its place.
    pub message: String,
    /// What helps.
    pub help: String,
}

impl Finding {
    /// A finding about nothing in particular.
    pub fn new(code: Code, message: String, help: &str) -> Self {
        Self { code, subject: None, message, help: help.into() }
    }

    /// The same about this.
    pub fn about(self, subject: Subject) -> Self {
        Self { subject: Some(subject), ..self }
    }
}

/// What a finding or a cause is about.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Subject {
    /// A disk.
    Disk(DiskNumber),
    /// A volume.
    Volume(VolumeNumber),
    /// A load option of the firmware's.
    Entry(OptionNumber),
    /// A system, by its id.
    System(String),
    /// An entry of the active menu, by its id.
    InMenu(EntryId),
}
