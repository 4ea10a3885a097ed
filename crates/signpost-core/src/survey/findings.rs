//! What is odd about a machine.

use std::collections::BTreeMap;

use signpost_disk::file_system::VolumeError;
use signpost_firmware::start::Verdict;

use super::facts::{Finding, FirmwareEntry, Volume};
use super::firmware::hex;
use super::reader::Fault;
use super::{Look, states};
use crate::code::Code;
use crate::machine::FirmwareKind;
use crate::ways::{self, Reach};

/// A fault of the variables.
pub(super) fn variables(fault: &str) -> Finding {
    finding(
        Code::VariablesBroken,
        format!("firmware variables: {fault}"),
        "what could not be read is left as it is; nothing is written over it",
    )
}

/// A volume that cannot be read, or not all of it.
pub(super) fn unread(volume: &Volume, fault: &Fault) -> Finding {
    let words = fault.why.to_string();
    // Many readers name the path themselves.
    let is_named = fault.is_of_all() || words.contains(&fault.path);
    let at = if is_named { String::new() } else { format!("{}: ", fault.path) };
    let message = format!("v{}, {}: {at}{words}", volume.number, volume.place);
    match fault.why {
        VolumeError::Corrupt(_) | VolumeError::Device(_) if fault.is_of_all() => broken(message),
        VolumeError::Corrupt(_) | VolumeError::Device(_) => finding(
            Code::VolumeBroken,
            message,
            "what lies there is missing from this picture; check the file system with its own tool",
        ),
        _ => finding(Code::VolumeUnread, message, "what lies on it is missing from this picture"),
    }
}

/// A volume that is not looked into, since it is broken.
pub(super) fn broken(message: String) -> Finding {
    finding(
        Code::VolumeBroken,
        message,
        "its files cannot be looked into; check the file system with its own tool",
    )
}

/// Files that no menu can name.
pub(super) fn odd_names(volume: &Volume, count: usize) -> Option<Finding> {
    let message = format!(
        "v{}, {}: {count} name{} with control characters, which are left out",
        volume.number,
        volume.place,
        if count == 1 { "" } else { "s" }
    );
    let help = "`prompt` shows them: `look`; give them other names to use them";
    (count > 0).then(|| finding(Code::VolumeUnread, message, help))
}

/// A FAT that can be read, and does not serve for all.
pub(super) fn flawed(message: String) -> Finding {
    finding(Code::VolumeBroken, message, "check the file system with its own tool")
}

/// All that systems, entries and order show.
pub(super) fn all(look: &Look<'_>) -> Vec<Finding> {
    let mut found = Vec::new();
    clones(look, &mut found);
    states::findings(look, &mut found);
    entry_files(look, &mut found);
    entries(look, &mut found);
    duplicates(look, &mut found);
    order(look, &mut found);
    start(look, &mut found);
    found
}

fn finding(code: Code, message: String, help: &str) -> Finding {
    Finding { code, message, help: help.into() }
}

/// Identities that two have: disks, partitions, file systems. Members of one array share theirs by right.
fn clones(look: &Look<'_>, found: &mut Vec<Finding>) {
    let mut by_identity: BTreeMap<String, Vec<String>> = BTreeMap::new();
    let mut file_systems: Vec<(&str, usize)> = Vec::new();
    let mut partitions: Vec<(&str, usize)> = Vec::new();
    for disk in &look.survey.disks {
        let table = &disk.table;
        let guid = table.guid.as_ref().map(|guid| format!("disk GUID {guid}"));
        let signature =
            table.signature.as_ref().filter(|signature| *signature != "00000000" && guid.is_none());
        let signature = signature.map(|signature| format!("disk signature {signature}"));
        for identity in guid.into_iter().chain(signature) {
            by_identity.entry(identity).or_default().push(format!("disk {}", disk.number));
        }
    }
    for (index, volume) in look.survey.volumes.iter().enumerate() {
        let is_member = volume.is_member || (volume.kind == "btrfs" && look.reader(index).is_none());
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
        let help = "name them by disk:SERIAL#N, or give one of them a new identity";
        found.push(finding(Code::Clone, message, help));
    }
}

/// A volume with its place, and a name that no other has.
fn told_apart(look: &Look<'_>, index: usize) -> String {
    let volume = &look.survey.volumes[index];
    match look.stable_name(index) {
        Ok(stable) => format!("v{} ({}, {stable})", volume.number, volume.place),
        Err(_) => format!("v{} ({})", volume.number, volume.place),
    }
}

fn named(entry: &FirmwareEntry) -> String {
    format!("entry {} \"{}\"", entry.number, entry.label)
}

