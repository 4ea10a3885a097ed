//! The survey: systems first, then how the machine starts, disks, firmware entries, what is odd.

use signpost_core::survey::{Disk, Finding, FirmwareEntry, Partition, StartupFile, Survey, System, Volume};
use unicode_width::UnicodeWidthStr;

use super::size::human;
use super::style;
use super::table::{Table, WIDTH};

pub fn text(survey: &Survey) -> String {
    let mut text = machine(survey);
    text.push_str(&systems(survey));
    text.push_str(&start(survey));
    text.push_str(&disks(survey));
    text.push_str(&entries(survey));
    text.push_str(&findings(&survey.findings));
    text
}

fn machine(survey: &Survey) -> String {
    let facts = &survey.machine;
    let secure_boot = match facts.secure_boot {
        Some(true) => "Secure Boot on",
        Some(false) => "Secure Boot off",
        None => "Secure Boot unknown",
    };
    format!("{}  UEFI, {}, {secure_boot}\n\n", style::heading(&facts.name), facts.architecture)
}

fn systems(survey: &Survey) -> String {
    let mut text = style::heading("Systems") + "\n";
    if survey.systems.is_empty() {
        return text + "  none was found\n\n";
    }
    let mut table = Table::new(&["title", "", "id", "where", "starts by"]);
    for system in &survey.systems {
        let running = if system.is_running { "running" } else { "" };
        table.row([
            system.title.clone(),
            running.into(),
            system.id.clone(),
            whereabouts(survey, system),
            starts_by(system),
        ]);
    }
    text.push_str(&table.text());
    text + "\n"
}

fn whereabouts(survey: &Survey, system: &System) -> String {
    let loader = || system.loaders.first().map(|index| survey.startup_files[*index].volume);
    let volume = system.root.or_else(loader).and_then(|number| survey.volumes.get(number - 1));
    volume.map_or_else(|| "unknown".into(), |volume| format!("{}, {}", volume.where_it_is(), volume.kind))
}

fn starts_by(system: &System) -> String {
    if let Some(place) = system.loader_places.first() {
        return place.clone();
    }
    match system.kernels.first() {
        Some(kernel) => format!("v{}:{}", kernel.volume, kernel.path),
        None => "nothing that was found".into(),
    }
}

fn start(survey: &Survey) -> String {
    let firmware = &survey.firmware;
    let entry = |number: &Option<String>| {
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
    if let Some(last) = &firmware.last_start {
        text.push_str(&format!("{}    {last}\n", style::heading("Last start")));
    }
    text + &format!("{}   {}\n\n", style::heading("Starts next"), firmware.starts_next)
}

fn disks(survey: &Survey) -> String {
    let mut text = style::heading("Disks") + "\n";
    for disk in &survey.disks {
        text.push_str(&disk_line(disk));
        for (index, partition) in disk.partitions.iter().enumerate() {
            let is_last = index + 1 == disk.partitions.len();
            text.push_str(&partition_lines(survey, partition, is_last));
        }
    }
    text + "\n"
}

fn disk_line(disk: &Disk) -> String {
    let mut facts: Vec<String> =
        [&disk.bus, &disk.model, &disk.serial].into_iter().flatten().cloned().collect();
    facts.push(human(disk.size));
    match (&disk.table.kind, &disk.table.fault) {
        (Some(kind), _) => facts.push(kind.to_uppercase()),
        (None, Some(fault)) => facts.push(fault.clone()),
        (None, None) => {}
    }
    format!("  disk {}  {}  {}\n", disk.number, disk.name, style::faint(&facts.join(", ")))
}

fn partition_lines(survey: &Survey, partition: &Partition, is_last: bool) -> String {
    let (branch, stem) = if is_last { ("└─", "  ") } else { ("├─", "│ ") };
    let volume = partition.volume.and_then(|number| survey.volumes.get(number - 1));
    let mut text = format!("  {branch} {:>2}  {}\n", partition.number, partition_facts(partition, volume));
    let Some(volume) = volume else { return text };
    if let Some(fault) = &volume.fault {
        text.push_str(&format!("  {stem}       {}\n", style::bad(fault)));
    }
    let contents = contents(survey, volume);
    let width = contents.iter().map(|(path, _)| path.width()).max().unwrap_or(0);
    for (path, what) in contents {
        let padding = " ".repeat(width - path.width());
        let line = format!("  {stem}       {path}{padding}  ");
        let room = WIDTH.saturating_sub(line.width());
        text.push_str(&format!("{line}{}\n", style::faint(&fit(&what, room))));
    }
    text
}

fn partition_facts(partition: &Partition, volume: Option<&Volume>) -> String {
    let number = volume.map_or_else(String::new, |volume| format!("v{}", volume.number));
    let kind = volume.map_or("unknown", |volume| volume.kind.as_str());
    let label = volume.and_then(|volume| volume.label.as_deref()).unwrap_or(&partition.name);
    let uuid = volume.and_then(|volume| volume.uuid.as_deref()).unwrap_or_default();
    let line = format!(
        "{number:<3} {:<16} {:>8}  {kind:<8}  {label:<11}  {uuid}",
        partition.purpose,
        human(partition.size)
    );
    line.trim_end().to_string()
}

/// What stands on a volume that matters for starting: start-up files, kernels, a system's root.
fn contents(survey: &Survey, volume: &Volume) -> Vec<(String, String)> {
    let mut found = Vec::new();
    for system in survey.systems.iter().filter(|system| system.root == Some(volume.number)) {
        let running = if system.is_running { ", running" } else { "" };
        found.push(("/".to_string(), format!("{}{running}", system.title)));
    }
    let kernels = survey.systems.iter().flat_map(|system| &system.kernels);
    for kernel in kernels.filter(|kernel| kernel.volume == volume.number) {
        let stub =
            kernel.efi_stub.as_ref().map(|version| format!(", EFI stub {version}")).unwrap_or_default();
        let initrds = match kernel.initrds.len() {
            0 => ", no initrd".to_string(),
            1 => ", with its initrd".to_string(),
            count => format!(", with {count} initrds"),
        };
        found.push((kernel.path.clone(), format!("kernel {}{stub}{initrds}", kernel.version)));
    }
    let is_shown = |file: &&StartupFile| found.iter().all(|(path, _)| *path != file.path);
    let files = survey.startup_files.iter().filter(|file| file.volume == volume.number);
    let files: Vec<_> =
        files.filter(is_shown).map(|file| (file.path.clone(), startup(survey, file))).collect();
    found.extend(files);
    found
}

fn startup(survey: &Survey, file: &StartupFile) -> String {
    let foreign = file.architecture.as_ref().filter(|name| **name != survey.machine.architecture);
    let architecture = foreign.map(|name| format!(", for {name}")).unwrap_or_default();
    let signed = if file.is_signed { ", signed" } else { "" };
    format!("{}{architecture}{signed}, {}", file.description, human(file.size))
}

/// A text cut to fit, with a mark where it was cut.
fn fit(text: &str, room: usize) -> String {
    if text.width() <= room {
        return text.to_string();
    }
    let mut out = String::new();
    for c in text.chars() {
        if out.width() + 2 > room {
            break;
        }
        out.push(c);
    }
    out + "…"
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
        table.row([entry.number.clone(), used, entry.label.clone(), leads_to(entry)]);
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
    text
}
