//! A made-up system for tests and the demo: says that it was started, with what it was handed, and powers off.
#![no_std]
#![no_main]

extern crate alloc;

use alloc::string::String;
use alloc::vec::Vec;

use uefi::boot::{self, ScopedProtocol};
use uefi::proto::device_path::DevicePath;
use uefi::proto::loaded_image::LoadedImage;
use uefi::proto::media::file::{File, FileAttribute, FileMode};
use uefi::proto::media::fs::SimpleFileSystem;
use uefi::proto::media::load_file::LoadFile2;
use uefi::runtime::{self, ResetType};
use uefi::{Status, cstr16, entry, println};

/// Filled in by whoever makes a bench: the title behind the mark, ended by NUL.
#[used]
static TITLE: [u8; 96] = {
    let mark = b"MADE-UP-TITLE:";
    let mut bytes = [0; 96];
    let mut index = 0;
    while index < mark.len() {
        bytes[index] = mark[index];
        index += 1;
    }
    bytes
};
const MARK: usize = 14;

/// Vendor media node of the Linux kernel's initrd, and an end node.
const INITRD: [u8; 24] = [
    4, 3, 20, 0, 0x27, 0xe4, 0x68, 0x55, 0xfc, 0x68, 0x3d, 0x4f, 0xac, 0x74, 0xca, 0x55, 0x52, 0x31, 0xcc,
    0x68, 0x7f, 0xff, 4, 0,
];

#[entry]
fn main() -> Status {
    println!("\r\nSTARTED {}", title());
    println!("OPTIONS {}", options().unwrap_or_default());
    match initrd() {
        Some(bytes) => {
            // Said before anything else is done with it: from outside, this is when the loading ended.
            println!("LOADED {}", bytes.len());
            println!("INITRD {} {:08x}", bytes.len(), crc32fast::hash(&bytes));
        }
        None => println!("INITRD none"),
    }
    read_large_file();
    runtime::reset(ResetType::SHUTDOWN, Status::SUCCESS, None)
}

/// How often the large file is read.
const READINGS: usize = 5;

/// Reads a large file by the firmware's own driver, where a bench has one: something to measure others by.
fn read_large_file() {
    for handle in boot::find_handles::<SimpleFileSystem>().unwrap_or_default() {
        let Ok(mut fs) = boot::open_protocol_exclusive::<SimpleFileSystem>(handle) else { continue };
        let Ok(mut root) = fs.open_volume() else { continue };
        let Ok(file) = root.open(cstr16!("\\LARGE.BIN"), FileMode::Read, FileAttribute::empty()) else {
            continue;
        };
        let Some(mut file) = file.into_regular_file() else { continue };
        println!("READING");
        let mut read = 0;
        // Several times over: once is too short to be measured from outside. Each into memory that nobody has used
        // yet, as an initrd's is.
        for _ in 0..READINGS {
            let mut buffer = alloc::vec![0u8; 32 << 20];
            let _ = file.set_position(0);
            read = file.read(&mut buffer).unwrap_or(0);
            core::mem::forget(buffer);
        }
        println!("READ {read}");
        return;
    }
}

fn title() -> String {
    // SAFETY: the array is there; it is read as it is in memory, since what fills it in does so in the file.
    let bytes = unsafe { core::ptr::read_volatile(&raw const TITLE) };
    let text: Vec<u8> = bytes[MARK..].iter().copied().take_while(|byte| *byte != 0).collect();
    String::from_utf8_lossy(&text).into_owned()
}

fn options() -> Option<String> {
    let loaded: ScopedProtocol<LoadedImage> = boot::open_protocol_exclusive(boot::image_handle()).ok()?;
    let options = loaded.load_options_as_cstr16().ok()?;
    Some(alloc::string::ToString::to_string(options))
}

fn initrd() -> Option<Vec<u8>> {
    let mut path: &DevicePath = INITRD.as_slice().try_into().ok()?;
    let handle = boot::locate_device_path::<LoadFile2>(&mut path).ok()?;
    let mut loader = boot::open_protocol_exclusive::<LoadFile2>(handle).ok()?;
    let bytes = loader.load_file(path).ok()?;
    Some(bytes.into_vec())
}

#[panic_handler]
fn panic(info: &core::panic::PanicInfo<'_>) -> ! {
    println!("made-up system stopped: {info}");
    runtime::reset(ResetType::SHUTDOWN, Status::ABORTED, None)
}
