//! How firmware of old counts sectors, and whether a boot sector counts as the partition table does.

use super::{ENTRY, SECTOR, TABLE};

/// Heads, and sectors of a track.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Geometry {
    /// Heads.
    pub heads: u16,
    /// Sectors of a track.
    pub sectors: u16,
}

/// A place by cylinder, head and sector; sectors count from 1.
struct Place {
    cylinder: u64,
    head: u64,
    sector: u64,
}

impl Place {
    /// The one at these bytes of an entry; nothing where it is further out than cylinders reach, or none at all.
    fn decode(entry: &[u8], at: usize) -> Option<Self> {
        /// It stands for all that is further out.
        const LAST_CYLINDER: u64 = 1023;
        let [head, low, high] = *entry.get(at..)?.first_chunk()?;
        let (sector, cylinder) = (u64::from(low & 0x3f), u64::from(low & 0xc0) << 2 | u64::from(high));
        let head = u64::from(head);
        (cylinder < LAST_CYLINDER && sector > 0).then_some(Self { cylinder, head, sector })
    }

    /// The number of its sector, from 0; nothing where there is no such place.
    fn under(&self, geometry: Geometry) -> Option<u64> {
        let (heads, sectors) = (u64::from(geometry.heads), u64::from(geometry.sectors));
        let is_there = self.head < heads && self.sector <= sectors;
        let track = self.cylinder.checked_mul(heads)?.checked_add(self.head)?;
        track.checked_mul(sectors)?.checked_add(self.sector)?.checked_sub(1).filter(|_| is_there)
    }
}

/// The geometry that a volume's parameters in its boot sector name, where the entry of its partition contradicts it: under it,
/// cylinder, head and sector there lead to other places than the entry's sectors. Entries of a type that goes by sector numbers,
/// and places further out than cylinders reach, say nothing of it.
pub fn contradicted(boot_sector: &[u8; SECTOR], table: &[u8; SECTOR], index: usize) -> Option<Geometry> {
    /// Types of partitions that are found by cylinder, head and sector.
    const BY_CHS: [u8; 4] = [0x01, 0x04, 0x06, 0x0b];
    let (sectors, heads) = (le16(boot_sector, 24)?, le16(boot_sector, 26)?);
    let geometry = Geometry { heads, sectors };
    let entry: &[u8; ENTRY] = table.get(TABLE.checked_add(index.checked_mul(ENTRY)?)?..)?.first_chunk()?;
    let (start, length) = (u64::from(le32(entry, 8)?), u64::from(le32(entry, 12)?));
    let last = start.saturating_add(length).saturating_sub(1);
    let is_false = |at: usize, number: u64, slack: u64| {
        let place = Place::decode(entry, at);
        place.is_some_and(|place| place.under(geometry).is_none_or(|told| told.abs_diff(number) > slack))
    };
    // Ends are rounded to cylinders by some.
    let cylinder = u64::from(heads).saturating_mul(sectors.into());
    let is_contradicted = is_false(1, start, 0) || is_false(5, last, cylinder);
    (BY_CHS.contains(entry.get(4)?) && is_contradicted).then_some(geometry)
}

fn le16(bytes: &[u8], at: usize) -> Option<u16> {
    bytes.get(at..)?.first_chunk().map(|bytes| u16::from_le_bytes(*bytes))
}

fn le32(bytes: &[u8], at: usize) -> Option<u32> {
    bytes.get(at..)?.first_chunk().map(|bytes| u32::from_le_bytes(*bytes))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_geometry_is_held_against_the_tables() {
        // Cylinder 2, head 3, sector 5 under 16 heads and 63 sectors.
        let start = (2 * 16 + 3) * 63 + 4_u32;
        let mut table = [0; SECTOR];
        table[TABLE + ENTRY..TABLE + ENTRY + 5].copy_from_slice(&[0, 3, 5, 2, 0x06]);
        table[TABLE + ENTRY + 8..TABLE + ENTRY + 12].copy_from_slice(&start.to_le_bytes());
        let says = |sectors: u16, heads: u16, table: &[u8; SECTOR]| {
            let mut sector = [0; SECTOR];
            sector[24..26].copy_from_slice(&sectors.to_le_bytes());
            sector[26..28].copy_from_slice(&heads.to_le_bytes());
            contradicted(&sector, table, 1)
        };
        assert_eq!(says(63, 16, &table), None);
        assert_eq!(says(63, 255, &table), Some(Geometry { heads: 255, sectors: 63 }));
        assert_eq!(says(0, 0, &table), Some(Geometry { heads: 0, sectors: 0 }));
        // At the first track's end heads do not matter, so the partition's end tells: cylinder 9, the last of 16 heads.
        table[TABLE + ENTRY + 1..TABLE + ENTRY + 4].copy_from_slice(&[1, 1, 0]);
        table[TABLE + ENTRY + 5..TABLE + ENTRY + 8].copy_from_slice(&[15, 63, 9]);
        table[TABLE + ENTRY + 8..TABLE + ENTRY + 12].copy_from_slice(&63_u32.to_le_bytes());
        table[TABLE + ENTRY + 12..TABLE + ENTRY + 16].copy_from_slice(&(10 * 16 * 63 - 63_u32).to_le_bytes());
        assert_eq!(says(63, 16, &table), None);
        assert_eq!(says(63, 255, &table), Some(Geometry { heads: 255, sectors: 63 }));
        assert_eq!(says(63, 8, &table), Some(Geometry { heads: 8, sectors: 63 }));
        // By sector numbers, and beyond what cylinders reach.
        table[TABLE + ENTRY + 4] = 0x0e;
        assert_eq!(says(63, 255, &table), None);
        table[TABLE + ENTRY + 1..TABLE + ENTRY + 8]
            .copy_from_slice(&[254, 0xff, 0xff, 0x06, 254, 0xff, 0xff]);
        assert_eq!(says(63, 16, &table), None);
    }
}
