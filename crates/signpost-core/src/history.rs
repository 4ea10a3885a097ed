//! The history of a machine: what was done, with the state before it, so that it can be taken back.

mod change;
pub(crate) mod copies;

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};
use signpost_firmware::variable::Contents;

use crate::error::{Error, Result};
use crate::home;
use crate::kept;

pub use change::{Change, FileWrite, StoredVariable, Write};

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
    /// Notes its checksum, once all else is as it is to be.
    fn close(&mut self) {
        self.seal = self.digest();
    }

    /// Whether it is as it was written.
    fn is_sealed(&self) -> bool {
        self.seal == self.digest()
    }

    fn digest(&self) -> String {
        let open = Self { seal: String::new(), ..self.clone() };
        // A value has its fields in one order, whatever order a file has them in.
        let value = serde_json::to_value(&open).unwrap_or_default();
        home::sha256(&serde_json::to_vec(&value).unwrap_or_default())
    }

    /// What it says was written, and no step of ours writes: a record that somebody made.
    pub(crate) fn foreign(&self) -> Option<&Change> {
        self.writes.iter().find(|change| !change.is_of_ours())
    }
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
    /// Steps were undone: this one, and all that came after it.
    Undo {
        /// Its number.
        of: u32,
    },
}

impl Action {
    /// Whether somebody asked for it, so that it can be undone by itself.
    pub fn is_asked(self) -> bool {
        matches!(self, Self::Apply | Self::Remove | Self::Firmware)
    }
}

/// The time, in UTC.
pub fn now() -> String {
    clock().strftime("%Y-%m-%d %H:%M:%S UTC").to_string()
}

/// The time; a clock may stand beyond all years that can be written.
pub(crate) fn clock() -> jiff::Timestamp {
    within(std::time::SystemTime::now())
}

fn within(time: std::time::SystemTime) -> jiff::Timestamp {
    let is_late = time > std::time::SystemTime::UNIX_EPOCH;
    let edge = if is_late { jiff::Timestamp::MAX } else { jiff::Timestamp::MIN };
    jiff::Timestamp::try_from(time).unwrap_or(edge)
}

/// The records of a machine.
pub struct History {
    folder: PathBuf,
    records: Vec<Record>,
    faults: Vec<(Option<u32>, String)>,
}

impl History {
    /// Reads a history; a folder that is not there is an empty one. A record that cannot be read is a fault of its own.
    ///
    /// # Errors
    /// Where the folder cannot be read.
    pub fn open(folder: &Path) -> Result<Self> {
        let (mut records, mut faults) = (Vec::new(), Vec::new());
        for path in record_files(folder)? {
            let serial = path.file_stem().and_then(|stem| stem.to_str()?.parse::<u32>().ok());
            match kept::read::<Record>(&path) {
                Ok(Some(record)) if !record.is_sealed() => {
                    let why = "its checksum is not that of what it says: it was altered, or is broken";
                    faults.push((serial, Error::unusable(&path, why).to_string()));
                }
                Ok(record) => records.extend(record),
                Err(error) => faults.push((serial, error.to_string())),
            }
        }
        records.sort_by_key(|record: &Record| record.serial);
        Ok(Self { folder: folder.to_path_buf(), records, faults })
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

    /// The last step, where it came to no end.
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
                    (Some(data), Some(entry), Action::Apply | Action::Hold) => {
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

    /// Writes a record before anything that it tells of is done.
    ///
    /// # Errors
    /// Where it cannot be written.
    pub fn begin(&mut self, action: Action, writes: &[Change], before: &Contents) -> Result<u32> {
        let last = self.records.last().map(|record| record.serial);
        let last = last.into_iter().chain(self.faults.iter().filter_map(|(serial, _)| *serial)).max();
        let serial = last.map_or(Some(1), |last| last.checked_add(1));
        let serial =
            serial.ok_or_else(|| Error::unusable(&self.folder, "its last number is in use; move it away"))?;
        // Going on with a step of one's own that came to no end: undone, they go together.
        let unfinished = self.unfinished().filter(|record| action.is_asked() && record.action == action);
        let owned =
            self.owned().into_iter().map(|(number, (data, entry))| OwnedOption { number, data, entry });
        let mut record = Record {
            schema: crate::SCHEMA,
            serial,
            time: now(),
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
        kept::write(&self.path(serial), &record)?;
        self.records.push(record);
        Ok(serial)
    }

    /// Notes how far the last step came.
    ///
    /// # Errors
    /// Where its record cannot be written.
    pub fn end(&mut self, progress: Progress) -> Result<()> {
        let Some(serial) = self.records.last().map(|record| record.serial) else { return Ok(()) };
        let path = self.path(serial);
        if let Some(record) = self.records.last_mut() {
            record.progress = progress;
            record.close();
            kept::write(&path, record)?;
        }
        if progress == Progress::Done {
            self.forget_the_oldest();
        }
        Ok(())
    }

    fn path(&self, serial: u32) -> PathBuf {
        self.folder.join(format!("{serial:04}.json"))
    }

    /// Keeps within the bounds: the oldest go first, never one that is needed to undo what is active.
    fn forget_the_oldest(&mut self) {
        let needed = self.last_step().map_or(u32::MAX, |step| self.start_of(step.serial));
        let size =
            |record: &Record| std::fs::metadata(self.path(record.serial)).map_or(0, |found| found.len());
        let sizes: Vec<u64> = self.records.iter().map(size).collect();
        let (mut count, mut bytes) = (sizes.len(), sizes.iter().sum::<u64>());
        let mut forgotten = 0;
        for (record, size) in self.records.iter().zip(sizes) {
            let is_over = count > MAX_RECORDS || bytes > MAX_BYTES;
            // One that cannot be removed now goes another time; one that is a copy alone has no file here.
            let path = self.path(record.serial);
            if !is_over || record.serial >= needed || (std::fs::remove_file(&path).is_err() && path.exists())
            {
                break;
            }
            (count, bytes, forgotten) = (count - 1, bytes - size, forgotten + 1);
        }
        self.records.drain(..forgotten);
    }
}

fn record_files(folder: &Path) -> Result<Vec<PathBuf>> {
    let entries = match std::fs::read_dir(folder) {
        Ok(entries) => entries,
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(Vec::new()),
        Err(error) => return Err(Error::unusable(folder, error)),
    };
    let mut files: Vec<PathBuf> = entries.filter_map(|entry| entry.ok().map(|entry| entry.path())).collect();
    files.retain(|path| path.extension().is_some_and(|extension| extension == "json"));
    files.sort();
    Ok(files)
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::time::{Duration, SystemTime};

    #[test]
    fn a_clock_beyond_all_years_has_a_time_all_the_same() {
        let seconds = Duration::from_secs(1 << 50);
        assert_eq!(within(SystemTime::UNIX_EPOCH + seconds), jiff::Timestamp::MAX);
        assert_eq!(within(SystemTime::UNIX_EPOCH - seconds), jiff::Timestamp::MIN);
        assert_eq!(within(SystemTime::UNIX_EPOCH), jiff::Timestamp::UNIX_EPOCH);
    }
}
