//! Plans that change sectors: code put back or replaced, another active partition. Code and table are changed apart.

use serde::Serialize;
use signpost_facts::change::{Change, SectorWrite};
use signpost_facts::sectors::{FirstSector, PartitionSector, sector as as_sector};
use signpost_facts::{Code, DiskNumber, Error, Refusal, Result, TableKind, Volume};
use signpost_firmware::bios::code::has_parameters;
use signpost_firmware::bios::{CODE_LEN, ENTRY, SECTOR, TABLE, is_marked, plain, with_active, with_code};
use signpost_place::Look;

use crate::rehearse::{Kind, Outcome, rehearse_bios};
use crate::ways::last_way_by_sectors;

/// Where a disk's signature stands, between code and table.
const SIGNATURE: std::ops::Range<usize> = 440..444;

/// A sector that code may stand in.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Which {
    /// A disk's first one.
    First(DiskNumber),
    /// A partition's, by its index among the facts.
    Partition(usize),
    /// Not one sector, but all between a disk's first one and its first partition, where other programs keep code.
    Gap(DiskNumber),
}

/// What is put behind a disk's name to mean the sectors behind its first one.
const GAP: &str = "-gap";

/// What is asked for.
#[derive(Clone, Debug)]
pub enum Wanted {
    /// Put a saved sector back: its code, and for a disk's first sector the table too where that is asked for.
    Restore {
        /// The saved sector.
        bytes: Vec<u8>,
        /// Whether the table and the disk's signature come with it.
        with_table: bool,
    },
    /// Plain code of ours, which starts the active partition.
    Standard,
    /// The file system's own copy of its boot sector.
    Backup,
    /// Put back what was saved of the sectors behind a disk's first one; these are as they are now.
    Gap {
        /// What was saved.
        bytes: Vec<u8>,
        /// What stands there now, as many bytes.
        before: Vec<u8>,
    },
    /// This partition is active, and no other of its disk.
    Active,
}

/// What would be written, and what starts then.
#[derive(Clone, Debug, Serialize)]
pub struct SectorPlan {
    /// What would be written.
    pub writes: Vec<Change>,
    /// What stands against it.
    pub refusals: Vec<Refusal>,
    /// What starts then.
    pub outcome: Outcome,
}

/// The sector that a person means: `d1` or a partition.
///
/// # Errors
/// Where there is none of that name.
pub fn which(look: &Look, what: &str) -> Result<Which> {
    let sectors = &look.survey.boot_sectors;
    let is_gap = |first: &&FirstSector| format!("d{}{GAP}", first.disk) == what;
    if let Some(first) = sectors.first.iter().find(is_gap) {
        return Ok(Which::Gap(first.disk));
    }
    let is_it = |first: &&FirstSector| format!("d{}", first.disk) == what;
    if let Some(first) = sectors.first.iter().find(is_it) {
        return Ok(Which::First(first.disk));
    }
    let by_volume = look
        .typed_volume(what)
        .ok()
        .map(|volume| look.survey.name(signpost_facts::VolumeNumber::of_index(volume)).to_string());
    let name = by_volume.unwrap_or_else(|| what.to_string());
    let index = sectors.partitions.iter().position(|sector| sector.name == name);
    index.map(Which::Partition).ok_or_else(|| {
        let disks = sectors.first.iter().map(|first| format!("d{}", first.disk));
        let all: Vec<String> =
            disks.chain(sectors.partitions.iter().map(|sector| sector.name.clone())).collect();
        Error::WrongUse(format!("{what} has no boot sector; there are {}", all.join(", ")))
    })
}

