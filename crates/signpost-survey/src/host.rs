//! What is worth knowing of the system that we run in.

use signpost_facts::{Disk, FirmwareKind, Volume};
use signpost_machine::live::Numbers;
use signpost_machine::{Host, HostKind, Machine};

/// In lines, the most important first.
pub(crate) fn notes(machine: &Machine, disks: &[Disk], volumes: &[Volume]) -> Vec<String> {
    let Some(host) = &machine.host else { return Vec::new() };
    let mut notes = Vec::new();
    match host.kind {
        HostKind::Installed => {}
        HostKind::Container => notes.push(
            "this is a container: what it sees of disks is its host's, and changing how that starts is left to the host"
                .into(),
        ),
        HostKind::Guest => notes.push(
            "this system runs within another one, which keeps the PC's disks and firmware for itself".into(),
        ),
        HostKind::Rescue => notes.push(rescue(disks)),
    }
    let is_its_own = matches!(host.kind, HostKind::Installed | HostKind::Rescue);
    if is_its_own && machine.firmware == FirmwareKind::Bios {
        notes.push(
            "started in BIOS mode: where the PC has UEFI firmware too, its entries are out of reach until it is \
             started in UEFI mode"
                .into(),
        );
    }
    if !host.is_root {
        notes.push(
            "without root, only what is mounted is looked into; the same command as root shows the systems and files on \
             all other volumes"
                .into(),
        );
    }
    let left_out = left_out(machine, host, volumes);
    if !left_out.is_empty() {
        notes.push(format!("no disks of this machine: {}", left_out.join(", ")));
    }
    notes
}

/// What looks like a disk and is none, in words, but for what is shown among the volumes.
fn left_out<'h>(machine: &Machine, host: &'h Host, volumes: &[Volume]) -> Vec<&'h str> {
    let is_shown = |numbers: Numbers| {
        let file = machine.devices.as_ref().and_then(|devices| devices.file_of(numbers));
        let file = file.map(|file| file.display().to_string());
        file.is_some() && volumes.iter().any(|volume| volume.device == file)
    };
    let others = host.left_out.iter().filter(|(numbers, _)| !is_shown(*numbers));
    others.map(|(_, words)| words.as_str()).collect()
}

fn rescue(disks: &[Disk]) -> String {
    let media: Vec<String> = disks
        .iter()
        .filter(|disk| disk.is_medium)
        .map(|disk| format!("disk {} ({})", disk.number, disk.name))
        .collect();
    let own = match media.len() {
        0 => "it lies in memory".to_string(),
        _ => format!("it lies on {}, which is left out of menus", media.join(" and ")),
    };
    format!("a rescue system is running: {own}; `signpost apply --take-over` makes a menu active from here")
}
