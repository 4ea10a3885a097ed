//! MBR partition tables with extended partitions (UEFI 2.10, 5.2; the layout that DOS made and all follow).

pub mod geometry;

use alloc::string::{String, ToString};
use alloc::vec::Vec;

use self::geometry::Geometry;
use crate::block::{BlockDevice, ReadError};
use crate::bytes::{le16, le32};

/// Where the four entries stand in the sector.
const ENTRIES: usize = 446;
const SIGNATURE: u16 = 0xaa55;
/// Logical partitions that are followed; each is a link to the next.
const MAX_LOGICAL: u32 = 256;

/// The type of a partition (`OSIndicator`).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct MbrType(pub u8);

impl MbrType {
    /// Stands for a whole GPT disk.
    pub const PROTECTIVE: Self = Self(0xee);
    /// An ESP.
    pub const EFI_SYSTEM: Self = Self(0xef);
    /// An extended boot partition.
    pub const EXTENDED_BOOT: Self = Self(0xea);
    /// What a PC's vendor put there.
    pub const VENDOR: Self = Self(0x12);
    /// What restores a system.
    pub const RECOVERY: Self = Self(0x27);

    /// Whether logical partitions lie in it.
    pub fn is_extended(self) -> bool {
        matches!(self.0, 0x05 | 0x0f | 0x85)
    }

    /// Whether a BSD label divides it.
    pub fn is_bsd(self) -> bool {
        matches!(self.0, 0xa5 | 0xa6 | 0xa9)
    }

    /// Whether systems of its time find it by cylinder, head and sector.
    pub fn is_by_chs(self) -> bool {
        matches!(self.0, 0x01 | 0x04 | 0x05 | 0x06 | 0x0b)
    }

    /// The type in a few words; `None` for one that is not known here.
    pub fn name(self) -> Option<&'static str> {
        NAMES.iter().find(|(kind, _)| *kind == self.0).map(|(_, name)| *name)
    }
}

const NAMES: [(u8, &str); 35] = [
    (0x01, "FAT12"),
    (0x04, "FAT16, small"),
    (0x05, "extended"),
    (0x06, "FAT16"),
    (0x07, "NTFS or exFAT"),
    (0x0b, "FAT32, CHS"),
    (0x0c, "FAT32"),
    (0x0e, "FAT16, LBA"),
    (0x0f, "extended, LBA"),
    (0x11, "hidden FAT12"),
    (0x12, "vendor"),
    (0x14, "hidden FAT16"),
    (0x16, "hidden FAT16"),
    (0x17, "hidden NTFS"),
    (0x1b, "hidden FAT32"),
    (0x1c, "hidden FAT32"),
    (0x1e, "hidden FAT16"),
    (0x27, "recovery"),
    (0x42, "LDM data"),
    (0x63, "Unix"),
    (0x82, "Linux swap"),
    (0x83, "Linux data"),
    (0x84, "hibernation"),
    (0x85, "extended, Linux"),
    (0x8e, "Linux LVM"),
    (0xa5, "BSD slice"),
    (0xa6, "BSD slice"),
    (0xa8, "UFS"),
    (0xa9, "BSD slice"),
    (0xab, "boot"),
    (0xaf, "HFS+"),
    (0xbf, "Solaris"),
    (0xee, "GPT protective"),
    (0xef, "ESP"),
    (0xfd, "Linux RAID"),
];

/// Cylinder, head, sector: how BIOS firmware of old counts. Sectors count from 1.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Chs {
    /// Cylinder; 1023 stands for all that is further out.
    pub cylinder: u16,
    /// Head.
    pub head: u8,
    /// Sector, from 1.
    pub sector: u8,
}

impl Chs {
    fn decode(bytes: &[u8], at: usize) -> Option<Self> {
        let packed = le16(bytes, at.checked_add(1)?)?;
        let [low, high] = packed.to_le_bytes();
        let cylinder = u16::from(low & 0xc0) << 2 | u16::from(high);
        Some(Self { cylinder, head: *bytes.get(at)?, sector: low & 0x3f })
    }

    /// The sector's number, counted from 0, under the geometry that disks show since the nineties.
    pub fn to_lba(self) -> Option<u64> {
        self.under(Geometry::USUAL)
    }
}

