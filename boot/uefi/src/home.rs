//! Files of the home volume, through the firmware's own.

use alloc::format;
use alloc::string::String;
use alloc::vec::Vec;

use signpost_menu::slot::{HOME_FOLDER, SLOT_NAMES, SLOT_SIZE};
use uefi::proto::loaded_image::LoadedImage;
use uefi::proto::media::file::{File, FileAttribute, FileInfo, FileMode, RegularFile};
use uefi::proto::media::fs::SimpleFileSystem;
use uefi::{CString16, Status, boot};

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
    let mut file = open(path, FileMode::CreateReadWrite)?;
    file.write(bytes).map_err(|error| refused("write", path, error.status()))?;
    file.flush().map_err(|error| refused("write", path, error.status()))?;
    file.set_position(0).map_err(|error| refused("read", path, error.status()))?;
    let mut back: Vec<u8> = alloc::vec![0; SLOT_SIZE];
    let length = file.read(&mut back).map_err(|error| refused("read", path, error.status()))?;
    if back.get(..length) == Some(bytes) {
        Ok(())
    } else {
        Err(format!("{path} does not read back as it was written"))
    }
}

/// A whole file.
///
/// # Errors
/// Where it cannot be read, or has more bytes than these, in words.
pub fn read(path: &str, most: usize) -> Result<Vec<u8>, String> {
    let mut file = open(path, FileMode::Read)?;
    let info = file.get_boxed_info::<FileInfo>().map_err(|error| refused("read", path, error.status()))?;
    let length = usize::try_from(info.file_size()).ok().filter(|length| *length <= most);
    let length =
        length.ok_or_else(|| format!("{path} has {} bytes, and {most} are the most", info.file_size()))?;
    let mut bytes = Vec::new();
    bytes.try_reserve_exact(length).map_err(|_| format!("there is no memory for {path}"))?;
    bytes.resize(length, 0);
    let read = file.read(&mut bytes).map_err(|error| refused("read", path, error.status()))?;
    bytes.truncate(read);
    Ok(bytes)
}

/// Opens a file of the volume that this program came from.
fn open(path: &str, mode: FileMode) -> Result<RegularFile, String> {
    let home = boot::open_protocol_exclusive::<LoadedImage>(boot::image_handle())
        .ok()
        .and_then(|image| image.device());
    let home = home.ok_or("the volume that this program came from is not known")?;
    let refused = |error: uefi::Error| refused("open", path, error.status());
    let mut volume = boot::open_protocol_exclusive::<SimpleFileSystem>(home).map_err(refused)?;
    let mut root = volume.open_volume().map_err(refused)?;
    let name =
        CString16::try_from(path.replace('/', "\\").as_str()).map_err(|_| "its name cannot be written")?;
    let file = root.open(&name, mode, FileAttribute::empty()).map_err(refused)?;
    file.into_regular_file().ok_or_else(|| format!("{path} is a folder"))
}

fn refused(what: &str, path: &str, status: Status) -> String {
    format!("the firmware refused to {what} {path}: {status}")
}
