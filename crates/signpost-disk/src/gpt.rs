//! GUID partition tables (UEFI 2.10, chapter 5).

mod correct;
mod encode;
mod structures;

use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec::Vec;
use core::fmt;

use uguid::Guid;
use zerocopy::FromBytes;

use crate::block::{BlockDevice, ReadError, read_vec};
use crate::checksum::crc32;

pub use correct::{first_copy, protective};
pub use encode::{Layout, NewPartition, encode};
use structures::{Entry, HEADER_SIZE, Header, SIGNATURE};

/// More entries than any table in use has; the standard's own minimum is 128.
const MAX_ENTRIES: u32 = 1024;
/// Entries longer than this are in no use.
const MAX_ENTRY_SIZE: u32 = 4096; // bytes
/// A partition table.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Gpt {
    /// The disk's own GUID.
    pub disk_guid: Guid,
    /// Partitions in use, by their number.
    pub partitions: Vec<Partition>,
    /// Problems with them: overlaps, impossible bounds.
    pub oddities: Vec<Oddity>,
    /// Where the other copy of the table has its header, as the header of this one says: `AlternateLBA`.
    pub other_lba: u64,
}

/// One partition.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Partition {
    /// Its number, from 1, as its place in the table gives it.
    pub number: u32,
    /// What it is for.
    pub type_guid: Guid,
    /// Its own GUID.
    pub guid: Guid,
    /// First sector.
    pub first_lba: u64,
    /// Last sector, itself included.
    pub last_lba: u64,
    /// Attribute bits (UEFI 2.10, table 5.8).
    pub attributes: u64,
    /// Its name.
    pub name: String,
    /// Why UEFI firmware leaves it out.
    pub unseen: Option<Unseen>,
}

/// Why UEFI firmware leaves a partition of a readable table out (UEFI 2.10, 5.3, as the open-source firmware carries it out).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Unseen {
    /// It shares sectors with the partition of this number.
    Overlap(u32),
    /// It lies outside of the disk's usable sectors, or ends before it starts.
    OutOfRange,
    /// Its attributes say that no block device is to be made of it.
    NoBlockIo,
    /// The table that it stands in is none for the firmware: one of its partitions is out of range, or overlaps another.
    TableRefused,
    /// It stands in a table of another kind than the firmware knows.
    ForeignTable,
}

impl fmt::Display for Unseen {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Overlap(other) => write!(f, "it overlaps partition {other}"),
            Self::OutOfRange => f.write_str("it lies outside of the usable sectors"),
            Self::NoBlockIo => f.write_str("its attributes hide it from the firmware"),
            Self::ForeignTable => f.write_str("the firmware knows no tables of its kind"),
            Self::TableRefused => f.write_str("partitions of its table overlap, or lie outside of the disk"),
        }
    }
}

/// Attribute bit 1: "no block I/O protocol" (UEFI 2.10, table 5.8).
const NO_BLOCK_IO: u64 = 1 << 1;

impl Partition {
    /// Sectors.
    pub fn sectors(&self) -> u64 {
        self.last_lba.saturating_sub(self.first_lba).saturating_add(1)
    }
}

/// A problem with the partitions of a readable table.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum Oddity {
    /// Two partitions share sectors.
    #[error("partitions {first} and {second} overlap: both have sector {sector}")]
    Overlap {
        /// The one that starts first.
        first: u32,
        /// The other.
        second: u32,
        /// The first sector they share.
        sector: u64,
    },
    /// A partition reaches outside of the disk's usable sectors, or ends before it starts.
    #[error(
        "partition {number} lies at sectors {first_lba} to {last_lba}; sectors {usable_first} to \
         {usable_last} are usable"
    )]
    Bounds {
        /// The partition.
        number: u32,
        /// Its first sector.
        first_lba: u64,
        /// Its last sector.
        last_lba: u64,
        /// First usable sector of the disk.
        usable_first: u64,
        /// Last usable sector of the disk.
        usable_last: u64,
    },
}

/// Why a table could not be read.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum GptFault {
    /// No table here.
    #[error("no GPT header")]
    Absent,
    /// The disk did not give the bytes.
    #[error("{0}")]
    Device(#[from] ReadError),
    /// A field of the header cannot be true.
    #[error("GPT header, sector {lba}, offset {offset}: {field} is {found}, expected {expected}")]
    Field {
        /// The header's sector.
        lba: u64,
        /// Bytes from the start of the header.
        offset: usize,
        /// The field's name in the standard.
        field: &'static str,
        /// What stands there.
        found: u64,
        /// What could.
        expected: String,
    },
    /// The partition entries lie past the disk's end; both in bytes.
    #[error("GPT partition entries: they reach to byte {end}, the disk ends after {size}; was it cut short?")]
    EntriesPastEnd {
        /// Where they would end.
        end: u64,
        /// Where the disk does.
        size: u64,
    },
    /// A checksum does not fit.
    #[error("GPT {what}: the CRC-32 is {computed:08x}, the header says {stored:08x}")]
    Crc {
        /// Header or entries.
        what: &'static str,
        /// Over what is there.
        computed: u32,
        /// What should be.
        stored: u32,
    },
}

