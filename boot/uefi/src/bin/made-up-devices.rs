//! Drivers for tests, of what the virtual machine's firmware has none for: a tablet, which its emulator has, a display that says
//! how large it is, and a memory attribute protocol, which prints what it is asked for. It starts `\EFI\BOOT\SIGNPOST.EFI`, and stays as long as that runs.
#![no_std]
#![no_main]

extern crate alloc;

use alloc::boxed::Box;
use alloc::vec::Vec;
use core::arch::asm;
use core::ffi::c_void;
use core::ptr::NonNull;

use signpost_firmware::edid::LENGTH;
use uefi::boot::{self, EventType, LoadImageSource, ScopedProtocol, Tpl};
use uefi::proto::BootPolicy;
use uefi::proto::console::gop::GraphicsOutput;
use uefi::proto::device_path::DevicePath;
use uefi::proto::device_path::build::{DevicePathBuilder, media::FilePath};
use uefi::proto::loaded_image::LoadedImage;
use uefi::{Event, Status, cstr16, entry, println};
use uefi_raw::Boolean;
use uefi_raw::protocol::console::{
    AbsolutePointerMode, AbsolutePointerModeAttributes, AbsolutePointerProtocol, AbsolutePointerState,
    EdidDiscoveredProtocol,
};
use uefi_raw::protocol::memory_protection::MemoryAttributeProtocol;
use uefi_raw::table::boot::MemoryAttribute;

/// The emulator's own port, its sign, and what can be asked of its tablet.
const PORT: u64 = 0x5658;
const SIGN: u64 = 0x564d_5868;
const DATA: u64 = 39;
const STATUS: u64 = 40;
const COMMAND: u64 = 41;
/// Commands: turn it on, and have it say where instead of how far.
const TURN_ON: u64 = 0x4541_4552;
const ABSOLUTE: u64 = 0x5342_4152;
/// Words of a movement: buttons, across, down, wheel.
const WORDS: u32 = 4;
const LEFT_BUTTON: u32 = 0x20;
/// The largest place either way.
const MOST: u64 = 0xffff;

/// Asks the emulator.
fn ask(what: u64, argument: u64) -> [u32; 4] {
    let (mut a, mut b, mut c, mut d) = (SIGN, argument, what, PORT);
    // SAFETY: the port is the emulator's, which answers in these registers and leaves all others; the one that the compiler
    // keeps for itself has its own again behind.
    unsafe {
        asm!(
            "xchg {b}, rbx",
            "in eax, dx",
            "xchg {b}, rbx",
            b = inout(reg) b,
            inout("rax") a,
            inout("rcx") c,
            inout("rdx") d,
            inout("rsi") 0_u64 => _,
            inout("rdi") 0_u64 => _,
        );
    }
    [a, b, c, d].map(|word| word as u32)
}

/// Whether a movement is there.
fn has_moved() -> bool {
    ask(STATUS, 0)[0] & 0xffff >= WORDS
}

unsafe extern "efiapi" fn reset(_: *mut AbsolutePointerProtocol, _: Boolean) -> Status {
    Status::SUCCESS
}

unsafe extern "efiapi" fn get_state(
    _: *mut AbsolutePointerProtocol,
    state: *mut AbsolutePointerState,
) -> Status {
    if !has_moved() {
        return Status::NOT_READY;
    }
    let [buttons, x, y, _] = ask(DATA, u64::from(WORDS));
    let now = AbsolutePointerState {
        current_x: u64::from(x),
        current_y: u64::from(y),
        current_z: 0,
        active_buttons: u32::from(buttons & LEFT_BUTTON != 0),
    };
    // SAFETY: whoever asks brings a place for the answer (UEFI specification, 12.7).
    unsafe { state.write(now) };
    Status::SUCCESS
}

unsafe extern "efiapi" fn notify(event: Event, _: Option<NonNull<c_void>>) {
    if has_moved() {
        let _ = boot::signal_event(&event);
    }
}

/// What a display of 154 by 90 millimetres, seven inches, says of itself.
fn display() -> [u8; LENGTH] {
    let mut block = [0; LENGTH];
    block[1..7].fill(0xff);
    // Centimetres, and a first timing that says it to the millimetre.
    block[21..23].copy_from_slice(&[15, 9]);
    block[54..56].fill(1);
    block[66..69].copy_from_slice(&[154, 90, 0]);
    let sum = block.iter().fold(0_u8, |sum, byte| sum.wrapping_add(*byte));
    block[LENGTH - 1] = 0_u8.wrapping_sub(sum);
    block
}

/// Has the screen say what it is.
fn install_display() -> uefi::Result {
    let screen = boot::get_handle_for_protocol::<GraphicsOutput>()?;
    let block: &'static [u8; LENGTH] = Box::leak(Box::new(display()));
    let said =
        Box::leak(Box::new(EdidDiscoveredProtocol { size_of_edid: LENGTH as u32, edid: block.as_ptr() }));
    // SAFETY: the interface is the protocol's, and never goes.
    unsafe {
        boot::install_protocol_interface(
            Some(screen),
            &EdidDiscoveredProtocol::GUID,
            (&raw const *said).cast::<c_void>(),
        )
    }?;
    Ok(())
}

