//! Restart, power off, giving back to the firmware.

use alloc::string::String;
use core::arch::asm;

use crate::real::{Registers, interrupt};

/// The port by which chip sets are reset, and what resets them fully.
const RESET: (u16, u8) = (0xcf9, 0x06);
/// The keyboard controller's, and what has it pull the processor's reset line.
const KEYBOARD: (u16, u8) = (0x64, 0xfe);

fn out((port, value): (u16, u8)) {
    // SAFETY: both ports do nothing but reset the machine, which is what is asked for.
    unsafe { asm!("out dx, al", in("dx") port, in("al") value) };
}

/// Starts the machine again.
pub fn restart() -> ! {
    out(RESET);
    out(KEYBOARD);
    give_back()
}

/// Turns the machine off, by Advanced Power Management 1.2: connect, say the version, all devices off.
pub fn off() -> String {
    let power = |ax: u32, bx: u32, cx: u32| interrupt(0x15, Registers { ax, bx, cx, ..Registers::default() });
    power(0x5301, 0, 0);
    power(0x530e, 0, 0x0102);
    power(0x530d, 1, 1);
    power(0x5307, 1, 3);
    "this firmware does not turn the machine off".into()
}

/// Gives back to the firmware, which goes on as if nothing had started.
pub fn give_back() -> ! {
    loop {
        interrupt(0x18, Registers::default());
    }
}
