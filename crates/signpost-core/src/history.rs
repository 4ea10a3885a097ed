//! The history of a machine: what was done, with the state before it, so that it can be taken back.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};
use signpost_disk::Guid;
use signpost_firmware::variable::{Attributes, Contents, Variable, VariableName};

use crate::error::{Error, Result};
use crate::kept;
use crate::machine::Location;

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
    /// What was written, in order.
    pub writes: Vec<Change>,
    /// All variables as they were before.
    pub snapshot: Vec<StoredVariable>,
}

/// What a step did.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Action {
    /// A menu was put in force.
    Apply,
    /// The firmware's own entries were changed.
    Firmware,
    /// What was applied was put right again.
    Hold,
    /// A step was taken back.
    Undo {
        /// Its number.
        of: u32,
    },
}

/// One thing that is written.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[serde(untagged)]
pub enum Change {
    /// A variable.
    Variable(Write),
    /// A file on the home volume.
    File(FileWrite),
}

impl Change {
    /// What it does, in words.
    pub fn what(&self) -> &str {
        match self {
            Self::Variable(write) => &write.what,
            Self::File(write) => &write.what,
        }
    }

    /// The variable's change, where it is one.
    pub fn variable(&self) -> Option<&Write> {
        match self {
            Self::Variable(write) => Some(write),
            Self::File(_) => None,
        }
    }

    /// The file's change, where it is one.
    pub fn file(&self) -> Option<&FileWrite> {
        match self {
            Self::File(write) => Some(write),
            Self::Variable(_) => None,
        }
    }
}

/// A file's change.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct FileWrite {
    /// What it does, in words.
    pub what: String,
    /// A name of the volume that holds.
    pub volume: String,
    /// The path on it.
    pub path: String,
    /// What it held, in hexadecimal; none where it was not there.
    #[serde(with = "hex_option")]
    pub before: Option<Vec<u8>>,
    /// SHA-256 of what it holds then; none where it is removed.
    pub after_sha256: Option<String>,
    /// What it holds then.
    #[serde(skip)]
    pub after: Option<Vec<u8>>,
    /// Where the volume lies.
    #[serde(skip)]
    pub location: Option<Location>,
}

/// One variable's change.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Write {
    /// What it does, in words.
    pub what: String,
    /// The variable's name.
    pub name: String,
    /// Its vendor.
    pub vendor: String,
    /// Attributes of what is written.
    pub attributes: u32,
    /// What it held, in hexadecimal; none where it was not there.
    #[serde(with = "hex_option")]
    pub before: Option<Vec<u8>>,
    /// What it holds then; none where it is removed.
    #[serde(with = "hex_option")]
    pub after: Option<Vec<u8>>,
    /// The id of the menu entry that it belongs to.
    pub entry: Option<String>,
}

/// A variable, kept.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct StoredVariable {
    name: String,
    vendor: String,
    attributes: u32,
    #[serde(with = "hex_option")]
    data: Option<Vec<u8>>,
}

impl Write {
    /// The change of a variable of the standard's own vendor from what it holds to `after`.
    pub fn to(contents: &Contents, variable: Variable, what: String, entry: Option<String>) -> Self {
        let before = contents.get(&variable.name).map(|held| held.data.clone());
        let after = Some(variable.data);
        Self::new(variable.name, variable.attributes, before, after, what, entry)
    }

    /// The removal of a variable.
    pub fn removal(contents: &Contents, name: VariableName, what: String) -> Self {
        let before = contents.get(&name).map(|held| held.data.clone());
        Self::new(name, Attributes::BOOT, before, None, what, None)
    }

    fn new(
        name: VariableName,
        attributes: Attributes,
        before: Option<Vec<u8>>,
        after: Option<Vec<u8>>,
        what: String,
        entry: Option<String>,
    ) -> Self {
        let vendor = name.vendor.to_string();
        Self { what, name: name.name, vendor, attributes: attributes.bits(), before, after, entry }
    }

    /// The variable's full name.
    pub fn variable_name(&self) -> VariableName {
        VariableName { name: self.name.clone(), vendor: Guid::try_parse(&self.vendor).unwrap_or(Guid::ZERO) }
    }

    /// What is written; `None` where the variable is removed.
    pub fn variable(&self) -> Option<Variable> {
        let attributes = Attributes::from_bits_retain(self.attributes);
        self.after.clone().map(|data| Variable { name: self.variable_name(), attributes, data })
    }

    /// Whether the variable already is as it would be.
    pub fn is_done(&self) -> bool {
        self.before == self.after
    }
}

impl From<&Variable> for StoredVariable {
    fn from(variable: &Variable) -> Self {
        Self {
            name: variable.name.name.clone(),
            vendor: variable.name.vendor.to_string(),
            attributes: variable.attributes.bits(),
            data: Some(variable.data.clone()),
        }
    }
}

