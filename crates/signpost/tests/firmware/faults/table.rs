//! Partition tables changed as an installer or an accident would.

use std::fs::OpenOptions;
use std::os::unix::fs::FileExt;
use std::path::Path;

const SECTOR: u64 = 512;
const ENTRY: usize = 128;
const ENTRIES: usize = 128 * ENTRY;

/// Overwrites bytes of an image.
pub fn put(image: &Path, offset: u64, bytes: &[u8]) {
    OpenOptions::new().write(true).open(image).unwrap().write_all_at(bytes, offset).unwrap();
}

/// Changes the entries of both copies of a GPT, and makes their checksums right again.
pub fn change_entries(image: &Path, change: impl Fn(&mut [u8])) {
    let disk = OpenOptions::new().read(true).write(true).open(image).unwrap();
    let last = disk.metadata().unwrap().len() / SECTOR - 1;
    for header_at in [1, last] {
        let mut header = vec![0; 92];
        disk.read_exact_at(&mut header, header_at * SECTOR).unwrap();
        let entries_at = u64::from_le_bytes(header[72..80].try_into().unwrap()) * SECTOR;
        let mut entries = vec![0; ENTRIES];
        disk.read_exact_at(&mut entries, entries_at).unwrap();
        change(&mut entries);
        header[88..92].copy_from_slice(&crc32fast::hash(&entries).to_le_bytes());
        header[16..20].fill(0);
        let checksum = crc32fast::hash(&header);
        header[16..20].copy_from_slice(&checksum.to_le_bytes());
        disk.write_all_at(&entries, entries_at).unwrap();
        disk.write_all_at(&header, header_at * SECTOR).unwrap();
    }
}

/// The bytes of an entry, by its number from 1.
pub fn entry(entries: &mut [u8], number: usize) -> &mut [u8] {
    &mut entries[(number - 1) * ENTRY..number * ENTRY]
}
