//! A boot sector, as plain code starts one: it lies at 0x7C00, DL holds the drive's number, and DS:SI leads to its partition's entry in
//! a copy of the table's sector at 0x600.

use alloc::format;
use alloc::string::{String, ToString};
use core::convert::Infallible;
use core::ptr;

use signpost_firmware::bios::{self, ENTRY, SECTOR, TABLE, is_marked};
use signpost_menu::document::SectorManner;
use signpost_menu::resolve::Surroundings;

use super::{leap, swap};
use crate::disk::{Drive, FIRST};
use crate::machine::{self, Machine};
use crate::real::{Registers, interrupt};

/// Where a boot sector runs, and where the table's sector lies, in bytes of memory.
const RUNS_AT: usize = 0x7c00;
const TABLE_AT: usize = 0x600;

/// Starts a volume's own, the one in a file on it, or the first one of its disk.
///
/// # Errors
/// Why it is not running, in words.
pub fn start(
    machine: &Machine,
    volume: usize,
    file: Option<&str>,
    manner: SectorManner,
) -> Result<Infallible, String> {
    let found = machine.boot_sector_of(volume).ok_or("it has no boot sector that could be read")?;
    let drive = machine.disk(found.disk).and_then(machine::drive_of);
    let drive = drive.ok_or_else(|| format!("the disk of {} is not known", found.name))?;
    let table = drive.sector(0).ok_or("the first sector of its disk cannot be read")?;
    if manner.first_sector {
        return run(&drive, &table, (&table, 0), manner);
    }
    let start = u32::try_from(found.start / SECTOR as u64).map_err(|error| error.to_string())?;
    let sector = match file {
        None => drive
            .sector(start.into())
            .ok_or_else(|| format!("the boot sector of {} cannot be read", found.name))?,
        Some(path) => {
            let head = machine.file_system(volume)?.read_head(path, SECTOR);
            let head = head.map_err(|error| error.to_string())?;
            head.try_into().map_err(|_| format!("{} is shorter than a sector", machine.at(volume, path)))?
        }
    };
    if manner.active {
        make_active(&drive, &table, start)?;
    }
    let (table, index) = with_entry(table, start, found.kind.unwrap_or(0));
    run(&drive, &sector, (&table, index), manner)
}

/// Makes the partition that starts there the active one of its disk, and sees that it is.
fn make_active(drive: &Drive, table: &[u8; SECTOR], start: u32) -> Result<(), String> {
    let index = entry_of(table, start).ok_or("a logical partition cannot be active")?;
    let made = bios::with_active(table, index);
    if made == *table || drive.write(0, &made) {
        return Ok(());
    }
    Err("the table cannot be written, so that its partition is not active".into())
}

fn run(
    drive: &Drive,
    sector: &[u8; SECTOR],
    (table, index): (&[u8; SECTOR], usize),
    manner: SectorManner,
) -> Result<Infallible, String> {
    if !is_marked(sector) {
        return Err("it lacks the mark 55AA".into());
    }
    interrupt(0x10, Registers::ax(3));
    if manner.as_first_disk {
        swap::with_first(drive.number);
    }
    // SAFETY: nothing of ours lies in either place, and both are memory.
    unsafe {
        ptr::copy_nonoverlapping(table.as_ptr(), TABLE_AT as *mut u8, SECTOR);
        ptr::copy_nonoverlapping(sector.as_ptr(), RUNS_AT as *mut u8, SECTOR);
    }
    let entry = TABLE_AT + TABLE + index * ENTRY;
    leap::into_sector(Registers {
        dx: if manner.as_first_disk { FIRST } else { drive.number }.into(),
        si: entry as u32,
        bp: entry as u32,
        ..Registers::default()
    })
}

fn entry_of(table: &[u8; SECTOR], start: u32) -> Option<usize> {
    (0..4).find(|index| bios::entry_start(table, *index) == Some(start))
}

/// The table with an entry that leads to this start, and which it is: a logical partition has none there, and takes the first.
fn with_entry(mut table: [u8; SECTOR], start: u32, kind: u8) -> ([u8; SECTOR], usize) {
    if let Some(index) = entry_of(&table, start) {
        table[TABLE + index * ENTRY] = bios::ACTIVE;
        return (table, index);
    }
    let entry = &mut table[TABLE..TABLE + ENTRY];
    entry[0] = bios::ACTIVE;
    entry[4] = kind;
    entry[8..12].copy_from_slice(&start.to_le_bytes());
    (table, 0)
}
