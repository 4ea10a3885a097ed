//! What is worth knowing of the system that we run in.

use super::facts::Disk;
use crate::machine::{FirmwareKind, HostKind, Machine};

/// In lines, the most important first.
pub(super) fn notes(machine: &Machine, disks: &[Disk]) -> Vec<String> {
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
            "started in the BIOS way: where the PC has UEFI firmware too, its entries are out of reach until it is \
             started in the UEFI way"
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
    if !host.left_out.is_empty() {
        notes.push(format!("no disks of this machine: {}", host.left_out.join(", ")));
    }
    notes
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
    format!("a rescue system is running: {own}; `apply --take-over` puts a menu in force from here")
}
