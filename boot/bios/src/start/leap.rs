//! From our program to what is started.

use core::arch::{asm, global_asm};
use core::ptr;

use crate::real::{self, Registers};

global_asm!(include_str!("leap.s"), options(att_syntax, raw));

const LEAP: usize = 0x8000;
const GIVEN: usize = 0x5400;

unsafe extern "C" {
    static leap: u8;
    static leap_end: u8;
    static leap_sector: u8;
}

fn put() {
    // SAFETY: the stage that lay there is not needed any more, and nobody refers to it.
    unsafe {
        let length = (&raw const leap_end).offset_from(&raw const leap).unsigned_abs();
        ptr::copy_nonoverlapping(&raw const leap, LEAP as *mut u8, length);
    }
}

/// Copies what is started to its place, all in bytes of memory, and enters it in 32 bits as Linux is entered.
///
/// # Safety
/// What is there is whole, and memory is what the firmware says.
pub unsafe fn into_linux((from, to, length): (u32, u32, u32), params: u32) -> ! {
    put();
    // SAFETY: the page is ours; the leap does not come back.
    unsafe {
        ptr::write_volatile(GIVEN as *mut [u32; 5], [from, to, length, to, params]);
        asm!("movl $0x7000, %esp", "jmpl *{leap}", leap = in(reg) LEAP, options(att_syntax, noreturn));
    }
}

/// Enters a boot sector that lies at 0x7C00, with these registers.
pub fn into_sector(registers: Registers) -> ! {
    put();
    // SAFETY: both are places in the same piece of code.
    let at = unsafe { (&raw const leap_sector).offset_from(&raw const leap).unsigned_abs() };
    loop {
        real::call((LEAP + at) as u32, registers);
    }
}