/// The time, in UTC.
pub fn now() -> String {
    jiff::Timestamp::now().strftime("%Y-%m-%d %H:%M:%S UTC").to_string()
}

/// The records of a machine.
pub struct History {
    folder: PathBuf,
    records: Vec<Record>,
}

impl History {
    /// Reads a history; a folder that is not there is an empty one.
    ///
    /// # Errors
    /// Where a record cannot be read.
    pub fn open(folder: &Path) -> Result<Self> {
        let mut records = Vec::new();
        for path in record_files(folder)? {
            records.extend(kept::read::<Record>(&path)?);
        }
        records.sort_by_key(|record: &Record| record.serial);
        Ok(Self { folder: folder.to_path_buf(), records })
    }

    /// All records, the oldest first.
    pub fn records(&self) -> &[Record] {
        &self.records
    }

    /// Whether a record was taken back.
    pub fn is_undone(&self, serial: u32) -> bool {
        self.records.iter().any(|record| record.action == Action::Undo { of: serial })
    }

    /// The last menu put in force that was not taken back.
    pub fn last_applied(&self) -> Option<&Record> {
        let mut applied = self.records.iter().rev().filter(|record| record.action == Action::Apply);
        applied.find(|record| !self.is_undone(record.serial))
    }

    /// The last step that somebody asked for and that was not taken back.
    pub fn last_step(&self) -> Option<&Record> {
        let mut asked = self
            .records
            .iter()
            .rev()
            .filter(|record| matches!(record.action, Action::Apply | Action::Firmware));
        asked.find(|record| !self.is_undone(record.serial))
    }

    /// Load options that are ours: by their number, what we wrote and for which menu entry.
    pub fn owned(&self) -> BTreeMap<u16, (Vec<u8>, String)> {
        let mut owned = BTreeMap::new();
        let in_force = self.records.iter().filter(|record| {
            matches!(record.action, Action::Apply | Action::Hold) && !self.is_undone(record.serial)
        });
        for write in in_force.flat_map(|record| &record.writes).filter_map(Change::variable) {
            let Some(number) = write.variable_name().boot_option_number() else { continue };
            match (&write.after, &write.entry) {
                (Some(data), Some(entry)) => owned.insert(number, (data.clone(), entry.clone())),
                _ => owned.remove(&number),
            };
        }
        owned
    }

    /// Whether a step of ours wrote this very option.
    pub fn has_written(&self, number: u16, raw: &[u8]) -> bool {
        let writes = self.records.iter().flat_map(|record| &record.writes).filter_map(Change::variable);
        let mut ours = writes.filter(|write| write.before.is_none());
        ours.any(|write| {
            write.after.as_deref() == Some(raw) && write.variable_name().boot_option_number() == Some(number)
        })
    }

    /// Writes a record before anything it tells of is done.
    ///
    /// # Errors
    /// Where it cannot be written.
    pub fn begin(&mut self, action: Action, writes: &[Change], before: &Contents) -> Result<u32> {
        std::fs::create_dir_all(&self.folder).map_err(|error| Error::unusable(&self.folder, error))?;
        let serial = self.records.last().map_or(1, |record| record.serial + 1);
        let record = Record {
            schema: crate::SCHEMA,
            serial,
            time: now(),
            action,
            writes: writes.to_vec(),
            snapshot: before.variables.iter().map(StoredVariable::from).collect(),
        };
        let path = self.folder.join(format!("{serial:04}.json"));
        kept::write(&path, &record)?;
        self.records.push(record);
        Ok(serial)
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

/// Bytes as hexadecimal text.
mod hex_option {
    use serde::{Deserialize, Deserializer, Serialize, Serializer, de};

    pub(super) fn serialize<S: Serializer>(
        bytes: &Option<Vec<u8>>,
        serializer: S,
    ) -> Result<S::Ok, S::Error> {
        let text: Option<String> =
            bytes.as_ref().map(|bytes| bytes.iter().map(|byte| format!("{byte:02x}")).collect());
        text.serialize(serializer)
    }

    pub(super) fn deserialize<'de, D: Deserializer<'de>>(
        deserializer: D,
    ) -> Result<Option<Vec<u8>>, D::Error> {
        let Some(text) = Option::<String>::deserialize(deserializer)? else { return Ok(None) };
        let digits: Option<Vec<u8>> = text.chars().map(|c| c.to_digit(16).map(|digit| digit as u8)).collect();
        let digits = digits.filter(|digits| digits.len() % 2 == 0);
        let digits = digits.ok_or_else(|| de::Error::custom("expected pairs of hexadecimal digits"))?;
        Ok(Some(digits.chunks(2).map(|pair| pair[0] << 4 | pair[1]).collect()))
    }
}
