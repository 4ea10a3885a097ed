//! The one line that says what the next start leads to.

use signpost_facts::FirmwareKind;
use signpost_place::Look;

use crate::rehearse::Rehearsal;

/// What starts next, in words.
pub(crate) fn starts_next(look: &Look, rehearsal: &Rehearsal) -> String {
    match look.survey.machine.firmware {
        FirmwareKind::Uefi => rehearsal.outcome.text.clone(),
        FirmwareKind::Bios => by_boot_sector(look),
        FirmwareKind::Unknown => "unknown: disk images have no firmware".into(),
    }
}

/// BIOS firmware runs the first sector of its first disk, which most often runs that of the active partition.
fn by_boot_sector(look: &Look) -> String {
    let Some(disk) = look.survey.disks.first() else { return "there is no disk".into() };
    let active = disk.partitions.iter().find(|partition| partition.is_active);
    let Some(active) = active else {
        return format!("the boot sector of disk {}, which has no active partition", disk.number);
    };
    let system =
        look.survey.systems.iter().find(|system| system.root.is_some() && system.root == active.volume);
    let title = system.map_or_else(|| active.purpose.to_string(), |system| system.title.clone());
    format!("{title}, from d{}p{}, which is active", disk.number, active.number)
}