/// Shows the firmware the tablet.
fn install_tablet() -> uefi::Result {
    ask(COMMAND, TURN_ON);
    // What it says of itself.
    ask(DATA, 1);
    ask(COMMAND, ABSOLUTE);
    let mode = Box::leak(Box::new(AbsolutePointerMode {
        absolute_min_x: 0,
        absolute_min_y: 0,
        absolute_min_z: 0,
        absolute_max_x: MOST,
        absolute_max_y: MOST,
        absolute_max_z: 0,
        attributes: AbsolutePointerModeAttributes::empty(),
    }));
    // SAFETY: the function is there as long as this program, which ends after what it starts.
    let event = unsafe { boot::create_event(EventType::NOTIFY_WAIT, Tpl::NOTIFY, Some(notify), None) }?;
    let tablet = Box::leak(Box::new(AbsolutePointerProtocol {
        reset,
        get_state,
        wait_for_input: event.as_ptr(),
        mode,
    }));
    // SAFETY: the interface is the protocol's, and never goes.
    unsafe {
        boot::install_protocol_interface(
            None,
            &AbsolutePointerProtocol::GUID,
            (&raw const *tablet).cast::<c_void>(),
        )
    }?;
    Ok(())
}

/// What is asked for, as a line; memory that is not whole pages is none (UEFI specification, 37.7).
fn tell(what: &str, start: u64, length: u64, attributes: MemoryAttribute) -> Status {
    const PAGE: u64 = 4096;
    if !start.is_multiple_of(PAGE) || !length.is_multiple_of(PAGE) || length == 0 {
        println!("MEMORY wrong {start:x} {length:x}");
        return Status::INVALID_PARAMETER;
    }
    println!("MEMORY {what} {start:x} {length:x} {:x}", attributes.bits());
    Status::SUCCESS
}

unsafe extern "efiapi" fn get_attributes(
    _: *const MemoryAttributeProtocol,
    _: u64,
    _: u64,
    _: *mut MemoryAttribute,
) -> Status {
    Status::UNSUPPORTED
}

unsafe extern "efiapi" fn set_attributes(
    _: *const MemoryAttributeProtocol,
    start: u64,
    length: u64,
    attributes: MemoryAttribute,
) -> Status {
    tell("set", start, length, attributes)
}

unsafe extern "efiapi" fn clear_attributes(
    _: *const MemoryAttributeProtocol,
    start: u64,
    length: u64,
    attributes: MemoryAttribute,
) -> Status {
    tell("clear", start, length, attributes)
}

/// Has the firmware say that memory can be protected.
fn install_memory_protection() -> uefi::Result {
    let protection = Box::leak(Box::new(MemoryAttributeProtocol {
        get_memory_attributes: get_attributes,
        set_memory_attributes: set_attributes,
        clear_memory_attributes: clear_attributes,
    }));
    // SAFETY: the interface is the protocol's, and never goes.
    unsafe {
        boot::install_protocol_interface(
            None,
            &MemoryAttributeProtocol::GUID,
            (&raw const *protection).cast::<c_void>(),
        )
    }?;
    Ok(())
}

/// Starts the boot program from the volume that this one came from.
fn go_on() -> uefi::Result {
    let own: ScopedProtocol<LoadedImage> = boot::open_protocol_exclusive(boot::image_handle())?;
    let device = own.device().ok_or(Status::NOT_FOUND)?;
    drop(own);
    let volume: ScopedProtocol<DevicePath> = boot::open_protocol_exclusive(device)?;
    let mut bytes = Vec::new();
    let mut path = DevicePathBuilder::with_vec(&mut bytes);
    for node in volume.node_iter() {
        path = path.push(&node).map_err(|_| Status::INVALID_PARAMETER)?;
    }
    let file = FilePath { path_name: cstr16!("\\EFI\\BOOT\\SIGNPOST.EFI") };
    path = path.push(&file).map_err(|_| Status::INVALID_PARAMETER)?;
    let device_path = path.finalize().map_err(|_| Status::INVALID_PARAMETER)?;
    let source = LoadImageSource::FromDevicePath { device_path, boot_policy: BootPolicy::ExactMatch };
    let image = boot::load_image(boot::image_handle(), source)?;
    drop(volume);
    boot::start_image(image)
}

#[entry]
fn main() -> Status {
    match install_tablet()
        .and_then(|()| install_display())
        .and_then(|()| install_memory_protection())
        .and_then(|()| go_on())
    {
        Ok(()) => Status::SUCCESS,
        Err(error) => {
            println!("made-up devices: {error}");
            error.status()
        }
    }
}

#[panic_handler]
fn panic(info: &core::panic::PanicInfo<'_>) -> ! {
    println!("made-up devices stopped: {info}");
    loop {}
}
