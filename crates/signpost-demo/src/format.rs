//! An empty FAT (Microsoft's "FAT: General Overview of On-Disk Format", 1.03): FAT12 or FAT16 where it is small, FAT32 where
//! there is room for as many clusters as that takes.

const SECTOR: usize = 512;
/// From here on there are clusters enough for FAT32, which is what an ESP is meant to be.
const FAT_32_FROM: usize = 34 << 20;
/// Smaller ones are FAT12.
const FAT_16_FROM: usize = 16 << 20;
/// Entries of the root folder of FAT12 and FAT16.
const ROOT_ENTRIES: usize = 512;
/// FAT12 has fewer clusters than this.
const FAT_12_CLUSTERS: usize = 4085;

/// A volume of this many bytes, whole sectors, with this label and serial.
pub(crate) fn format(bytes: usize, label: &str, serial: u32) -> Vec<u8> {
    let sectors = bytes / SECTOR;
    let mut name = [b' '; 11];
    name.iter_mut().zip(label.bytes()).for_each(|(slot, byte)| *slot = byte);
    if bytes >= FAT_32_FROM { fat_32(sectors, name, serial) } else { smaller(sectors, name, serial) }
}

/// The fields that all types share.
fn boot_sector(sectors: usize, reserved: u16, per_cluster: u8) -> Vec<u8> {
    let mut sector = vec![0; SECTOR];
    sector[..3].copy_from_slice(&[0xeb, 0x58, 0x90]);
    sector[3..11].copy_from_slice(b"TIDEFAT ");
    put16(&mut sector, 11, SECTOR as u16);
    sector[13] = per_cluster;
    put16(&mut sector, 14, reserved);
    sector[16] = 2;
    sector[21] = 0xf8;
    put16(&mut sector, 24, 32);
    put16(&mut sector, 26, 64);
    match u16::try_from(sectors) {
        Ok(sectors) => put16(&mut sector, 19, sectors),
        Err(_) => put32(&mut sector, 32, sectors as u32),
    }
    sector[510..].copy_from_slice(&[0x55, 0xaa]);
    sector
}

/// Drive, signature, serial, label and the type's name, which stand behind the other fields.
fn extended(sector: &mut [u8], at: usize, serial: u32, label: [u8; 11], kind: &[u8; 8]) {
    sector[at] = 0x80;
    sector[at + 2] = 0x29;
    put32(sector, at + 3, serial);
    sector[at + 7..at + 18].copy_from_slice(&label);
    sector[at + 18..at + 26].copy_from_slice(kind);
}

fn smaller(sectors: usize, label: [u8; 11], serial: u32) -> Vec<u8> {
    let root = ROOT_ENTRIES * 32 / SECTOR;
    // As many sectors a cluster as the type can count.
    let most = if sectors * SECTOR < FAT_16_FROM { FAT_12_CLUSTERS } else { 0xff00 };
    let per_cluster = (1..8).map(|shift| 1usize << shift).find(|per| sectors / per < most).unwrap_or(128);
    let estimate = sectors / per_cluster;
    let is_fat_12 = estimate < FAT_12_CLUSTERS;
    let fat = if is_fat_12 { (estimate + 2) * 3 / 2 } else { (estimate + 2) * 2 }.div_ceil(SECTOR) + 1;
    let mut sector = boot_sector(sectors, 1, per_cluster as u8);
    put16(&mut sector, 17, ROOT_ENTRIES as u16);
    put16(&mut sector, 22, fat as u16);
    // With the true count of clusters it is of the same type as with the estimate, or there are too many FAT sectors alone.
    let clusters = (sectors - 1 - 2 * fat - root) / per_cluster;
    let kind: &[u8; 8] = if clusters < FAT_12_CLUSTERS { b"FAT12   " } else { b"FAT16   " };
    extended(&mut sector, 36, serial, label, kind);
    let mut volume = vec![0; sectors * SECTOR];
    volume[..SECTOR].copy_from_slice(&sector);
    let start: &[u8] =
        if clusters < FAT_12_CLUSTERS { &[0xf8, 0xff, 0xff] } else { &[0xf8, 0xff, 0xff, 0xff] };
    for copy in 0..2 {
        let at = (1 + copy * fat) * SECTOR;
        volume[at..at + start.len()].copy_from_slice(start);
    }
    put_label(&mut volume[(1 + 2 * fat) * SECTOR..], label);
    volume
}

fn fat_32(sectors: usize, label: [u8; 11], serial: u32) -> Vec<u8> {
    const RESERVED: usize = 32;
    const BACKUP: usize = 6;
    let fat = (sectors * 4).div_ceil(SECTOR);
    let fat = ((sectors - RESERVED - 2 * fat) * 4 + 8).div_ceil(SECTOR) + 2;
    let mut sector = boot_sector(sectors, RESERVED as u16, 1);
    put16(&mut sector, 19, 0);
    put32(&mut sector, 32, sectors as u32);
    put32(&mut sector, 36, fat as u32);
    put32(&mut sector, 44, 2);
    put16(&mut sector, 48, 1);
    put16(&mut sector, 50, BACKUP as u16);
    extended(&mut sector, 64, serial, label, b"FAT32   ");
    let clusters = sectors - RESERVED - 2 * fat;
    let mut info = vec![0; SECTOR];
    put32(&mut info, 0, 0x4161_5252);
    put32(&mut info, 484, 0x6141_7272);
    put32(&mut info, 488, clusters as u32 - 1);
    put32(&mut info, 492, 2);
    info[510..].copy_from_slice(&[0x55, 0xaa]);
    let mut volume = vec![0; sectors * SECTOR];
    for first in [0, BACKUP] {
        volume[first * SECTOR..(first + 1) * SECTOR].copy_from_slice(&sector);
        volume[(first + 1) * SECTOR..(first + 2) * SECTOR].copy_from_slice(&info);
    }
    for copy in 0..2 {
        let at = (RESERVED + copy * fat) * SECTOR;
        for (index, entry) in [0x0fff_fff8u32, 0x0fff_ffff, 0x0fff_ffff].into_iter().enumerate() {
            put32(&mut volume, at + index * 4, entry);
        }
    }
    put_label(&mut volume[(RESERVED + 2 * fat) * SECTOR..], label);
    volume
}

fn put_label(root: &mut [u8], label: [u8; 11]) {
    if label != [b' '; 11] {
        root[..11].copy_from_slice(&label);
        root[11] = 0x08;
    }
}

fn put16(bytes: &mut [u8], at: usize, value: u16) {
    bytes[at..at + 2].copy_from_slice(&value.to_le_bytes());
}

fn put32(bytes: &mut [u8], at: usize, value: u32) {
    bytes[at..at + 4].copy_from_slice(&value.to_le_bytes());
}
