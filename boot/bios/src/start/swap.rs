//! A disk that takes the place of the firmware's first, for systems that start from no other.

use core::arch::global_asm;
use core::ptr;

use crate::disk::FIRST;

global_asm!(include_str!("swap.s"), options(att_syntax, raw));

/// The firmware's word for how many KiB lie below its own data.
const BASE_MEMORY: usize = 0x413;
/// The vector of the disk's interrupt.
const DISK_VECTOR: usize = 0x13 * 4;

unsafe extern "C" {
    static swap: u8;
    static swap_other: u8;
    static swap_old: u8;
    static swap_end: u8;
}

/// Has this drive and the first one answer to each other's number from now on.
pub fn with_first(other: u8) {
    if other == FIRST {
        return;
    }
    // SAFETY: the KiB below the firmware's data is free, and is taken from what it says is free; the vectors are memory. Nothing of ours
    // calls the firmware's disks behind this.
    unsafe {
        let kib = ptr::read_volatile(BASE_MEMORY as *const u16) - 1;
        ptr::write_volatile(BASE_MEMORY as *mut u16, kib);
        let place = usize::from(kib) << 10;
        let at = |part: *const u8| part.offset_from(&raw const swap).unsigned_abs();
        ptr::copy_nonoverlapping(&raw const swap, place as *mut u8, at(&raw const swap_end));
        *((place + at(&raw const swap_other)) as *mut u8) = other;
        let old = ptr::read_volatile(DISK_VECTOR as *const u32);
        ptr::write_unaligned((place + at(&raw const swap_old)) as *mut u32, old);
        ptr::write_volatile(DISK_VECTOR as *mut u32, (place as u32 >> 4) << 16);
    }
}
