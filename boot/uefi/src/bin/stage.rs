//! What the firmware starts, and what unpacks the boot program: half as long, so that less of it has to be read from a disk, and two
//! of them leave room on a small ESP.
//!
//! Memory that is written and then run is what firmware may forbid; where it says how to make such memory (the memory attribute
//! protocol, UEFI 2.10, 37.7), its code is made read-only and everything else not to be run, before it runs. Linux kernels unpack
//! themselves in the same way.
#![no_std]
#![no_main]

extern crate alloc;

use alloc::boxed::Box;
use core::ffi::c_void;
use core::ops::Range;
use core::slice;

use miniz_oxide::inflate::TINFLStatus;
use miniz_oxide::inflate::core::inflate_flags::{
    TINFL_FLAG_COMPUTE_ADLER32, TINFL_FLAG_PARSE_ZLIB_HEADER, TINFL_FLAG_USING_NON_WRAPPING_OUTPUT_BUF,
};
use miniz_oxide::inflate::core::{DecompressorOxide, decompress};
use signpost_firmware::image::flat::{Head, PAGE};
use uefi::boot::{self, AllocateType, MemoryType, OpenProtocolAttributes, OpenProtocolParams};
use uefi::mem::memory_map::MemoryAttribute;
use uefi::proto::security::MemoryProtection;
use uefi::{Handle, Status, entry};

/// What says that this program is ours, wherever it is put: the desk looks for a section of this name.
// SAFETY: it is data that nothing runs or writes, in a section that no other thing goes by.
#[unsafe(link_section = ".sgnpost")]
#[used]
static MARK: [u8; 31] = *b"signpost boot program, format 1";

/// The boot program, as `cargo xtask boot` packs it.
static PACKED: &[u8] = include_bytes!(env!("SIGNPOST_PACKED"));

/// How a program is entered (UEFI 2.10, 4.1).
type Entry = extern "efiapi" fn(Handle, *const c_void) -> Status;

#[entry]
fn main() -> Status {
    let (Some(program), Some(system)) = (unpacked(), uefi::table::system_table_raw()) else {
        return Status::LOAD_ERROR;
    };
    // It keeps its memory when it comes back: what it has left with the firmware may still be called.
    program(boot::image_handle(), system.as_ptr().cast())
}

/// The program in memory of its own, where it is whole and there is room for it.
fn unpacked() -> Option<Entry> {
    let (head, stream) = Head::read(PACKED)?;
    let length = head.unpacked()?;
    let pages = length.div_ceil(PAGE as usize);
    let start = boot::allocate_pages(AllocateType::AnyPages, MemoryType::LOADER_CODE, pages).ok()?;
    // SAFETY: the firmware has given us these pages, and nobody else has them.
    let memory = unsafe { slice::from_raw_parts_mut(start.as_ptr(), length) };
    let flags =
        TINFL_FLAG_PARSE_ZLIB_HEADER | TINFL_FLAG_COMPUTE_ADLER32 | TINFL_FLAG_USING_NON_WRAPPING_OUTPUT_BUF;
    let (status, _, written) = decompress(&mut Box::<DecompressorOxide>::default(), stream, memory, 0, flags);
    let address = start.as_ptr() as u64;
    if status != TINFLStatus::Done || written != length || !head.place(memory, address) {
        return None;
    }
    let at = |place: u32| address + u64::from(place);
    protect(at(head.code.start)..at(head.code.end), address..address + (pages * PAGE as usize) as u64);
    // SAFETY: a whole program stands there, laid out and placed as its entry expects.
    Some(unsafe { core::mem::transmute::<*const u8, Entry>(start.as_ptr().add(head.entry as usize)) })
}

/// Makes code read-only and lets it run, and all around it the other way round, where the firmware can. Where it cannot, its memory
/// is written and run as it is.
fn protect(code: Range<u64>, all: Range<u64>) {
    let Ok(handle) = boot::get_handle_for_protocol::<MemoryProtection>() else { return };
    let params = OpenProtocolParams { handle, agent: boot::image_handle(), controller: None };
    // SAFETY: the protocol lies with the firmware itself, which does not take it away.
    let opened =
        unsafe { boot::open_protocol::<MemoryProtection>(params, OpenProtocolAttributes::GetProtocol) };
    let Ok(protection) = opened else { return };
    for data in [all.start..code.start, code.end..all.end] {
        if !data.is_empty() {
            let _ = protection.clear_memory_attributes(data.clone(), MemoryAttribute::READ_ONLY);
            let _ = protection.set_memory_attributes(data, MemoryAttribute::EXECUTE_PROTECT);
        }
    }
    let _ = protection.set_memory_attributes(code.clone(), MemoryAttribute::READ_ONLY);
    let _ = protection.clear_memory_attributes(code, MemoryAttribute::EXECUTE_PROTECT);
}

#[panic_handler]
fn panic(_: &core::panic::PanicInfo<'_>) -> ! {
    // SAFETY: the image that is ended is this one, and nothing of it runs afterwards.
    let _ = unsafe { boot::exit(boot::image_handle(), Status::LOAD_ERROR, 0, core::ptr::null_mut()) };
    loop {
        core::hint::spin_loop();
    }
}
