//! Starting what was chosen. Everything here may fail: then the menu is back, with the reason.

mod leap;
mod linux;
mod sector;
mod swap;

use alloc::format;
use alloc::string::String;

use signpost_disk::inside;
use signpost_menu::resolve::StartTarget;

use crate::machine::Machine;

/// Starts it; comes back with the reason why it is not running.
pub fn start(machine: &Machine, target: &StartTarget, args: Option<&str>) -> String {
    let outcome = match target {
        StartTarget::Linux { volume, kernel, initrds, args: own, .. } => {
            machine.file_system(*volume).and_then(|fs| linux::start(fs, kernel, initrds, args.unwrap_or(own)))
        }
        StartTarget::Image { volume, image, kernel, initrds, args: own } => {
            let inner = machine.file_system(*volume).and_then(|fs| {
                inside::with_path(fs, image, kernel).map_err(|error| format!("{image}: {error}"))
            });
            inner.and_then(|fs| linux::start(fs.as_ref(), kernel, initrds, args.unwrap_or(own)))
        }
        StartTarget::Sector { volume, file, manner } => {
            sector::start(machine, *volume, file.as_deref(), *manner)
        }
        StartTarget::Program { .. } => Err("BIOS firmware starts no EFI programs".into()),
        StartTarget::FirmwareEntry { .. } => Err("BIOS firmware has no entries".into()),
        StartTarget::BuiltIn | StartTarget::Group => Err("there is nothing to start".into()),
    };
    match outcome {
        Ok(never) => match never {},
        Err(why) => why,
    }
}
