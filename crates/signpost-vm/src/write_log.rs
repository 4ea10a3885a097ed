//! The emulator's log of a disk's writes, in the format of the Linux kernel's device-mapper target log-writes.

use std::path::Path;

/// The mark that the log begins with.
const MAGIC: u64 = 0x006a_7366_7773_6872;
/// An entry that frees sectors, and one that is only a mark: they bring no bytes.
const DISCARD: u64 = 4;
const MARK: u64 = 8;
/// Bytes in the sectors that places are counted in.
const SECTOR: u64 = 512;

/// Every write, in its order: offset on the disk in bytes, and the bytes.
///
/// # Errors
/// Where the log cannot be read, or is none.
pub fn read(path: &Path) -> Result<Vec<(u64, Vec<u8>)>, String> {
    let bytes = std::fs::read(path).map_err(|error| format!("{}: {error}", path.display()))?;
    parse(&bytes).ok_or_else(|| format!("{}: this is not a log of writes, or is cut off", path.display()))
}

fn parse(log: &[u8]) -> Option<Vec<(u64, Vec<u8>)>> {
    let number = |at: usize| Some(u64::from_le_bytes(log.get(at..at.checked_add(8)?)?.try_into().ok()?));
    let size = usize::try_from(number(24)? & 0xffff_ffff).ok()?;
    if number(0)? != MAGIC || !size.is_power_of_two() {
        return None;
    }
    let mut at = size;
    let mut writes = Vec::new();
    for _ in 0..number(16)? {
        let (sector, sectors, flags) = (number(at)?, number(at + 8)?, number(at + 16)?);
        at += size;
        if flags & (DISCARD | MARK) == 0 {
            let length = usize::try_from(sectors.checked_mul(SECTOR)?).ok()?;
            let bytes = log.get(at..at.checked_add(length)?)?;
            at += length;
            if length > 0 {
                writes.push((sector * SECTOR, bytes.to_vec()));
            }
        }
    }
    Some(writes)
}
