//! BIOS: the first sector of a disk, the boot sectors of its partitions, and what comes of starting by them.
//!
//! A first sector holds 440 bytes of code, the disk's signature, four entries of a partition table, and the mark 55AA. Code and
//! table are told apart here everywhere: who writes one never writes the other.

pub mod area;
pub mod calls;
pub mod code;
pub mod plain;
pub mod rules;
pub mod vesa;

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

#[cfg(test)]
mod tests {
    use super::*;

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
