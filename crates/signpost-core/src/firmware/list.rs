//! The list: what each entry is, who made it, and problems with it.

use serde::Serialize;
use signpost_facts::secure_boot::Verdict;
use signpost_facts::{BootFile, FirmwareEntry, OptionNumber};
use signpost_firmware::device_path::{HardDrive, View};
use signpost_firmware::load_option::LoadOption;
use signpost_firmware::start;
use signpost_firmware::start::Kind;
use signpost_place::Look;

use crate::history::History;

/// The firmware's entries.
#[derive(Clone, Debug, Serialize)]
pub struct FirmwareList {
    /// Those in the order first.
    pub entries: Vec<ListedEntry>,
    /// Problems with the order itself.
    pub order: Vec<String>,
}

/// One of them.
#[derive(Clone, Debug, Serialize)]
pub struct ListedEntry {
    /// Its number, four hexadecimal digits.
    pub number: OptionNumber,
    /// Whether it is in use.
    pub is_active: bool,
    /// Its place in the order, from 1.
    pub place: Option<usize>,
    /// Whether the machine was started from it.
    pub is_current: bool,
    /// Whether the next start goes to it.
    pub is_next: bool,
    /// Its label.
    pub label: String,
    /// Who made it: `us`, `a system`, `the firmware`, `the network`.
    pub made_by: &'static str,
    /// What it leads to, in words.
    pub leads_to: String,
    /// The same in one word.
    pub verdict: Kind,
    /// The id of the system that it starts.
    pub system: Option<String>,
    /// Problems with it, a line each.
    pub findings: Vec<String>,
    /// What Secure Boot says of its file, where it is on.
    pub secure_boot: Option<Verdict>,
    /// Its device path, in the specification's text form.
    pub path: String,
    /// Bytes handed to what it starts.
    pub data_length: usize,
}

/// Lists them.
pub fn list(look: &Look, history: &History) -> FirmwareList {
    let entries = &look.survey.firmware.entries;
    let listed = entries.iter().enumerate().map(|(index, entry)| {
        let option = look.boot.options.get(&entry.number());
        let decoded = option.and_then(|option| option.decoded.as_ref().ok());
        let is_ours = option.is_some_and(|option| history.has_made(entry.number(), &option.raw));
        let target = entry.target.as_ref();
        ListedEntry {
            number: entry.number,
            is_active: entry.is_active,
            place: entry.place,
            is_current: look.boot.current == Some(entry.number()),
            is_next: look.boot.next == Some(entry.number()),
            label: entry.label.clone(),
            made_by: made_by(entry, decoded, is_ours),
            leads_to: entry.finding.clone(),
            verdict: entry.verdict,
            system: entry.system.clone(),
            findings: findings(look, &entries[..index], entry, decoded),
            secure_boot: target
                .and_then(|target| look.secure_boot_verdict(target.volume.index(), &target.file)?.ok()),
            path: decoded.map(|option| option.path.to_text()).unwrap_or_default(),
            data_length: entry.data_length,
        }
    });
    FirmwareList { entries: listed.collect(), order: order_findings(look) }
}

fn made_by(entry: &FirmwareEntry, option: Option<&LoadOption>, is_ours: bool) -> &'static str {
    let is_network =
        option.is_some_and(|option| option.path.views().any(|view| matches!(view, View::Mac(_))));
    let is_built_in =
        option.is_some_and(|option| option.path.views().any(|view| matches!(view, View::FirmwareFile(_))));
    let is_legacy =
        option.is_some_and(|option| option.path.views().any(|view| matches!(view, View::Bbs { .. })));
    match () {
        () if is_ours => "us",
        () if is_network => "the network",
        () if entry.is_made_by_firmware || is_built_in || is_legacy => "the firmware",
        () if entry.target.is_none() && option.is_some_and(|option| option.path.file().is_none()) => {
            "the firmware"
        }
        () => "a system",
    }
}

/// Problems with an entry; `before` are those that come first.
fn findings(
    look: &Look,
    before: &[FirmwareEntry],
    entry: &FirmwareEntry,
    option: Option<&LoadOption>,
) -> Vec<String> {
    let mut found = Vec::new();
    if let Some(first) = before.iter().find(|other| is_same_target(other, entry)) {
        found.push(format!("same target as {}", first.number));
    } else if let Some(first) = before.iter().find(|other| is_same_content(look, other, entry)) {
        found.push(format!("same file content as {}: two names of one loader", first.number));
    }
    // Of a partition that is there, the identity is the right one, whatever became of the file.
    let no_partition = matches!(entry.judged, Some(start::Verdict::NoPartition { .. }));
    if let Some(drive) = option.and_then(|option| option.path.hard_drive()).filter(|_| no_partition) {
        found.extend(other_identity(look, &drive));
    }
    match look.boot.order.iter().filter(|number| **number == entry.number()).count() {
        0 => found.push("not in the order: the firmware may take its number for another".into()),
        1 => {}
        _ => found.push("twice in the order: only its first place counts".into()),
    }
    found
}

/// Whether two entries start the same file.
pub(super) fn is_same_target(one: &FirmwareEntry, other: &FirmwareEntry) -> bool {
    one.target
        .as_ref()
        .zip(other.target.as_ref())
        .is_some_and(|(one, other)| one.volume == other.volume && one.file.eq_ignore_ascii_case(&other.file))
}

fn file_of<'l>(look: &'l Look, entry: &FirmwareEntry) -> Option<&'l BootFile> {
    let target = entry.target.as_ref()?;
    let index = look.survey.boot_file(target.volume.index(), &target.file)?;
    look.survey.boot_files.get(index)
}

fn is_same_content(look: &Look, one: &FirmwareEntry, other: &FirmwareEntry) -> bool {
    let files = file_of(look, one).zip(file_of(look, other));
    files.is_some_and(|(one, other)| {
        one.volume == other.volume && one.sha256.is_some() && one.sha256 == other.sha256
    })
}

/// A partition at the very place that an entry names, with another identity: its disk was made again, or cloned.
fn other_identity(look: &Look, drive: &HardDrive) -> Option<String> {
    look.survey.disks.iter().find_map(|disk| {
        let start = drive.start.checked_mul(u64::from(disk.sector_size))?;
        let at_place = disk.partitions.iter().find(|partition| {
            partition.firmware_number == drive.number
                && partition.start == start
                && partition.is_esp
                && start != 0
                && disk.path_signature(partition) != Some(drive.signature)
        })?;
        let identity = at_place.uuid.clone().unwrap_or_else(|| "none".into());
        Some(format!(
            "d{}p{} is there, with another identity, {identity}: formatted again, or a clone",
            disk.number, at_place.number
        ))
    })
}

fn order_findings(look: &Look) -> Vec<String> {
    let order = &look.boot.order;
    let dangling = order.iter().filter(|number| !look.boot.options.contains_key(number));
    let mut numbers: Vec<u16> = dangling.copied().collect();
    numbers.dedup();
    numbers
        .into_iter()
        .map(|number| format!("the order names {}, and there is no such entry", OptionNumber(number)))
        .collect()
}
