//! A Linux kernel with its initrds, from a file system straight to where they have to lie.

use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec::Vec;
use core::convert::Infallible;
use core::ptr;

use signpost_disk::file_system::FileSystem;
use signpost_firmware::image::linux::HEAD_LEN;
use signpost_firmware::image::linux_protocol::{self, Handed, Loading, PARAMS};

use super::leap;
use crate::memory::{self, ABOVE};

/// Where `boot_params` and the arguments lie, in bytes of memory.
const PARAMS_AT: usize = 0x9_0000;
const ARGS_AT: usize = PARAMS_AT + PARAMS;
/// What each archive of an initrd starts on, in bytes.
const ALIGNMENT: u64 = 4;

/// Starts it.
///
/// # Errors
/// Why it is not running, in words.
pub fn start(
    fs: &dyn FileSystem,
    kernel: &str,
    initrds: &[String],
    args: &str,
) -> Result<Infallible, String> {
    let size = size_of(fs, kernel)?;
    let head = fs.read_head(kernel, HEAD_LEN).map_err(|error| error.to_string())?;
    let loading = linux_protocol::loading(&head, size).map_err(|why| format!("{kernel}: {why}"))?;
    if args.len() > loading.args as usize {
        return Err(format!("the arguments have {} bytes, and {kernel} takes {}", args.len(), loading.args));
    }
    let mut parts: Vec<(&String, u64)> = Vec::new();
    for path in initrds {
        parts.push((path, size_of(fs, path)?));
    }
    let together =
        parts.iter().fold(0u64, |all, (_, size)| all.next_multiple_of(ALIGNMENT).saturating_add(*size));
    let ranges = memory::ranges();
    let lack = || {
        let mib = size.saturating_add(together).div_ceil(1 << 20);
        format!("there is not enough memory for it: kernel and initrds take {mib} MiB")
    };
    let place = place(&ranges, &head, &loading, size - loading.code).ok_or_else(lack)?;
    let limit = u64::from(loading.initrd_limit).saturating_add(1);
    let initrd_at = memory::highest(&ranges, (place.free_from, limit), together).ok_or_else(lack)?;
    let length = (size - loading.code) as usize;
    // SAFETY: all of it is free memory above ours, and each place is used once.
    let code = unsafe { memory::at(place.loaded, length) };
    read(fs, kernel, loading.code, code)?;
    let mut at = 0u64;
    for (path, size) in &parts {
        let from = at.next_multiple_of(ALIGNMENT);
        // SAFETY: as above.
        unsafe { memory::at(initrd_at + at, (from - at) as usize) }.fill(0);
        // SAFETY: as above.
        read(fs, path, 0, unsafe { memory::at(initrd_at + from, *size as usize) })?;
        at = from + size;
    }
    let ranges: Vec<(u64, u64, u32)> =
        ranges.iter().map(|range| (range.start, range.length, range.kind)).collect();
    let handed = Handed {
        code: place.run as u32,
        args: ARGS_AT as u32,
        initrd: if parts.is_empty() { (0, 0) } else { (initrd_at as u32, together as u32) },
        memory: &ranges,
    };
    let params = linux_protocol::params(&head, &handed);
    // SAFETY: below 640 KiB nothing but what is in use below 0x9000 lies; the kernel is whole where it was put.
    unsafe {
        ptr::copy_nonoverlapping(params.as_ptr(), PARAMS_AT as *mut u8, PARAMS);
        ptr::copy_nonoverlapping(args.as_ptr(), ARGS_AT as *mut u8, args.len());
        ptr::write((ARGS_AT + args.len()) as *mut u8, 0);
        leap::into_linux((place.loaded as u32, place.run as u32, length as u32), PARAMS_AT as u32)
    }
}

/// Where a kernel's code is put, and where it runs, in bytes of memory.
struct Placed {
    loaded: u64,
    run: u64,
    /// Nothing above this is taken.
    free_from: u64,
}

fn place(ranges: &[memory::Range], head: &[u8], loading: &Loading, length: u64) -> Option<Placed> {
    if let Some(fixed) = loading.fixed {
        // It runs where we are, and is copied there at last.
        let end = u64::from(fixed).checked_add(loading.memory)?;
        memory::lowest(ranges, fixed.into(), loading.memory)?;
        let loaded = memory::lowest(ranges, end.max(ABOVE), length)?;
        return Some(Placed { loaded, run: fixed.into(), free_from: loaded + length });
    }
    let alignment = u64::from(loading.alignment);
    let wanted = linux_protocol::preferred(head).unwrap_or(ABOVE).max(ABOVE).next_multiple_of(alignment);
    let at = memory::lowest(ranges, wanted, loading.memory.checked_add(alignment)?)?;
    let at = at.next_multiple_of(alignment);
    Some(Placed { loaded: at, run: at, free_from: at + loading.memory })
}

fn size_of(fs: &dyn FileSystem, path: &str) -> Result<u64, String> {
    let size = fs.metadata(path).map_err(|error| error.to_string())?.size;
    if size > 1 << 30 { Err(format!("{path} is longer than anything that is started")) } else { Ok(size) }
}

fn read(fs: &dyn FileSystem, path: &str, from: u64, buffer: &mut [u8]) -> Result<(), String> {
    match fs.read_at(path, from, buffer) {
        Ok(there) if there == buffer.len() => Ok(()),
        Ok(there) => Err(format!("{path} ends after {there} bytes")),
        Err(error) => Err(error.to_string()),
    }
}
