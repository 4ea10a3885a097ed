//! Memory: what the firmware says is there, room for the program itself, and room for what it starts.

use alloc::vec::Vec;
use core::alloc::{GlobalAlloc, Layout};
use core::cell::UnsafeCell;
use core::ptr::{self, NonNull};

use linked_list_allocator::Heap;

use crate::real::{self, Registers, SMALL, interrupt};

/// Where what is started may be put: above everything of ours.
pub const ABOVE: u64 = 16 << 20;
/// Nothing of a 32-bit program is put above that.
const LIMIT: u64 = 0xffff_f000;
/// Of `int 15h`, `E820h` (ACPI specification, 15.1): memory that may be used.
const USABLE: u32 = 1;
/// Ranges that are asked for; `boot_params` of Linux has room for 128.
const MAX_RANGES: usize = 128;
/// `SMAP`.
const SIGNATURE: u32 = 0x534d_4150;

/// A range of memory, in bytes.
#[derive(Clone, Copy, Debug)]
pub struct Range {
    /// Where it begins.
    pub start: u64,
    /// How long it is.
    pub length: u64,
    /// What it is, by the firmware's number.
    pub kind: u32,
}

impl Range {
    fn end(&self) -> u64 {
        self.start.saturating_add(self.length)
    }
}

/// One processor, no threads, no interrupts: nothing is ever used twice at once.
struct Alone(UnsafeCell<Heap>);

// SAFETY: see above.
unsafe impl Sync for Alone {}

// SAFETY: the heap gives out memory that nobody else has, as its crate promises.
unsafe impl GlobalAlloc for Alone {
    unsafe fn alloc(&self, layout: Layout) -> *mut u8 {
        // SAFETY: nothing else uses the heap meanwhile.
        let found = unsafe { &mut *self.0.get() }.allocate_first_fit(layout);
        found.map_or(ptr::null_mut(), NonNull::as_ptr)
    }

    unsafe fn dealloc(&self, at: *mut u8, layout: Layout) {
        if let Some(at) = NonNull::new(at) {
            // SAFETY: as above; the caller gives back what it was given.
            unsafe { (*self.0.get()).deallocate(at, layout) }
        }
    }
}

#[global_allocator]
static HEAP: Alone = Alone(UnsafeCell::new(Heap::empty()));

unsafe extern "C" {
    static stack_top: u8;
}

/// Takes the memory behind the program, up to 16 MiB, as far as there is that much. Comes before anything that needs memory.
pub fn set_up() {
    let start = (&raw const stack_top) as usize;
    let end = first_end().min(ABOVE) as usize;
    // SAFETY: the firmware says that this is memory, and the program ends where it starts; it is done once.
    unsafe { (*HEAP.0.get()).init(start as *mut u8, end.saturating_sub(start)) }
}

/// Bytes that are free for the program itself.
pub fn free() -> usize {
    // SAFETY: nothing else uses the heap meanwhile.
    unsafe { &*HEAP.0.get() }.free()
}

/// Where the memory that starts at 1 MiB ends.
fn first_end() -> u64 {
    const MIB: u64 = 1 << 20;
    let mut next = 0;
    for _ in 0..MAX_RANGES {
        let Some((range, more)) = range(next) else { break };
        if range.kind == USABLE && range.start <= MIB && range.end() > MIB {
            return range.end();
        }
        if more == 0 {
            break;
        }
        next = more;
    }
    // Firmware from before that call: KiB above 1 MiB up to 16 MiB, then 64 KiB each.
    let said = interrupt(0x15, Registers::ax(0xe801));
    let below = u64::from(said.ax & 0xffff).max(u64::from(said.cx & 0xffff));
    if !said.is_refused() && below > 0 {
        return MIB + below * 1024;
    }
    let said = interrupt(0x15, Registers::ax(0x8800));
    MIB + u64::from(said.ax & 0xffff) * 1024
}

/// All ranges that the firmware tells.
pub fn ranges() -> Vec<Range> {
    let mut all = Vec::new();
    let mut next = 0;
    while all.len() < MAX_RANGES {
        let Some((range, more)) = range(next) else { break };
        all.push(range);
        if more == 0 {
            break;
        }
        next = more;
    }
    if all.is_empty() {
        let end = first_end();
        all.push(Range { start: 0, length: 0x9_fc00, kind: USABLE });
        all.push(Range { start: 1 << 20, length: end - (1 << 20), kind: USABLE });
    }
    all
}

fn range(next: u32) -> Option<(Range, u32)> {
    let asked =
        Registers { bx: next, cx: 20, dx: SIGNATURE, di: SMALL as u32, ax: 0xe820, ..Registers::default() };
    let said = interrupt(0x15, asked);
    if said.is_refused() || said.ax != SIGNATURE {
        return None;
    }
    let bytes: [u8; 20] = real::small();
    let (start, rest) = bytes.split_first_chunk()?;
    let (length, rest) = rest.split_first_chunk()?;
    let range = Range {
        start: u64::from_le_bytes(*start),
        length: u64::from_le_bytes(*length),
        kind: u32::from_le_bytes(*rest.first_chunk()?),
    };
    Some((range, said.bx))
}

/// The lowest place at or above `from` where so many bytes are free, on a page's border.
pub fn lowest(ranges: &[Range], from: u64, length: u64) -> Option<u64> {
    let fits = |range: &&Range| range.kind == USABLE && range.end() > from;
    let place = |range: &Range| {
        let at = range.start.max(from).next_multiple_of(4096);
        (at.saturating_add(length) <= range.end().min(LIMIT)).then_some(at)
    };
    ranges.iter().filter(fits).filter_map(place).min()
}

/// The highest place below `limit`, and at or above `from`, where so many bytes are free, on a page's border.
pub fn highest(ranges: &[Range], (from, limit): (u64, u64), length: u64) -> Option<u64> {
    let place = |range: &Range| {
        let at = range.end().min(limit).min(LIMIT).checked_sub(length)? & !0xfff;
        (at >= range.start.max(from)).then_some(at)
    };
    ranges.iter().filter(|range| range.kind == USABLE).filter_map(place).max()
}

/// Memory at a place that `lowest` or `highest` gave.
///
/// # Safety
/// Nobody else uses it, and it is not asked for twice at a time.
pub unsafe fn at<'a>(start: u64, length: usize) -> &'a mut [u8] {
    // SAFETY: the firmware says that it is memory, below 4 GiB, where an address is as long as a pointer.
    unsafe { core::slice::from_raw_parts_mut(start as usize as *mut u8, length) }
}