/// A partition, its place in sectors of the disk.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct MbrPartition {
    /// Its number, as Linux counts: 1 to 4 in the table, logical ones from 5 on.
    pub number: u32,
    /// The number that firmware's device paths find it by: a logical one by that of the extended one around it.
    pub firmware_number: u32,
    /// What it is for.
    pub kind: MbrType,
    /// Whether the boot sector starts it (`BootIndicator`).
    pub is_active: bool,
    /// First sector.
    pub first_lba: u64,
    /// Sectors.
    pub sectors: u64,
    /// First and last sector as the table gives them by CHS.
    pub chs: (Chs, Chs),
}

/// A table.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Mbr {
    /// The disk's signature.
    pub signature: u32,
    /// Partitions, by number.
    pub partitions: Vec<MbrPartition>,
    /// Why the chain of logical partitions breaks off.
    pub broken_chain: Option<String>,
}

impl Mbr {
    /// Reads sector 0 and what it links to; `None` where no partition table stands there.
    ///
    /// # Errors
    /// Where the disk does not give sector 0.
    pub fn read(device: &dyn BlockDevice, sector_size: u32) -> Result<Option<Self>, ReadError> {
        let mut sector = [0; 512];
        if device.size() < 512 {
            return Ok(None);
        }
        device.read_at(0, &mut sector)?;
        let Some(primary) = decode(&sector) else { return Ok(None) };
        let sectors = device.size().checked_div(u64::from(sector_size)).unwrap_or(0);
        let signature = le32(&sector, 440).unwrap_or(0);
        let used: Vec<MbrPartition> = primary.into_iter().filter(|entry| entry.kind.0 != 0).collect();
        // A boot sector of a file system ends in the same two bytes; what stands there then points nowhere.
        let holds = |entry: &MbrPartition| {
            entry.sectors > 0 && (entry.first_lba > 0 || entry.kind.0 == 0x17) && entry.first_lba < sectors
        };
        if used.is_empty() || !used.iter().any(holds) {
            return Ok(None);
        }
        let mut table = Self { signature, partitions: used.clone(), broken_chain: None };
        for extended in used.iter().filter(|entry| entry.kind.is_extended()) {
            if let Err(why) = table.follow(device, extended, u64::from(sector_size)) {
                table.broken_chain = Some(why);
            }
        }
        Ok(Some(table))
    }

    /// Whether an entry stands for a GPT.
    pub fn is_protective(&self) -> bool {
        self.partitions.iter().any(|entry| entry.kind == MbrType::PROTECTIVE)
    }

    /// Adds the logical partitions of an extended one. Bounded by their number; a link back ends it.
    fn follow(
        &mut self,
        device: &dyn BlockDevice,
        extended: &MbrPartition,
        sector_size: u64,
    ) -> Result<(), String> {
        let mut at = extended.first_lba;
        let mut seen = Vec::new();
        let mut number = self.partitions.iter().map(|entry| entry.number).max().unwrap_or(4).max(4);
        for _ in 0..MAX_LOGICAL {
            if seen.contains(&at) {
                return Err(alloc::format!("the chain of logical partitions comes back to sector {at}"));
            }
            seen.push(at);
            let mut sector = [0; 512];
            device.read_at(at.saturating_mul(sector_size), &mut sector).map_err(|error| error.to_string())?;
            let Some(entries) = decode(&sector) else {
                return Err(alloc::format!("sector {at} holds no table of a logical partition"));
            };
            // As Linux counts them: one of no length has no number, whatever its type.
            for entry in entries.iter().filter(|entry| entry.sectors > 0 && !entry.kind.is_extended()) {
                number = number.saturating_add(1);
                let first_lba = at.saturating_add(entry.first_lba);
                self.partitions.push(MbrPartition {
                    number,
                    firmware_number: extended.number,
                    first_lba,
                    ..entry.clone()
                });
            }
            match entries.iter().find(|entry| entry.kind.is_extended() && entry.sectors > 0) {
                Some(next) => at = extended.first_lba.saturating_add(next.first_lba),
                None => return Ok(()),
            }
        }
        Err(alloc::format!("more than {MAX_LOGICAL} logical partitions"))
    }
}

