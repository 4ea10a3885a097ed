//! Calls of the firmware, in the processor's real mode.

use core::arch::global_asm;
use core::ptr;

global_asm!(include_str!("thunk.s"), options(att_syntax, raw));

/// Where the thunk lies.
const CODE: usize = 0x1000;
const REGISTERS: usize = 0x5000;
const VECTOR: usize = 0x5034;
const TABLE_REGISTER: usize = 0x5040;
const VECTORS_REGISTER: usize = 0x5048;
const TABLE: usize = 0x5080;

/// Room below 64 KiB that calls may use, in bytes of memory: its page is not that of code.
pub const SMALL: usize = 0x6000;
/// Bytes of it; the stack of real mode comes down to it.
pub const SMALL_LEN: usize = 0x400;
/// Room for what is read and written, in bytes of memory.
pub const BOUNCE: usize = 0x1_0000;
/// Bytes of it: more than that no call takes.
pub const BOUNCE_LEN: usize = 0x1_0000;

/// Segments: none; code and data of 32 bits, of 16 bits. All are marked as used, so that the processor writes nothing there.
const SEGMENTS: [u64; 5] =
    [0, 0x00cf_9b00_0000_ffff, 0x00cf_9300_0000_ffff, 0x0000_9b00_0000_ffff, 0x0000_9300_0000_ffff];

/// The carry flag: the firmware sets it where it could not do what it was asked.
const CARRY: u16 = 1;

unsafe extern "C" {
    static thunk: u8;
    static thunk_end: u8;
    static thunk_idle: u8;
}

/// What the processor's registers hold at a call, and behind it.
#[derive(Clone, Copy, Debug, Default)]
#[repr(C)]
pub struct Registers {
    /// EDI.
    pub di: u32,
    /// ESI.
    pub si: u32,
    /// EBP.
    pub bp: u32,
    /// ESP, which calls do not change.
    pub stack: u32,
    /// EBX.
    pub bx: u32,
    /// EDX.
    pub dx: u32,
    /// ECX.
    pub cx: u32,
    /// EAX.
    pub ax: u32,
    /// ES.
    pub es: u16,
    /// DS.
    pub ds: u16,
    /// The flags behind it.
    pub flags: u16,
}

impl Registers {
    /// All zero, but for AX.
    pub fn ax(ax: u16) -> Self {
        Self { ax: ax.into(), ..Self::default() }
    }

    /// Whether the firmware could not do it.
    pub fn is_refused(&self) -> bool {
        self.flags & CARRY != 0
    }
}

/// Puts everything where calls need it. Comes before the first of them.
pub fn set_up() {
    // SAFETY: below 64 KiB lie the firmware's vectors and data, up to 0x600, the first sector, and what is ours; nobody else uses
    // it, and all of it is memory.
    unsafe {
        let length = (&raw const thunk_end).offset_from(&raw const thunk).unsigned_abs();
        ptr::copy_nonoverlapping(&raw const thunk, CODE as *mut u8, length);
        ptr::write_volatile(TABLE as *mut [u64; 5], SEGMENTS);
        ptr::write_unaligned(TABLE_REGISTER as *mut u16, (size_of_val(&SEGMENTS) - 1) as u16);
        ptr::write_unaligned((TABLE_REGISTER + 2) as *mut u32, TABLE as u32);
        // The vectors of real mode: 256 of them, at 0.
        ptr::write_unaligned(VECTORS_REGISTER as *mut u16, 0x3ff);
        ptr::write_unaligned((VECTORS_REGISTER + 2) as *mut u32, 0);
        core::arch::asm!(
            "lgdt ({register})",
            "ljmp $8, $2f",
            "2:",
            "movw $16, {data:x}",
            "movw {data:x}, %ds",
            "movw {data:x}, %es",
            "movw {data:x}, %fs",
            "movw {data:x}, %gs",
            "movw {data:x}, %ss",
            register = in(reg) TABLE_REGISTER,
            data = out(reg) _,
            options(att_syntax)
        );
    }
}

