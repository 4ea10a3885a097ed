//! An initrd, offered to a kernel's EFI stub through `LoadFile2` (the Linux kernel's document "The EFI Boot
//! Stub"; UEFI 2.10, 13.2).

use alloc::boxed::Box;
use alloc::string::{String, ToString};
use alloc::vec::Vec;
use core::ffi::c_void;
use core::slice;

use signpost_disk::file_system::FileSystem;

use uefi::proto::device_path::DevicePath;
use uefi::proto::media::load_file::LoadFile2;
use uefi::{Guid, Handle, Identify, Status, boot};

/// Vendor media node `LINUX_EFI_INITRD_MEDIA_GUID`, and an end node.
static PATH: [u8; 24] = [
    4, 3, 20, 0, 0x27, 0xe4, 0x68, 0x55, 0xfc, 0x68, 0x3d, 0x4f, 0xac, 0x74, 0xca, 0x55, 0x52, 0x31, 0xcc,
    0x68, 0x7f, 0xff, 4, 0,
];

/// What each archive starts on, in bytes.
const ALIGNMENT: usize = 4;

type LoadFileFn = unsafe extern "efiapi" fn(
    this: *mut c_void,
    file_path: *const c_void,
    boot_policy: u8,
    buffer_size: *mut usize,
    buffer: *mut c_void,
) -> Status;

/// A file that is a part of it.
pub struct Part<'a> {
    /// Its file system.
    pub fs: &'a dyn FileSystem,
    /// Its path there.
    pub path: &'a str,
    /// Bytes.
    pub size: usize,
}

/// `EFI_LOAD_FILE2_PROTOCOL`, with what it loads behind it. Nothing is read before the kernel has made room for
/// it: then it goes from the disk to where the kernel wants it, and nowhere else.
#[repr(C)]
struct Loader<'a> {
    load_file: LoadFileFn,
    parts: Vec<Part<'a>>,
    length: usize,
}

/// An initrd on offer; dropping it takes the offer back.
pub struct InitrdOffer<'a> {
    handle: Handle,
    loader: *mut Loader<'a>,
}

impl<'a> InitrdOffer<'a> {
    /// Offers an initrd.
    ///
    /// # Errors
    /// Where the firmware does not take the offer, in words.
    pub fn new(parts: Vec<Part<'a>>) -> Result<Self, String> {
        let length = parts.iter().fold(0usize, |length, part| length.next_multiple_of(ALIGNMENT) + part.size);
        let loader = Box::into_raw(Box::new(Loader { load_file, parts, length }));
        let failed = |error: uefi::Error| error.status().to_string();
        let install = |handle, guid: &Guid, interface| {
            // SAFETY: each interface is of the shape its GUID stands for, and lives until it is uninstalled.
            unsafe { boot::install_protocol_interface(handle, guid, interface) }.map_err(failed)
        };
        let installed = install(None, &DevicePath::GUID, PATH.as_ptr().cast()).and_then(|handle| {
            let offer = Self { handle, loader };
            install(Some(handle), &LoadFile2::GUID, loader.cast_const().cast()).map(|_| offer)
        });
        installed.map_err(|why| alloc::format!("its initrd cannot be offered: {why}"))
    }
}

impl Drop for InitrdOffer<'_> {
    fn drop(&mut self) {
        // SAFETY: both were installed by `new` on this handle, and nobody uses them once the kernel is back.
        unsafe {
            let _ = boot::uninstall_protocol_interface(
                self.handle,
                &LoadFile2::GUID,
                self.loader.cast_const().cast(),
            );
            let _ = boot::uninstall_protocol_interface(self.handle, &DevicePath::GUID, PATH.as_ptr().cast());
            drop(Box::from_raw(self.loader));
        }
    }
}

/// `EFI_LOAD_FILE2_PROTOCOL.LoadFile()`.
unsafe extern "efiapi" fn load_file(
    this: *mut c_void,
    _: *const c_void,
    boot_policy: u8,
    buffer_size: *mut usize,
    buffer: *mut c_void,
) -> Status {
    if this.is_null() || buffer_size.is_null() {
        return Status::INVALID_PARAMETER;
    }
    if boot_policy != 0 {
        return Status::UNSUPPORTED;
    }
    // SAFETY: the firmware hands back the interface that was installed, which lives while it is; the caller owns size
    // and buffer, and says how long the buffer is.
    unsafe {
        let loader = &*this.cast::<Loader<'_>>();
        let room = *buffer_size;
        *buffer_size = loader.length;
        if buffer.is_null() || room < loader.length {
            return Status::BUFFER_TOO_SMALL;
        }
        loader.fill(slice::from_raw_parts_mut(buffer.cast(), loader.length))
    }
}

impl Loader<'_> {
    fn fill(&self, buffer: &mut [u8]) -> Status {
        let mut at = 0usize;
        for part in &self.parts {
            // The kernel wants each archive to start on four bytes.
            let start = at.next_multiple_of(ALIGNMENT);
            let Some(end) = start.checked_add(part.size).filter(|end| *end <= buffer.len()) else {
                return Status::DEVICE_ERROR;
            };
            buffer[at..start].fill(0);
            match part.fs.read_at(part.path, 0, &mut buffer[start..end]) {
                Ok(there) if there == part.size => at = end,
                _ => return Status::DEVICE_ERROR,
            }
        }
        Status::SUCCESS
    }
}
