//! The boot program for UEFI: what the stage unpacks, and what shows the menu.
//!
//! Drivers alone. The loop, and what is chosen, shown and settled, is in `signpost-menu` and `signpost-place`.
#![no_std]
#![no_main]

extern crate alloc;

mod block;
mod cells;
mod console;
mod drivers;
mod graphics;
mod home;
mod keys;
mod machine;
mod pointers;
mod power;
mod serial;
mod shared;
mod start;
mod variables;

use uefi::{Status, boot, entry};

#[entry]
fn main() -> Status {
    // The firmware would restart the machine after five minutes in the menu.
    let _ = boot::set_watchdog_timer(0, 0x10000, None);
    signpost_place::serve::run(&mut drivers::Firmware::here());
    // The firmware goes on to its next entry.
    Status::ABORTED
}

/// A fault of our own: the firmware goes on to its next entry.
#[panic_handler]
fn panic(info: &core::panic::PanicInfo<'_>) -> ! {
    let _ = uefi::system::with_stdout(|out| {
        use core::fmt::Write;
        write!(out, "\r\nsignpost stopped: {info}\r\n")
    });
    // SAFETY: the image that is ended is this one, and nothing of it runs afterwards.
    let _ = unsafe { boot::exit(boot::image_handle(), Status::ABORTED, 0, core::ptr::null_mut()) };
    loop {
        core::hint::spin_loop();
    }
}