impl Gpt {
    /// Reads a disk's primary table.
    ///
    /// # Errors
    /// [`GptFault::Absent`] where there is none, else what is wrong with it.
    pub fn read(device: &dyn BlockDevice, sector_size: u32) -> Result<Self, GptFault> {
        Self::read_by_header(device, sector_size, 1)
    }

    /// Reads the backup table, whose header is the disk's last sector.
    ///
    /// # Errors
    /// As [`Gpt::read`].
    pub fn read_backup(device: &dyn BlockDevice, sector_size: u32) -> Result<Self, GptFault> {
        Self::read_by_header(device, sector_size, last_lba(device, sector_size))
    }

    fn read_by_header(device: &dyn BlockDevice, sector_size: u32, lba: u64) -> Result<Self, GptFault> {
        let sector = u64::from(sector_size);
        if lba == 0 || device.size() < sector.saturating_mul(2) {
            return Err(GptFault::Absent);
        }
        let sector_len = usize::try_from(sector_size).unwrap_or(usize::MAX);
        let bytes = read_vec(device, sector.saturating_mul(lba), sector_len)?;
        let header = Header::decode(&bytes, lba)?;
        let size = header.size_of_partition_entry.get();
        let length = u64::from(header.number_of_partition_entries.get()).saturating_mul(u64::from(size));
        let offset = header.partition_entry_lba.get().saturating_mul(sector);
        let end = offset.saturating_add(length);
        if end > device.size() {
            return Err(GptFault::EntriesPastEnd { end, size: device.size() });
        }
        let array = read_vec(device, offset, usize::try_from(length).unwrap_or(usize::MAX))?;
        let (computed, stored) = (crc32([array.as_slice()]), header.partition_entry_array_crc32.get());
        if computed != stored {
            return Err(GptFault::Crc { what: "partition entries", computed, stored });
        }
        let size = usize::try_from(size).unwrap_or(usize::MAX);
        let mut partitions: Vec<Partition> = (1u32..)
            .zip(array.chunks_exact(size))
            .filter_map(|(n, bytes)| Partition::decode(n, bytes))
            .collect();
        let oddities = oddities(&partitions, &header);
        leave_out(&mut partitions, &header);
        Ok(Self {
            disk_guid: Guid::from_bytes(header.disk_guid),
            partitions,
            oddities,
            other_lba: header.alternate_lba.get(),
        })
    }
}

impl Header {
    /// Reads and checks the header in its sector.
    fn decode(bytes: &[u8], lba: u64) -> Result<Self, GptFault> {
        let (header, _) = Self::read_from_prefix(bytes).map_err(|_| GptFault::Absent)?;
        if header.signature != SIGNATURE {
            return Err(GptFault::Absent);
        }
        let field =
            |offset, field, found, expected| Err(GptFault::Field { lba, offset, field, found, expected });
        let header_size = header.header_size.get();
        let covered = usize::try_from(header_size).ok().and_then(|size| bytes.get(..size));
        let (Some(covered), true) = (covered, header_size >= HEADER_SIZE) else {
            let expected = format!("{HEADER_SIZE} to {}", bytes.len());
            return field(12, "HeaderSize", u64::from(header_size), expected);
        };
        let pieces = [covered.get(..16).unwrap_or_default(), &[0; 4], covered.get(20..).unwrap_or_default()];
        let (computed, stored) = (crc32(pieces), header.header_crc32.get());
        if computed != stored {
            return Err(GptFault::Crc { what: "header", computed, stored });
        }
        if header.my_lba.get() != lba {
            return field(24, "MyLBA", header.my_lba.get(), lba.to_string());
        }
        let entries = header.number_of_partition_entries.get();
        if !(1..=MAX_ENTRIES).contains(&entries) {
            return field(80, "NumberOfPartitionEntries", u64::from(entries), format!("1 to {MAX_ENTRIES}"));
        }
        let size = header.size_of_partition_entry.get();
        if !(128..=MAX_ENTRY_SIZE).contains(&size) || !size.is_power_of_two() {
            let expected = format!("128 times a power of two, at most {MAX_ENTRY_SIZE}");
            return field(84, "SizeOfPartitionEntry", u64::from(size), expected);
        }
        let first = header.partition_entry_lba.get();
        if first < 2 {
            return field(72, "PartitionEntryLBA", first, "2 or more".into());
        }
        Ok(header)
    }
}

impl Partition {
    /// `None` for an entry that is not in use.
    fn decode(number: u32, bytes: &[u8]) -> Option<Self> {
        let (entry, _) = Entry::read_from_prefix(bytes).ok()?;
        let units = entry.partition_name.as_chunks::<2>().0.iter().map(|pair| u16::from_le_bytes(*pair));
        let units: Vec<u16> = units.take_while(|unit| *unit != 0).collect();
        (entry.partition_type_guid != [0; 16]).then(|| Self {
            number,
            type_guid: Guid::from_bytes(entry.partition_type_guid),
            guid: Guid::from_bytes(entry.unique_partition_guid),
            first_lba: entry.starting_lba.get(),
            last_lba: entry.ending_lba.get(),
            attributes: entry.attributes.get(),
            unseen: None,
            name: String::from_utf16_lossy(&units),
        })
    }
}

