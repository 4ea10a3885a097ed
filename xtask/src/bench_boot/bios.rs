//! The same with BIOS firmware: our menu against plain code, our reading against the firmware's bare calls.

#![allow(unsafe_code, reason = "Rust's own assembler makes the code that reads; it is only copied")]

use core::arch::global_asm;
use std::fs;
use std::path::Path;
use std::time::{Duration, Instant};

use signpost_demo::bios_kernel::kernel;
use signpost_demo::boot_sector::said;
use signpost_demo::plain_disk::{FIRST, TITLE, with_root};
use signpost_firmware::bios::SECTOR;
use signpost_firmware::bios::area::{Area, program};
use signpost_vm::{Bus, Disk, Spec, Vm};

use super::{LARGE, ROOT_UUID, RUNS, between, ext4, median, slot};
use crate::run::{Result, at};

global_asm!(include_str!("reads.s"), options(att_syntax));

unsafe extern "C" {
    static bench_reads: u8;
    static bench_reads_end: u8;
}

/// What stands under a menu.
const STANDS: &str = "? help";
/// Upper bound, from the requirements.
pub const MOST_READING: f64 = 1.2;

/// Measures and prints; what has a bound.
pub fn measure(path: &Path) -> Result<f64> {
    let ours = fs::read(path).map_err(at(path))?;
    let menu = to_menu(&ours)?;
    println!("power-on to the menu / to a boot sector by plain code: {menu:.3}");
    let reading = reading(&ours)?;
    println!("32 MiB read from ext4 / by bare calls of 64 KiB: {reading:.2} (at most {MOST_READING})");
    Ok(reading)
}

/// Medians of what it takes to show a menu, over those of a start by plain code.
fn to_menu(ours: &[u8]) -> Result<f64> {
    let root = ext4(&[("boot/empty", b"")])?;
    let menu = "format = 1\n[menu]\nhost = \"signpost\"\ntimeout = \"never\"\n[[entry]]\nid = \"stand-in\"\nstarts = \"sector\"\n\
                volume = \"partuuid:51573000-01\"\n";
    let (with, without) = (disk(Some((ours, menu)), &root)?, disk(None, &root)?);
    let (mut through, mut direct) = (Vec::new(), Vec::new());
    let stand_in = said(TITLE, 0x80, 0x06);
    for _ in 0..RUNS {
        for (disk, wanted, times) in [(&with, STANDS, &mut through), (&without, &stand_in, &mut direct)] {
            let begun = Instant::now();
            let (_work, mut vm) = start(disk)?;
            vm.wait_for(wanted)?;
            times.push(begun.elapsed());
        }
    }
    Ok(median(through).as_secs_f64() / median(direct).as_secs_f64())
}

/// What 32 MiB more of an initrd cost: from the firmware's last word until the kernel speaks, less the same with a small one. Over what
/// the bare calls take to bring as much to memory that nobody has touched.
fn reading(ours: &[u8]) -> Result<f64> {
    let menu = format!(
        "format = 1\n[menu]\nhost = \"signpost\"\ntimeout = 0\n[[entry]]\nid = \"bench\"\nstarts = \"linux\"\n\
         volume = \"uuid:{ROOT_UUID}\"\nkernel = \"newest:/boot/vmlinuz-*\"\ninitrd = \"/boot/initrd-{{version}}\"\n"
    );
    let kernel = kernel("1.0", true);
    let large: Vec<u8> = (0..LARGE).map(|at| (at % 251) as u8).collect();
    let with = |initrd: &[u8]| -> Result<Vec<u8>> {
        let root = ext4(&[("boot/vmlinuz-1.0", &kernel), ("boot/initrd-1.0", initrd)])?;
        disk(Some((ours, &menu)), &root)
    };
    let (small, large, bare) = (with(b"small")?, with(&large)?, bare());
    let (mut with_small, mut with_large, mut by_calls) = (Vec::new(), Vec::new(), Vec::new());
    for _ in 0..RUNS {
        for (disk, times) in [(&small, &mut with_small), (&large, &mut with_large)] {
            let (_work, mut vm) = start(disk)?;
            times.push(between(&mut vm, "Booting from Hard Disk", "KERNEL")?);
        }
        let (_work, mut vm) = start(&bare)?;
        by_calls.push(between(&mut vm, "READING.", "READ.")?);
    }
    let (small, large, bare) = (median(with_small), median(with_large), median(by_calls));
    println!(
        "  medians: {small:.2?} with a small initrd, {large:.2?} with 32 MiB; the bare calls take {bare:.2?}"
    );
    Ok(large.saturating_sub(small).as_secs_f64() / bare.as_secs_f64())
}

/// A disk with a stand-in and a root; with our menu, or plain code.
fn disk(menu: Option<(&[u8], &str)>, root: &[u8]) -> Result<Vec<u8>> {
    let mut disk = with_root(root);
    let Some((ours, menu)) = menu else { return Ok(disk) };
    let (code, copy) = program(ours).ok_or("target/boot holds no boot program for BIOS")?;
    let length = u32::try_from(copy.len() / SECTOR).map_err(|error| error.to_string())?;
    let area =
        Area::in_sectors(1, FIRST[0] - 1, length).ok_or("it does not fit before the first partition")?;
    let mut put = |sector: u32, bytes: &[u8]| {
        let at = sector as usize * SECTOR;
        disk[at..at + bytes.len()].copy_from_slice(bytes);
    };
    put(area.copy(0), copy);
    put(area.slot(0), &slot(menu)?);
    put(0, &area.first_code(code));
    Ok(disk)
}

/// A disk whose first sector reads what lies behind it.
fn bare() -> Vec<u8> {
    // SAFETY: both are labels of one section that is never written, the second behind the first.
    let code = unsafe {
        let (first, end) = (&raw const bench_reads, &raw const bench_reads_end);
        std::slice::from_raw_parts(first, end.offset_from_unsigned(first))
    };
    let mut disk = vec![0x5a; FIRST[0] as usize * SECTOR + LARGE];
    disk[..code.len()].copy_from_slice(code);
    disk[510..512].copy_from_slice(&[0x55, 0xaa]);
    disk
}

fn start(disk: &[u8]) -> Result<(tempfile::TempDir, Vm)> {
    let work = tempfile::tempdir().map_err(|error| error.to_string())?;
    let image = work.path().join("disk.img");
    fs::write(&image, disk).map_err(at(&image))?;
    let disk = Disk { bus: Bus::Sata, ..Disk::plain(image) };
    let vm = Vm::start(&Spec { disks: vec![disk], memory: 256, ..Spec::of_bios([]) }, None)?;
    Ok((work, vm.with_patience(Duration::from_secs(60))))
}