impl Which {
    /// Its bytes; nothing of what the survey does not keep.
    pub fn bytes<'l>(&self, look: &'l Look) -> Option<&'l [u8]> {
        let sectors = &look.survey.boot_sectors;
        match self {
            Self::First(disk) => Some(&sectors.first_of(*disk)?.bytes),
            Self::Partition(index) => Some(&sectors.partitions.get(*index)?.bytes),
            Self::Gap(_) => None,
        }
    }

    /// Its name, as people type it.
    pub fn name(&self, look: &Look) -> String {
        match self {
            Self::First(disk) => format!("d{disk}"),
            Self::Partition(index) => {
                let found = look.survey.boot_sectors.partitions.get(*index);
                found.map(|found| found.name.clone()).unwrap_or_default()
            }
            Self::Gap(disk) => format!("d{disk}{GAP}"),
        }
    }

    /// How many bytes it has.
    pub fn length(&self, look: &Look) -> u64 {
        match self {
            Self::First(_) | Self::Partition(_) => SECTOR as u64,
            Self::Gap(disk) => {
                let gap = look.survey.boot_sectors.first_of(*disk).map_or(0, |first| first.gap);
                gap.saturating_mul(SECTOR as u64)
            }
        }
    }

    /// Its disk, and its place on it in bytes.
    pub fn place(&self, look: &Look) -> Option<(DiskNumber, u64)> {
        match self {
            Self::First(disk) => Some((*disk, 0)),
            Self::Gap(disk) => Some((*disk, SECTOR as u64)),
            Self::Partition(index) => {
                look.survey.boot_sectors.partitions.get(*index).map(|found| (found.disk, found.start))
            }
        }
    }
}

/// Plans it.
///
/// # Errors
/// Where what is asked for cannot be, whatever guard is overridden.
pub fn plan(look: &Look, which: &Which, wanted: &Wanted) -> Result<SectorPlan> {
    let sectors = &look.survey.boot_sectors;
    let mut refusals = Vec::new();
    if let (Which::Gap(disk), Wanted::Gap { bytes, before }) = (which, wanted) {
        return gap(look, *disk, bytes, before);
    }
    let change = match (which, wanted) {
        (Which::First(disk), Wanted::Standard) => {
            let before = first_bytes(sectors.first_of(*disk), *disk)?;
            let what = format!("write plain code into the first sector of d{disk}");
            (what, (*disk, 0), with_code(&before, &plain::CODE))
        }
        (Which::First(disk), Wanted::Restore { bytes, with_table }) => {
            let before = first_bytes(sectors.first_of(*disk), *disk)?;
            let saved = saved(bytes)?;
            refusals.extend(of_another_disk(&saved, &before, *disk));
            first_back(*disk, &before, saved, *with_table)?
        }
        (Which::Partition(index), Wanted::Restore { bytes, .. }) => {
            boot_sector_back(&sectors.partitions[*index], saved(bytes)?)?
        }
        (Which::Partition(index), Wanted::Backup) => from_copy(&sectors.partitions[*index])?,
        (Which::Partition(index), Wanted::Active) => {
            let found = &sectors.partitions[*index];
            made_active(found, &first_bytes(sectors.first_of(found.disk), found.disk)?)?
        }
        (Which::Gap(_), _) | (_, Wanted::Gap { .. }) => {
            return wrong(format!("{} is saved and put back, and nothing else", which.name(look)));
        }
        (Which::First(disk), Wanted::Backup | Wanted::Active) => {
            return wrong(format!("d{disk} is a disk; name a partition of it"));
        }
        (Which::Partition(index), Wanted::Standard) => {
            let name = &sectors.partitions[*index].name;
            return wrong(format!("{name} is a partition; plain code goes into a disk's first sector"));
        }
    };
    let mut made = finish(look, change, refusals)?;
    // Who makes a partition the active one chooses which system starts.
    if !matches!(wanted, Wanted::Active) {
        made.refusals.extend(last_way(look, &made.writes));
    }
    Ok(made)
}

/// A sector as it is wanted: what is done, its disk and offset in bytes, and its bytes then.
type Wished = (String, (DiskNumber, u64), [u8; SECTOR]);

fn wrong<T>(why: String) -> Result<T> {
    Err(Error::WrongUse(why))
}

/// A disk's first sector comes back from a file: its code, or its table too.
fn first_back(
    disk: DiskNumber,
    before: &[u8; SECTOR],
    saved: [u8; SECTOR],
    with_table: bool,
) -> Result<Wished> {
    if has_parameters(&saved) {
        return wrong("the file is a partition's boot sector; name a partition for it".into());
    }
    let code = with_code(before, &saved[..CODE_LEN]);
    let (table, after) = if with_table { ("code and table of ", saved) } else { ("the code of ", code) };
    Ok((format!("put back {table}the first sector of d{disk}"), (disk, 0), after))
}

