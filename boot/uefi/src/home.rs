//! Writing to the home volume, through the firmware's own files.

use alloc::format;
use alloc::string::String;
use alloc::vec::Vec;

use signpost_menu::slot::{HOME_FOLDER, SLOT_NAMES, SLOT_SIZE};
use uefi::proto::loaded_image::LoadedImage;
use uefi::proto::media::file::{File, FileAttribute, FileMode, RegularFile};
use uefi::proto::media::fs::SimpleFileSystem;
use uefi::{CString16, boot};

/// Overwrites a slot in place, or makes it, and reads it back.
///
/// # Errors
/// What the firmware refused to do, in words.
pub fn write_slot(index: usize, bytes: &[u8]) -> Result<(), String> {
    let name = SLOT_NAMES.get(index).ok_or("there is no such slot")?;
    write(&format!("{HOME_FOLDER}/{name}"), bytes)
}

/// Overwrites a file of the home volume in place, or makes it, and reads it back.
fn write(path: &str, bytes: &[u8]) -> Result<(), String> {
    let refused =
        |what: &str, error: uefi::Error| format!("the firmware refused to {what} {path}: {}", error.status());
    let home = boot::open_protocol_exclusive::<LoadedImage>(boot::image_handle())
        .ok()
        .and_then(|image| image.device());
    let home = home.ok_or("the volume that this program came from is not known")?;
    let mut volume =
        boot::open_protocol_exclusive::<SimpleFileSystem>(home).map_err(|error| refused("open", error))?;
    let mut root = volume.open_volume().map_err(|error| refused("open", error))?;
    let name =
        CString16::try_from(path.replace('/', "\\").as_str()).map_err(|_| "its name cannot be written")?;
    let file = root
        .open(&name, FileMode::CreateReadWrite, FileAttribute::empty())
        .map_err(|error| refused("open", error))?;
    let mut file: RegularFile = file.into_regular_file().ok_or_else(|| format!("{path} is a folder"))?;
    file.write(bytes).map_err(|error| format!("the firmware refused to write {path}: {}", error.status()))?;
    file.flush().map_err(|error| refused("write", error))?;
    file.set_position(0).map_err(|error| refused("read", error))?;
    let mut back: Vec<u8> = alloc::vec![0; SLOT_SIZE];
    let length = file
        .read(&mut back)
        .map_err(|error| format!("the firmware refused to read {path}: {}", error.status()))?;
    if back.get(..length) == Some(bytes) {
        Ok(())
    } else {
        Err(format!("{path} does not read back as it was written"))
    }
}
