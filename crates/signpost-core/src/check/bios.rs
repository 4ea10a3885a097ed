//! What keeps a machine from starting by BIOS: its first sector, the active partition, that one's boot sector.

use signpost_facts::cause::{Act, Cause, Cure, Effect, SectorAct, SectorWhat};
use signpost_facts::sectors::{FirstSector, PartitionSector};
use signpost_facts::{Code, Disk, Subject, TableKind};
use signpost_firmware::bios::active;
use signpost_firmware::bios::code::{FirstCode, SectorCode};

use super::{Found, Seen, cause};
use crate::rehearse::first_words;

pub(super) fn find(seen: &Seen<'_>, found: &mut Found) {
    let sectors = &seen.look.survey.boot_sectors;
    let disk = sectors.order.first().and_then(|number| seen.look.survey.disk(*number));
    let Some((disk, first)) = disk.and_then(|disk| Some((disk, sectors.first_of(disk.number)?))) else {
        return;
    };
    let of_disk = || sectors.partitions.iter().filter(|sector| sector.disk == disk.number);
    let active: Vec<usize> = active(&first.bytes).collect();
    let is_active = |sector: &&PartitionSector| sector.entry.is_some_and(|index| active.contains(&index));
    // Where a menu of ours was there, what became of that is named already.
    if found.of(Code::NotFirst, Some(&Subject::Disk(disk.number))).is_some() {
        return;
    }
    let is_lost = first.code.starts_nothing();
    if is_lost {
        found.add(no_code(seen, disk, first.code), &[]);
    }
    if let Some(cause) = overwritten(seen, disk, first) {
        found.add(cause, &[]);
    }
    // A hybrid table has an entry for a partition of the GPT too.
    if disk.table.kind == Some(TableKind::Gpt) && of_disk().all(|sector| sector.entry.is_none()) {
        if first.code.leads_on() {
            found.add(plain_on_gpt(seen, disk), &[]);
        }
        return;
    }
    // What cures that is plain code, so the rest counts too.
    // A menu needs none that is active.
    let shows_menu = first.code == FirstCode::OurMenu;
    let leads = (is_lost && !disk.partitions.is_empty()) || (first.code.leads_on() && !shows_menu);
    if leads && active.is_empty() {
        found.add(none_active(seen, disk, of_disk().collect()), &[]);
    } else if leads && active.len() > 1 {
        let mut several = none_active(seen, disk, of_disk().filter(is_active).collect());
        several.code = Code::SeveralActive;
        several.message = format!("several partitions of d{} are active", disk.number);
        found.add(several, &[]);
    }
    for sector in of_disk().filter(is_active) {
        if sector.code != SectorCode::Starts && leads {
            found.add(no_boot_sector(seen, sector, of_disk().collect()), &[]);
        } else if let Some(says) = sector.says_before {
            found.add(moved(seen, sector, says), &[]);
        } else if let Some(says) = sector.says_geometry {
            found.add(counts_otherwise(sector, says), &[]);
        }
    }
}

fn felt(seen: &Seen<'_>) -> Effect {
    seen.effect(&[], true, Effect::WillBreak)
}

/// The cure that makes the first of these partitions active that has a boot sector that starts something; the others are named.
fn make_active(made: &mut Cause, sectors: &[&PartitionSector]) {
    let mut fitting =
        sectors.iter().filter(|sector| sector.entry.is_some() && sector.code == SectorCode::Starts);
    let Some(first) = fitting.next() else { return };
    made.cures.push(Cure {
        name: "activate",
        what: format!("make {} the active partition", first.name),
        acts: vec![act(first, SectorWhat::Active)],
    });
    let others =
        fitting.map(|sector| format!("`signpost sector active {}` makes that one active", sector.name));
    made.evidence.extend(others);
}

fn act(sector: &PartitionSector, what: SectorWhat) -> Act {
    Act::Sector(SectorAct { disk: sector.disk, partition: Some(sector.name.clone()), what })
}

/// Where plain code stood at the last survey, code stands now that nobody knows: another system's installer put it there.
fn overwritten(seen: &Seen<'_>, disk: &Disk, first: &FirstSector) -> Option<Cause> {
    let known = seen.look.known.first_sector(disk)?;
    let is_another = first.code == FirstCode::Other && known.sha256 != first.sha256;
    if !is_another || !known.code.leads_on() {
        return None;
    }
    let d = disk.number;
    let message = format!(
        "the first sector of d{d} holds other code, which may start something else: it was {}",
        first_words(known.code)
    );
    let effect = seen.effect(&[], true, Effect::StartsOther);
    let mut made = cause(Code::NotFirst, effect, Some(Subject::Disk(d)), message);
    made.evidence.push(format!("it was there at the survey of {}", known.seen));
    made.cures.push(plain_code(disk));
    Some(made)
}

