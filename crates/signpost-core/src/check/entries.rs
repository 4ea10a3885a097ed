//! The firmware's entries that start nothing: what they lead to was made again, has moved, is gone, damaged, or refused.

use signpost_facts::cause::{Act, Cause, Cure, Effect};
use signpost_facts::secure_boot::Verdict as SecureBoot;
use signpost_facts::{BootFile, Code, Disk, DiskNumber, FirmwareEntry, Subject, System, VolumeNumber};
use signpost_firmware::start::{Target, Verdict, volume_path};

use super::twins::{loader_lost, systems_of_lost, was_there};
use super::{Found, Seen, cause, ids};
use crate::ways::{self, Reach};

/// Findings about an entry that a cause about it accounts for.
const OF_ENTRY: [Code; 4] = [Code::EntryStale, Code::EntryFileGone, Code::EntryUnfit, Code::EntryBroken];

pub(super) fn find(seen: &Seen<'_>, found: &mut Found) {
    let owned = seen.case.history.owned();
    for entry in &seen.look.survey.firmware.entries {
        let is_held = seen.case.held.is_some() && owned.contains_key(&entry.number());
        let Some(verdict) = entry.judged.as_ref().filter(|_| !is_held) else { continue };
        let cause = match verdict {
            Verdict::NoFile { partitions, path } if entry.is_made_by_firmware => {
                fallback_empty(seen, entry, partitions, path)
            }
            _ if entry.is_made_by_firmware => None,
            _ if !entry.is_active => disabled(seen, entry),
            Verdict::NoPartition { renumbered, .. } if !renumbered.is_empty() => {
                moved(seen, entry, renumbered)
            }
            Verdict::NoPartition { .. } => made_anew(seen, entry),
            Verdict::NoFile { partitions, path } => gone(seen, entry, partitions, path),
            Verdict::Unfit { target, .. } | Verdict::Hangs { target, .. } => unfit(seen, entry, target),
            _ => None,
        };
        if let Some(cause) = cause {
            found.add(cause, &OF_ENTRY);
        }
    }
}

fn named(entry: &FirmwareEntry) -> String {
    format!("entry {} \"{}\"", entry.number, entry.label)
}

/// The file that an entry names, as a path of a volume.
fn file_of(seen: &Seen<'_>, entry: &FirmwareEntry) -> Option<String> {
    let option = seen.boot().options.get(&entry.number())?.decoded.as_ref().ok()?;
    option.path.file().map(|file| volume_path(&file))
}

/// The ids of the systems that boot files start.
fn systems_of<'s>(seen: &'s Seen<'_>, files: &[&BootFile]) -> Vec<&'s System> {
    let mut systems: Vec<&System> =
        files.iter().flat_map(|file| file.owners()).filter_map(|id| seen.look.survey.system(id)).collect();
    systems.dedup_by(|one, other| one.id == other.id);
    systems
}

/// Whether an active entry leads to a file already.
fn is_led_to(seen: &Seen<'_>, file: &BootFile) -> bool {
    seen.look.survey.firmware.entries.iter().any(|entry| {
        let starts = entry.judged.as_ref().is_some_and(|verdict| !verdict.starts_nothing());
        let target =
            entry.target.as_ref().filter(|_| starts && entry.is_active && !entry.is_made_by_firmware);
        target.is_some_and(|target| {
            target.volume == file.volume && target.file.eq_ignore_ascii_case(&file.path)
        })
    })
}

fn point(seen: &Seen<'_>, entry: &FirmwareEntry, volume: VolumeNumber, path: &str) -> Cure {
    Cure {
        name: "point-entry",
        what: format!("let {} lead to {}", named(entry), seen.look.survey.at(volume, path)),
        acts: vec![Act::Point(entry.number, volume, path.into())],
    }
}

/// The partition is there, under another number.
fn moved(seen: &Seen<'_>, entry: &FirmwareEntry, renumbered: &[usize]) -> Option<Cause> {
    let volume = VolumeNumber::of_index(*renumbered.first()?);
    let path = file_of(seen, entry)?;
    let file = seen.look.survey.boot_file(volume.index(), &path)?;
    let file = &seen.look.survey.boot_files[file];
    let systems = systems_of(seen, &[file]);
    let effect = seen.effect(&systems, true, Effect::WillBreak);
    let message = format!(
        "the partition that {} names has another number now: it is {}",
        named(entry),
        seen.look.survey.name(volume)
    );
    let mut moved = cause(Code::PartitionMoved, effect, Some(Subject::Entry(entry.number)), message);
    moved.systems = ids(&systems);
    moved.cures.push(point(seen, entry, volume, &path));
    Some(moved)
}

