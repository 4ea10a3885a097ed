//! Arrays that one maker's firmware keeps (`imsm_super`, `imsm_dev` and `imsm_map` of `mdadm`'s `super-intel.c`).

use alloc::format;

use super::{Level, Member};
use crate::block::{BlockDevice, read_vec};
use crate::bytes::{le16, le32, len};
use crate::text::fixed_text;

const SECTOR: u64 = 512;
const SIGNATURE: &[u8] = b"Intel Raid ISM Cfg Sig. ";
/// Bytes of metadata.
const MAX_LENGTH: u64 = 64 << 10;
/// Where the list of disks stands, and how long each of them is.
const DISKS: usize = 0xd8;
const DISK: usize = 48;
/// Where an array's map stands in its description.
const MAP: usize = 112;

/// Reads it from the last sector but one of a disk; of several arrays on the same disks, the first.
pub(super) fn read(device: &dyn BlockDevice) -> Option<Member> {
    let anchor = device.size().checked_sub(SECTOR.checked_mul(2)?)?;
    let mut bytes =
        read_vec(device, anchor, len(SECTOR)).ok().filter(|bytes| bytes.starts_with(SIGNATURE))?;
    let length = u64::from(le32(&bytes, 0x24)?);
    let more = length.saturating_sub(SECTOR).next_multiple_of(SECTOR);
    if length > MAX_LENGTH {
        return None;
    }
    // What does not fit into the one sector stands before it.
    if more > 0 {
        bytes.extend(read_vec(device, anchor.checked_sub(more)?, len(more)).ok()?);
    }
    decode(bytes.get(..len(length))?)
}

fn decode(bytes: &[u8]) -> Option<Member> {
    let words = bytes.as_chunks::<4>().0.iter().map(|word| u32::from_le_bytes(*word));
    let sum = words.fold(0u32, u32::wrapping_add);
    let stored = le32(bytes, 0x20)?;
    (sum.wrapping_sub(stored) == stored).then_some(())?;
    let disks = usize::from(*bytes.get(0x38)?);
    let array = bytes.get(DISKS.checked_add(disks.checked_mul(DISK)?)?..)?;
    let map = array.get(MAP..)?;
    let level = match (*map.get(15)?, *map.get(16)?) {
        // Four disks of level 1 are two mirrors with stripes across them.
        (1, 4) => Level::Raid(10),
        (level @ (0 | 1 | 5 | 10), _) => Level::Raid(level.into()),
        _ => Level::Other,
    };
    Some(Member {
        array: format!("imsm-{:08x}", le32(bytes, 0x28)?),
        name: array.get(..16).and_then(fixed_text),
        level,
        data_offset: u64::from(le32(map, 0)?).checked_mul(SECTOR)?,
        data_size: u64::from(le32(map, 4)?).checked_mul(SECTOR)?,
        events: u64::from(le32(bytes, 0x2c)?),
        // `map_state`: 0 normal, 3 failed.
        is_in_sync: le16(map, 14).is_some_and(|state| state & 0xff != 3),
        is_firmwares: true,
    })
}