fn plain_code(disk: &Disk) -> Cure {
    let d = disk.number;
    Cure {
        name: "plain-code",
        what: format!("write plain code, which starts the active partition, into the first sector of d{d}"),
        acts: vec![Act::Sector(SectorAct { disk: d, partition: None, what: SectorWhat::Standard })],
    }
}

fn no_code(seen: &Seen<'_>, disk: &Disk, code: FirstCode) -> Cause {
    let d = disk.number;
    let message = format!("the first sector of d{d} starts nothing: {}", first_words(code));
    let mut made = cause(Code::FirstSectorLost, felt(seen), Some(Subject::Disk(d)), message);
    if disk.table.kind == Some(TableKind::Gpt) {
        made.by_hand = Some(BY_HAND_ON_GPT.into());
        return made;
    }
    if disk.partitions.is_empty() {
        let way = "no partition is seen on it: `signpost sector restore FILE d1 --table` puts a saved sector back with its table";
        made.by_hand = Some(way.replace("d1", &format!("d{d}")));
        return made;
    }
    made.cures.push(plain_code(disk));
    made
}

/// What no code of ours cures.
const BY_HAND_ON_GPT: &str = "a disk with a GPT starts by a system's own boot manager: let its tools write that again; where the PC has \
                              UEFI firmware, start it in UEFI mode";

/// Plain code starts an active partition, and none of a GPT is one.
fn plain_on_gpt(seen: &Seen<'_>, disk: &Disk) -> Cause {
    let d = disk.number;
    let message = format!("the first sector of d{d} is plain code, and no partition of a GPT can be active");
    let mut made = cause(Code::NoneActive, felt(seen), Some(Subject::Disk(d)), message);
    made.by_hand = Some(BY_HAND_ON_GPT.into());
    made
}

fn none_active(seen: &Seen<'_>, disk: &Disk, sectors: Vec<&PartitionSector>) -> Cause {
    let d = disk.number;
    let message = format!("no partition of d{d} is active, and plain code starts the active one");
    let mut made = cause(Code::NoneActive, felt(seen), Some(Subject::Disk(d)), message);
    make_active(&mut made, &sectors);
    if made.cures.is_empty() {
        made.by_hand = Some("none of its partitions has a boot sector that starts something: let a system's own tools write one".into());
    }
    made
}

fn no_boot_sector(seen: &Seen<'_>, sector: &PartitionSector, all: Vec<&PartitionSector>) -> Cause {
    let message = format!("{} is active, and starts nothing: {}", sector.name, sector.code.words());
    let mut made = cause(Code::BootSectorLost, felt(seen), Some(Subject::Disk(sector.disk)), message);
    if let Some(copy) = sector.backup.as_ref().filter(|copy| !copy.is_same) {
        made.evidence.push(format!("its file system keeps a copy in sector {}", copy.sector));
        made.cures.push(Cure {
            name: "copy-back",
            what: format!("put the boot sector of {} back from that copy", sector.name),
            acts: vec![act(sector, SectorWhat::Backup)],
        });
    }
    make_active(&mut made, &all);
    if made.cures.is_empty() {
        made.by_hand = Some(format!(
            "`signpost sector restore FILE {}` puts a saved one back; else let that system's own tools write it",
            sector.name
        ));
    }
    made
}

fn moved(seen: &Seen<'_>, sector: &PartitionSector, says: u32) -> Cause {
    let message = format!(
        "the boot sector of {} says that {says} sectors lie before it, and there are {}: it was copied or moved, and may find nothing",
        sector.name,
        sector.start / 512
    );
    let mut made = cause(Code::BootSectorMoved, felt(seen), Some(Subject::Disk(sector.disk)), message);
    made.by_hand = Some("let that system's own tools write its boot sector again".into());
    made
}

fn counts_otherwise(sector: &PartitionSector, [heads, sectors]: [u16; 2]) -> Cause {
    let message = format!(
        "the boot sector of {} counts with {heads} heads and {sectors} sectors a track, and the partition table with others: old code \
         that goes by them finds nothing",
        sector.name
    );
    let mut made = cause(Code::BootSectorMoved, Effect::Untidy, Some(Subject::Disk(sector.disk)), message);
    made.by_hand =
        Some("if it does not start, let that system's own tools write its boot sector again".into());
    made
}
