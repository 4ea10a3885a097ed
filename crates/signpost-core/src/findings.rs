//! Problems with the firmware's entries, their order, and the next start.

use signpost_facts::{Code, Finding, FirmwareEntry, FirmwareKind, OptionNumber, Subject};
use signpost_firmware::start::Verdict;
use signpost_place::Look;

use crate::rehearse::Rehearsal;
use crate::ways::{self, Reach};

/// All of it.
pub(crate) fn all(look: &Look, rehearsal: &Rehearsal) -> Vec<Finding> {
    let mut found = Vec::new();
    entries(look, &mut found);
    duplicates(look, &mut found);
    order(look, &mut found);
    start(look, rehearsal, &mut found);
    found
}

fn named(entry: &FirmwareEntry) -> String {
    format!("entry {} \"{}\"", entry.number, entry.label)
}

fn entries(look: &Look, found: &mut Vec<Finding>) {
    for entry in &look.survey.firmware.entries {
        let message = format!("{}: {}", named(entry), entry.finding);
        let Some(verdict) = &entry.judged else {
            let broken = Finding::new(Code::EntryBroken, message, "the firmware skips it");
            found.push(broken.about(Subject::Entry(entry.number)));
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
            (Reach::Gone, Code::EntryStale) => "it starts nothing; `signpost firmware tidy` removes it",
            (Reach::Gone, _) => {
                "it starts nothing until the file is back; `signpost firmware tidy` says whether it can be removed"
            }
            (Reach::There, _) => "it starts nothing as it is",
        };
        found.push(Finding::new(code, message, help).about(Subject::Entry(entry.number)));
    }
}

fn duplicates(look: &Look, found: &mut Vec<Finding>) {
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
            found.push(
                Finding::new(
                    Code::EntryDuplicate,
                    message,
                    "`signpost firmware tidy` removes one of the two",
                )
                .about(Subject::Entry(entry.number)),
            );
        }
    }
}

fn order(look: &Look, found: &mut Vec<Finding>) {
    let boot = &look.boot;
    for (index, number) in boot.order.iter().enumerate() {
        if boot.order[..index].contains(number) {
            let message = format!("the boot order names {} twice", OptionNumber(*number));
            found.push(Finding::new(Code::OrderTwice, message, "only its first place counts"));
        } else if !boot.options.contains_key(number) {
            let message =
                format!("the boot order names {}, and there is no such entry", OptionNumber(*number));
            found.push(Finding::new(Code::OrderDangling, message, "the firmware skips it"));
        }
    }
    for entry in look.survey.firmware.entries.iter().filter(|entry| entry.place.is_none()) {
        let message = format!("{} is not in the boot order", named(entry));
        found.push(
            Finding::new(Code::EntryUnordered, message, "the firmware may take its number for another entry")
                .about(Subject::Entry(entry.number)),
        );
    }
    if let Some(next) = boot.next {
        let message = format!("the next start goes to {}, whatever the order says", OptionNumber(next));
        found.push(Finding::new(Code::NextBootSet, message, "it counts once; the firmware forgets it then"));
    }
}

/// Whether the start goes by a menu of ours, whichever system put that there: then its default is what somebody decided.
fn goes_by_our_menu(look: &Look, rehearsal: &Rehearsal) -> bool {
    let number = rehearsal.outcome.entry;
    let entry = look.survey.firmware.entries.iter().find(|entry| Some(entry.number) == number);
    let target = entry.and_then(|entry| entry.target.as_ref());
    let file = target.and_then(|target| look.survey.boot_file(target.volume.index(), &target.file));
    file.is_some_and(|file| look.survey.boot_files[file].is_ours())
}

/// Held against what is running.
fn start(look: &Look, rehearsal: &Rehearsal, found: &mut Vec<Finding>) {
    if look.survey.machine.firmware != FirmwareKind::Uefi {
        return;
    }
    let Some(running) = look.survey.systems.iter().find(|system| system.is_running) else { return };
    let is_elsewhere = rehearsal.outcome.system.as_ref() != Some(&running.id);
    if is_elsewhere && !goes_by_our_menu(look, rehearsal) {
        let message = format!(
            "{} is running, and the next start goes elsewhere: {}",
            running.title, rehearsal.outcome.text
        );
        found.push(Finding::new(
            Code::NotFirst,
            message,
            "`signpost draft` and `signpost apply` put the running system first",
        ));
    }
    let current = look.boot.current.map(OptionNumber);
    let entry = look.survey.firmware.entries.iter().find(|entry| Some(&entry.number) == current.as_ref());
    if let Some(entry) = entry.filter(|entry| entry.is_made_by_firmware) {
        let message =
            format!("the machine was started from {}, which the firmware made by itself", named(entry));
        let own = running.entries.iter().find(|number| **number != entry.number);
        let help = match own {
            Some(own) => format!(
                "the running system has entry {own} of its own; `signpost rehearse` says whether it comes first"
            ),
            None => "the running system has no entry of its own; `signpost apply` makes one".into(),
        };
        found.push(Finding::new(Code::StartedByFallback, message, &help));
    }
}
