//! What is offered where there is no menu: the EFI programs of all volumes.

use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec::Vec;

use signpost_menu::MenuDocument;
use signpost_menu::document::{Entry, Settings, Starts, Timeout};
use signpost_menu::place::{Place, VolumeRef};
use signpost_menu::resolve::Surroundings;
use signpost_menu::slot::HOME_FOLDER;

use crate::machine::Machine;

/// Programs offered of one volume.
const MAX_PROGRAMS: usize = 20;

/// A menu of what is found.
pub fn document(machine: &Machine) -> MenuDocument {
    let mut entries: Vec<Entry> = Vec::new();
    for (index, volume) in machine.volumes.iter().enumerate() {
        if !volume.is_fat {
            continue;
        }
        for path in programs(machine, index) {
            let number = entries.len() + 1;
            entries.push(Entry {
                id: format!("found-{number}").into(),
                title: machine.at(index, &path),
                starts: Starts::Efi {
                    program: Place { volume: VolumeRef::Name(machine.name(index).to_string()), path },
                    args: String::new(),
                },
                group: None,
                line: number,
            });
        }
    }
    let settings = Settings {
        heading: Some("No menu was found. These programs are here:".into()),
        timeout: Timeout::Never,
        ..Settings::default()
    };
    MenuDocument { settings, entries, ..MenuDocument::default() }
}

/// Programs one folder below `/EFI`, but for our own.
fn programs(machine: &Machine, volume: usize) -> Vec<String> {
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
