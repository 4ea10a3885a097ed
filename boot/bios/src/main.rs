//! The boot program for BIOS: what the first sector of a disk starts by way of the stage, and what shows the menu.
//!
//! Drivers alone. The loop, and what is chosen, shown and settled, is in `signpost-menu` and `signpost-place`.
#![no_std]
#![no_main]

extern crate alloc;

mod console;
mod disk;
mod drivers;
mod graphics;
mod home;
mod machine;
mod memory;
mod power;
mod real;
mod serial;
mod start;

use core::ptr;

use signpost_firmware::bios::SECTOR;
use signpost_firmware::bios::area::COPIES;

use drivers::Firmware;
use home::Home;

/// Where the first sector has moved itself to.
const FIRST: usize = 0x600;

/// What the assembly at our start calls: the drive that we came from, and where the first sector names the copy.
#[unsafe(no_mangle)]
extern "C" fn run(drive: u32, copy: u32) -> ! {
    real::set_up();
    memory::set_up();
    // SAFETY: it lies there since the first sector ran, and nothing of ours has written to it.
    let first: [u8; SECTOR] = unsafe { ptr::read_volatile(FIRST as *const [u8; SECTOR]) };
    let home = Home::of(drive as u8, &first);
    let is_second_copy = copy as usize > FIRST + COPIES;
    signpost_place::serve::run(&mut Firmware { home, is_second_copy });
    power::give_back()
}

/// A fault of our own: it is shown, and the firmware goes on behind a key.
#[panic_handler]
fn panic(info: &core::panic::PanicInfo<'_>) -> ! {
    console::write("\r\nsignpost stopped: ");
    struct Out;
    impl core::fmt::Write for Out {
        fn write_str(&mut self, text: &str) -> core::fmt::Result {
            console::write(text);
            Ok(())
        }
    }
    let _ = core::fmt::write(&mut Out, format_args!("{info}\r\n"));
    real::interrupt(0x16, real::Registers::default());
    power::give_back()
}
