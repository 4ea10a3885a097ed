//! A GPT changed in place, its checksums made right again.

const SECTOR: usize = 512;

pub fn put32(bytes: &mut [u8], at: usize, value: u32) {
    bytes[at..at + 4].copy_from_slice(&value.to_le_bytes());
}

pub fn put64(bytes: &mut [u8], at: usize, value: u64) {
    bytes[at..at + 8].copy_from_slice(&value.to_le_bytes());
}

fn get32(bytes: &[u8], at: usize) -> usize {
    u32::from_le_bytes(bytes[at..at + 4].try_into().unwrap()) as usize
}

fn get64(bytes: &[u8], at: usize) -> usize {
    u64::from_le_bytes(bytes[at..at + 8].try_into().unwrap()) as usize
}

/// The headers of a disk's two copies: bytes from its start.
pub fn headers(disk: &[u8]) -> [usize; 2] {
    [SECTOR, disk.len() - SECTOR]
}

/// Changes a field of the header in both copies.
pub fn header(disk: &mut [u8], change: impl Fn(&mut [u8])) {
    for at in headers(disk) {
        change(&mut disk[at..at + SECTOR]);
    }
    seal(disk);
}

/// Changes an entry, by its index, in both copies.
pub fn entry(disk: &mut [u8], index: usize, change: impl Fn(&mut [u8])) {
    for header in headers(disk) {
        let size = get32(disk, header + 84);
        let at = get64(disk, header + 72) * SECTOR + index * size;
        change(&mut disk[at..at + size]);
    }
    seal(disk);
}

/// Makes the checksums of both copies right.
pub fn seal(disk: &mut [u8]) {
    for at in headers(disk) {
        let entries = get64(disk, at + 72) * SECTOR;
        let length = get32(disk, at + 80) * get32(disk, at + 84);
        let sum = crc32fast::hash(&disk[entries..entries + length]);
        put32(disk, at + 88, sum);
        put32(disk, at + 16, 0);
        let size = get32(disk, at + 12).min(SECTOR);
        let sum = crc32fast::hash(&disk[at..at + size]);
        put32(disk, at + 16, sum);
    }
}
