//! Disks, what is on them, and volumes that lie on several: folded where there is much.

use std::borrow::Cow;
use std::collections::BTreeMap;

use signpost_core::rehearse::first_in_words;
use signpost_facts::{
    Aside, BootFile, Disk, DiskArray, DiskNumber, KernelUse, Partition, Survey, TableKind, Volume,
};
use unicode_width::UnicodeWidthStr;

use super::size::human;
use super::style;
use super::width::{width, wrapped};

/// More partitions than this are folded.
const FOLD_FROM: usize = 16;
/// Lines of one volume's files that are shown where it is folded.
const MAX_FILES: usize = 6;

pub fn text(survey: &Survey, all: bool) -> String {
    let partitions: usize = survey.disks.iter().map(|disk| disk.partitions.len()).sum();
    let folds = !all && partitions > FOLD_FROM;
    let mut text = style::heading("Disks") + "\n";
    for disk in &survey.disks {
        text.push_str(&disk_text(survey, disk, folds));
    }
    let over: Vec<&Volume> = survey.volumes.iter().filter(|volume| !volume.members.is_empty()).collect();
    if !over.is_empty() {
        text.push_str(&format!("{}\n", style::heading("Logical volumes and arrays")));
        for volume in over {
            let members: Vec<&str> = volume.members.iter().map(|member| survey.name(*member)).collect();
            let purpose = if volume.lv.is_some() { "logical volume" } else { "array" };
            let line = format!("  {}", facts(volume, purpose));
            let more = vec![format!("on {}", members.join(", "))];
            text.push_str(&with_below(survey, volume, (&line, more), "     ", folds));
        }
    }
    text + "\n"
}

/// One disk with its partitions.
pub fn disk_text(survey: &Survey, disk: &Disk, folds: bool) -> String {
    let mut text = disk_line(disk);
    if let Some(first) = survey.boot_sectors.first_of(disk.number) {
        text.push_str(&format!("  first sector: {}\n", first_in_words(first)));
    }
    let bare = survey
        .volumes
        .iter()
        .find(|volume| volume.disk == disk.number && volume.partition.is_none() && volume.members.is_empty());
    if let Some(volume) = bare {
        let line = format!("  └─ {}", facts(volume, "whole disk"));
        text.push_str(&with_below(survey, volume, (&line, Vec::new()), "       ", folds));
    }
    let (shown, folded): (Vec<&Partition>, Vec<&Partition>) =
        disk.partitions.iter().partition(|partition| !folds || matters(survey, partition));
    for (index, partition) in shown.iter().enumerate() {
        let is_last = index + 1 == shown.len() && folded.is_empty();
        text.push_str(&partition_lines(survey, (disk.number, partition), is_last, folds));
    }
    if !folded.is_empty() {
        text.push_str(&format!("  └─  {}\n", style::faint(&folded_words(survey, &folded))));
    }
    text
}

fn disk_line(disk: &Disk) -> String {
    let mut facts: Vec<String> =
        [&disk.bus, &disk.model, &disk.serial].into_iter().flatten().cloned().collect();
    facts.push(human(disk.size));
    if disk.sector_size != 512 {
        facts.push(format!("sectors of {}", disk.sector_size));
    }
    if disk.is_medium {
        facts.push("the rescue medium".into());
    } else if !disk.takes_part {
        facts.push("removable, so never offered".into());
    }
    match (disk.table.kind, &disk.table.fault) {
        (Some(TableKind::Label), _) => facts.push("BSD label".into()),
        (Some(kind), _) => facts.push(kind.word().to_uppercase()),
        (None, Some(fault)) => facts.push(fault.clone()),
        (None, None) => facts.push("no partition table".into()),
    }
    facts.extend(disk.array.as_ref().map(array));
    format!("  d{}  {}  {}\n", disk.number, disk.name, style::faint(&facts.join(", ")))
}

/// The array that a whole disk is a member of.
pub fn array(array: &DiskArray) -> String {
    let of = if array.is_firmwares { " of the firmware" } else { "" };
    let read_on = array.read_on.map(|disk| format!(", the same as d{disk}")).unwrap_or_default();
    format!("in the {}{of}{read_on}", array.words)
}