/// The partition is gone for good, and another one holds the same file: an ESP that was formatted again, a disk that was replaced.
fn made_anew(seen: &Seen<'_>, entry: &FirmwareEntry) -> Option<Cause> {
    let survey = &seen.look.survey;
    if ways::of_load_option(seen.look, entry.number()) != Reach::Gone {
        return not_attached(seen, entry);
    }
    let path = file_of(seen, entry)?;
    let is_same = |file: &&BootFile| {
        file.path.eq_ignore_ascii_case(&path)
            && survey.takes_part(file.volume)
            && survey.volumes[file.volume.index()].firmware_reads
    };
    let mut files: Vec<&BootFile> = survey.boot_files.iter().filter(is_same).collect();
    // On the disk that had the partition, what nothing else leads to is what it led to.
    if let Some(disk) = disk_that_had_it(seen, entry) {
        files.retain(|file| survey.volumes[file.volume.index()].disk == disk && !is_led_to(seen, file));
    }
    if files.iter().any(|file| is_led_to(seen, file)) {
        return None;
    }
    let subject = Some(Subject::Entry(entry.number));
    let [file] = files[..] else {
        return files.is_empty().then(|| lost_with_its_volume(seen, entry, &path)).flatten();
    };
    let systems = systems_of(seen, &[file]);
    let effect = seen.effect(&systems, true, Effect::WillBreak);
    let message = format!(
        "the partition that {} names is gone; {} holds the file that it starts",
        named(entry),
        survey.volumes[file.volume.index()].where_it_is()
    );
    let mut anew = cause(Code::EspNew, effect, subject, message);
    anew.systems = ids(&systems);
    anew.evidence.extend(known_elsewhere(seen, &path));
    anew.cures.push(point(seen, entry, file.volume, &file.path));
    Some(anew)
}

/// The disk, which is here, that had the partition which an entry names when it was surveyed last.
fn disk_that_had_it(seen: &Seen<'_>, entry: &FirmwareEntry) -> Option<DiskNumber> {
    let option = seen.boot().options.get(&entry.number())?.decoded.as_ref().ok()?;
    let identity = ways::identity(&option.path.hard_drive()?)?;
    let had_it = |disk: &&Disk| seen.look.known.had_partition(disk, &identity);
    seen.look.survey.disks.iter().find(had_it).map(|disk| disk.number)
}

/// It leads to a disk of the machine's own that is not here now.
fn not_attached(seen: &Seen<'_>, entry: &FirmwareEntry) -> Option<Cause> {
    let option = seen.boot().options.get(&entry.number())?.decoded.as_ref().ok()?;
    let identity = ways::identity(&option.path.hard_drive()?)?;
    if !seen.look.known.had_partition_of_its_own(&seen.look.survey, &identity) {
        return None;
    }
    let effect = seen.effect(&[], true, Effect::SystemLost);
    let message = format!("the disk that {} leads to was there, and is not here now", named(entry));
    let mut missing = cause(Code::DiskMissing, effect, Some(Subject::Entry(entry.number)), message);
    missing.by_hand = Some("attach it; nothing of it is removed anywhere".into());
    Some(missing)
}

fn known_elsewhere(seen: &Seen<'_>, path: &str) -> Option<String> {
    let known = seen.look.known.files_elsewhere(&seen.look.identities, path).next()?;
    Some(format!("the file was on the volume that is gone on {}", known.seen))
}

/// The file went with its volume, and a system that it started has no other way.
fn lost_with_its_volume(seen: &Seen<'_>, entry: &FirmwareEntry, path: &str) -> Option<Cause> {
    let look = seen.look;
    let known: Vec<_> = look.known.files_elsewhere(&look.identities, path).collect();
    let started = known.iter().flat_map(|file| &file.systems);
    let mut systems: Vec<&System> = started.filter_map(|id| look.survey.system(id)).collect();
    systems.dedup_by(|one, other| one.id == other.id);
    systems.retain(|system| !seen.has_way(&system.id));
    let first = systems.first()?;
    let effect = seen.effect(&systems, true, Effect::SystemLost);
    let message =
        format!("the volume with the loader of {} is gone: {} leads there", first.title, named(entry));
    let mut lost = cause(Code::LoaderGone, effect, Some(Subject::Entry(entry.number)), message);
    lost.systems = ids(&systems);
    lost.evidence.extend(known_elsewhere(seen, path));
    lost.cures.extend(super::twins::kernel_directly(seen, &systems));
    lost.by_hand = Some("let that system's own tools write its loader to an ESP again".into());
    Some(lost)
}

