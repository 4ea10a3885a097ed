//! A disk as BIOS firmware starts it: plain code, a stand-in's boot sector in the active partition, a root in the second.

use signpost_firmware::bios::{ACTIVE, ENTRY, SECTOR, TABLE, plain};

use crate::boot_sector::stand_in;

/// First sectors of the two partitions; there is room for our menu before them.
pub const FIRST: [u32; 2] = [2048, 4096];
/// The disk's signature.
pub const SIGNATURE: u32 = 0x5157_3000;
/// What the stand-in says that it is.
pub const TITLE: &str = "Stand-in";

/// The disk with this root.
pub fn with_root(root: &[u8]) -> Vec<u8> {
    let [first, second] = FIRST.map(|sector| sector as usize * SECTOR);
    let mut disk = vec![0; second + root.len().next_multiple_of(1 << 20)];
    disk[..plain::CODE.len()].copy_from_slice(&plain::CODE);
    disk[440..444].copy_from_slice(&SIGNATURE.to_le_bytes());
    let lengths = [FIRST[1] - FIRST[0], (root.len() / SECTOR) as u32];
    for (index, (start, kind)) in FIRST.into_iter().zip([0x06, 0x83]).enumerate() {
        let entry = &mut disk[TABLE + index * ENTRY..][..ENTRY];
        entry[0] = if index == 0 { ACTIVE } else { 0 };
        entry[4] = kind;
        entry[8..12].copy_from_slice(&start.to_le_bytes());
        entry[12..16].copy_from_slice(&lengths[index].to_le_bytes());
    }
    disk[510..512].copy_from_slice(&[0x55, 0xaa]);
    let mut sector = [0; SECTOR];
    stand_in(&mut sector, TITLE);
    disk[first..first + SECTOR].copy_from_slice(&sector);
    disk[second..second + root.len()].copy_from_slice(root);
    disk
}
