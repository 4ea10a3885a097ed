//! States in which volumes were left: asleep, in use, without a name.

use std::collections::BTreeMap;

use signpost_disk::probe::VolumeKind;
use signpost_facts::{Code, Finding, Subject, Volume, VolumeNumber};
use signpost_place::{Look, VolumeReader};

/// The file into which a closed system's memory goes when it sleeps, and how it starts while it does.
const SLEEP_FILE: &str = "/hiberfil.sys";
const ASLEEP: [&[u8]; 2] = [b"hibr", b"HIBR"];
/// Less than this needs no label, in bytes.
const SMALL: u64 = 64 << 20;

/// Whether a sleeping system's memory lies in a file of a volume.
pub(crate) fn is_asleep(reader: &VolumeReader, volume: &Volume) -> bool {
    let head = || reader.read_head(SLEEP_FILE, 4);
    volume.kind == VolumeKind::Ntfs && head().is_ok_and(|head| ASLEEP.contains(&head.as_slice()))
}

pub(crate) fn findings(look: &Look, found: &mut Vec<Finding>) {
    let running = look.running.map(VolumeNumber::of_index);
    let mut nameless: BTreeMap<u64, Vec<String>> = BTreeMap::new();
    for volume in &look.survey.volumes {
        let name = || volume.name.clone();
        if volume.is_hibernated {
            let whose = look.survey.systems.iter().find(|system| system.root == Some(volume.number));
            let who =
                whose.map_or_else(|| "a system sleeps".into(), |system| format!("{} sleeps", system.title));
            let help = "wake it and shut it down before another system writes to its volumes: what it holds in memory would \
                        overwrite them";
            found.push(
                Finding::new(Code::Hibernated, format!("{who} on {}", name()), help)
                    .about(Subject::Volume(volume.number)),
            );
        }
        if volume.is_unclean && running != Some(volume.number) {
            let message = format!("{} was in use when the machine went down", name());
            let help =
                "its last changes may not be seen here; the system that uses it mends it at its next start";
            found.push(Finding::new(Code::Unclean, message, help).about(Subject::Volume(volume.number)));
        }
        let is_plain =
            volume.label.is_none() && volume.fault.is_none() && volume.uuid.is_some() && volume.lv.is_none();
        let has_name = volume.part_label.is_some() || volume.aside.is_some() || volume.is_esp;
        if is_plain && !has_name && !volume.is_member && volume.size >= SMALL {
            nameless.entry(volume.size).or_default().push(name());
        }
    }
    for (size, names) in nameless.into_iter().filter(|(_, names)| names.len() > 1) {
        found.push(Finding::new(
            Code::NoLabel,
            format!("{} are all of {size} bytes and have no label", names.join(" and ")),
            "label them with their file systems' tools, so that nobody takes one for another",
        ));
    }
}
