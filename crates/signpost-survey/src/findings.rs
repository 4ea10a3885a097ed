//! Problems of a machine.

use std::collections::BTreeMap;

use signpost_disk::file_system::VolumeError;
use signpost_disk::probe::VolumeKind;
use signpost_facts::{Code, Disk, Finding, Kernel, Subject, Volume};
use signpost_place::Look;
use signpost_place::reader::Fault;

use super::states;

/// A fault of the variables.
pub(crate) fn variables(fault: &str) -> Finding {
    Finding::new(
        Code::VariablesBroken,
        format!("firmware variables: {fault}"),
        "what could not be read is left as it is; nothing is written over it",
    )
}

/// A volume that cannot be read, or not all of it.
pub(crate) fn unread(volume: &Volume, fault: &Fault) -> Finding {
    let words = fault.why.to_string();
    // Many readers name the path themselves.
    let is_named = fault.is_of_all() || words.contains(&fault.path);
    let at = if is_named { String::new() } else { format!("{}: ", fault.path) };
    let message = format!("{}: {at}{words}", volume.name);
    let finding = match fault.why {
        VolumeError::Corrupt(_) | VolumeError::Device(_) if fault.is_of_all() => broken(message),
        VolumeError::Corrupt(_) | VolumeError::Device(_) => Finding::new(
            Code::VolumeBroken,
            message,
            "what lies there is missing from this picture; check the file system with its own tool",
        ),
        _ => beyond_us(message),
    };
    finding.about(Subject::Volume(volume.number))
}

/// A volume that is not looked into, since it is broken.
pub(crate) fn broken(message: String) -> Finding {
    Finding::new(
        Code::VolumeBroken,
        message,
        "its files cannot be looked into; check the file system with its own tool",
    )
}

/// A volume that need not be broken, and is made in a way that is not read here.
pub(crate) fn beyond_us(message: String) -> Finding {
    Finding::new(Code::VolumeUnread, message, "what lies on it is missing from this picture")
}

/// Files that no menu can name.
pub(crate) fn unprintable_names(volume: &Volume, count: usize) -> Option<Finding> {
    let message = format!(
        "{}: {count} name{} with control characters, which are left out",
        volume.name,
        if count == 1 { "" } else { "s" }
    );
    let help = "`signpost prompt` shows them: `look`; give them other names to use them";
    (count > 0).then(|| Finding::new(Code::VolumeUnread, message, help).about(Subject::Volume(volume.number)))
}

/// A FAT that can be read, and does not serve for all.
pub(crate) fn flawed(message: String) -> Finding {
    Finding::new(Code::VolumeBroken, message, "check the file system with its own tool")
}

/// All that volumes, systems and entry files show.
pub(crate) fn add(look: &mut Look) {
    let mut found = Vec::new();
    clones(look, &mut found);
    states::findings(look, &mut found);
    entry_files(look, &mut found);
    incomplete_kernels(look, &mut found);
    containers(look, &mut found);
    look.survey.findings.extend(found);
}

/// Identities that two have: disks, partitions, file systems. Members of one array share theirs by right.
fn clones(look: &Look, found: &mut Vec<Finding>) {
    let mut by_identity: BTreeMap<String, Vec<String>> = BTreeMap::new();
    let mut file_systems: Vec<(&str, usize)> = Vec::new();
    let mut partitions: Vec<(&str, usize)> = Vec::new();
    let is_double = |disk: &&Disk| disk.array.as_ref().is_some_and(|array| array.read_on.is_some());
    for disk in look.survey.disks.iter().filter(|disk| !is_double(disk)) {
        let table = &disk.table;
        let guid = table.guid.as_ref().map(|guid| format!("disk GUID {guid}"));
        let signature = table.identity.as_ref().filter(|_| guid.is_none());
        let signature = signature.map(|signature| format!("disk signature {signature}"));
        for identity in guid.into_iter().chain(signature) {
            by_identity.entry(identity).or_default().push(format!("disk {}", disk.number));
        }
    }
    for (index, volume) in look.survey.volumes.iter().enumerate() {
        let is_member =
            volume.is_member || (volume.kind == VolumeKind::Btrfs && look.reader(index).is_none());
        if let Some(uuid) = volume.uuid.as_ref().filter(|_| !is_member) {
            file_systems.push((uuid, index));
        }
        if let Some(part_uuid) = &volume.part_uuid {
            partitions.push((part_uuid, index));
        }
    }
    // A name that tells each apart is looked for only where it is needed: that takes comparing all with all.
    for (kind, mut all) in [("UUID", file_systems), ("partition GUID", partitions)] {
        all.sort_unstable();
        let shared = all.chunk_by(|one, other| one.0 == other.0);
        for same in shared.filter(|same| same.len() > 1) {
            let told = same.iter().map(|(_, index)| told_apart(look, *index)).collect();
            by_identity.insert(format!("{kind} {}", same[0].0), told);
        }
    }
    for (identity, named) in by_identity.into_iter().filter(|(_, named)| named.len() > 1) {
        let message = format!("{} share the {identity}", named.join(" and "));
        let help =
            "a menu means the one that is nearest to it; unplug the copy, or give one of them a new identity";
        found.push(Finding::new(Code::Clone, message, help));
    }
}

/// A volume with its place, and a name that no other has.
fn told_apart(look: &Look, index: usize) -> String {
    let volume = &look.survey.volumes[index];
    match look.stable_name(index) {
        Ok(stable) => format!("{} ({stable})", volume.name),
        Err(_) => volume.name.clone(),
    }
}

/// Entry files whose kernel or initrd is gone.
fn entry_files(look: &Look, found: &mut Vec<Finding>) {
    for entry in look.survey.entry_files.iter().filter(|entry| !entry.missing.is_empty()) {
        let message = format!(
            "entry file {} names {}, which is not there",
            look.survey.at(entry.volume, &entry.path),
            entry.missing.join(" and ")
        );
        found.push(
            Finding::new(
                Code::EntryFileBroken,
                message,
                "it starts nothing; its system's tools make a new one",
            )
            .about(Subject::Volume(entry.volume)),
        );
    }
}

/// Kernels that are newer than the one that is started, and have no initrd.
fn incomplete_kernels(look: &Look, found: &mut Vec<Finding>) {
    for system in look.survey.systems.iter().filter(|system| system.snapshot.is_none()) {
        let Some(first) = system.kernels.first() else { continue };
        let place = |kernel: &Kernel| look.survey.at(kernel.volume, &kernel.path);
        for other in system.unfinished_kernels() {
            found.push(Finding::new(
                Code::InitrdMissing,
                format!(
                    "{}: {} has no initrd; {} is the newest kernel that has one",
                    system.title,
                    place(other),
                    place(first)
                ),
                "an update may be under way: wait until it ends; if none is, let the system make the initrd again",
            )
            .about(Subject::System(system.id.clone())));
        }
    }
}

/// Disks of virtual machines that lie in containers.
fn containers(look: &Look, found: &mut Vec<Finding>) {
    for volume in look.survey.volumes.iter().filter(|volume| volume.kind.is_container()) {
        found.push(Finding::new(
            Code::VolumeUnread,
            format!("{} is a virtual machine's disk in a {}", volume.name, volume.kind),
            "what is inside is not read; make a raw image of it, and give that",
        ));
    }
}
