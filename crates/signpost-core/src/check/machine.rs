//! What stands above single entries: variables out of reach, a start in the wrong mode, disks that are missing, broken tables.

use signpost_facts::cause::{Act, Cure, Effect};
use signpost_facts::{Code, Disk, FirmwareKind, OptionNumber, Subject};
use signpost_place::Look;

use super::{Found, Seen, cause};

pub(super) fn find(seen: &Seen<'_>, found: &mut Found) {
    wrong_mode(seen, found);
    variables(seen, found);
    variables_to_write(seen, found);
    for disk in &seen.look.survey.disks {
        table(seen, disk, found);
    }
    esp_types(seen, found);
}

/// What could not be looked at.
pub(super) fn unseen(look: &Look) -> Vec<String> {
    let mut unseen: Vec<String> = look.survey.machine.notes.clone();
    for disk in look.survey.disks.iter().filter(|disk| !disk.is_whole && disk.partitions.is_empty()) {
        let why = disk.table.fault.clone().unwrap_or_else(|| "it cannot be read".into());
        unseen.push(format!("disk {}: {why}", disk.number));
    }
    for volume in look.survey.volumes.iter().filter(|volume| volume.is_encrypted) {
        unseen.push(format!("{} is encrypted: what lies in it is not known", volume.name));
    }
    if look.survey.machine.firmware == FirmwareKind::Unknown {
        unseen.push(
            "firmware variables: loose disks have none, so what the firmware would start is not known".into(),
        );
    }
    unseen
}

/// Started in BIOS mode beside systems that start by UEFI.
fn wrong_mode(seen: &Seen<'_>, found: &mut Found) {
    let survey = &seen.look.survey;
    let has_uefi = survey.volumes.iter().any(|volume| volume.is_esp && survey.takes_part(volume.number))
        && survey.boot_files.iter().any(|file| survey.takes_part(file.volume));
    let is_live = survey.machine.command_line.is_some() || survey.machine.is_rescue;
    if survey.machine.firmware != FirmwareKind::Bios || !has_uefi || !is_live {
        return;
    }
    let message = "this system was started in BIOS mode, and the machine's disks start by UEFI: nothing of the firmware's entries \
                   can be seen or changed from here";
    let mut wrong = cause(Code::StartedInBios, Effect::CannotTell, None, message.into());
    wrong.by_hand = Some(
        "restart, and in the firmware's boot menu choose the entry of this medium that says UEFI; or turn legacy start off in \
         the firmware setup"
            .into(),
    );
    found.add(wrong, &[]);
}

fn variables(seen: &Seen<'_>, found: &mut Found) {
    let look = seen.look;
    if look.survey.machine.firmware != FirmwareKind::Uefi || look.has_all_variables() {
        return;
    }
    let why = match &look.contents {
        Err(why) => format!("the firmware's variables cannot be read: {why}"),
        Ok(contents) => format!("{} of the firmware's variables cannot be read", contents.faults.len()),
    };
    let effect = if look.contents.is_err() { Effect::CannotTell } else { Effect::WillBreak };
    let mut broken = cause(Code::VariablesBroken, effect, None, why);
    broken.by_hand = Some(
        "nothing is written over what cannot be read; a reset of the firmware's settings creates it again"
            .into(),
    );
    found.add(broken, &[Code::VariablesBroken]);
}

/// Variables that take no writing, or have next to no room: what is as it is starts, and nothing can be changed about it.
fn variables_to_write(seen: &Seen<'_>, found: &mut Found) {
    /// An entry, the order, and both once more for undoing them, in bytes.
    const NEEDED: u64 = 1024;
    let look = seen.look;
    if look.survey.machine.firmware != FirmwareKind::Uefi || look.contents.is_err() {
        return;
    }
    if let Some(why) = &look.variables_closed {
        let mut closed = cause(Code::VariablesClosed, Effect::WillBreak, None, why.clone());
        closed.by_hand =
            Some("what starts, starts; nothing of the firmware's entries can be changed until then".into());
        found.add(closed, &[]);
    }
    if let Some(room) = look.variables_room.filter(|room| *room < NEEDED) {
        let message =
            format!("the firmware has {room} bytes left for variables: no entry can be made or corrected");
        let mut full = cause(Code::VariablesFull, Effect::WillBreak, None, message);
        full.by_hand = Some(
            "restart once, so that the firmware clears out what is deleted; else `signpost firmware tidy` removes what starts nothing"
                .into(),
        );
        found.add(full, &[]);
    }
}

