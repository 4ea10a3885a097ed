//! The survey: what changed, systems, how the machine starts, disks, firmware entries, what is odd.

use std::collections::BTreeSet;

use serde::Serialize;
use signpost_facts::way::Through;
use signpost_facts::{Finding, FirmwareEntry, FirmwareKind, OptionNumber, Survey, System};
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

fn machine(survey: &Survey) -> String {
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
    let is_uefi = survey.machine.firmware == FirmwareKind::Uefi;
    let ways = if is_uefi { "reached by" } else { "" };
    let mut table = Table::new(&["title", "", "id", "where", "starts by", ways]);
    let (snapshots, systems): (Vec<&System>, Vec<&System>) =
        survey.systems.iter().partition(|system| system.snapshot.is_some() && !system.is_running);
    for system in systems {
        let running = if system.is_running { "running" } else { "" };
        table.row([
            system.title.clone(),
            running.into(),
            system.id.clone(),
            whereabouts(survey, system),
            starts_by(survey, system),
            if is_uefi { reached_by(system) } else { String::new() },
        ]);
    }
    text.push_str(&table.text());
    for volume in snapshots.iter().filter_map(|system| system.root).collect::<BTreeSet<_>>() {
        let count = snapshots.iter().filter(|system| system.root == Some(volume)).count();
        let snapshots = if count == 1 { "a snapshot".to_string() } else { format!("{count} snapshots") };
        text.push_str(&format!("  and {snapshots} on v{volume}; `survey v{volume}` lists them\n"));
    }
    text + "\n"
}

fn whereabouts(survey: &Survey, system: &System) -> String {
    if let Some(image) = &system.image {
        return format!("v{}:{}, {}", image.volume, image.path, image.holds);
    }
    let loader = || system.loaders.first().map(|index| survey.startup_files[*index].volume);
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
        return "`entry add image`".into();
    }
    let root = system.root.and_then(|root| survey.volumes.get(root.index()));
    match system.kernels.first() {
        None if root.is_some_and(|root| {
            survey.machine.firmware == FirmwareKind::Bios && root.partition.is_some()
        }) =>
        {
            "its boot sector".into()
        }
        Some(kernel) => format!("v{}:{}", kernel.volume, kernel.path),
        None => "nothing that was found".into(),
    }
}

/// The ways that are open today: firmware entries by their numbers, then our menu.
fn reached_by(system: &System) -> String {
    let number = |through: &Through| match through {
        Through::FirmwareEntry(number) => Some(number.to_string()),
        Through::FallbackPath(disk) => Some(format!("spare path of disk {disk}")),
        Through::Menu(_) => None,
    };
    let mut ways: Vec<String> = system.ways.iter().filter_map(number).collect();
    if ways.len() < system.ways.len() {
        ways.push("our menu".into());
    }
    if ways.is_empty() { "no way yet".into() } else { ways.join(", ") }
}

fn start(survey: &Survey) -> String {
    if survey.machine.firmware != FirmwareKind::Uefi {
        return format!("{}   {}\n\n", style::heading("Starts next"), survey.firmware.starts_next);
    }
    let firmware = &survey.firmware;
    let entry = |number: &Option<OptionNumber>| {
        let number = number.as_ref()?;
        let label =
            firmware.entries.iter().find(|entry| entry.number == *number).map(|entry| entry.label.as_str());
        Some(label.map_or_else(|| format!("entry {number}"), |label| format!("entry {number} \"{label}\"")))
    };
    let from = entry(&firmware.current).unwrap_or_else(|| "unknown: nothing says it".into());
    let mut text = format!("{}  {from}\n", style::heading("Started from"));
    if let Some(next) = entry(&firmware.next) {
        text.push_str(&format!("{}   {next}, once\n", style::heading("Next boot set")));
    }
    if let Some(once) = &firmware.once {
        text.push_str(&format!(
            "{}    {once}, in our menu, the next time alone\n",
            style::heading("Once goes to")
        ));
    }
    if let Some(last) = &firmware.last_start {
        text.push_str(&format!("{}    {last}\n", style::heading("Last start")));
    }
    if let Some(line) = survey.machine.command_line.as_ref().filter(|_| !survey.machine.is_rescue) {
        text.push_str(&format!("{}  {line}\n", style::heading("Kernel with")));
    }
    text + &format!("{}   {}\n\n", style::heading("Starts next"), firmware.starts_next)
}

fn entries(survey: &Survey) -> String {
    let firmware = &survey.firmware;
    let timeout = match firmware.timeout {
        None => String::new(),
        Some(u16::MAX) => ", waits for a key".into(),
        Some(seconds) => format!(", waits {seconds} s"),
    };
    let mut text = format!("{}{timeout}\n", style::heading("Firmware entries"));
    if firmware.entries.is_empty() {
        return text + "  none\n\n";
    }
    let mut table = Table::new(&["number", "use", "label", "leads to"]);
    for entry in &firmware.entries {
        let place = entry.place.map_or_else(|| "no order".into(), |place| place.to_string());
        let mut used = if entry.is_active { place } else { format!("{place}, unused") };
        if firmware.current.as_ref() == Some(&entry.number) {
            used.push_str(", current");
        }
        table.row([entry.number.to_string(), used, entry.label.clone(), leads_to(entry)]);
    }
    text.push_str(&table.text());
    text + "\n"
}

/// Where an entry leads; one that leads to no file shows its device path.
fn leads_to(entry: &FirmwareEntry) -> String {
    if entry.target.is_some() || entry.path.is_empty() {
        return entry.finding.clone();
    }
    // The identity of a partition that is gone stands in the finding already.
    match entry.path.split_once("), ") {
        Some((partition, file)) if partition.starts_with("partition ") => {
            format!("{}; {file}", entry.finding)
        }
        _ => format!("{}; {}", entry.path, entry.finding),
    }
}

fn findings(findings: &[Finding]) -> String {
    if findings.is_empty() {
        return style::good("Nothing is odd.") + "\n";
    }
    let mut text = style::heading("Odd") + "\n";
    let mut table = Table::new(&["", ""]);
    for finding in findings {
        table.row([finding.code.to_string(), format!("{}; {}", finding.message, finding.help)]);
    }
    text.push_str(&table.text());
    text + &style::faint("`signpost check` names the causes, and what cures them") + "\n"
}