/// Calls an interrupt of the firmware's.
pub fn interrupt(number: u8, registers: Registers) -> Registers {
    // SAFETY: the vectors of real mode are where they always are, and nothing of ours has changed them.
    let vector = unsafe { ptr::read_volatile((usize::from(number) * 4) as *const u32) };
    call(vector, registers)
}

/// Stands still until the next interrupt: a tick of the clock, or a key.
pub fn idle() {
    // SAFETY: both are places in the same piece of code.
    let at = unsafe { (&raw const thunk_idle).offset_from(&raw const thunk).unsigned_abs() };
    call((CODE + at) as u32, Registers::default());
}

/// Calls what lies at an address of real mode, its offset in the lower half, as an interrupt is called.
pub fn call(vector: u32, registers: Registers) -> Registers {
    // SAFETY: the thunk was put there by `set_up`; it gives back stack and registers as they were.
    unsafe {
        ptr::write_volatile(VECTOR as *mut u32, vector);
        ptr::write_volatile(REGISTERS as *mut Registers, registers);
        let go: extern "C" fn() = core::mem::transmute(CODE);
        go();
        ptr::read_volatile(REGISTERS as *const Registers)
    }
}

/// Takes bytes out of the bounce buffer, from so far into it on, four at a time: the core library's own copying, which is made small,
/// goes by single bytes.
pub fn take_bounced(skip: usize, to: &mut [u8]) {
    let length = to.len().min(BOUNCE_LEN.saturating_sub(skip));
    // SAFETY: the buffer is ours, and so much of it lies behind `skip`; the direction flag is clear everywhere in Rust.
    unsafe {
        core::arch::asm!(
            "xchgl %esi, {from}",
            "rep movsl",
            "movl {rest}, %ecx",
            "rep movsb",
            "movl {from}, %esi",
            from = inout(reg) BOUNCE + skip => _,
            rest = in(reg) length % 4,
            inout("ecx") length / 4 => _,
            inout("edi") to.as_mut_ptr() => _,
            options(att_syntax, nostack, preserves_flags)
        );
    }
}

/// Puts bytes to the start of the bounce buffer.
pub fn put_bounced(bytes: &[u8]) {
    // SAFETY: the buffer is ours, and no reference to it is held anywhere.
    unsafe { ptr::copy_nonoverlapping(bytes.as_ptr(), BOUNCE as *mut u8, bytes.len().min(BOUNCE_LEN)) }
}

/// A word of the first megabyte, where firmware's own lists lie.
pub fn word_below_mebibyte(at: usize) -> Option<u16> {
    // SAFETY: all of the first megabyte can be read on every machine of this kind; the first page, with an address that would be
    // null, holds no list.
    (0x400..0xf_ffff).contains(&at).then(|| unsafe { ptr::read_unaligned(at as *const u16) })
}

/// Puts bytes to where calls can have them, at [`SMALL`]; as many as there is room for.
pub fn put_small(bytes: &[u8]) {
    // SAFETY: that memory is ours, and no reference to it is held anywhere.
    unsafe { ptr::copy_nonoverlapping(bytes.as_ptr(), SMALL as *mut u8, bytes.len().min(SMALL_LEN)) }
}

/// What calls have put to [`SMALL`].
pub fn small<const N: usize>() -> [u8; N] {
    const { assert!(N <= SMALL_LEN) };
    // SAFETY: as above.
    unsafe { ptr::read_volatile(SMALL as *const [u8; N]) }
}

/// A byte of the firmware's data, at 0x400 and on.
pub fn data_byte(offset: usize) -> u8 {
    // SAFETY: the firmware's data is memory on every machine of this kind.
    unsafe { ptr::read_volatile((0x400 + offset) as *const u8) }
}

/// The clock's ticks since midnight, 18.2 a second.
pub fn ticks() -> u32 {
    // SAFETY: as above.
    unsafe { ptr::read_volatile(0x46c as *const u32) }
}
