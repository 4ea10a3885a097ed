//! The note beside a saved sector: what it is, whose, and what it was when it was saved. The sector's own file is the bare bytes,
//! which any tool takes.

use serde::{Deserialize, Serialize};
use signpost_facts::{Code, Refusal};
use signpost_firmware::bios::SECTOR;
use signpost_place::Look;
use signpost_place::boot_program::sha256;

use super::sector::Which;

/// What a note says.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub struct Note {
    /// The sector's name, as people type it.
    what: String,
    /// The machine's name.
    machine: String,
    /// The disk's serial, or what else tells it from others.
    disk: String,
    /// Sectors of 512 bytes from the disk's start.
    first_sector: u64,
    /// How many of them.
    sectors: u64,
    /// Of the saved bytes.
    sha256: String,
    /// When they were saved.
    saved: String,
}

impl Note {
    /// The note on bytes that are saved now.
    pub fn of(look: &Look, which: &Which, bytes: &[u8], time: String) -> Option<Self> {
        let (disk, offset) = which.place(look)?;
        Some(Self {
            what: which.name(look),
            machine: look.survey.machine.name.clone(),
            disk: look.survey.disk(disk)?.identity().cloned().unwrap_or_default(),
            first_sector: offset / SECTOR as u64,
            sectors: (bytes.len() / SECTOR) as u64,
            sha256: sha256(bytes),
            saved: time,
        })
    }

    /// The note as a file.
    pub fn text(&self) -> String {
        let head = format!(
            "# Saved by signpost. `signpost sector restore FILE {}` puts the sectors back; the file beside this one holds them as \
             they were, for any tool.\n",
            self.what
        );
        head + &toml::to_string(self).unwrap_or_default()
    }

    /// What a file says, if it is a note.
    pub fn parse(text: &str) -> Option<Self> {
        toml::from_str(text).ok()
    }

    /// Why bytes with this note do not belong there: they were saved from another disk, or are not what was saved.
    pub fn refusal(&self, look: &Look, which: &Which, bytes: &[u8]) -> Option<Refusal> {
        let (disk, _) = which.place(look)?;
        let own = look.survey.disk(disk)?.identity().cloned().unwrap_or_default();
        let message = match () {
            () if self.sha256 != sha256(bytes) => {
                format!("the file is not what was saved on {}: its note has another SHA-256", self.saved)
            }
            () if self.disk != own => format!(
                "the file was saved from disk {} of {}, and d{disk} is {own}: its note says so",
                self.disk, self.machine
            ),
            () => return None,
        };
        let way = "name the file that was saved from this disk, with its note beside it".into();
        Some(Refusal { code: Code::SectorForeign, message, way })
    }
}
