//! An entry that was composed at the prompt, written into the older slot through the firmware's own files: at every cut
//! the newer slot stays whole.

use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec::Vec;

use signpost_menu::disk_number::DiskNumbers;
use signpost_menu::entry_text::entry_text;
use signpost_menu::quote::quoted;
use signpost_menu::slot::{HOME_FOLDER, SLOT_NAMES, SLOT_SIZE, Slot, Writer, newest};
use signpost_menu::{MenuDocument, ids, parse_leniently};
use uefi::proto::loaded_image::LoadedImage;
use uefi::proto::media::file::{File, FileAttribute, FileMode, RegularFile};
use uefi::proto::media::fs::SimpleFileSystem;
use uefi::{CString16, boot};

use crate::machine::Machine;
use crate::source;

/// Puts the entry behind all others: its id, and the menu then.
///
/// # Errors
/// Why it could not be written, in words.
pub fn save(
    machine: &Machine,
    title: &str,
    body: &[(&'static str, String)],
) -> Result<(String, MenuDocument), String> {
    let slots = source::slots(machine).ok_or("the home volume is not found")?;
    let held = newest(&slots).map(|(index, slot)| (index, slot.clone()));
    let (index, serial, machine_id, disks, text) = match held {
        Some((index, slot)) => {
            let next = slot.serial.checked_add(1);
            let next =
                next.ok_or("the menu carries the last number there is; apply it again from a system")?;
            (1 - index, next, slot.machine, slot.disks, slot.text)
        }
        None => (
            0,
            1,
            String::new(),
            DiskNumbers::default(),
            "format = 1\n\n[menu]\nhost = \"signpost\"\n".to_string(),
        ),
    };
    let document = parse_leniently(&text).0.unwrap_or_default();
    let id = ids::slug(title, "composed");
    let id = ids::first_free(&id, &id, |id| document.entry(id).is_some());
    let mut text = text.trim_end().to_string();
    text.push('\n');
    let own = [("id", quoted(&id)), ("title", quoted(title))];
    let fields = own.into_iter().chain(body.iter().map(|(key, value)| (*key, value.clone())));
    text.push_str(&entry_text("composed at the prompt, at boot", fields));
    let (document, problems) = parse_leniently(&text);
    let document = document.filter(|document| document.entry(&id).is_some());
    let document = document.ok_or_else(|| {
        problems.first().map_or("the menu would not be valid".into(), |problem| problem.message.clone())
    })?;
    let slot = Slot { serial, writer: Writer::Boot, machine: machine_id, disks, text };
    let bytes = slot.encode().ok_or("the menu is too long for a slot")?;
    let name = SLOT_NAMES.get(index).ok_or("there is no such slot")?;
    write(&format!("{HOME_FOLDER}/{name}"), &bytes)?;
    Ok((id, document))
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