/// The file is gone from a volume that is there.
fn gone(seen: &Seen<'_>, entry: &FirmwareEntry, partitions: &[usize], path: &str) -> Option<Cause> {
    let volume = VolumeNumber::of_index(*partitions.first()?);
    if ways::of_load_option(seen.look, entry.number()) != Reach::Gone {
        return None;
    }
    let path = volume_path(path);
    let at = (volume, path.as_str());
    let systems = systems_of_lost(seen, at, ways::of_load_entry(seen.look, entry.number()));
    let effect = match seen.effect(&systems, true, Effect::Untidy) {
        // A leftover, which nobody knows and nobody misses.
        Effect::Untidy if !was_there(seen, at) => return None,
        // A system that shows by its loader alone went with it.
        Effect::Untidy if systems.is_empty() => Effect::SystemLost,
        Effect::Untidy => Effect::WillBreak,
        effect => effect,
    };
    let subject = Subject::Entry(entry.number);
    let mut lost = loader_lost(seen, at, &systems, (subject, effect), false);
    let elsewhere = seen.look.survey.boot_files.iter().find(|file| {
        file.volume != volume
            && file.path.eq_ignore_ascii_case(&path)
            && seen.look.survey.takes_part(file.volume)
            && !is_led_to(seen, file)
            && file.owners().any(|owner| systems.iter().any(|system| system.id == *owner))
    });
    if let Some(file) = elsewhere {
        let copies = |cure: &Cure| cure.acts.iter().any(|act| matches!(act, Act::Copy { .. }));
        let at = lost.cures.iter().position(|cure| !copies(cure)).unwrap_or(lost.cures.len());
        lost.cures.insert(at, point(seen, entry, file.volume, &file.path));
    }
    Some(lost)
}

/// The firmware made the entry by itself, for a fallback path on which nothing stands any more.
fn fallback_empty(seen: &Seen<'_>, entry: &FirmwareEntry, partitions: &[usize], path: &str) -> Option<Cause> {
    let volume = VolumeNumber::of_index(*partitions.first()?);
    let path = volume_path(path);
    let at = (volume, path.as_str());
    if !was_there(seen, at) {
        return None;
    }
    let systems = systems_of_lost(seen, at, Vec::new());
    let effect = seen.effect(&systems, true, Effect::WillBreak);
    let subject = Subject::Entry(entry.number);
    let mut lost = loader_lost(seen, at, &systems, (subject, effect), false);
    lost.code = Code::FallbackEmpty;
    let place = seen.look.survey.at(volume, &path);
    lost.message = format!("{} starts by the fallback path, which is empty: {place}", named(entry));
    let loaders = systems.iter().filter_map(|system| {
        let file = seen.look.survey.boot_files.get(*system.loaders.first()?)?;
        let reads = seen.look.survey.volumes[file.volume.index()].firmware_reads;
        (reads && !is_led_to(seen, file)).then_some((*system, file))
    });
    let made = loaders.map(|(system, file)| Cure {
        name: "make-entry",
        what: format!(
            "make an entry of its own for {}: {}",
            system.title,
            seen.look.survey.at(file.volume, &file.path)
        ),
        acts: vec![Act::Make {
            label: system.title.clone(),
            volume: file.volume,
            path: file.path.clone(),
            is_first: false,
        }],
    });
    lost.cures.extend(made);
    Some(lost)
}

/// The file is there, and firmware does not start it.
fn unfit(seen: &Seen<'_>, entry: &FirmwareEntry, target: &Target) -> Option<Cause> {
    let volume = VolumeNumber::of_index(target.partition);
    let path = volume_path(&target.path);
    let subject = Subject::Entry(entry.number);
    let systems = systems_of_lost(seen, (volume, &path), ways::of_load_entry(seen.look, entry.number()));
    let effect = match seen.effect(&systems, true, Effect::WillBreak) {
        Effect::WillBreak if systems.is_empty() => Effect::SystemLost,
        effect => effect,
    };
    let secure_boot = seen.look.secure_boot_verdict(target.partition, &path).and_then(Result::ok);
    if let Some(SecureBoot::Refused(why)) = secure_boot {
        let place = seen.look.survey.at(volume, &path);
        let message = format!("Secure Boot refuses what {} starts, {place}: {why}", named(entry));
        let mut refused = cause(Code::SecureBootRefuses, effect, Some(subject), message);
        refused.systems = ids(&systems);
        refused.by_hand = Some(
            "install that system's signed loader, enrol the key that signed this one, or turn Secure Boot off in the firmware \
             setup"
                .into(),
        );
        return Some(refused);
    }
    let known = seen.look.identities.get(volume.index()).and_then(|own| seen.look.known.file(own, &path))?;
    let file = seen.look.survey.boot_file(volume.index(), &path);
    let is_another =
        file.is_none_or(|file| seen.look.survey.boot_files[file].sha256.as_ref() != Some(&known.sha256));
    is_another.then(|| loader_lost(seen, (volume, &path), &systems, (subject, effect), true))
}

/// Disabled, and nothing else starts its system.
fn disabled(seen: &Seen<'_>, entry: &FirmwareEntry) -> Option<Cause> {
    let systems: Vec<&System> = entry
        .owners()
        .filter_map(|id| seen.look.survey.system(id))
        .filter(|own| !seen.has_way(&own.id))
        .collect();
    let first = systems.first()?;
    let effect = seen.effect(&systems, true, Effect::SystemLost);
    let message = format!("{} is disabled, and nothing else starts {}", named(entry), first.title);
    let mut disabled = cause(Code::EntryDisabled, effect, Some(Subject::Entry(entry.number)), message);
    disabled.systems = ids(&systems);
    disabled.cures.push(Cure {
        name: "enable",
        what: format!("enable {}", named(entry)),
        acts: vec![Act::Enable(entry.number)],
    });
    Some(disabled)
}