/// A table that is broken, where its backup is whole; a GPT without its protective MBR.
fn table(seen: &Seen<'_>, disk: &Disk, found: &mut Found) {
    let subject = Some(Subject::Disk(disk.number));
    let led_there = entries_to(seen, disk);
    let cure = Cure {
        name: "write-table",
        what: format!("write the first table of disk {} from its backup", disk.number),
        acts: vec![Act::Table(disk.number)],
    };
    if disk.table.is_unprotected {
        let else_it_is = if led_there.is_empty() { Effect::WillBreak } else { Effect::SystemLost };
        let effect = seen.effect(&[], true, else_it_is);
        let message = format!(
            "disk {} has no protective MBR, so the firmware sees none of its partitions",
            disk.number
        );
        let mut unprotected = cause(Code::TableUnprotected, effect, subject, message);
        unprotected
            .cures
            .push(Cure { what: format!("write the protective MBR of disk {}", disk.number), ..cure });
        let index = found.add(unprotected, &[Code::TableUnprotected]);
        for number in led_there {
            found.explain(index, Code::EntryUnfit, Some(Subject::Entry(number)));
        }
    } else if disk.table.is_from_backup {
        let message = format!(
            "the partition table at the start of disk {} is broken, and its backup at the end is whole",
            disk.number
        );
        let mut broken = cause(Code::TableBroken, Effect::WillBreak, subject, message);
        broken.evidence.extend(disk.table.fault.clone());
        broken.cures.push(cure);
        found.add(broken, &[Code::TableBroken]);
    }
}

/// The firmware's entries that lead to partitions of a disk.
fn entries_to(seen: &Seen<'_>, disk: &Disk) -> Vec<OptionNumber> {
    let is_there = |number: &u16| {
        let option = seen.boot().options.get(number).and_then(|option| option.decoded.as_ref().ok());
        let drive = option.filter(|option| option.is_active()).and_then(|option| option.path.hard_drive());
        drive.is_some_and(|drive| {
            disk.partitions.iter().any(|own| disk.path_signature(own) == Some(drive.signature))
        })
    };
    seen.boot().options.keys().filter(|number| is_there(number)).map(|number| OptionNumber(*number)).collect()
}

/// Boot files on a partition whose type is not that of an ESP: firmware starts what an entry names there, and never the fallback
/// path by itself.
fn esp_types(seen: &Seen<'_>, found: &mut Found) {
    let survey = &seen.look.survey;
    for volume in
        survey.volumes.iter().filter(|volume| volume.is_fat && !volume.is_esp && !volume.is_extended_boot)
    {
        let number = volume.number;
        let holds_loader =
            survey.boot_files.iter().any(|file| file.volume == number && file.owners().next().is_some());
        let disk = survey.disk(volume.disk);
        let has_esp = survey.volumes.iter().any(|other| other.is_esp && other.disk == volume.disk);
        if !holds_loader || has_esp || disk.is_none_or(|disk| !disk.takes_part) || volume.partition.is_none()
        {
            continue;
        }
        let message = format!(
            "{} holds loaders, and its partition is not of the type EFI system: the firmware does not look there \
             by itself",
            volume.where_it_is()
        );
        let mut wrong = cause(Code::EspType, Effect::WillBreak, Some(Subject::Volume(number)), message);
        wrong.by_hand = Some(format!(
            "give {} the type \"EFI system\" with a partitioning tool; no data is changed by that",
            volume.where_it_is()
        ));
        found.add(wrong, &[]);
    }
}
