//! What a step writes: variables and files, each with what was there before.

use alloc::string::{String, ToString};
use alloc::vec::Vec;

use serde::{Deserialize, Serialize};
use signpost_disk::Guid;
use signpost_firmware::bios::{SECTOR, area};
use signpost_firmware::variable::{Attributes, Contents, Variable, VariableName};
use signpost_menu::ours;
use signpost_menu::picture_place::is_picture_path;
use signpost_menu::slot::HOME_FOLDER;

use crate::location::Location;

/// One thing that is written.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[serde(untagged)]
pub enum Change {
    /// A variable.
    Variable(Write),
    /// A file on a volume that firmware reads.
    File(FileWrite),
    /// Sectors of a disk's partition table.
    Sectors(SectorWrite),
}

impl Change {
    /// What it does, in words.
    pub fn what(&self) -> &str {
        match self {
            Self::Variable(write) => &write.what,
            Self::File(write) => &write.what,
            Self::Sectors(write) => &write.what,
        }
    }

    /// The variable's change, where it is one.
    pub fn variable(&self) -> Option<&Write> {
        match self {
            Self::Variable(write) => Some(write),
            Self::File(_) | Self::Sectors(_) => None,
        }
    }

    /// Whether it is of a kind that steps of ours write: boot variables and our own, files in our folder, the fallback path, tables.
    /// Never keys of Secure Boot, another vendor's variables, another's files.
    pub fn is_of_ours(&self) -> bool {
        match self {
            Self::Variable(write) => {
                let name = write.variable_name();
                const BOOT: [&str; 4] = ["BootOrder", "BootNext", "Timeout", "OsIndications"];
                let is_boot = |word: &str| name == VariableName::global(word);
                name.boot_option_number().is_some()
                    || BOOT.into_iter().any(is_boot)
                    || name.vendor == Guid::from_bytes(ours::VENDOR)
            }
            Self::File(write) => {
                let folder = write.path.rsplit_once('/').map_or("", |(folder, _)| folder);
                let is_own = |own: &&str| folder.eq_ignore_ascii_case(own);
                [HOME_FOLDER, "/EFI/BOOT"].iter().any(is_own) || is_picture_path(&write.path)
            }
            Self::Sectors(write) => write.is_of_table_or_boot_sector(),
        }
    }

    /// Whether it is a program in the folders of boot files, which mending puts back.
    pub fn is_boot_file(&self) -> bool {
        let path = self.file().map(|write| write.path.to_lowercase());
        path.is_some_and(|path| path.starts_with("/efi/") && path.ends_with(".efi"))
    }

    /// The file's change, where it is one.
    pub fn file(&self) -> Option<&FileWrite> {
        match self {
            Self::File(write) => Some(write),
            Self::Variable(_) | Self::Sectors(_) => None,
        }
    }

    /// The change of sectors, where it is one.
    pub fn sectors(&self) -> Option<&SectorWrite> {
        match self {
            Self::Sectors(write) => Some(write),
            Self::Variable(_) | Self::File(_) => None,
        }
    }
}

/// A change of sectors of a disk's partition table, or of a boot sector.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct SectorWrite {
    /// What it does, in words.
    pub what: String,
    /// What tells the disk from others: its serial, else its table's own identity.
    pub disk: String,
    /// Bytes from the disk's start.
    pub offset: u64,
    /// What the sectors held, in hexadecimal.
    #[serde(with = "hex_option")]
    pub before: Option<Vec<u8>>,
    /// What they hold then; as long.
    #[serde(with = "hex_option")]
    pub after: Option<Vec<u8>>,
}

impl SectorWrite {
    /// Whether it lies where a table lies, or is one sector: a disk's first one, or a partition's boot sector.
    fn is_of_table_or_boot_sector(&self) -> bool {
        /// Where the first partition starts today, in bytes: tables lie before it, and what a boot program keeps behind the first sector.
        const END: u64 = 1 << 20;
        let (Some(before), Some(after)) = (&self.before, &self.after) else { return false };
        let is_sector = after.len() == SECTOR && self.offset.is_multiple_of(SECTOR as u64);
        // A copy of the boot program, or a slot, wherever a BIOS boot partition lies.
        let is_of_area = [before, after].into_iter().any(|bytes| area::is_part(bytes));
        before.len() == after.len()
            && (is_sector
                || is_of_area
                || self.offset.checked_add(after.len() as u64).is_some_and(|end| end <= END))
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
    /// Whether what it held is left out of this copy of the record.
    #[serde(default, skip_serializing_if = "core::ops::Not::not")]
    pub is_left_out: bool,
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

/// Bytes as hexadecimal text.
pub mod hex_option {
    use alloc::string::{String, ToString};
    use alloc::vec::Vec;

    use data_encoding::{HEXLOWER, HEXLOWER_PERMISSIVE};
    use miniz_oxide::deflate::compress_to_vec;
    use miniz_oxide::inflate::decompress_to_vec_with_limit;
    use serde::{Deserialize, Deserializer, Serialize, Serializer, de};

    /// What stands before bytes that are packed first: many at a time, such as copies of the boot program and what lies where they go.
    const PACKED: &str = "deflate:";
    /// Bytes from which on that is worth it.
    const LONG: usize = 4096;
    /// No more than that is unpacked, in bytes.
    const MOST: usize = 4 << 20;

    /// Writes bytes so.
    ///
    /// # Errors
    /// As the serializer.
    pub fn serialize<S: Serializer>(bytes: &Option<Vec<u8>>, serializer: S) -> Result<S::Ok, S::Error> {
        // Boot programs are packed already; the rest is mostly nothing.
        const LEVEL: u8 = 1;
        let text = bytes.as_ref().map(|bytes| match bytes.len() {
            0..LONG => HEXLOWER.encode(bytes),
            _ => PACKED.to_string() + &HEXLOWER.encode(&compress_to_vec(bytes, LEVEL)),
        });
        text.serialize(serializer)
    }

    /// Reads them.
    ///
    /// # Errors
    /// Where the text is no such.
    pub fn deserialize<'de, D: Deserializer<'de>>(deserializer: D) -> Result<Option<Vec<u8>>, D::Error> {
        let Some(text) = Option::<String>::deserialize(deserializer)? else { return Ok(None) };
        let (is_packed, text) = text.strip_prefix(PACKED).map_or((false, text.as_str()), |text| (true, text));
        let bytes = HEXLOWER_PERMISSIVE.decode(text.as_bytes());
        let bytes = bytes.map_err(|_| de::Error::custom("expected pairs of hexadecimal digits"))?;
        if !is_packed {
            return Ok(Some(bytes));
        }
        let unpacked = decompress_to_vec_with_limit(&bytes, MOST);
        unpacked.map(Some).map_err(|_| de::Error::custom("what is packed here is not whole"))
    }
}
