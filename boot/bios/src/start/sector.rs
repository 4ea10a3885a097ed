//! A boot sector, as plain code starts one: it lies at 0x7C00, DL holds the drive's number, and DS:SI leads to its partition's entry in
//! a copy of the table's sector at 0x600.

use alloc::format;
use alloc::string::{String, ToString};
use core::convert::Infallible;
use core::ptr;

use signpost_firmware::bios::{self, ENTRY, SECTOR, TABLE, is_marked};
use signpost_menu::resolve::Surroundings;

use super::leap;
use crate::disk::Drive;
use crate::machine::{self, Machine};
use crate::real::{Registers, interrupt};

/// Where a boot sector runs, and where the table's sector lies, in bytes of memory.
const RUNS_AT: usize = 0x7c00;
const TABLE_AT: usize = 0x600;

/// Starts a volume's own.
///
/// # Errors
/// Why it is not running, in words.
pub fn of_volume(machine: &Machine, volume: usize) -> Result<Infallible, String> {
    let drive = drive_of(machine, volume)?;
    let at = machine.boot_sector_of(volume).ok_or("it has no boot sector that could be read")?;
    let sector = drive.sector(at.start / SECTOR as u64);
    let sector = sector.ok_or_else(|| format!("the boot sector of {} cannot be read", at.name))?;
    run(&drive, &sector, at.start)
}

/// Starts one that lies in a file.
///
/// # Errors
/// Why it is not running, in words.
pub fn of_file(machine: &Machine, volume: usize, path: &str) -> Result<Infallible, String> {
    let drive = drive_of(machine, volume)?;
    let head = machine.file_system(volume)?.read_head(path, SECTOR).map_err(|error| error.to_string())?;
    let sector: [u8; SECTOR] =
        head.try_into().map_err(|_| format!("{} is shorter than a sector", machine.at(volume, path)))?;
    let start = machine.boot_sector_of(volume).map_or(0, |at| at.start);
    run(&drive, &sector, start)
}

/// The drive that a volume lies on.
fn drive_of(machine: &Machine, volume: usize) -> Result<Drive, String> {
    let disk = machine.boot_sector_of(volume).and_then(|at| machine.disk(at.disk));
    disk.and_then(machine::drive_of)
        .ok_or_else(|| format!("the disk of {} is not known", machine.name(volume)))
}

fn run(drive: &Drive, sector: &[u8; SECTOR], start: u64) -> Result<Infallible, String> {
    if !is_marked(sector) {
        return Err("it lacks the mark 55AA".into());
    }
    let table = drive.sector(0).ok_or("the first sector of its disk cannot be read")?;
    let start = u32::try_from(start / SECTOR as u64).map_err(|error| error.to_string())?;
    let (table, index) = with_entry(table, start);
    interrupt(0x10, Registers::ax(3));
    // SAFETY: nothing of ours lies in either place, and both are memory.
    unsafe {
        ptr::copy_nonoverlapping(table.as_ptr(), TABLE_AT as *mut u8, SECTOR);
        ptr::copy_nonoverlapping(sector.as_ptr(), RUNS_AT as *mut u8, SECTOR);
    }
    let entry = TABLE_AT + TABLE + index * ENTRY;
    leap::into_sector(Registers {
        dx: drive.number.into(),
        si: entry as u32,
        bp: entry as u32,
        ..Registers::default()
    })
}

/// The table with an entry that leads to this start, and which it is: a logical partition has none there, and takes the first.
fn with_entry(mut table: [u8; SECTOR], start: u32) -> ([u8; SECTOR], usize) {
    if let Some(index) = (0..4).find(|index| bios::entry_start(&table, *index) == Some(start)) {
        table[TABLE + index * ENTRY] = bios::ACTIVE;
        return (table, index);
    }
    let entry = &mut table[TABLE..TABLE + ENTRY];
    entry[0] = bios::ACTIVE;
    entry[8..12].copy_from_slice(&start.to_le_bytes());
    (table, 0)
}
