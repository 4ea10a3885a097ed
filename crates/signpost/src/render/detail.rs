//! One disk or one volume, with all that is known of it.

use signpost_facts::number::joined;
use signpost_facts::{Disk, FirmwareEntry, Survey, System, Volume};
use signpost_place::Look;

use super::size::human;
use super::survey::started_by;
use super::table::Table;
use super::{disks, style};

/// Names of a volume's top folder that are shown.
const MAX_NAMES: usize = 40;

fn size(bytes: u64) -> String {
    format!("{} ({bytes} bytes)", human(bytes))
}

/// Lines of a name and a value; those without a value are left out.
fn facts<const N: usize>(facts: [(&str, Option<String>); N]) -> String {
    let mut table = Table::new(&["", ""]);
    for (name, value) in facts {
        if let Some(value) = value.filter(|value| !value.is_empty()) {
            table.row([name.to_string(), value]);
        }
    }
    table.text()
}

pub fn disk(survey: &Survey, disk: &Disk) -> String {
    let mut text = format!("{}\n", style::heading(&format!("d{}  {}", disk.number, disk.name)));
    text.push_str(&facts([
        ("size", Some(size(disk.size))),
        ("sectors", Some(format!("of {} bytes", disk.sector_size))),
        ("bus", disk.bus.clone()),
        ("model", disk.model.clone()),
        ("serial", disk.serial.clone()),
        ("array", disk.array.as_ref().map(disks::array)),
        ("table", disk.table.kind.map(|kind| kind.word().to_uppercase())),
        ("disk GUID", disk.table.guid.clone()),
        ("disk signature", disk.table.signature.map(|signature| signature.to_string())),
        ("wrong", disk.table.fault.clone()),
    ]));
    if !disk.partitions.is_empty() {
        text.push_str(&format!("\n{}\n", style::heading("Partitions")));
        let mut table = Table::new(&["number", "first sector", "sectors", "purpose", "identity", "CHS"]);
        for partition in &disk.partitions {
            let sector = u64::from(disk.sector_size.max(1));
            let slice = partition.slice.as_ref().map(|slice| format!(" ({slice})")).unwrap_or_default();
            let active = if partition.is_active { ", active" } else { "" };
            table.row([
                format!("{}{slice}", partition.number),
                (partition.start / sector).to_string(),
                (partition.size / sector).to_string(),
                format!("{}{active}", partition.purpose.name()),
                partition.uuid.clone().unwrap_or_default(),
                partition.chs.clone().unwrap_or_default(),
            ]);
        }
        text.push_str(&table.text());
    }
    text.push_str(&format!("\n{}\n", style::heading("What is on it")));
    text + &disks::disk_text(survey, disk, false)
}

pub fn system(survey: &Survey, system: &System) -> String {
    let arguments = system.arguments.as_ref();
    let kernel = system.kernels.first();
    let initrds = kernel.map(|kernel| kernel.initrds.join(", ")).unwrap_or_default();
    let root = system.root.map(|root| survey.at(root, &system.root_path));
    let image = system.image.as_ref().map(|image| survey.at(image.volume, &image.path));
    let running = if system.is_running { "  running" } else { "" };
    format!("{}{running}\n", style::heading(&system.title))
        + &facts([
            ("id", Some(system.id.clone())),
            ("title from", Some(system.title_from.clone())),
            ("root", root.or(image)),
            ("/boot", system.boot.map(|boot| survey.name(boot).to_string())),
            ("can be started by", Some(started_by(survey, system))),
            ("loaders", Some(system.loader_places.join(", "))),
            ("firmware entries", Some(joined(&system.entries, ", "))),
            ("kernel", kernel.map(|kernel| survey.at(kernel.volume, &kernel.path))),
            ("initrds", Some(initrds)),
            ("arguments", arguments.map(|arguments| arguments.text.clone())),
            ("arguments from", arguments.map(|arguments| arguments.source.clone())),
        ])
}

