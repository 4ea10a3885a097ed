//! The survey: what changed, systems, how the machine starts, disks, firmware entries, problems.

use std::collections::BTreeSet;

use serde::Serialize;
use signpost_facts::number::joined;
use signpost_facts::way::Through;
use signpost_facts::{Finding, FirmwareEntry, FirmwareKind, OptionNumber, Survey, System, UnconfirmedStarts};
use signpost_firmware::bios::code::SectorCode;
use signpost_firmware::start::Kind;
use signpost_survey::Changes;

use super::table::Table;
use super::{disks, style};

/// A survey and what has changed in it: one JSON document.
#[derive(Serialize)]
pub struct Shown<'a> {
    #[serde(flatten)]
    pub survey: &'a Survey,
    /// None where there was no survey before.
    pub changes: Option<&'a Changes>,
}

/// Columns of a name before what it says.
const NAME: usize = 14;
/// Lines of changes that are shown.
const MAX_CHANGES: usize = 12;

pub fn text(survey: &Survey, changes: Option<&Changes>, all: bool) -> String {
    let mut text = machine(survey);
    text.push_str(&changes.map(since_last).unwrap_or_default());
    text.push_str(&systems(survey));
    text.push_str(&start(survey));
    text.push_str(&disks::text(survey, all));
    if survey.machine.firmware == FirmwareKind::Uefi {
        text.push_str(&entries(survey));
    }
    text.push_str(&findings(&survey.findings));
    text
}

pub fn machine(survey: &Survey) -> String {
    let facts = &survey.machine;
    let firmware = match facts.firmware {
        FirmwareKind::Uefi => match facts.secure_boot {
            Some(true) => "UEFI, x86_64, Secure Boot on",
            Some(false) => "UEFI, x86_64, Secure Boot off",
            None => "UEFI, x86_64, Secure Boot unknown",
        }
        .replace("x86_64", &facts.architecture),
        FirmwareKind::Bios => format!("BIOS, {}", facts.architecture),
        _ => "disk images, without firmware".to_string(),
    };
    let mut text = format!("{}  {firmware}\n", style::heading(&facts.name));
    let mut table = Table::new(&[""]);
    for note in &facts.notes {
        table.row([note.clone()]);
    }
    text.push_str(&table.text());
    text + "\n"
}

fn since_last(changes: &Changes) -> String {
    if changes.is_empty() {
        return style::faint("Nothing has changed since the last survey.") + "\n\n";
    }
    let mut text = style::heading("Changed since the last survey") + "\n";
    let kinds = [("new", &changes.new), ("changed", &changes.changed), ("gone", &changes.gone)];
    let lines: Vec<(&str, &String)> =
        kinds.into_iter().flat_map(|(word, lines)| lines.iter().map(move |line| (word, line))).collect();
    let mut table = Table::new(&["", ""]);
    for (word, line) in lines.iter().take(MAX_CHANGES) {
        table.row([(*word).to_string(), (*line).clone()]);
    }
    text.push_str(&table.text());
    if lines.len() > MAX_CHANGES {
        text.push_str(&format!("  and {} more; --json lists all\n", lines.len() - MAX_CHANGES));
    }
    text + "\n"
}

fn systems(survey: &Survey) -> String {
    let mut text = style::heading("Systems") + "\n";
    if survey.systems.is_empty() {
        return text + "  none was found\n\n";
    }
    let mut table = Table::new(&["system", "id", "where", "can be started by", ""]);
    let (snapshots, systems): (Vec<&System>, Vec<&System>) =
        survey.systems.iter().partition(|system| system.snapshot.is_some() && !system.is_running);
    for system in systems {
        let running = if system.is_running { "running" } else { "" };
        table.row([
            system.title.clone(),
            system.id.clone(),
            whereabouts(survey, system),
            started_by(survey, system),
            running.into(),
        ]);
    }
    text.push_str(&table.text());
    for volume in snapshots.iter().filter_map(|system| system.root).collect::<BTreeSet<_>>() {
        let count = snapshots.iter().filter(|system| system.root == Some(volume)).count();
        let snapshots = if count == 1 { "a snapshot".to_string() } else { format!("{count} snapshots") };
        let name = survey.name(volume);
        text.push_str(&format!("  and {snapshots} on {name}; `signpost survey {name}` lists them\n"));
    }
    text + "\n"
}

fn whereabouts(survey: &Survey, system: &System) -> String {
    if let Some(image) = &system.image {
        return format!("{}, {}", survey.at(image.volume, &image.path), image.holds);
    }
    let loader = || system.loaders.first().map(|index| survey.boot_files[*index].volume);
    let kernel = || system.kernels.first().map(|kernel| kernel.volume);
    let volume =
        system.root.or_else(kernel).or_else(loader).and_then(|number| survey.volumes.get(number.index()));
    volume.map_or_else(|| "unknown".into(), |volume| format!("{}, {}", volume.where_it_is(), volume.kind))
}

fn starts_by(survey: &Survey, system: &System) -> String {
    if let Some(place) = system.loader_places.first() {
        return place.clone();
    }
    if system.image.is_some() {
        return "`signpost entry add image`".into();
    }
    let sector = system.root.and_then(|root| survey.boot_sector_of(root));
    match (sector.filter(|sector| sector.code == SectorCode::Starts), system.kernels.first()) {
        (Some(sector), _) => format!("the boot sector of {}", sector.name),
        (None, Some(kernel)) => survey.at(kernel.volume, &kernel.path),
        (None, None) => "nothing that was found".into(),
    }
}

