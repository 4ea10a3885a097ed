//! A start by BIOS, followed.

mod menu;

use signpost_facts::change::SectorWrite;
use signpost_facts::sectors::FirstSector;
use signpost_facts::{Disk, DiskNumber, Partition, System, TableKind, VolumeNumber};
use signpost_firmware::bios::code::{self, FirstCode, SectorCode};
use signpost_firmware::bios::rules::{self, End, Where, Why};
use signpost_firmware::bios::{CODE_LEN, SECTOR, active, entry_start};
use signpost_place::Look;

pub(crate) use menu::entries_that_start;

use super::outcome::{Choice, Kind, Outcome, Rehearsal, Step, StepVerdict, Through};
use crate::sectors::{boot_sector, first, ours_after};

/// Follows a start of the machine after these writes.
pub(crate) fn rehearse(look: &Look, planned: &[SectorWrite], choose: Option<&str>) -> Rehearsal {
    rehearse_in_order(look, &look.survey.boot_sectors.order, planned, choose)
}

/// The same where the firmware tries the disks in this order; somebody may choose an entry of our menu, by its id.
pub fn rehearse_in_order(
    look: &Look,
    order: &[DiskNumber],
    planned: &[SectorWrite],
    choose: Option<&str>,
) -> Rehearsal {
    let disk = order.iter().find_map(|number| look.survey.disk(*number));
    let seen = disk.map(|disk| seen(look, disk, planned));
    let end = rules::follow(seen.as_ref());
    let mut steps = Vec::new();
    if let Some(disk) = disk {
        let code = seen.as_ref().and_then(|seen| seen.code);
        let leads = code.is_some_and(FirstCode::leads_on);
        let shows_menu = end == End::OurMenu;
        let surveyed = look.survey.boot_sectors.first_of(disk.number).filter(|of| code == Some(of.code));
        let finding = match (surveyed, code) {
            (Some(of), _) => first_in_words(of),
            (None, Some(code)) => first_words(code).to_string(),
            (None, None) => "it cannot be read".to_string(),
        };
        let verdict = match () {
            () if shows_menu => StepVerdict::Through(Through::Menu),
            () if leads => StepVerdict::Through(Through::LeadsOn),
            () => StepVerdict::End(kind(end)),
        };
        steps.push(step(format!("first disk, d{}", disk.number), verdict, finding));
        if let Some(active) =
            seen.as_ref().filter(|_| leads && !shows_menu).and_then(|seen| seen.active.first())
        {
            let finding = called(look, disk, active.0);
            let code = active.1.map_or("its boot sector cannot be read", SectorCode::words);
            let reason = "active partition".to_string();
            steps.push(step(reason, StepVerdict::End(kind(end)), format!("{finding}: {code}")));
        }
    }
    let behind =
        disk.filter(|_| end == End::OurMenu).and_then(|disk| menu::follow(look, disk, planned, choose));
    let choice = match &behind {
        Some(behind) => behind.choice.clone(),
        None => choose.map(|_| Choice::NotReached),
    };
    let mut outcome = match behind {
        Some(behind) => {
            steps.extend(behind.steps);
            behind.outcome
        }
        None => {
            let (system, text) = words(look, disk, end);
            Outcome { system, ..Outcome::new(kind(end), text) }
        }
    };
    if !look.survey.boot_sectors.is_order_known && look.survey.disks.len() > 1 {
        outcome.notes.push("which disk the firmware tries first is not known; d1 is taken for it".into());
    }
    Rehearsal { steps, outcome, choice }
}

fn step(reason: String, verdict: StepVerdict, finding: String) -> Step {
    Step { entry: None, label: None, reason, verdict, finding }
}

/// A disk as the firmware sees it then.
fn seen(look: &Look, disk: &Disk, planned: &[SectorWrite]) -> rules::Disk {
    let sectors = &look.survey.boot_sectors;
    let bytes = sectors.first_of(disk.number).and_then(|of| first(look, of, planned));
    let of_entry = |index: usize| match sectors.of_entry(disk.number, index) {
        Some(of) => {
            let bytes = boot_sector(look, of, planned)?;
            Some(if bytes[..] == of.bytes { of.code } else { code::of_partition(&bytes) })
        }
        // An empty entry leads to the first sector itself, which begins anew.
        None if bytes.is_some_and(|bytes| entry_start(&bytes, index).is_none()) => Some(SectorCode::Loops),
        // The protective entry starts with the GPT's header, which is no boot sector.
        None => (disk.table.kind == Some(TableKind::Gpt)).then_some(SectorCode::Unmarked),
    };
    let surveyed = sectors.first_of(disk.number);
    // The catalogue knows more than the bytes say by themselves.
    let code = |bytes: &[u8; SECTOR]| match surveyed.filter(|of| of.bytes[..CODE_LEN] == bytes[..CODE_LEN]) {
        Some(of) if code::of_first(bytes) == FirstCode::Other => of.code,
        _ => code::of_first(bytes),
    };
    rules::Disk {
        has_program: surveyed
            .and_then(|of| ours_after(look, of, planned))
            .is_some_and(|ours| ours.has_program),
        code: bytes.as_ref().map(code),
        active: bytes.iter().flat_map(|bytes| active(bytes)).map(|index| (index, of_entry(index))).collect(),
    }
}

