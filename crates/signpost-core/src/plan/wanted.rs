//! The load option that an entry of the menu wants.

use signpost_facts::FirmwareKind;
use signpost_firmware::device_path::{DevicePath, HardDrive, Node};
use signpost_firmware::image::linux;
use signpost_firmware::load_option::LoadOption;
use signpost_firmware::start::Names;
use signpost_firmware::ucs2::Ucs2;
use signpost_menu::document::{Host, KernelChoice, Starts};
use signpost_menu::resolve::Surroundings;
use signpost_place::Look;

use crate::bios::activated;
use crate::resolve::{ResolvedEntry, StartTarget};

/// Why a host cannot start an entry whose files are there; nothing, where it can.
pub(crate) fn host_cannot(look: &Look, host: Host, resolved: &ResolvedEntry<'_>) -> Option<String> {
    if look.survey.machine.firmware == FirmwareKind::Bios {
        if host == Host::Signpost {
            return None;
        }
        return resolved.target.as_ref().ok().and_then(|_| activated(look, resolved).err());
    }
    match (host, resolved.target.as_ref().ok()?) {
        (Host::Firmware, StartTarget::FirmwareEntry { .. } | StartTarget::Group) => None,
        (Host::Firmware, target) => wanted(look, resolved, target).err(),
        (Host::Signpost, StartTarget::Linux { volume, kernel, .. }) => need_stub(look, *volume, kernel).err(),
        (Host::Signpost, _) => None,
    }
}

/// The load option that an entry wants; or why the firmware's list cannot hold it, and what would help.
pub(super) fn wanted(
    look: &Look,
    resolved: &ResolvedEntry<'_>,
    target: &StartTarget,
) -> Result<(LoadOption, String), String> {
    let title = &resolved.entry.title;
    match target {
        StartTarget::Program { volume, path, args } => {
            let device_path = device_path(look, *volume, path)?;
            let detail = look.at(*volume, path);
            Ok((LoadOption::new(title, device_path, text_data(args)), detail))
        }
        StartTarget::Linux { volume, kernel, initrds, args, .. } => {
            let device_path = device_path(look, *volume, kernel)?;
            need_stub(look, *volume, kernel)?;
            let mut data = args.clone();
            for initrd in initrds {
                data = format!("{data} initrd={}", backslashes(initrd));
            }
            let mut detail = look.at(*volume, kernel);
            if let Starts::Linux(linux) = &resolved.entry.starts
                && matches!(linux.kernel, KernelChoice::Newest(_))
            {
                detail.push_str("; the newest for now: apply again after a kernel update");
            }
            Ok((LoadOption::new(title, device_path, text_data(data.trim())), detail))
        }
        StartTarget::Image { image, .. } => Err(format!(
            "its kernel lies in {image}, where the firmware does not look; host = \"signpost\" starts it"
        )),
        StartTarget::Group => {
            Err("a group: the firmware's list has none; its members follow one another".into())
        }
        StartTarget::BuiltIn => Err(format!(
            "{} is not a start from a disk: the firmware's list cannot hold it",
            resolved.entry.starts.word()
        )),
        StartTarget::Sector { .. } => Err("a boot sector: the firmware's list holds none".into()),
        StartTarget::FirmwareEntry { .. } => Err("an entry of the firmware's own".into()),
    }
}

pub(crate) fn device_path(look: &Look, volume: usize, path: &str) -> Result<DevicePath, String> {
    let facts = &look.survey.volumes[volume];
    if !facts.is_fat {
        return Err(format!(
            "{} is {}, which the firmware does not read; start the system's own loader instead, or keep the \
             kernel on the ESP",
            facts.where_it_is(),
            facts.kind
        ));
    }
    if !facts.firmware_reads {
        return Err(format!("{}: {}", facts.where_it_is(), look.unreadable(volume)));
    }
    let none = || format!("{} has no identity in its partition table", facts.where_it_is());
    let (disk, partition) = look.survey.partition_of(facts).ok_or_else(none)?;
    let sector = u64::from(disk.sector_size.max(1));
    let drive = HardDrive {
        number: partition.firmware_number,
        start: partition.start / sector,
        size: partition.size / sector,
        signature: disk.path_signature(partition).ok_or_else(none)?,
    };
    Ok(DevicePath::new(vec![Node::hard_drive(&drive), Node::file_path(&backslashes(path))]))
}

fn need_stub(look: &Look, volume: usize, kernel: &str) -> Result<(), String> {
    let reader = look.reader(volume).ok_or("its volume cannot be read")?;
    let head = reader.read_head(kernel, linux::HEAD_LEN).map_err(|error| error.to_string())?;
    let header = linux::decode(&head).ok_or_else(|| format!("{kernel} is not a Linux kernel"))?;
    match header.efi_stub {
        Some(_) => Ok(()),
        None => {
            Err(format!("{kernel} has no EFI stub, so the firmware cannot start it; start a loader instead"))
        }
    }
}

fn backslashes(path: &str) -> String {
    path.replace('/', "\\")
}

/// Text as programs expect it in their optional data: UCS-2 with a NUL at its end; nothing for no text.
pub(crate) fn text_data(text: &str) -> Vec<u8> {
    if text.is_empty() { Vec::new() } else { Ucs2::from(text).to_bytes_terminated() }
}
