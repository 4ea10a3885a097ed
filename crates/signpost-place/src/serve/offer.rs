//! What is offered where there is no menu: what the firmware can start of all volumes.

use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec::Vec;

use signpost_menu::MenuDocument;
use signpost_menu::document::{Entry, SectorFrom, SectorManner, Settings, Starts, Timeout};
use signpost_menu::place::{Place, VolumeRef};
use signpost_menu::resolve::{Firmware, Surroundings};
use signpost_menu::slot::HOME_FOLDER;

use crate::at_boot::BootMachine;

/// Programs offered of one volume.
const MAX_PROGRAMS: usize = 20;

/// A menu of what is found.
pub fn document(machine: &BootMachine) -> MenuDocument {
    let found: Vec<(String, Starts)> = match Surroundings::firmware(machine) {
        Firmware::Uefi => {
            (0..machine.volumes.len()).flat_map(|volume| of_programs(machine, volume)).collect()
        }
        Firmware::Bios => {
            (0..machine.volumes.len()).filter_map(|volume| of_sector(machine, volume)).collect()
        }
    };
    let entry = |(index, (title, starts)): (usize, (String, Starts))| {
        let line = index.saturating_add(1);
        let id = format!("found-{line}").into();
        Entry { id, title, starts, group: None, symbol: None, tries: None, fallback: None, line }
    };
    let settings = Settings {
        heading: Some("No menu was found. These programs are here:".into()),
        timeout: Timeout::Never,
        ..Settings::default()
    };
    MenuDocument {
        settings,
        entries: found.into_iter().enumerate().map(entry).collect(),
        ..MenuDocument::default()
    }
}

/// The EFI programs of a volume.
fn of_programs(machine: &BootMachine, volume: usize) -> Vec<(String, Starts)> {
    if !machine.volumes.get(volume).is_some_and(|volume| volume.is_fat) {
        return Vec::new();
    }
    let entry = |path: String| {
        let program = Place { volume: VolumeRef::Name(machine.name(volume).to_string()), path: path.clone() };
        (machine.at(volume, &path), Starts::Efi { program, args: String::new() })
    };
    programs(machine, volume).into_iter().map(entry).collect()
}

/// A volume's boot sector, where it starts something.
fn of_sector(machine: &BootMachine, volume: usize) -> Option<(String, Starts)> {
    let name = machine.boot_sector(volume, None).ok()?;
    let from = SectorFrom::Volume(VolumeRef::Name(machine.name(volume).to_string()));
    Some((format!("the boot sector of {name}"), Starts::Sector { from, manner: SectorManner::default() }))
}

/// Programs one folder below `/EFI`, but for our own.
fn programs(machine: &BootMachine, volume: usize) -> Vec<String> {
    let Ok(fs) = machine.file_system(volume) else { return Vec::new() };
    let mut found = Vec::new();
    for folder in fs.list("/EFI").unwrap_or_default().into_iter().filter(|item| item.is_folder) {
        let folder = format!("/EFI/{}", folder.name);
        if folder.eq_ignore_ascii_case(HOME_FOLDER) {
            continue;
        }
        for item in fs.list(&folder).unwrap_or_default() {
            if !item.is_folder && item.name.to_lowercase().ends_with(".efi") {
                found.push(format!("{folder}/{}", item.name));
            }
        }
    }
    found.truncate(MAX_PROGRAMS);
    found
}
