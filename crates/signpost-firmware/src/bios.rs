//! BIOS: the first sector of a disk, the boot sectors of its partitions, and what comes of starting by them.
//!
//! A first sector holds 440 bytes of code, the disk's signature, four entries of a partition table, and the mark 55AA. Code and
//! table are told apart here everywhere: who writes one never writes the other.

pub mod area;
pub mod code;
pub mod plain;
pub mod rules;

/// Bytes of a sector.
pub const SECTOR: usize = 512;
/// Bytes of code at the start of a disk's first sector; the disk's signature and its table follow.
pub const CODE_LEN: usize = 440;
/// Where the four entries of the table stand.
pub const TABLE: usize = 446;
/// Bytes of an entry.
pub const ENTRY: usize = 16;
/// What an active entry begins with.
pub const ACTIVE: u8 = 0x80;

/// Whether a sector ends with the mark that firmware asks for.
pub fn is_marked(sector: &[u8]) -> bool {
    sector.get(SECTOR.saturating_sub(2)..SECTOR) == Some(&[0x55, 0xaa])
}

/// A first sector with other code: signature, table and mark stay, and the mark is set where there was none.
pub fn with_code(sector: &[u8; SECTOR], code: &[u8]) -> [u8; SECTOR] {
    let mut made = *sector;
    for (at, byte) in made.iter_mut().enumerate() {
        match at {
            0..CODE_LEN => *byte = code.get(at).copied().unwrap_or(0),
            510 => *byte = 0x55,
            511 => *byte = 0xaa,
            _ => {}
        }
    }
    made
}

/// A first sector in which the entry of this index, and no other, is active.
pub fn with_active(sector: &[u8; SECTOR], active: usize) -> [u8; SECTOR] {
    let mut made = *sector;
    for (index, entry) in made.iter_mut().skip(TABLE).step_by(ENTRY).take(4).enumerate() {
        *entry = if index == active { ACTIVE } else { 0 };
    }
    made
}

/// The indices of the entries that are active.
pub fn active(sector: &[u8]) -> impl Iterator<Item = usize> {
    let entries = sector.iter().skip(TABLE).step_by(ENTRY).take(4).enumerate();
    entries.filter(|(_, flag)| **flag & ACTIVE != 0).map(|(index, _)| index)
}

/// The sector at which the partition of an entry starts; nothing of an entry that is empty.
pub fn entry_start(sector: &[u8], index: usize) -> Option<u32> {
    let at = index.checked_mul(ENTRY)?.checked_add(TABLE)?;
    let entry = sector.get(at..at.checked_add(ENTRY)?)?;
    let start = entry.get(8..12)?.try_into().ok()?;
    (*entry.get(4)? != 0).then(|| u32::from_le_bytes(start))
}

/// How firmware of old counts sectors: heads, and sectors of a track.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Geometry {
    /// Heads.
    pub heads: u16,
    /// Sectors of a track.
    pub sectors: u16,
}

/// The geometry that a volume's parameters in its boot sector name, where the entry of its partition contradicts it: under it,
/// cylinder, head and sector there lead to other places than the entry's sectors. Entries of a type that goes by sector numbers,
/// and places further out than cylinders reach, say nothing of it.
pub fn contradicted_geometry(
    boot_sector: &[u8; SECTOR],
    table: &[u8; SECTOR],
    index: usize,
) -> Option<Geometry> {
    /// Types of partitions that are found by cylinder, head and sector.
    const BY_CHS: [u8; 4] = [0x01, 0x04, 0x06, 0x0b];
    /// The last cylinder stands for all that is further out.
    const LAST_CYLINDER: u64 = 1023;
    let [sectors, heads] = [24, 26].map(|at| u16::from_le_bytes([boot_sector[at], boot_sector[at + 1]]));
    let entry: &[u8; ENTRY] = table.get(TABLE + index * ENTRY..)?.first_chunk()?;
    let [start, length] = [8, 12]
        .map(|at| u64::from(u32::from_le_bytes([entry[at], entry[at + 1], entry[at + 2], entry[at + 3]])));
    let (per_track, tracks) = (u64::from(sectors), u64::from(heads));
    let is_contradicted = |at: usize, place: u64, slack: u64| {
        let (head, sector) = (u64::from(entry[at]), u64::from(entry[at + 1] & 0x3f));
        let cylinder = u64::from(entry[at + 1] & 0xc0) << 2 | u64::from(entry[at + 2]);
        if cylinder >= LAST_CYLINDER || sector == 0 {
            return false;
        }
        let told = (cylinder * tracks + head) * per_track + sector - 1;
        head >= tracks || sector > per_track || told.abs_diff(place) > slack
    };
    let last = (start + length).saturating_sub(1);
    // Ends are rounded to cylinders by some.
    let is_false = is_contradicted(1, start, 0) || is_contradicted(5, last, tracks * per_track);
    (BY_CHS.contains(&entry[4]) && is_false).then_some(Geometry { heads, sectors })
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
            contradicted_geometry(&sector, table, 1)
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

    #[test]
    fn code_and_table_are_changed_apart() {
        let sector: [u8; SECTOR] = core::array::from_fn(|at| u8::try_from(at % 251).unwrap());
        let made = with_code(&sector, &plain::CODE);
        assert_eq!(made[..plain::CODE.len()], plain::CODE);
        assert!(made[plain::CODE.len()..CODE_LEN].iter().all(|byte| *byte == 0));
        assert_eq!(made[CODE_LEN..510], sector[CODE_LEN..510]);
        assert!(is_marked(&made) && !is_marked(&sector));
        assert_eq!(entry_start(&made, 1), Some(u32::from_le_bytes(made[470..474].try_into().unwrap())));
        assert_eq!((entry_start(&[0; SECTOR], 1), entry_start(&made, 4)), (None, None));
        let made = with_active(&sector, 2);
        assert_eq!(active(&made).collect::<alloc::vec::Vec<_>>(), [2]);
        let differ = |at: &usize| made[*at] != sector[*at];
        assert!((0..SECTOR).filter(differ).all(|at| at >= TABLE && (at - TABLE).is_multiple_of(ENTRY)));
    }
}
