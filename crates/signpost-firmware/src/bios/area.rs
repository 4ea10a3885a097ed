//! Where our boot program for BIOS lives: the sectors between a disk's first sector and its first partition, or a BIOS boot
//! partition. Two copies of the program, two slots of the menu, two sectors of what is remembered from start to start; of each the
//! one that is not in use is written, so that a cut hurts no more than that.

use alloc::vec::Vec;

use super::{CODE_LEN, SECTOR};
use crate::bytes::{u16_at, u32_at};

/// Sectors of a slot of the menu.
pub const SLOT_SECTORS: u32 = 128;
/// Sectors before the copies: state, and slots.
const BEFORE: u32 = 2 + 2 * SLOT_SECTORS;
/// How the program is packed (LZMA): bits of literals' context and position, and of positions, in the one byte that the format
/// has for them: 3, 0 and 0.
pub const PROPERTIES: u8 = 3;
/// Bytes that what unpacks looks back.
pub const DICTIONARY: u32 = 1 << 20;
/// No copy of the program has more sectors, since it has to lie below 512 KiB where it is unpacked.
pub const MAX_COPY: u32 = 960;
/// Where the first sector holds the first sectors of the two copies.
pub const COPIES: usize = 432;
/// Where the first sector has the marker that copies begin with.
const FIRST_MARKER: usize = 424;
/// What a copy begins with.
pub const MARKER: &[u8; 8] = b"SIGNPOST";
/// The format of copies.
pub const FORMAT: u16 = 1;
/// Where the first sector puts a copy, as a segment of memory: units of 16 bytes.
const LOAD_SEGMENT: u32 = 0x800;
/// Segments in a sector.
const SEGMENTS: u32 = 32;
/// Where a copy's checksum stands, and what it covers begins behind it.
const CHECKSUM: usize = 8;
const COVERED: usize = 12;
/// Bytes of a copy's head.
const HEAD: usize = 32;

/// Where everything of ours lies on a disk, in sectors of 512 bytes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[cfg_attr(feature = "serde", derive(serde::Serialize, serde::Deserialize))]
pub struct Area {
    /// The first sector of it.
    pub start: u32,
    /// Sectors for each copy of the program.
    pub room: u32,
}

impl Area {
    /// An area in so many sectors from `start` on; nothing where a copy of the program does not fit.
    pub fn in_sectors(start: u32, sectors: u32, program: u32) -> Option<Self> {
        let room = (sectors.checked_sub(BEFORE)? / 2).min(MAX_COPY);
        (room >= program && program > 0).then_some(Self { start, room })
    }

    /// Sectors that an area needs for a program of so many.
    pub fn needed(program: u32) -> u32 {
        BEFORE.saturating_add(program.saturating_mul(2))
    }

    /// The area that a first sector of ours goes to.
    pub fn of_first(sector: &[u8; SECTOR]) -> Option<Self> {
        if sector.get(FIRST_MARKER..COPIES) != Some(MARKER) {
            return None;
        }
        let (first, second) = (u32_at(sector, COPIES)?, u32_at(sector, COPIES.checked_add(4)?)?);
        let (start, room) = (first.checked_sub(BEFORE)?, second.checked_sub(first)?);
        (start > 0 && (1..=MAX_COPY).contains(&room)).then_some(Self { start, room })
    }

    /// The first sector of a copy of the program, 0 or 1.
    pub fn copy(&self, index: u32) -> u32 {
        self.start.saturating_add(BEFORE).saturating_add(self.room.saturating_mul(index))
    }

    /// The first sector of a slot, 0 or 1.
    pub fn slot(&self, index: u32) -> u32 {
        self.start.saturating_add(2).saturating_add(SLOT_SECTORS.saturating_mul(index))
    }

    /// The sector of a state, 0 or 1.
    pub fn state(&self, index: u32) -> u32 {
        self.start.saturating_add(index)
    }

    /// All sectors of it.
    pub fn sectors(&self) -> u32 {
        BEFORE.saturating_add(self.room.saturating_mul(2))
    }

    /// The code of a first sector that goes to this area.
    pub fn first_code(&self, code: &[u8; CODE_LEN]) -> [u8; CODE_LEN] {
        let mut made = *code;
        let numbers = [self.copy(0), self.copy(1)].into_iter().flat_map(u32::to_le_bytes);
        for (byte, number) in made.iter_mut().skip(COPIES).zip(numbers) {
            *byte = number;
        }
        made
    }
}

/// The parts of a boot program for BIOS, as it is built: the code of a first sector, and a copy, which stands behind that sector. Nothing
/// where it is none.
pub fn program(bytes: &[u8]) -> Option<(&[u8; CODE_LEN], &[u8])> {
    let (first, copy) = bytes.split_at_checked(SECTOR)?;
    let is_ours = first.get(FIRST_MARKER..COPIES) == Some(MARKER);
    let copy = copy_in(copy).ok().filter(|copy| copy.len().checked_add(SECTOR) == Some(bytes.len()))?;
    is_ours.then_some((first.first_chunk()?, copy))
}

/// Whether bytes are such as lie in an area: a copy of the program, or a slot of the menu.
pub fn is_part(bytes: &[u8]) -> bool {
    const SLOT: &[u8] = b"# signpost menu slot,";
    bytes.starts_with(MARKER) || bytes.starts_with(SLOT)
}

/// Whether a disk's first sector is ours, and goes to an area.
pub fn is_first(sector: &[u8; SECTOR]) -> bool {
    Area::of_first(sector).is_some()
}