/// A partition's boot sector comes back from a file.
fn boot_sector_back(found: &PartitionSector, saved: [u8; SECTOR]) -> Result<Wished> {
    if found.holds_table {
        return wrong(format!(
            "{} holds the table of the logical partitions, and no boot sector",
            found.name
        ));
    }
    if has_parameters(&partition_bytes(found)?) && !has_parameters(&saved) {
        return wrong(format!(
            "the file has no parameters of a volume, and the boot sector of {} has; it may be a disk's first sector",
            found.name
        ));
    }
    Ok((format!("put back the boot sector of {}", found.name), (found.disk, found.start), saved))
}

/// A partition's boot sector comes back from the copy that its file system keeps.
fn from_copy(found: &PartitionSector) -> Result<Wished> {
    let Some(copy) = found.backup.as_ref().and_then(|copy| as_sector(&copy.bytes)) else {
        return wrong(format!("the file system on {} keeps no copy of its boot sector", found.name));
    };
    Ok((format!("put back the boot sector of {} from its copy", found.name), (found.disk, found.start), copy))
}

/// A partition is the active one of its disk, whose first sector this is.
fn made_active(found: &PartitionSector, first: &[u8; SECTOR]) -> Result<Wished> {
    let Some(entry) = found.entry else {
        return wrong(format!(
            "{} has no entry in the table itself; one of the four first can be active",
            found.name
        ));
    };
    let what = format!("make {} the active partition of d{}", found.name, found.disk);
    Ok((what, (found.disk, 0), with_active(first, entry)))
}

/// The guard against losing the last way to a system. What a table brings that was not there is seen once it is written.
fn last_way(look: &Look, writes: &[Change]) -> Option<Refusal> {
    let sectors: Vec<SectorWrite> = writes.iter().filter_map(Change::sectors).cloned().collect();
    if sectors.iter().any(|write| write.offset == 0 && brings_a_table(write)) {
        return None;
    }
    last_way_by_sectors(look, &sectors)
}

/// The plan for what lies between a disk's first sector and its first partition. What starts is not followed through there.
fn gap(look: &Look, disk: DiskNumber, bytes: &[u8], before: &[u8]) -> Result<SectorPlan> {
    if look.survey.disk(disk).is_none_or(|facts| facts.table.kind != Some(TableKind::Mbr)) {
        return Err(Error::WrongUse(format!(
            "the partition table of d{disk} lies among these sectors, and an old one is not put over it"
        )));
    }
    let room = Which::Gap(disk).length(look);
    if bytes.is_empty() || !bytes.len().is_multiple_of(SECTOR) || bytes.len() as u64 > room {
        return Err(Error::WrongUse(format!(
            "the file has {} bytes; d{disk}{GAP} takes whole sectors of {SECTOR} bytes, {room} bytes at most",
            bytes.len()
        )));
    }
    let write = SectorWrite {
        what: format!("put back {} sectors behind the first one of d{disk}", bytes.len() / SECTOR),
        disk: identity(look, disk)?.clone(),
        offset: SECTOR as u64,
        before: Some(before.to_vec()),
        after: Some(bytes.to_vec()),
    };
    let planned: Vec<SectorWrite> = (write.before != write.after).then_some(write).into_iter().collect();
    let outcome = rehearse_bios(look, &planned, None).outcome;
    Ok(SectorPlan {
        writes: planned.into_iter().map(Change::Sectors).collect(),
        refusals: Vec::new(),
        outcome,
    })
}

/// What tells a disk from all others.
pub(crate) fn identity(look: &Look, disk: DiskNumber) -> Result<&String> {
    look.survey.disk(disk).and_then(|facts| facts.identity()).ok_or_else(|| {
        Error::WrongUse(format!(
            "nothing tells d{disk} from other disks: it has neither a serial nor a signature"
        ))
    })
}

