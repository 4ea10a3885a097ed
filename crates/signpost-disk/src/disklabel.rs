//! BSD disk labels: the table that divides a slice (the systems' common `sys/disklabel.h`).

use alloc::string::String;
use alloc::vec::Vec;

use crate::block::BlockDevice;
use crate::bytes::{le16, le32};
use crate::text::fixed_text;

const MAGIC: u32 = 0x8256_4557;
/// The label's sector within its slice.
const SECTOR: u64 = 1;
/// Partitions of a label: `a` to `p` at most.
const MAX_PARTITIONS: u16 = 16;
/// The partition that stands for the whole, `c`.
const RAW_PART: usize = 2;

/// A label.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Disklabel {
    /// `d_packname`: what its maker called it.
    pub name: Option<String>,
    /// Partitions in use, without those that stand for the whole slice or disk.
    pub partitions: Vec<LabelPartition>,
}

/// A partition of a label, its place in sectors of the disk.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LabelPartition {
    /// `a` to `p`.
    pub letter: char,
    /// `p_fstype`.
    pub kind: u8,
    /// First sector.
    pub first_lba: u64,
    /// Sectors.
    pub sectors: u64,
}

/// What a partition of a label is for, in a few words.
pub fn kind_name(kind: u8) -> Option<&'static str> {
    Some(match kind {
        1 => "BSD swap",
        7 => "BSD UFS",
        8 => "FAT",
        9 => "LFS",
        14 => "BSD RAID",
        17 => "ext2",
        18 => "NTFS",
        27 => "ZFS",
        _ => return None,
    })
}

impl Disklabel {
    /// Reads the label of a slice of `sectors` sectors from `first_lba` on; `None` where there is none.
    pub fn read(device: &dyn BlockDevice, sector_size: u32, first_lba: u64, sectors: u64) -> Option<Self> {
        let mut label = [0; 512];
        let at = first_lba.checked_add(SECTOR)?.checked_mul(u64::from(sector_size))?;
        device.read_at(at, &mut label).ok()?;
        if le32(&label, 0)? != MAGIC || le32(&label, 132)? != MAGIC {
            return None;
        }
        let count = le16(&label, 138)?.min(MAX_PARTITIONS);
        let all = label.get(148..)?.as_chunks::<16>().0.get(..usize::from(count))?;
        // Where the whole starts at 0, the others count from the slice's start, else from the disk's.
        let whole_at = all.get(RAW_PART).and_then(|entry| le32(entry, 4)).unwrap_or(0);
        let base = if whole_at == 0 { first_lba } else { 0 };
        let end = first_lba.saturating_add(sectors);
        let mut partitions = Vec::new();
        for (letter, entry) in ('a'..='p').zip(all) {
            let (count, kind) = (u64::from(le32(entry, 0)?), *entry.get(12)?);
            let first = base.saturating_add(u64::from(le32(entry, 4)?));
            let is_inside = first >= first_lba && first.saturating_add(count) <= end;
            if kind == 0 || count == 0 || !is_inside || (first == first_lba && count >= sectors) {
                continue;
            }
            partitions.push(LabelPartition { letter, kind, first_lba: first, sectors: count });
        }
        Some(Self { name: label.get(24..40).and_then(fixed_text), partitions })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use alloc::vec;

    fn labelled(offset: u32) -> Vec<u8> {
        let mut disk = vec![0; 512 * 200];
        let label = 101 * 512;
        let mut put =
            |at: usize, bytes: &[u8]| disk[label + at..label + at + bytes.len()].copy_from_slice(bytes);
        put(0, &MAGIC.to_le_bytes());
        put(132, &MAGIC.to_le_bytes());
        put(24, b"Skerry BSD 9");
        put(138, &4u16.to_le_bytes());
        for (index, (first, sectors, kind)) in
            [(offset + 16, 30u32, 7u8), (offset + 46, 10, 1), (offset, 80, 0), (offset + 70, 80, 7)]
                .iter()
                .enumerate()
        {
            put(148 + index * 16, &sectors.to_le_bytes());
            put(152 + index * 16, &first.to_le_bytes());
            put(160 + index * 16, &[*kind]);
        }
        disk
    }

    #[test]
    fn places_count_from_the_slice_or_from_the_disk() {
        for offset in [0, 100] {
            let label = Disklabel::read(&labelled(offset), 512, 100, 80).unwrap();
            assert_eq!(label.name.as_deref(), Some("Skerry BSD 9"));
            let seen: Vec<_> = label.partitions.iter().map(|p| (p.letter, p.first_lba, p.sectors)).collect();
            assert_eq!(seen, [('a', 116, 30), ('b', 146, 10)], "the last reaches past the slice");
        }
        assert_eq!(Disklabel::read(&vec![0; 2048], 512, 1, 3), None);
    }
}