fn entries(look: &Look<'_>, found: &mut Vec<Finding>) {
    for entry in &look.survey.firmware.entries {
        let message = format!("{}: {}", named(entry), entry.finding);
        let Some(verdict) = &entry.judged else {
            found.push(finding(Code::EntryBroken, message, "the firmware passes it over"));
            continue;
        };
        let code = match verdict {
            Verdict::NoPartition { .. } | Verdict::NoDevice | Verdict::Deleted => Code::EntryStale,
            Verdict::NoFile { .. } => Code::EntryFileGone,
            Verdict::Unfit { .. } | Verdict::Hangs { .. } | Verdict::Unreadable { .. } => Code::EntryUnfit,
            _ => continue,
        };
        let help = match (ways::of_load_option(look, entry.number()), code) {
            (Reach::OutOfReach, Code::EntryStale) => {
                "it starts nothing while that is not attached or cannot be read; it stays"
            }
            (Reach::OutOfReach, _) => "it starts nothing as it is; what it names cannot be read, so it stays",
            (Reach::Gone, Code::EntryStale) => "it starts nothing; it can be removed",
            (Reach::Gone, _) => {
                "it starts nothing until the file is back; `firmware tidy` says whether it can be removed"
            }
            (Reach::There, _) => "it starts nothing as it is",
        };
        found.push(finding(code, message, help));
    }
}

/// Entry files whose kernel or initrd is gone.
fn entry_files(look: &Look<'_>, found: &mut Vec<Finding>) {
    for entry in look.survey.entry_files.iter().filter(|entry| !entry.missing.is_empty()) {
        let message = format!(
            "entry file v{}:{} names {}, which is not there",
            entry.volume,
            entry.path,
            entry.missing.join(" and ")
        );
        found.push(finding(
            Code::EntryFileBroken,
            message,
            "it starts nothing; its system's tools make a new one",
        ));
    }
}

fn duplicates(look: &Look<'_>, found: &mut Vec<Finding>) {
    let entries = &look.survey.firmware.entries;
    for (index, entry) in entries.iter().enumerate() {
        let Some(target) = &entry.target else { continue };
        let same = |other: &&FirmwareEntry| {
            let theirs = other.target.as_ref();
            theirs.is_some_and(|theirs| {
                theirs.volume == target.volume && theirs.file.eq_ignore_ascii_case(&target.file)
            }) && other.is_made_by_firmware == entry.is_made_by_firmware
        };
        if let Some(first) = entries[..index].iter().find(same) {
            let message = format!("{} starts the same file as entry {}", named(entry), first.number);
            found.push(finding(
                Code::EntryDuplicate,
                message,
                "one of the two can be removed: `firmware tidy` says which",
            ));
        }
    }
}

fn order(look: &Look<'_>, found: &mut Vec<Finding>) {
    let boot = &look.boot;
    for (index, number) in boot.order.iter().enumerate() {
        if boot.order[..index].contains(number) {
            let message = format!("the boot order names {} twice", hex(*number));
            found.push(finding(Code::OrderTwice, message, "only its first place counts"));
        } else if !boot.options.contains_key(number) {
            let message = format!("the boot order names {}, and there is no such entry", hex(*number));
            found.push(finding(Code::OrderDangling, message, "the firmware passes it over"));
        }
    }
    for entry in look.survey.firmware.entries.iter().filter(|entry| entry.place.is_none()) {
        let message = format!("{} is not in the boot order", named(entry));
        found.push(finding(
            Code::EntryUnordered,
            message,
            "the firmware may take its number for another entry",
        ));
    }
    if let Some(next) = boot.next {
        let message = format!("the next start goes to {}, whatever the order says", hex(next));
        found.push(finding(Code::NextBootSet, message, "it counts once; the firmware forgets it then"));
    }
}

/// Held against what is running.
fn start(look: &Look<'_>, found: &mut Vec<Finding>) {
    if look.machine.firmware != FirmwareKind::Uefi {
        return;
    }
    let Some(running) = look.survey.systems.iter().find(|system| system.is_running) else { return };
    let rehearsal = crate::rehearse::rehearse(look);
    if rehearsal.outcome.system.as_ref() != Some(&running.id) {
        let message = format!(
            "{} is running, and the next start goes elsewhere: {}",
            running.title, rehearsal.outcome.text
        );
        found.push(finding(Code::NotFirst, message, "`draft` and `apply` put the running system first"));
    }
    let current = look.boot.current.map(hex);
    let entry = look.survey.firmware.entries.iter().find(|entry| Some(&entry.number) == current.as_ref());
    if let Some(entry) = entry.filter(|entry| entry.is_made_by_firmware) {
        let message =
            format!("the machine was started from {}, which the firmware made by itself", named(entry));
        let own = running.entries.iter().find(|number| **number != entry.number);
        let help = match own {
            Some(own) => format!(
                "the running system has entry {own} of its own; `rehearse` says whether it comes first"
            ),
            None => "the running system has no entry of its own; `apply` makes one".into(),
        };
        found.push(finding(Code::StartedBySpare, message, &help));
    }
}
