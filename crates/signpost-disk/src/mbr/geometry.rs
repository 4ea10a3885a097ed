//! Whether a boot sector counts in the heads and sectors of a track in which the partition table counts.

use super::{Chs, MbrPartition, decode};
use crate::bytes::le16;

/// Heads, and sectors of a track.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Geometry {
    /// Heads.
    pub heads: u16,
    /// Sectors of a track.
    pub sectors: u16,
}

impl Geometry {
    /// That which disks show since the nineties.
    pub const USUAL: Self = Self { heads: 255, sectors: 63 };

    /// The one that a volume's parameters in its boot sector name.
    fn of_boot_sector(sector: &[u8; 512]) -> Option<Self> {
        Some(Self { sectors: le16(sector, 24)?, heads: le16(sector, 26)? })
    }
}

impl Chs {
    /// The sector's number, counted from 0; nothing where the geometry has no such place.
    pub fn under(self, geometry: Geometry) -> Option<u64> {
        let (heads, sectors) = (u64::from(geometry.heads), u64::from(geometry.sectors));
        let (head, sector) = (u64::from(self.head), u64::from(self.sector));
        let track = u64::from(self.cylinder).checked_mul(heads)?.checked_add(head)?;
        let number = track.checked_mul(sectors)?.checked_add(sector.checked_sub(1)?)?;
        (head < heads && sector <= sectors).then_some(number)
    }

    /// Whether it says where it is: the last cylinder stands for all that is further out.
    fn is_told(self) -> bool {
        self.cylinder < 1023 && self.sector > 0
    }
}

impl MbrPartition {
    /// Whether its places by cylinder, head and sector are others than those by number, under a geometry. They say nothing where its
    /// type does not go by them.
    fn contradicts(&self, geometry: Geometry) -> bool {
        let is_other = |place: Chs, number: u64, slack: u64| {
            place.is_told() && place.under(geometry).is_none_or(|told| told.abs_diff(number) > slack)
        };
        let last = self.first_lba.saturating_add(self.sectors).saturating_sub(1);
        // Ends are rounded to cylinders by some.
        let cylinder = u64::from(geometry.heads).saturating_mul(geometry.sectors.into());
        let (first_place, last_place) = self.chs;
        self.kind.is_by_chs()
            && (is_other(first_place, self.first_lba, 0) || is_other(last_place, last, cylinder))
    }
}

/// The geometry that a volume's parameters in its boot sector name, where the entry of this index in the table contradicts it: code that
/// counts so finds other places than the table's.
pub fn contradicted(boot_sector: &[u8; 512], table: &[u8; 512], index: usize) -> Option<Geometry> {
    let geometry = Geometry::of_boot_sector(boot_sector)?;
    decode(table)?.get(index)?.contradicts(geometry).then_some(geometry)
}

#[cfg(test)]
mod tests {
    use super::*;

    const ENTRY: usize = 462;

    /// The second entry of a table, its type and its places by cylinder, head and sector; where it starts, how long it is.
    fn table(entry: [u8; 8], first: u32, sectors: u32) -> [u8; 512] {
        let mut table = [0; 512];
        table[ENTRY..ENTRY + 8].copy_from_slice(&entry);
        table[ENTRY + 8..ENTRY + 12].copy_from_slice(&first.to_le_bytes());
        table[ENTRY + 12..ENTRY + 16].copy_from_slice(&sectors.to_le_bytes());
        table[510..].copy_from_slice(&[0x55, 0xaa]);
        table
    }

    fn says(sectors: u16, heads: u16, table: &[u8; 512]) -> Option<Geometry> {
        let mut sector = [0; 512];
        sector[24..26].copy_from_slice(&sectors.to_le_bytes());
        sector[26..28].copy_from_slice(&heads.to_le_bytes());
        contradicted(&sector, table, 1)
    }

    #[test]
    fn heads_and_sectors_are_held_against_the_table() {
        // From cylinder 2, head 3, sector 5 under 16 heads and 63 sectors, to where nothing is told.
        let far = table([0, 3, 5, 2, 0x06, 254, 0xff, 0xff], (2 * 16 + 3) * 63 + 4, 1 << 20);
        assert_eq!(says(63, 16, &far), None);
        assert_eq!(says(63, 255, &far), Some(Geometry::USUAL));
        assert_eq!(says(0, 0, &far), Some(Geometry { heads: 0, sectors: 0 }));
        // On the first track heads do not matter, so the partition's end tells: cylinder 9, the last of 16 heads.
        let near = table([0, 1, 1, 0, 0x06, 15, 63, 9], 63, 10 * 16 * 63 - 63);
        assert_eq!(says(63, 16, &near), None);
        assert_eq!(says(63, 255, &near), Some(Geometry::USUAL));
        assert_eq!(says(63, 8, &near), Some(Geometry { heads: 8, sectors: 63 }));
        // By sector numbers, and wholly beyond what cylinders reach.
        let by_number = table([0, 1, 1, 0, 0x0e, 15, 63, 9], 63, 10 * 16 * 63 - 63);
        assert_eq!(says(63, 255, &by_number), None);
        let beyond = table([0, 254, 0xff, 0xff, 0x06, 254, 0xff, 0xff], 1 << 25, 1 << 20);
        assert_eq!(says(63, 16, &beyond), None);
    }
}
