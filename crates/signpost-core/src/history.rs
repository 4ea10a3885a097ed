//! The history of a machine: what was done, with the state before it, so that it can be undone.

mod copies;

use std::collections::BTreeMap;

pub use copies::{MAX_LENGTH, decode, encode, path};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use signpost_facts::change::{Change, StoredVariable};
use signpost_facts::{Error, Result, SCHEMA};
use signpost_firmware::variable::Contents;
use signpost_place::boot_program::sha256;

/// Records that are kept at most, but for those that are needed to undo what is active.
const MAX_RECORDS: usize = 50;
/// Bytes of records that are kept at most, with the same exception.
const MAX_BYTES: u64 = 8 << 20;

/// One step: what was written, and everything as it was before.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Record {
    /// Version of this document.
    pub schema: u32,
    /// Its number, from 1.
    pub serial: u32,
    /// When, in UTC.
    pub time: String,
    /// What was done.
    pub action: Action,
    /// How far it came.
    #[serde(default)]
    pub progress: Progress,
    /// The number of the unfinished step that this one goes on with.
    #[serde(default)]
    pub continues: Option<u32>,
    /// What was written, in order.
    pub writes: Vec<Change>,
    /// All variables as they were before.
    pub snapshot: Vec<StoredVariable>,
    /// Load options that were ours before it: by their number, what we wrote and for which menu entry.
    #[serde(default)]
    pub owned: Vec<OwnedOption>,
    /// SHA-256 over all of it but this, in hexadecimal: a record that was altered is none.
    #[serde(default)]
    seal: String,
    /// Whether it was read from the home volume, where other systems and anybody with that disk may write.
    #[serde(skip)]
    pub is_copy: bool,
}

impl Record {
    /// The record that a document holds, as it was written.
    ///
    /// # Errors
    /// Where it holds none, or one that was altered.
    pub fn read(mut document: Value) -> core::result::Result<Self, Unreadable> {
        // What the document says is sealed, not what is made of it: another version may say the same in other words.
        let seal = document.get_mut(SEAL).map(|seal| core::mem::replace(seal, Value::String(String::new())));
        let seal = seal.as_ref().and_then(Value::as_str).unwrap_or_default();
        if digest(&document) != seal {
            return Err(Unreadable::Altered);
        }
        Ok(Self { seal: seal.to_string(), ..serde_json::from_value(document)? })
    }

    /// Notes its checksum, once all else is as it is to be.
    fn close(&mut self) {
        self.seal.clear();
        self.seal = digest(&serde_json::to_value(&*self).unwrap_or_default());
    }

    /// What it says was written, and no step of ours writes: a record that somebody made.
    pub(crate) fn foreign(&self) -> Option<&Change> {
        // A copy may be anybody's who can write to the home volume.
        let may_mend = self.action == Action::Mend && !self.is_copy;
        self.writes.iter().find(|change| !(change.is_of_ours() || may_mend && change.is_boot_file()))
    }
}

/// Where a record says its checksum.
const SEAL: &str = "seal";

/// What seals a document: its fields have one order here, whatever order a file has them in.
fn digest(document: &Value) -> String {
    sha256(document.to_string().as_bytes())
}

/// Why a document is no record.
#[derive(Debug, thiserror::Error)]
pub enum Unreadable {
    /// Its checksum is not that of what it says.
    #[error("its checksum is not that of what it says: it was altered, or is broken")]
    Altered,
    /// It says something else.
    #[error(transparent)]
    Other(#[from] serde_json::Error),
}

/// A load option of ours.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct OwnedOption {
    number: u16,
    data: Vec<u8>,
    entry: String,
}

/// How far a step came.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Progress {
    /// Its record stands; of what it writes some may be written.
    Begun,
    /// All of it is written and read back. Records from before there was such a note are taken for that.
    #[default]
    Done,
    /// It ended after so many writes.
    Failed {
        /// Writes that were done.
        after: usize,
    },
}

