//! What the firmware starts from a disk's first sector, and what unpacks the menu's program.
#![no_std]
#![no_main]

use core::alloc::{GlobalAlloc, Layout};
use core::arch::global_asm;
use core::{ptr, slice};

use miniz_oxide::inflate::TINFLStatus;
use miniz_oxide::inflate::core::inflate_flags::TINFL_FLAG_USING_NON_WRAPPING_OUTPUT_BUF;
use miniz_oxide::inflate::core::{DecompressorOxide, decompress};
use signpost_firmware::bios::calls;

global_asm!(include_str!("first.s"), options(att_syntax, raw));
global_asm!(include_str!("stage.s"), options(att_syntax, raw));

/// Where the program runs, in bytes of memory.
const PROGRAM: usize = 0x10_0000;

/// The head of a copy, at 0x8000.
#[repr(C)]
struct Head {
    marker: [u8; 8],
    checksum: u32,
    format: u16,
    end: u16,
    packed_at: u32,
    packed: u32,
    unpacked: u32,
    reserved: u32,
}

unsafe extern "C" {
    static head: Head;
}

/// Unpacks the program; whether it came out whole.
#[unsafe(no_mangle)]
extern "C" fn unpack() -> bool {
    // SAFETY: the first sector has put a whole copy there and found its checksum right.
    let (packed, length) = unsafe {
        let start = (&raw const head).cast::<u8>().add(head.packed_at as usize);
        (slice::from_raw_parts(start, head.packed as usize), head.unpacked as usize)
    };
    // SAFETY: nothing else lies above 1 MiB, and every machine with 32-bit processors that shows a menu has 16 MiB.
    let program = unsafe { slice::from_raw_parts_mut(PROGRAM as *mut u8, length) };
    let mut state = DecompressorOxide::new();
    let (status, _, written) =
        decompress(&mut state, packed, program, 0, TINFL_FLAG_USING_NON_WRAPPING_OUTPUT_BUF);
    calls::by_distance(program);
    status == TINFLStatus::Done && written == length
}

/// Nothing here asks for memory; the crate that unpacks can, when it is built for the program that is packed.
struct None;

// SAFETY: no memory is given out.
unsafe impl GlobalAlloc for None {
    unsafe fn alloc(&self, _: Layout) -> *mut u8 {
        ptr::null_mut()
    }

    unsafe fn dealloc(&self, _: *mut u8, _: Layout) {}
}

#[global_allocator]
static NONE: None = None;

#[panic_handler]
fn panic(_: &core::panic::PanicInfo<'_>) -> ! {
    loop {
        // SAFETY: nothing is to be done any more.
        unsafe { core::arch::asm!("hlt") };
    }
}