/// The plan for one sector, with what stands against it.
fn finish(
    look: &Look,
    (what, (disk, offset), after): Wished,
    mut refusals: Vec<Refusal>,
) -> Result<SectorPlan> {
    let identity = identity(look, disk)?;
    let before = look.survey.boot_sectors.bytes_at(disk, offset).map(<[u8]>::to_vec);
    refusals.extend(in_use(look, disk, offset));
    let write = SectorWrite { what, disk: identity.clone(), offset, before, after: Some(after.to_vec()) };
    let is_different = write.before != write.after;
    let planned: Vec<SectorWrite> = is_different.then_some(write).into_iter().collect();
    let now = rehearse_bios(look, &[], None).outcome;
    let then = match planned.first().filter(|write| offset == 0 && brings_a_table(write)) {
        Some(_) => Outcome {
            kind: Kind::MayStart,
            text: format!("what the table then says: the partitions of d{disk} are seen once it is written"),
            system: None,
            ..now.clone()
        },
        None => rehearse_bios(look, &planned, None).outcome,
    };
    if now.is_start() && !then.is_start() {
        refusals.push(Refusal {
            code: Code::NothingStarts,
            message: format!("nothing would start any more: {}", then.text),
            way: "see `signpost sector list`; `signpost sector active` names another active partition".into(),
        });
    }
    Ok(SectorPlan { writes: planned.into_iter().map(Change::Sectors).collect(), refusals, outcome: then })
}

/// Whether a write changes what the table says of places and types, and not only which partition is active.
fn brings_a_table(write: &SectorWrite) -> bool {
    let (Some(before), Some(after)) = (&write.before, &write.after) else { return false };
    let differs = |at: usize| before.get(at) != after.get(at);
    (0..4 * ENTRY).any(|at| !at.is_multiple_of(ENTRY) && differs(TABLE + at))
}

/// A sector of a volume that is in use is the kernel's. A disk's first sector is part of a volume where that fills the disk alone.
fn in_use(look: &Look, disk: DiskNumber, offset: u64) -> Option<Refusal> {
    let starts_there = |volume: &&Volume| {
        let start = match look.survey.partition_of(volume) {
            Some((_, partition)) => partition.start,
            None => 0,
        };
        volume.disk == disk && volume.members.is_empty() && start == offset
    };
    let volume = look.survey.volumes.iter().find(starts_there)?;
    let how = volume.use_in_words()?;
    Some(Refusal {
        code: Code::PartitionUnsafe,
        message: format!("{} {how}, and its boot sector is part of it", volume.name),
        way: "stop that use, or do it from a rescue medium".into(),
    })
}

/// A first sector that was saved from another disk, by the signature that stands behind the code.
fn of_another_disk(saved: &[u8; SECTOR], own: &[u8; SECTOR], disk: DiskNumber) -> Option<Refusal> {
    let (theirs, ours) = (&saved[SIGNATURE], &own[SIGNATURE]);
    let is_another = theirs != ours && theirs != [0; 4] && ours != [0; 4];
    is_another.then(|| Refusal {
        code: Code::SectorForeign,
        message: format!("the file was saved from another disk than d{disk}: its signature is another"),
        way: "name the file that was saved from this disk; `signpost sector standard` writes plain code instead".into(),
    })
}

fn saved(bytes: &[u8]) -> Result<[u8; SECTOR]> {
    let sector = as_sector(bytes).ok_or_else(|| {
        Error::WrongUse(format!("the file has {} bytes; a sector has {SECTOR}", bytes.len()))
    })?;
    if !is_marked(&sector) {
        return Err(Error::WrongUse(
            "the file is not a boot sector: it lacks the mark 55AA at its end".into(),
        ));
    }
    Ok(sector)
}

fn first_bytes(first: Option<&FirstSector>, disk: DiskNumber) -> Result<[u8; SECTOR]> {
    first
        .and_then(|first| as_sector(&first.bytes))
        .ok_or_else(|| Error::unusable(format!("d{disk}"), "its first sector cannot be read"))
}

fn partition_bytes(found: &PartitionSector) -> Result<[u8; SECTOR]> {
    as_sector(&found.bytes).ok_or_else(|| Error::unusable(&found.name, "its boot sector cannot be read"))
}