/// What a step did.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Action {
    /// A menu was made active.
    Apply,
    /// What is ours was taken off the machine.
    Remove,
    /// The firmware's own entries were changed.
    Firmware,
    /// The next start was sent somewhere.
    Once,
    /// What was applied was corrected.
    Hold,
    /// What a check found was mended.
    Mend,
    /// Boot sectors were changed, or which partition is active.
    Sector,
    /// Steps were undone: this one, and all that came after it.
    Undo {
        /// Its number.
        of: u32,
    },
}

impl Action {
    /// Whether somebody asked for it, so that it can be undone by itself.
    pub fn is_asked(self) -> bool {
        matches!(self, Self::Apply | Self::Remove | Self::Firmware | Self::Mend | Self::Sector)
    }
}

/// The records of a machine.
pub struct History {
    records: Vec<Record>,
    faults: Vec<(Option<u32>, String)>,
}

impl History {
    /// The history of these records, and of what could not be read: its number, where that is known, and why.
    pub fn new(mut records: Vec<Record>, faults: Vec<(Option<u32>, String)>) -> Self {
        records.sort_by_key(|record: &Record| record.serial);
        Self { records, faults }
    }

    /// All records, the oldest first.
    pub fn records(&self) -> &[Record] {
        &self.records
    }

    /// What could not be read, a line each.
    pub fn faults(&self) -> impl Iterator<Item = &str> {
        self.faults.iter().map(|(_, fault)| fault.as_str())
    }

    /// Why what was done since a step cannot be told in full, where a record since then cannot be read.
    pub fn gap_since(&self, serial: u32) -> Option<&str> {
        let since = |of: &Option<u32>| of.is_none_or(|of| of >= serial);
        self.faults.iter().find(|(of, _)| since(of)).map(|(_, fault)| fault.as_str())
    }

    /// The record of this number.
    pub fn record(&self, serial: u32) -> Option<&Record> {
        self.records.iter().find(|record| record.serial == serial)
    }

    /// Whether a step was undone, by itself or with one before it.
    pub fn is_undone(&self, serial: u32) -> bool {
        self.records.iter().any(|record| {
            let is_later = record.serial > serial && record.progress == Progress::Done;
            is_later && matches!(record.action, Action::Undo { of } if self.start_of(of) <= serial)
        })
    }

    /// The number of the first record of a step: that of an unfinished one which it goes on with.
    fn start_of(&self, serial: u32) -> u32 {
        let mut at = serial;
        // Each goes on with one before it.
        while let Some(before) =
            self.record(at).and_then(|record| record.continues).filter(|before| *before < at)
        {
            at = before;
        }
        at
    }

    /// The last menu that was made active and not undone; nothing, where it was taken off since.
    pub fn last_applied(&self) -> Option<&Record> {
        let last = self
            .records
            .iter()
            .rev()
            .filter(|record| matches!(record.action, Action::Apply | Action::Remove));
        let mut last = last.filter(|record| !self.is_undone(record.serial));
        last.next().filter(|record| record.action == Action::Apply)
    }

    /// The last step that somebody asked for and that was not undone.
    pub fn last_step(&self) -> Option<&Record> {
        let mut asked = self.records.iter().rev().filter(|record| record.action.is_asked());
        asked.find(|record| !self.is_undone(record.serial))
    }

    /// The last step, where it was not finished.
    pub fn unfinished(&self) -> Option<&Record> {
        self.records.last().filter(|record| record.progress != Progress::Done)
    }

    /// Everything that was written from a step on, in order: what it went on with, corrections and steps undone included.
    pub fn since(&self, serial: u32) -> impl Iterator<Item = &Record> {
        let start = self.start_of(serial);
        self.records.iter().filter(move |record| record.serial >= start)
    }