/// The disk's last sector.
fn last_lba(device: &dyn BlockDevice, sector_size: u32) -> u64 {
    device.size().checked_div(u64::from(sector_size)).unwrap_or(0).saturating_sub(1)
}

/// What is wrong with the header of the backup table; the entries are left to who needs them.
pub fn check_backup_header(device: &dyn BlockDevice, sector_size: u32) -> Result<(), GptFault> {
    check_header(device, sector_size, last_lba(device, sector_size))
}

/// Whether the backup table is whole and stands before the disk's end, as it does on a disk that has grown: the sector of its
/// header. UEFI firmware goes by the first table and minds nothing.
pub fn backup_before_the_end(device: &dyn BlockDevice, sector_size: u32, gpt: &Gpt) -> Option<u64> {
    let lba = gpt.other_lba;
    let is_before = lba > 1 && lba < last_lba(device, sector_size);
    (is_before && check_header(device, sector_size, lba).is_ok()).then_some(lba)
}

fn check_header(device: &dyn BlockDevice, sector_size: u32, lba: u64) -> Result<(), GptFault> {
    let offset = lba.saturating_mul(u64::from(sector_size));
    let bytes = read_vec(device, offset, usize::try_from(sector_size).unwrap_or(0))?;
    Header::decode(&bytes, lba).map(|_| ())
}

/// Whether sector 0 protects a GPT as UEFI firmware wants it (UEFI 2.10, 5.2.3): one of its four entries is of the
/// protective type, from sector 1 on. Whether that is active, how long it is, and the mark at the sector's end are not asked
/// for.
pub fn is_protected(device: &dyn BlockDevice) -> bool {
    const ENTRIES: usize = 446;
    const PROTECTIVE: u8 = 0xee;
    let mut sector = [0; 512];
    if device.size() < 512 || device.read_at(0, &mut sector).is_err() {
        return false;
    }
    let entries = sector.get(ENTRIES..510).unwrap_or_default().as_chunks::<16>().0;
    entries.iter().any(|[_, _, _, _, kind, _, _, _, first @ .., _, _, _, _]| {
        *kind == PROTECTIVE && u32::from_le_bytes(*first) == 1
    })
}

/// Notes which partitions the firmware leaves out, in its own order: one that is out of range is held against no other behind
/// it.
fn leave_out(partitions: &mut [Partition], header: &Header) {
    let (usable_first, usable_last) = (header.first_usable_lba.get(), header.last_usable_lba.get());
    for index in 0..partitions.len() {
        let Some((one, others)) = partitions.get_mut(index..).and_then(<[Partition]>::split_first_mut) else {
            return;
        };
        let usable = usable_first..=usable_last;
        if !usable.contains(&one.first_lba) || !usable.contains(&one.last_lba) || one.last_lba < one.first_lba
        {
            one.unseen = Some(Unseen::OutOfRange);
            continue;
        }
        if one.attributes & NO_BLOCK_IO != 0 {
            one.unseen = one.unseen.or(Some(Unseen::NoBlockIo));
        }
        for other in others {
            if other.last_lba >= one.first_lba && other.first_lba <= one.last_lba {
                one.unseen = Some(Unseen::Overlap(other.number));
                other.unseen = other.unseen.or(Some(Unseen::Overlap(one.number)));
            }
        }
    }
}

fn oddities(partitions: &[Partition], header: &Header) -> Vec<Oddity> {
    let (usable_first, usable_last) = (header.first_usable_lba.get(), header.last_usable_lba.get());
    let mut found = Vec::new();
    for partition in partitions {
        let Partition { number, first_lba, last_lba, .. } = *partition;
        if first_lba > last_lba || first_lba < usable_first || last_lba > usable_last {
            found.push(Oddity::Bounds { number, first_lba, last_lba, usable_first, usable_last });
        }
    }
    // Sorted by their starts, and by their places in the table where these are the same.
    let mut starts: Vec<(u64, u64)> =
        (0..).zip(partitions).map(|(at, entry)| (entry.first_lba, at)).collect();
    starts.sort_unstable();
    let by_start = starts.iter().filter_map(|(_, at)| partitions.get(usize::try_from(*at).ok()?));
    let by_start = by_start.filter(|partition| partition.first_lba <= partition.last_lba);
    let mut furthest: Option<&Partition> = None;
    for partition in by_start {
        if let Some(before) = furthest.filter(|before| before.last_lba >= partition.first_lba) {
            found.push(Oddity::Overlap {
                first: before.number,
                second: partition.number,
                sector: partition.first_lba,
            });
        }
        if furthest.is_none_or(|before| before.last_lba < partition.last_lba) {
            furthest = Some(partition);
        }
    }
    found
}

#[cfg(test)]
mod tests;