/// What starts a system, as the machine's firmware has it.
pub fn started_by(survey: &Survey, system: &System) -> String {
    match survey.machine.firmware {
        FirmwareKind::Uefi => reached_by(system),
        FirmwareKind::Bios if system.ways.iter().any(|way| matches!(way, Through::Menu(_))) => {
            reached_by(system)
        }
        // What it would start by, once that is the active partition's.
        FirmwareKind::Bios | FirmwareKind::Unknown => starts_by(survey, system),
    }
}

/// The ways that are open today: firmware entries by their numbers, then our menu.
fn reached_by(system: &System) -> String {
    let numbers = system.ways.iter().filter_map(|way| match way {
        Through::FirmwareEntry(number) => Some(*number),
        _ => None,
    });
    let numbers: Vec<OptionNumber> = numbers.collect();
    let entry = if numbers.len() == 1 { "firmware entry" } else { "firmware entries" };
    let by_number = (!numbers.is_empty()).then(|| format!("{entry} {}", joined(&numbers, ", ")));
    let fallback = system.ways.iter().filter_map(|way| match way {
        Through::FallbackPath(disk) => Some(format!("the fallback path of d{disk}")),
        Through::ActivePartition(disk) => Some(format!("the active partition of d{disk}")),
        _ => None,
    });
    let mut ways: Vec<String> = by_number.into_iter().chain(fallback).collect();
    if system.ways.iter().any(|way| matches!(way, Through::Menu(_))) {
        ways.insert(0, "our menu".into());
    }
    if ways.is_empty() { "no way yet".into() } else { ways.join(", ") }
}

/// What the machine was started from, and what starts next.
pub fn start(survey: &Survey) -> String {
    let firmware = &survey.firmware;
    let mut lines: Vec<(&str, String)> = Vec::new();
    if survey.machine.firmware == FirmwareKind::Uefi {
        let entry = |number: OptionNumber| {
            let label = firmware.entries.iter().find(|entry| entry.number == number);
            label.map_or_else(
                || format!("entry {number}"),
                |entry| format!("entry {number} \"{}\"", entry.label),
            )
        };
        let from = firmware.current.map_or_else(|| "unknown: the firmware does not say".into(), entry);
        lines.push(("Started from", from));
        lines.extend(firmware.next.map(|next| ("Next boot", format!("{}, once", entry(next)))));
        let once = firmware.once.as_ref();
        lines.extend(once.map(|once| ("Once", format!("the next start of our menu goes to {once}"))));
        lines.extend(firmware.last_start.as_ref().map(|last| ("Last start", last.clone())));
        let line = survey.machine.command_line.as_ref().filter(|_| !survey.machine.is_rescue);
        lines.extend(line.map(|line| ("Arguments", line.clone())));
    }
    let unconfirmed = firmware.unconfirmed.iter().map(|UnconfirmedStarts { entry, starts }| {
        let times = if *starts == 1 { "once".to_string() } else { format!("{starts} times") };
        ("Unconfirmed", format!("{entry} was started {times}, and has not said that it came up"))
    });
    lines.extend(unconfirmed);
    lines.push(("Next start", firmware.starts_next.clone()));
    let named = |(name, text): &(&str, String)| {
        let lines = super::width::wrapped(text, NAME);
        let name = format!("{}{}", style::heading(name), " ".repeat(NAME.saturating_sub(name.len())));
        format!("{name}{}\n", lines.join(&format!("\n{}", " ".repeat(NAME))))
    };
    lines.iter().map(named).collect::<String>() + "\n"
}

fn entries(survey: &Survey) -> String {
    let firmware = &survey.firmware;
    let timeout = match firmware.timeout {
        None => String::new(),
        Some(u16::MAX) => ", no timeout".into(),
        Some(seconds) => format!(", timeout {seconds} s"),
    };
    let mut text = format!("{}{timeout}\n", style::heading("Firmware entries"));
    if firmware.entries.is_empty() {
        return text + "  none\n\n";
    }
    let mut table = Table::new(&["number", "use", "label", "leads to"]);
    for entry in &firmware.entries {
        let place = entry.place.map_or_else(|| "not in the order".into(), |place| place.to_string());
        let mut used = if entry.is_active { place } else { format!("{place}, disabled") };
        if firmware.current.as_ref() == Some(&entry.number) {
            used.push_str(", current");
        }
        table.row([entry.number.to_string(), used, entry.label.clone(), leads_to(entry)]);
    }
    text.push_str(&table.text());
    text + "\n"
}

/// Where an entry leads; one that leads to no file shows what its device path names.
fn leads_to(entry: &FirmwareEntry) -> String {
    match (entry.verdict, &entry.file) {
        _ if entry.target.is_some() || entry.path.is_empty() => entry.finding.clone(),
        (Kind::NoFile, _) => entry.finding.clone(),
        (Kind::NoPartition | Kind::Unreadable, Some(file)) => format!("{}; file {file}", entry.finding),
        _ => format!("{}; {}", entry.path, entry.finding),
    }
}

fn findings(findings: &[Finding]) -> String {
    if findings.is_empty() {
        return style::good("No problems.") + "\n";
    }
    let mut text = style::heading("Problems") + "\n";
    let mut table = Table::new(&["", ""]);
    for finding in findings {
        table.row([finding.code.to_string(), format!("{}; {}", finding.message, finding.help)]);
    }
    text.push_str(&table.text());
    text + &style::faint("`signpost check` names the causes and their cures") + "\n"
}
