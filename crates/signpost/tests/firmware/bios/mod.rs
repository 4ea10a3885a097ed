//! BIOS machines: code in sectors, and what real firmware makes of it.

#![allow(unsafe_code, reason = "Rust's own assembler makes the code that a test compares; it is only read")]

mod agreement;
mod homes;
mod live;
mod look;
mod machines;
mod menu;
mod prompt;
mod real;

use core::arch::global_asm;

use signpost_demo::{bios_kernel, boot_sector};
use signpost_firmware::bios::{SECTOR, area, plain};
use signpost_vm::Vm;

use crate::prompt::{Screen, packed};

global_asm!(include_str!("kernel.s"), options(att_syntax));
global_asm!(include_str!("plain.s"), options(att_syntax));
global_asm!(include_str!("stand-in.s"), options(att_syntax));

/// Waits until the screen shows this: the firmware's serial console cuts words anywhere by moving its cursor.
fn wait_shown(vm: &mut Vm, text: &str) -> Result<(), String> {
    let (mut screen, wanted) = (Screen::new(), packed(text));
    vm.wait_until(|serial| screen.shown(serial).contains(&wanted))
}

/// Types a line at the prompt, a few keys at a time: the firmware holds fifteen, and a screen that is painted takes none meanwhile.
fn type_line(vm: &mut Vm, line: &str) {
    wait_typed(vm, "");
    for start in (0..line.len()).step_by(8) {
        let end = line.len().min(start + 8);
        vm.type_keys(&line[start..end]).unwrap();
        wait_typed(vm, &line[..end]);
    }
    vm.type_keys("\r").unwrap();
}

/// Waits until the line in which one types holds this and nothing else; lines that were run stand above it behind the same mark.
fn wait_typed(vm: &mut Vm, text: &str) {
    let (mut screen, wanted) = (Screen::new(), packed(&format!("> {text}")));
    vm.wait_until(|serial| screen.last_line_behind(serial, "> ").is_some_and(|line| line == wanted))
        .unwrap_or_else(|why| panic!("\"{text}\" was typed: {why}"));
}

/// The bytes between two places in this program.
fn between(first: *const u8, end: *const u8) -> &'static [u8] {
    // SAFETY: both are labels of one section that is never written, the second behind the first.
    unsafe { std::slice::from_raw_parts(first, end.offset_from_unsigned(first)) }
}

unsafe extern "C" {
    static kernel_start: u8;
    static kernel_last: u8;
    static plain_start: u8;
    static plain_last: u8;
    static stand_in_start: u8;
    static stand_in_last: u8;
}

/// The bytes that are in the program are those that its source makes.
#[test]
fn code_is_what_its_source_says() {
    let plain = between(&raw const plain_start, &raw const plain_last);
    assert_eq!(plain, plain::CODE, "plain.s");
    let kernel = between(&raw const kernel_start, &raw const kernel_last);
    assert_eq!(kernel, bios_kernel::CODE, "kernel.s");
    let stand_in = between(&raw const stand_in_start, &raw const stand_in_last);
    assert_eq!(&stand_in[0x5a..], boot_sector::CODE, "stand-in.s");
}

/// Two copies of the program, two slots and what is remembered fit before a first partition at 1 MiB, with room to grow.
#[test]
fn the_boot_program_leaves_room_before_a_partition_at_one_mebibyte() {
    const MOST: usize = 860;
    let built = std::path::Path::new(env!("CARGO_BIN_EXE_signpost")).parent().unwrap();
    let path = built.join("../boot/signpost-bios.img");
    let bytes = std::fs::read(&path)
        .unwrap_or_else(|error| panic!("{}: {error}; `cargo xtask boot`", path.display()));
    let (_, copy) = area::program(&bytes).expect("it is a boot program");
    println!("a copy has {} sectors", copy.len() / SECTOR);
    assert!(copy.len() / SECTOR <= MOST, "{} sectors", copy.len() / SECTOR);
    assert!(area::Area::in_sectors(1, 2047, (copy.len() / SECTOR) as u32).is_some());
}