    /// Load options that are ours: by their number, what we wrote and for which menu entry.
    pub fn owned(&self) -> BTreeMap<u16, (Vec<u8>, String)> {
        let first = self.records.first().map(|record| record.owned.as_slice()).unwrap_or_default();
        let mut owned: BTreeMap<u16, (Vec<u8>, String)> =
            first.iter().map(|own| (own.number, (own.data.clone(), own.entry.clone()))).collect();
        for record in &self.records {
            if self.is_undone(record.serial) {
                continue;
            }
            for write in record.writes.iter().filter_map(Change::variable) {
                let Some(number) = write.variable_name().boot_option_number() else { continue };
                match (&write.after, &write.entry, record.action) {
                    (Some(data), Some(entry), Action::Apply | Action::Hold | Action::Mend) => {
                        owned.insert(number, (data.clone(), entry.clone()));
                    }
                    // What an undone step had made its own, is what it was before that.
                    (_, _, Action::Undo { .. }) => {}
                    _ => {
                        owned.remove(&number);
                    }
                }
            }
        }
        owned
    }

    /// Whether a step of ours made this very option. What an undone step took away was put back, and not made.
    pub fn has_made(&self, number: u16, raw: &[u8]) -> bool {
        let stands = |record: &&Record| {
            !self.is_undone(record.serial) && !matches!(record.action, Action::Undo { .. })
        };
        let writes = self.records.iter().filter(stands).flat_map(|record| &record.writes);
        let mut of_it = writes
            .filter_map(Change::variable)
            .filter(|write| write.variable_name().boot_option_number() == Some(number));
        let last = of_it.next_back();
        last.is_some_and(|write| {
            write.after.as_deref() == Some(raw) && (write.before.is_none() || write.entry.is_some())
        }) || self.owned().get(&number).is_some_and(|(data, _)| data == raw)
    }

    /// The record of a step that comes next, before anything that it tells of is done. `time` is in UTC.
    ///
    /// # Errors
    /// Where the last number is in use.
    pub fn next(&self, action: Action, writes: &[Change], before: &Contents, time: String) -> Result<Record> {
        let last = self.records.last().map(|record| record.serial);
        let last = last.into_iter().chain(self.faults.iter().filter_map(|(serial, _)| *serial)).max();
        let serial = last.map_or(Some(1), |last| last.checked_add(1));
        let serial = serial
            .ok_or_else(|| Error::unusable("history", "its last number is taken; move the records away"))?;
        // Going on with a step of one's own that was not finished: undone, they go together.
        let unfinished = self.unfinished().filter(|record| action.is_asked() && record.action == action);
        let owned =
            self.owned().into_iter().map(|(number, (data, entry))| OwnedOption { number, data, entry });
        let mut record = Record {
            schema: SCHEMA,
            serial,
            time,
            action,
            progress: Progress::Begun,
            seal: String::new(),
            is_copy: false,
            continues: unfinished.map(|record| record.serial),
            writes: writes.to_vec(),
            snapshot: before.variables.iter().map(StoredVariable::from).collect(),
            owned: owned.collect(),
        };
        record.close();
        Ok(record)
    }

    /// Takes in a record that comes last.
    pub fn push(&mut self, record: Record) {
        self.records.push(record);
    }

    /// Notes how far the last step came; its record, to be kept.
    pub fn end(&mut self, progress: Progress) -> Option<&Record> {
        let record = self.records.last_mut()?;
        record.progress = progress;
        record.close();
        Some(record)
    }

    /// How many of the oldest records can go, to keep within the bounds; `sizes` are those of all, in bytes. Never one that is
    /// needed to undo what is active.
    pub fn can_be_forgotten(&self, sizes: &[u64]) -> usize {
        let needed = self.last_step().map_or(u32::MAX, |step| self.start_of(step.serial));
        let (mut count, mut bytes) = (sizes.len(), sizes.iter().sum::<u64>());
        let mut forgotten = 0;
        for (record, size) in self.records.iter().zip(sizes) {
            if (count <= MAX_RECORDS && bytes <= MAX_BYTES) || record.serial >= needed {
                break;
            }
            (count, bytes, forgotten) = (count - 1, bytes - size, forgotten + 1);
        }
        forgotten
    }

    /// Forgets the oldest records.
    pub fn forget(&mut self, count: usize) {
        self.records.drain(..count.min(self.records.len()));
    }
}
