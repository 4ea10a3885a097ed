//! Arrays in the format that makers of RAID firmware agreed on (SNIA, "Common RAID Disk Data Format", 2.0: DDF header, 5.5;
//! virtual disk configuration record, 5.9.1). Numbers are big-endian.

use alloc::string::String;
use alloc::vec::Vec;

use super::{Level, Member};
use crate::block::{BlockDevice, read_vec};
use crate::bytes::{be32, be64, len};

const SECTOR: u64 = 512;
const HEADER: u32 = 0xde11_de11;
const VIRTUAL_DISK: u32 = 0xeeee_eeee;
/// Sectors of configuration that are looked at.
const MAX_CONFIGURATION: u64 = 512;

/// Reads it from the header in the last sector of a disk; of several arrays on the same disks, the first.
pub(super) fn read(device: &dyn BlockDevice) -> Option<Member> {
    let sector = |number: u64| read_vec(device, number.checked_mul(SECTOR)?, len(SECTOR)).ok();
    let is_header = |bytes: &Vec<u8>| be32(bytes, 0) == Some(HEADER);
    let anchor = sector((device.size() / SECTOR).checked_sub(1)?).filter(is_header)?;
    let primary = be64(&anchor, 96)?;
    let header = sector(primary).filter(is_header)?;
    let first = primary.checked_add(u64::from(be32(&header, 216)?))?;
    let count = u64::from(be32(&header, 220)?).min(MAX_CONFIGURATION);
    let guid = |bytes: &[u8]| bytes.get(8..32).map(hexadecimal);
    let records = (0..count).map_while(|index| sector(first.checked_add(index)?));
    let mut member = Member {
        array: guid(&header)?,
        name: None,
        level: Level::Other,
        data_offset: 0,
        data_size: primary.checked_mul(SECTOR)?,
        events: u64::from(be32(&header, 40)?),
        is_in_sync: true,
        is_firmwares: true,
    };
    let mut records = records.filter(|record| be32(record, 0) == Some(VIRTUAL_DISK));
    if let Some(record) = records.next() {
        member.array = guid(&record)?;
        // The primary RAID level.
        member.level = match *record.get(67)? {
            level @ (0 | 1 | 4 | 5 | 6) => Level::Raid(level.into()),
            0x1f => Level::Linear,
            _ => Level::Other,
        };
    }
    Some(member)
}

fn hexadecimal(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| alloc::format!("{byte:02x}")).collect()
}