/// The partition of an entry of the table, by its index.
fn partition<'l>(look: &'l Look, disk: &'l Disk, index: usize) -> Option<&'l Partition> {
    let sector = look.survey.boot_sectors.of_entry(disk.number, index)?;
    disk.partitions.iter().find(|partition| partition.number == sector.partition)
}

/// What the partition of an entry is called. In a GPT an entry over the whole disk protects it, and no partition has one.
fn called(look: &Look, disk: &Disk, index: usize) -> String {
    match partition(look, disk, index) {
        Some(found) => format!("d{}p{}", disk.number, found.number),
        None if disk.table.kind == Some(TableKind::Gpt) => {
            format!("the protective entry of d{}", disk.number)
        }
        None => format!("entry {} of d{}", index + 1, disk.number),
    }
}

fn kind(end: End) -> Kind {
    match end {
        End::Partition(_) | End::Volume => Kind::Starts,
        // Where the menu cannot be followed.
        End::Unknown | End::OurMenu => Kind::MayStart,
        End::Nothing(_) => Kind::Nothing,
        End::Hangs(_) => Kind::Hangs,
    }
}

/// What a disk's first sector is, in words, and whose, where that is known.
pub fn first_in_words(first: &FirstSector) -> String {
    match (&first.known, first.code.leads_on()) {
        (Some(known), true) => format!("{known}, which starts the active partition"),
        (Some(known), false) => known.clone(),
        (None, _) => first_words(first.code).to_string(),
    }
}

/// What a first sector is, in words.
pub fn first_words(code: FirstCode) -> &'static str {
    match code {
        FirstCode::Unmarked => "no boot sector: it lacks the mark 55AA",
        FirstCode::Empty => "no code",
        FirstCode::Loops => "code that only runs in a circle",
        FirstCode::Returns => "code that only goes back to the firmware",
        FirstCode::OurMenu => "ours, which starts the menu",
        FirstCode::OurPlain => "plain code of ours, which starts the active partition",
        FirstCode::Plain => "plain code, which starts the active partition",
        FirstCode::Volume => "the boot sector of a volume over the whole disk",
        FirstCode::Other => "code that is not known, such as another boot manager's",
    }
}

/// The system that starts, and all of it in a line.
fn words(look: &Look, disk: Option<&Disk>, end: End) -> (Option<String>, String) {
    let Some(disk) = disk else { return (None, "nothing: there is no disk".into()) };
    let d = disk.number;
    let name = |index: usize| called(look, disk, index);
    match end {
        End::Partition(index) => {
            let Some(found) = partition(look, disk, index) else {
                return (None, format!("the active partition of d{d}"));
            };
            let system = system_in(look, disk, found);
            let title =
                system.map_or_else(|| found.purpose.name().into_owned(), |system| system.title.clone());
            (
                system.map(|system| system.id.clone()),
                format!("{title}, from d{d}p{}, which is active", found.number),
            )
        }
        End::Volume => (None, format!("what the boot sector of d{d} starts")),
        End::OurMenu => (None, format!("our menu, from d{d}")),
        End::Unknown => (None, format!("what the first sector of d{d} starts, which cannot be followed")),
        End::Hangs(Where::First) => (None, format!("nothing: the machine hangs in the first sector of d{d}")),
        End::Hangs(Where::Partition(index)) => {
            (None, format!("nothing: the machine hangs in the boot sector of {}", name(index)))
        }
        End::Nothing(why) => (None, format!("nothing: {}", nothing_words(why, d, name))),
    }
}

/// The system whose root lies in a partition.
fn system_in<'l>(look: &'l Look, disk: &Disk, partition: &Partition) -> Option<&'l System> {
    let is_its = |system: &&System| system.root.is_some_and(|root| is_in(look, root, disk, partition));
    look.survey.systems.iter().find(is_its)
}

/// Whether a volume is a partition, or in a slice of it.
fn is_in(look: &Look, volume: VolumeNumber, disk: &Disk, partition: &Partition) -> bool {
    let inside = |inner: &Partition| {
        let ends = inner.start.checked_add(inner.size) <= partition.start.checked_add(partition.size);
        inner.volume == Some(volume) && inner.start >= partition.start && ends
    };
    look.survey.volumes[volume.index()].disk == disk.number && disk.partitions.iter().any(inside)
}

fn nothing_words(why: Why, d: DiskNumber, name: impl Fn(usize) -> String) -> String {
    match why {
        Why::NoDisk => "there is no disk".into(),
        Why::Unread => format!("the first sector of d{d} cannot be read"),
        Why::Unmarked => format!("the first sector of d{d} lacks the mark 55AA"),
        Why::NoneActive => format!("no partition of d{d} is active"),
        Why::SeveralActive => format!("several partitions of d{d} are active"),
        Why::PartitionUnread(index) => format!("the boot sector of {} cannot be read", name(index)),
        Why::PartitionUnmarked(index) => format!("{} is active, and has no boot sector", name(index)),
        Why::Returns(Where::First) => format!("the first sector of d{d} only goes back to the firmware"),
        Why::Returns(Where::Partition(index)) => {
            format!("{} is active, and its boot sector only goes back to the firmware", name(index))
        }
        Why::SaysNothing(index) => {
            format!("{} is active, and its boot sector only says that nothing starts", name(index))
        }
    }
}
