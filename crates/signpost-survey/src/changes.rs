//! What has changed on a machine since it was surveyed last.

use std::collections::BTreeMap;
use std::path::Path;

use serde::{Deserialize, Serialize};
use signpost_facts::error::Result;
use signpost_facts::{Survey, TableKind, Volume, VolumeNumber};
use signpost_machine::kept;

const FORMAT: u32 = 2;

/// What a survey is compared by: a thing's name, and what is worth saying of it.
#[derive(Debug, Serialize, Deserialize)]
struct Record {
    format: u32,
    things: BTreeMap<String, String>,
}

/// The differences, each a line.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
pub struct Changes {
    /// What was not there before.
    pub new: Vec<String>,
    /// What is no longer there.
    pub gone: Vec<String>,
    /// What is there, and different.
    pub changed: Vec<String>,
}

impl Changes {
    /// The differences from the survey that is kept; `None` where none is kept, or it cannot be read.
    pub fn since(record: &Path, survey: &Survey) -> Option<Self> {
        let before: Record = kept::read(record).ok()??;
        (before.format == FORMAT).then(|| between(&before.things, &things(survey)))
    }

    /// Keeps a survey to compare the next one with; a file that says the same is left alone.
    ///
    /// # Errors
    /// Where the file cannot be written.
    pub fn keep(record: &Path, survey: &Survey) -> Result<()> {
        kept::write(record, &Record { format: FORMAT, things: things(survey) })
    }

    /// Whether nothing is different.
    pub fn is_empty(&self) -> bool {
        self.new.is_empty() && self.gone.is_empty() && self.changed.is_empty()
    }
}

fn between(before: &BTreeMap<String, String>, now: &BTreeMap<String, String>) -> Changes {
    let mut changes = Changes::default();
    let line =
        |name: &str, what: &str| if what.is_empty() { name.to_string() } else { format!("{name}: {what}") };
    for (name, what) in now {
        match before.get(name) {
            None => changes.new.push(line(name, what)),
            Some(then) if then != what => changes.changed.push(format!("{name}: {what}; it was {then}")),
            Some(_) => {}
        }
    }
    let gone = before.iter().filter(|(name, _)| !now.contains_key(*name));
    changes.gone = gone.map(|(name, what)| line(name, what)).collect();
    changes
}

/// The things of a survey, by names that do not hang on the order of disks.
fn things(survey: &Survey) -> BTreeMap<String, String> {
    let mut things = BTreeMap::new();
    let mut add = |name: String, what: String| {
        things.insert(name, what);
    };
    let on = |number: VolumeNumber| survey.volumes.get(number.index()).map_or_else(|| "?".into(), named);
    for disk in &survey.disks {
        let identity = disk.serial.as_ref().or(disk.table.guid.as_ref()).unwrap_or(&disk.name);
        add(
            format!("disk {identity}"),
            format!("{} bytes, {}", disk.size, disk.table.kind.map_or("no table", TableKind::word)),
        );
    }
    for volume in &survey.volumes {
        let label = volume.label.as_ref().map(|label| format!(", \"{label}\"")).unwrap_or_default();
        add(format!("volume {}", named(volume)), format!("{}{label}, {} bytes", volume.kind, volume.size));
    }
    for system in &survey.systems {
        let place = system.root.map(&on).or(system.image.as_ref().map(|image| image.path.clone()));
        add(format!("system {}", system.title), place.map(|place| format!("on {place}")).unwrap_or_default());
        for kernel in &system.kernels {
            let initrds = kernel.initrds.len();
            add(
                format!("kernel {} of {}", kernel.version, system.title),
                format!("{}, {initrds} initrd{}", kernel.path, if initrds == 1 { "" } else { "s" }),
            );
        }
    }
    for file in &survey.boot_files {
        let content = file.sha256.as_ref().and_then(|sha256| sha256.get(..12)).unwrap_or("unreadable");
        add(format!("boot file {} on {}", file.path, on(file.volume)), format!("content {content}"));
    }
    for entry in &survey.firmware.entries {
        let unused = if entry.is_active { "" } else { ", disabled" };
        let target =
            entry.target.as_ref().map(|target| format!(", to {} on {}", target.file, on(target.volume)));
        add(
            format!("firmware entry {}", entry.number),
            format!("\"{}\"{unused}{}", entry.label, target.unwrap_or_default()),
        );
    }
    // By itself: an entry put before others changes nothing about these.
    if !survey.firmware.order.is_empty() {
        let order: Vec<String> = survey.firmware.order.iter().map(ToString::to_string).collect();
        add("boot order".into(), order.join(", "));
    }
    things
}

fn named(volume: &Volume) -> String {
    let identity = volume.uuid.as_ref().or(volume.part_uuid.as_ref());
    identity.cloned().unwrap_or_else(|| volume.name.clone())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn new_gone_and_changed_things_are_told() {
        let map =
            |pairs: &[(&str, &str)]| pairs.iter().map(|(a, b)| (a.to_string(), b.to_string())).collect();
        let before = map(&[("kernel 6.1", "x"), ("volume A", "ext4"), ("disk B", "")]);
        let now = map(&[("kernel 6.2", "x"), ("volume A", "XFS"), ("disk B", "")]);
        let changes = between(&before, &now);
        assert_eq!(changes.new, ["kernel 6.2: x"]);
        assert_eq!(changes.gone, ["kernel 6.1: x"]);
        assert_eq!(changes.changed, ["volume A: XFS; it was ext4"]);
        assert!(between(&now, &now).is_empty());
    }
}