/// What is wrong with a copy of the program.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
pub enum CopyFault {
    /// None was ever written there.
    #[error("none is there")]
    None,
    /// It is of a format that is not known.
    #[error("its format is {0}, and format {FORMAT} is known")]
    Format(u16),
    /// It claims more sectors than there are.
    #[error("it claims to end behind its room")]
    Length,
    /// What is there is not what was written.
    #[error("its checksum is {computed:08x}, and its head says {stored:08x}")]
    Checksum {
        /// Over what is there.
        computed: u32,
        /// What should be.
        stored: u32,
    },
}

/// A copy of the program in these bytes, if it is whole; it ends with a sector.
///
/// # Errors
/// What is wrong with it.
pub fn copy_in(bytes: &[u8]) -> Result<&[u8], CopyFault> {
    if bytes.get(..MARKER.len()) != Some(MARKER) {
        return Err(CopyFault::None);
    }
    let format = u16_at(bytes, 12).ok_or(CopyFault::Length)?;
    if format != FORMAT {
        return Err(CopyFault::Format(format));
    }
    let end = u32::from(u16_at(bytes, 14).ok_or(CopyFault::Length)?);
    let sectors = end.checked_sub(LOAD_SEGMENT).filter(|length| length % SEGMENTS == 0);
    let sectors = sectors.map(|length| length / SEGMENTS).filter(|count| (1..=MAX_COPY).contains(count));
    let length = sectors.and_then(|count| usize::try_from(count).ok()?.checked_mul(SECTOR));
    let copy = length.and_then(|length| bytes.get(..length)).ok_or(CopyFault::Length)?;
    let stored = u32_at(copy, CHECKSUM).ok_or(CopyFault::Length)?;
    let computed = checksum(copy.get(COVERED..).unwrap_or_default());
    if computed == stored { Ok(copy) } else { Err(CopyFault::Checksum { computed, stored }) }
}

/// A copy made of the stage, which begins with an empty head, and of what the stage unpacks; nothing where that is too long.
pub fn make_copy(stage: &[u8], packed: &[u8], unpacked: u32) -> Option<Vec<u8>> {
    let mut copy = stage.to_vec();
    let packed_at = u32::try_from(copy.len()).ok()?;
    copy.extend_from_slice(packed);
    copy.resize(copy.len().next_multiple_of(SECTOR), 0);
    let sectors = u32::try_from(copy.len() / SECTOR).ok().filter(|count| *count <= MAX_COPY)?;
    let end = u16::try_from(LOAD_SEGMENT.checked_add(sectors.checked_mul(SEGMENTS)?)?).ok()?;
    let mut head: Vec<u8> = Vec::with_capacity(HEAD);
    head.extend_from_slice(MARKER);
    head.extend_from_slice(&[0; 4]);
    head.extend_from_slice(&FORMAT.to_le_bytes());
    head.extend_from_slice(&end.to_le_bytes());
    for number in [packed_at, u32::try_from(packed.len()).ok()?, unpacked, 0] {
        head.extend_from_slice(&number.to_le_bytes());
    }
    copy.get_mut(..HEAD)?.copy_from_slice(&head);
    let checksum = checksum(copy.get(COVERED..)?);
    copy.get_mut(CHECKSUM..COVERED)?.copy_from_slice(&checksum.to_le_bytes());
    Some(copy)
}

fn checksum(bytes: &[u8]) -> u32 {
    crc::Crc::<u32, crc::Table<1>>::new(&crc::CRC_32_ISO_HDLC).checksum(bytes)
}

#[cfg(test)]
mod tests {
    use super::*;
    use alloc::vec;
    use proptest::prelude::*;

    #[test]
    fn nothing_lies_over_another() {
        let area = Area::in_sectors(1, 2047, 851).unwrap();
        assert_eq!(area.room, 894);
        let mut parts = vec![(area.state(0), 1), (area.state(1), 1)];
        parts.extend([0, 1].map(|index| (area.slot(index), SLOT_SECTORS)));
        parts.extend([0, 1].map(|index| (area.copy(index), area.room)));
        let mut at = area.start;
        for (start, length) in parts {
            assert_eq!(start, at);
            at += length;
        }
        assert_eq!(at - area.start, area.sectors());
        assert!(area.sectors() <= 2047);
        assert_eq!(Area::in_sectors(1, 62, 851), None);
        assert_eq!(Area::in_sectors(1, 2047, 895), None);
    }

    #[test]
    fn a_first_sector_tells_its_area() {
        let area = Area { start: 34, room: 880 };
        let mut sector = [0; SECTOR];
        sector[..CODE_LEN].copy_from_slice(&area.first_code(&[0x90; CODE_LEN]));
        assert_eq!(Area::of_first(&sector), None, "another's code");
        sector[FIRST_MARKER..COPIES].copy_from_slice(MARKER);
        assert_eq!(Area::of_first(&sector), Some(area));
        assert_eq!(Area::of_first(&[0; SECTOR]), None);
        assert_eq!(Area::of_first(&[0xff; SECTOR]), None);
    }

    proptest! {
        #[test]
        fn a_copy_is_whole_or_told(at in 0usize..2048, bit in 0u8..8) {
            let copy = make_copy(&[0x11; 700], &[0x22; 1000], 5000).unwrap();
            prop_assert_eq!(copy_in(&copy), Ok(&copy[..]));
            let mut longer = copy.clone();
            longer.extend([7; 1024]);
            prop_assert_eq!(copy_in(&longer), Ok(&copy[..]), "what stands behind it is not of it");
            let mut hurt = copy;
            hurt[at] ^= 1 << bit;
            prop_assert!(copy_in(&hurt).is_err());
        }

        #[test]
        fn any_bytes_are_read_without_harm(bytes in prop::collection::vec(any::<u8>(), 0..2000)) {
            let mut marked = MARKER.to_vec();
            marked.extend(bytes);
            prop_assert!(copy_in(&marked).is_err());
        }
    }
}