/// The four entries of a sector; `None` where it is not a table.
fn decode(sector: &[u8; 512]) -> Option<Vec<MbrPartition>> {
    if le16(sector, 510)? != SIGNATURE {
        return None;
    }
    let mut entries = Vec::new();
    for (number, entry) in (1u32..).zip(sector.get(ENTRIES..510)?.as_chunks::<16>().0) {
        let indicator = *entry.first()?;
        if indicator & 0x7f != 0 {
            return None;
        }
        entries.push(MbrPartition {
            number,
            firmware_number: number,
            kind: MbrType(*entry.get(4)?),
            is_active: indicator != 0,
            first_lba: u64::from(le32(entry, 8)?),
            sectors: u64::from(le32(entry, 12)?),
            chs: (Chs::decode(entry, 1)?, Chs::decode(entry, 5)?),
        });
    }
    Some(entries)
}

#[cfg(test)]
mod tests {
    use super::*;
    use alloc::vec;

    fn put(disk: &mut [u8], sector: usize, slot: usize, kind: u8, first: u32, sectors: u32) {
        let at = sector * 512 + ENTRIES + slot * 16;
        disk[at + 4] = kind;
        disk[at + 8..at + 12].copy_from_slice(&first.to_le_bytes());
        disk[at + 12..at + 16].copy_from_slice(&sectors.to_le_bytes());
        disk[sector * 512 + 510..sector * 512 + 512].copy_from_slice(&[0x55, 0xaa]);
    }

    #[test]
    fn logical_partitions_are_counted_from_five_and_a_circle_ends() {
        let mut disk = vec![0; 512 * 400];
        put(&mut disk, 0, 0, 0x83, 10, 20);
        put(&mut disk, 0, 2, 0x05, 100, 200);
        put(&mut disk, 100, 0, 0x83, 2, 8);
        put(&mut disk, 100, 1, 0x05, 50, 20);
        put(&mut disk, 150, 0, 0x82, 2, 8);
        let table = Mbr::read(&disk, 512).unwrap().unwrap();
        let seen: Vec<_> = table.partitions.iter().map(|p| (p.number, p.kind.0, p.first_lba)).collect();
        assert_eq!(seen, [(1, 0x83, 10), (3, 5, 100), (5, 0x83, 102), (6, 0x82, 152)]);
        assert_eq!(table.broken_chain, None);
        put(&mut disk, 150, 1, 0x05, 0, 20);
        let table = Mbr::read(&disk, 512).unwrap().unwrap();
        assert_eq!(table.partitions.len(), 4);
        assert!(table.broken_chain.unwrap().contains("comes back to sector 100"));
    }

    #[test]
    fn a_logical_partition_of_no_length_has_no_number() {
        let mut disk = vec![0; 512 * 400];
        put(&mut disk, 0, 0, 0x05, 100, 200);
        put(&mut disk, 100, 0, 0x83, 2, 0);
        put(&mut disk, 100, 1, 0x05, 50, 20);
        put(&mut disk, 150, 0, 0x82, 2, 8);
        let table = Mbr::read(&disk, 512).unwrap().unwrap();
        let seen: Vec<_> = table.partitions.iter().map(|p| (p.number, p.kind.0)).collect();
        assert_eq!(seen, [(1, 5), (5, 0x82)]);
    }

    #[test]
    fn the_first_sector_of_a_file_system_is_no_table() {
        let mut disk = vec![0x6e; 512 * 4];
        disk[510..512].copy_from_slice(&[0x55, 0xaa]);
        assert_eq!(Mbr::read(&disk, 512), Ok(None));
        disk[446..510].fill(0);
        assert_eq!(Mbr::read(&disk, 512), Ok(None));
        assert_eq!(Mbr::read(&vec![], 512), Ok(None));
    }

    #[test]
    fn cylinders_heads_and_sectors_are_taken_apart() {
        let chs = Chs::decode(&[254, 0xff, 0xff], 0).unwrap();
        assert_eq!(chs, Chs { cylinder: 1023, head: 254, sector: 63 });
        assert_eq!(Chs { cylinder: 0, head: 1, sector: 1 }.to_lba(), Some(63));
        assert_eq!(Chs { cylinder: 0, head: 0, sector: 0 }.to_lba(), None);
    }
}