/// One of the firmware's entries.
pub fn entry(survey: &Survey, entry: &FirmwareEntry) -> String {
    let order = entry.place.map_or_else(|| "not in the order".into(), |place| place.to_string());
    let state = [
        (!entry.is_active, "disabled"),
        (survey.firmware.current == Some(entry.number), "current: the machine was started from it"),
        (survey.firmware.next == Some(entry.number), "next boot"),
        (entry.is_made_by_firmware, "made by the firmware"),
    ];
    let state: Vec<&str> = state.into_iter().filter(|(is_so, _)| *is_so).map(|(_, words)| words).collect();
    let data = (entry.data_length > 0).then(|| format!("{} bytes", entry.data_length));
    format!("{}\n", style::heading(&format!("{}  {}", entry.number, entry.label)))
        + &facts([
            ("boot order", Some(order)),
            ("state", Some(state.join("; "))),
            ("leads to", Some(entry.finding.clone())),
            ("device path", Some(entry.path.clone())),
            ("data", data),
        ])
}

pub fn volume(look: &Look, volume: &Volume) -> String {
    let survey = &look.survey;
    let mut text = format!("{}\n", style::heading(&volume.name));
    let stable = look.stable_name(volume.number.index()).ok().map(|name| name.to_string());
    let members: Vec<String> = volume.members.iter().map(|member| survey.name(*member).to_string()).collect();
    let state = [
        (volume.is_unclean, "in use when the machine went down"),
        (volume.is_hibernated, "a system sleeps here"),
        (volume.is_encrypted, "encrypted: needs its key to be read"),
    ];
    let state: Vec<&str> = state.into_iter().filter(|(is_so, _)| *is_so).map(|(_, words)| words).collect();
    text.push_str(&facts([
        ("stable name", stable),
        ("device", disks::device(volume)),
        ("kind", Some(volume.kind.to_string())),
        ("size", Some(size(volume.size))),
        ("label", volume.label.clone()),
        ("UUID", volume.uuid.clone()),
        ("partition identity", volume.part_uuid.clone()),
        ("partition name", volume.part_label.clone()),
        ("made of", Some(members.join(", "))),
        ("holds", Some(volume.inside.join(", "))),
        ("state", Some(state.join("; "))),
        ("only confuses", volume.aside.map(|aside| aside.word().to_string())),
        ("wrong", volume.fault.clone()),
    ]));
    let contents = disks::contents(survey, volume);
    if !contents.is_empty() {
        text.push_str(&format!("\n{}\n", style::heading("For starting")));
        let mut table = Table::new(&["", ""]);
        for (path, what) in contents {
            table.row([path, what]);
        }
        text.push_str(&table.text());
    }
    let (snapshots, systems): (Vec<&System>, Vec<&System>) = survey
        .systems
        .iter()
        .filter(|system| system.root == Some(volume.number))
        .partition(|system| system.snapshot.is_some());
    for system in systems {
        text.push_str(&format!("\n{}", self::system(survey, system)));
    }
    if !snapshots.is_empty() {
        text.push_str(&format!("\n{}\n", style::heading("Snapshots")));
        let mut table = Table::new(&["", ""]);
        for snapshot in snapshots {
            table.row([snapshot.root_path.clone(), snapshot.title.clone()]);
        }
        text.push_str(&table.text());
    }
    if let Some(items) = look.reader(volume.number.index()).and_then(|reader| reader.list("/").ok()) {
        text.push_str(&format!("\n{}\n", style::heading("Top folder")));
        let named = |item: &signpost_disk::file_system::Item| {
            if item.is_folder { format!("{}/", item.name) } else { item.name.clone() }
        };
        let names: Vec<String> = items.iter().take(MAX_NAMES).map(named).collect();
        let more = items.len().saturating_sub(MAX_NAMES);
        let more = if more > 0 { format!("  and {more} more") } else { String::new() };
        let mut table = Table::new(&[""]);
        table.row([names.join("  ") + &more]);
        text.push_str(&table.text());
    }
    text
}
