//! What the firmware starts from a disk's first sector, and what unpacks the menu's program.
#![no_std]
#![no_main]

use core::alloc::{GlobalAlloc, Layout};
use core::arch::global_asm;
use core::cell::UnsafeCell;
use core::ops::Range;
use core::{ptr, slice};

use lzma_rust2::{LzmaReader, Read};
use signpost_firmware::bios::area::{DICTIONARY, PROPERTIES};
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
    let is_whole = PROGRAM + length <= ROOM.start
        && LzmaReader::new_with_props(packed, length as u64, PROPERTIES, DICTIONARY, None)
            .is_ok_and(|mut reader| reader.read_exact(program).is_ok());
    calls::by_distance(program);
    is_whole
}

/// Memory for what unpacks: above the program, and given up with the stage.
struct Room(UnsafeCell<usize>);

/// Where it lies.
const ROOM: Range<usize> = 0x40_0000..0xc0_0000;

// SAFETY: one processor, no threads, no interrupts.
unsafe impl Sync for Room {}

// SAFETY: each piece is given out once, behind the one before it.
unsafe impl GlobalAlloc for Room {
    unsafe fn alloc(&self, layout: Layout) -> *mut u8 {
        // SAFETY: nothing else uses it meanwhile.
        let next = unsafe { &mut *self.0.get() };
        let start = next.next_multiple_of(layout.align());
        match start.checked_add(layout.size()) {
            Some(end) if end <= ROOM.end => {
                *next = end;
                start as *mut u8
            }
            _ => ptr::null_mut(),
        }
    }

    unsafe fn dealloc(&self, _: *mut u8, _: Layout) {}
}

#[global_allocator]
static MEMORY: Room = Room(UnsafeCell::new(ROOM.start));

#[panic_handler]
fn panic(_: &core::panic::PanicInfo<'_>) -> ! {
    loop {
        // SAFETY: nothing is to be done any more.
        unsafe { core::arch::asm!("hlt") };
    }
}