/// Whether a partition is shown among many: it starts something, holds a system, or something is wrong with it.
fn matters(survey: &Survey, partition: &Partition) -> bool {
    let Some(volume) = partition.volume.and_then(|number| survey.volumes.get(number.index())) else {
        return false;
    };
    volume.is_esp || volume.fault.is_some() || volume.is_hibernated || !contents(survey, volume).is_empty()
}

/// What is folded, by kind: `5 more: 2 ext4, 1 recovery, 2 swap; --all shows them`.
fn folded_words(survey: &Survey, folded: &[&Partition]) -> String {
    let mut kinds: BTreeMap<Cow<'_, str>, usize> = BTreeMap::new();
    for partition in folded {
        let volume = partition.volume.and_then(|number| survey.volumes.get(number.index()));
        let kind = match volume {
            _ if partition.is_container => partition.purpose.name(),
            Some(volume) => volume.aside.map_or(volume.kind.name(), Aside::word).into(),
            None => partition.purpose.name(),
        };
        *kinds.entry(kind).or_default() += 1;
    }
    let words: Vec<String> = kinds.into_iter().map(|(kind, count)| format!("{count} {kind}")).collect();
    format!("{} more: {}; --all shows them", folded.len(), words.join(", "))
}

fn partition_lines(
    survey: &Survey,
    (disk, partition): (DiskNumber, &Partition),
    is_last: bool,
    folds: bool,
) -> String {
    let (branch, stem) = if is_last { ("└─", "  ") } else { ("├─", "│ ") };
    let volume = partition.volume.and_then(|number| survey.volumes.get(number.index()));
    let line = match volume {
        Some(volume) => facts(volume, &partition.purpose.name()),
        None => {
            let name = Some(partition.name.as_str()).filter(|name| !name.is_empty());
            let line = format!(
                "{:<5} {:<14} {:>8}  {}",
                format!("d{disk}p{}", partition.number),
                partition.purpose.name(),
                human(partition.size),
                name.unwrap_or_default()
            );
            line.trim_end().to_string()
        }
    };
    let line = format!("  {branch} {line}");
    let active = partition.is_active.then(|| "active".to_string());
    match volume {
        Some(volume) => {
            let more = active.into_iter().collect();
            with_below(survey, volume, (&line, more), &format!("  {stem}   "), folds)
        }
        None if partition.is_active => format!("{line}  active\n"),
        None => line + "\n",
    }
}

/// The head of a volume's own line: its name, meaning, size, kind, label.
fn facts(volume: &Volume, purpose: &str) -> String {
    let name = &volume.name;
    let label = volume.label.as_deref().or(volume.part_label.as_deref()).unwrap_or_default();
    format!("{name:<5} {purpose:<14} {:>8}  {:<8}  {label:<10}", human(volume.size), volume.kind)
}

/// A volume's own line with its identity, its state, what else there is, and its device; what the line has no room for goes
/// below it. Then the other lines.
fn with_below(
    survey: &Survey,
    volume: &Volume,
    (line, more): (&str, Vec<String>),
    stem: &str,
    folds: bool,
) -> String {
    let mut parts: Vec<String> = volume.uuid.iter().cloned().collect();
    for (is_so, word) in [
        (
            volume.aside.is_some_and(|aside| !line.contains(aside.word())),
            volume.aside.map_or("", Aside::word),
        ),
        (volume.is_encrypted, "encrypted: needs its key to be read"),
        (volume.is_hibernated, "a system sleeps here"),
    ] {
        parts.extend(is_so.then(|| word.to_string()));
    }
    parts.extend(more);
    let count = parts.len();
    parts.extend(device(volume));
    let mut text = String::new();
    let (mut under_way, mut columns) = (line.to_string(), line.width());
    for (index, part) in parts.into_iter().enumerate() {
        let shown = if index < count { part.clone() } else { style::faint(&part) };
        if columns + 2 + part.width() <= width() {
            under_way.push_str(&format!("  {shown}"));
            columns += 2 + part.width();
        } else {
            text.push_str(&format!("{}\n", under_way.trim_end()));
            under_way = format!("{stem}{shown}");
            columns = stem.width() + part.width();
        }
    }
    text.push_str(&format!("{}\n", under_way.trim_end()));
    text + &below(survey, volume, stem, folds)
}

/// A volume's device in the running system, and where it is mounted there.
pub fn device(volume: &Volume) -> Option<String> {
    let device = volume.device.as_ref()?;
    Some(match volume.mounted.as_slice() {
        [] => match &volume.kernel_use {
            Some(KernelUse::Swap) => format!("{device}, swapped to"),
            Some(KernelUse::PartOf(name)) => format!("{device}, part of {name}"),
            None => device.clone(),
        },
        points => format!("{device} at {}", points.join(" and ")),
    })
}

/// The lines below a volume's own: what is wrong with it, what stands on it.
fn below(survey: &Survey, volume: &Volume, stem: &str, folds: bool) -> String {
    let mut text = String::new();
    if let Some(fault) = &volume.fault {
        for line in wrapped(fault, stem.width()) {
            text.push_str(&format!("{stem}{}\n", style::bad(&line)));
        }
    }
    if !volume.inside.is_empty() {
        text.push_str(&format!("{stem}{}\n", style::faint(&format!("holds {}", volume.inside.join(", ")))));
    }
    let contents = contents(survey, volume);
    let most = if folds { MAX_FILES } else { usize::MAX };
    let widest = contents.iter().take(most).map(|(path, _)| path.width()).max().unwrap_or(0);
    for (path, what) in contents.iter().take(most) {
        let start = format!("{stem}{path}{}  ", " ".repeat(widest - path.width()));
        let indent = " ".repeat(start.width());
        for (index, line) in wrapped(what, start.width()).into_iter().enumerate() {
            let before = if index == 0 { &start } else { &indent };
            text.push_str(&format!("{before}{}\n", style::faint(&line)));
        }
    }
    if contents.len() > most {
        let more = format!("and {} more; --all shows them", contents.len() - most);
        text.push_str(&format!("{stem}{}\n", style::faint(&more)));
    }
    text
}

/// What stands on a volume that matters for starting: systems, kernels, image files, boot files and entry files.
pub fn contents(survey: &Survey, volume: &Volume) -> Vec<(String, String)> {
    let mut found = Vec::new();
    let roots = survey.systems.iter().filter(|system| system.root == Some(volume.number));
    for system in roots.filter(|system| system.snapshot.is_none()) {
        let running = if system.is_running { ", running" } else { "" };
        found.push((system.root_path.clone(), format!("{}{running}", system.title)));
    }
    for system in &survey.systems {
        for image in system.image.iter().filter(|image| image.volume == volume.number) {
            found.push((
                image.path.clone(),
                format!("{}, {} in an image, {}", system.title, image.holds, human(image.size)),
            ));
        }
    }
    let owned = survey.systems.iter().flat_map(|system| &system.kernels).map(|kernel| (kernel, ""));
    let stray = survey.stray_kernels.iter().map(|kernel| (kernel, ", of no known system"));
    for (kernel, whose) in owned.chain(stray).filter(|(kernel, _)| kernel.volume == volume.number) {
        // A snapshot may have its origin's kernels.
        if found.iter().any(|(path, _)| *path == kernel.path) {
            continue;
        }
        let stub =
            kernel.efi_stub.as_ref().map(|version| format!(", EFI stub {version}")).unwrap_or_default();
        let spare = if kernel.is_rescue { ", for rescue" } else { "" };
        let initrds = match kernel.initrds.len() {
            0 => ", no initrd".to_string(),
            1 => ", with its initrd".to_string(),
            count => format!(", with {count} initrds"),
        };
        found.push((kernel.path.clone(), format!("kernel {}{stub}{initrds}{spare}{whose}", kernel.version)));
    }
    let is_shown = |file: &&BootFile| found.iter().all(|(path, _)| *path != file.path);
    let files = survey.boot_files.iter().filter(|file| file.volume == volume.number);
    let files: Vec<_> =
        files.filter(is_shown).map(|file| (file.path.clone(), boot_file(survey, file))).collect();
    found.extend(files);
    for entry in survey.entry_files.iter().filter(|entry| entry.volume == volume.number) {
        let title = entry.title.as_deref().unwrap_or("without a title");
        let missing = if entry.missing.is_empty() { "" } else { ", names files that are gone" };
        found.push((entry.path.clone(), format!("entry file, {title}{missing}")));
    }
    found
}

fn boot_file(survey: &Survey, file: &BootFile) -> String {
    let foreign = file.architecture.as_ref().filter(|name| **name != survey.machine.architecture);
    let architecture = foreign.map(|name| format!(", for {name}")).unwrap_or_default();
    let signed = if file.is_signed { ", signed" } else { "" };
    format!("{}{architecture}{signed}, {}", file.description, human(file.size))
}
