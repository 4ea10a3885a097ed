//! Linux systems, by their `os-release` (the freedesktop.org specification of that name).

use std::collections::BTreeMap;

use super::facts::{Arguments, System};
use super::{Look, VolumeReader, kernels};

/// Where it may stand; the first one counts.
const OS_RELEASE: [&str; 2] = ["/etc/os-release", "/usr/lib/os-release"];

/// The fields of an `os-release`.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(super) struct OsRelease {
    fields: BTreeMap<String, String>,
}

impl OsRelease {
    /// Reads the file; lines that are no assignment are passed over.
    pub(super) fn parse(text: &str) -> Self {
        let assignments = text.lines().filter_map(|line| line.trim().split_once('='));
        let fields = assignments.map(|(key, value)| (key.to_string(), unquote(value))).collect();
        Self { fields }
    }

    fn get(&self, key: &str) -> Option<&str> {
        self.fields.get(key).map(String::as_str).filter(|value| !value.is_empty())
    }

    /// `ID`, the system's own, never its parent's.
    pub(super) fn id(&self) -> Option<&str> {
        self.get("ID")
    }

    /// The title, under the system's own name.
    pub(super) fn title(&self) -> Option<String> {
        let pretty = self.get("PRETTY_NAME").map(str::to_string);
        pretty.or_else(|| {
            let name = self.get("NAME")?;
            let version = self.get("VERSION").or(self.get("VERSION_ID"));
            Some(version.map_or_else(|| name.to_string(), |version| format!("{name} {version}")))
        })
    }
}

/// A value without its quotes, with the escapes that a shell would undo.
fn unquote(value: &str) -> String {
    let value = value.trim();
    let inner = |quote: char| value.strip_prefix(quote).and_then(|rest| rest.strip_suffix(quote));
    if let Some(plain) = inner('\'') {
        return plain.to_string();
    }
    let Some(text) = inner('"') else { return value.to_string() };
    let mut out = String::new();
    let mut chars = text.chars();
    while let Some(c) = chars.next() {
        out.extend(if c == '\\' { chars.next() } else { Some(c) });
    }
    out
}

/// Every Linux system whose root volume can be looked into.
pub(super) fn systems(look: &Look<'_>) -> Vec<System> {
    let mut systems = Vec::new();
    let running = look.running_root();
    for index in 0..look.survey.volumes.len() {
        let Some(reader) = look.reader(index) else { continue };
        let found = OS_RELEASE.iter().find_map(|path| Some((*path, reader.text(path)?)));
        let Some((path, text)) = found else { continue };
        let release = OsRelease::parse(&text);
        systems.push(System {
            id: release.id().unwrap_or("linux").to_string(),
            title: release.title().unwrap_or_else(|| "Linux".to_string()),
            title_from: format!("{path} of v{}", index + 1),
            family: "linux",
            root: Some(index + 1),
            is_running: running == Some(index),
            kernels: Vec::new(),
            arguments: Some(arguments(look, reader, index)),
            loaders: Vec::new(),
            loader_places: Vec::new(),
            entries: Vec::new(),
        });
    }
    kernels::assign(look, &mut systems);
    systems
}

/// Arguments that start the system of this root volume.
fn arguments(look: &Look<'_>, reader: &VolumeReader, index: usize) -> Arguments {
    const CMDLINE: &str = "/etc/kernel/cmdline";
    let taken = reader.text(CMDLINE).map(|text| text.split_whitespace().collect::<Vec<_>>().join(" "));
    if let Some(text) = taken.filter(|text| !text.is_empty()) {
        return Arguments { text, source: format!("{CMDLINE} of v{}", index + 1) };
    }
    let volume = &look.survey.volumes[index];
    match &volume.uuid {
        Some(uuid) => Arguments {
            text: format!("root=UUID={uuid} ro"),
            source: format!("made from the UUID of v{}", index + 1),
        },
        None => Arguments {
            text: format!("root=PARTUUID={} ro", volume.part_uuid),
            source: format!("made from the partition GUID of v{}", index + 1),
        },
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_derived_system_goes_by_its_own_name() {
        let text =
            "# comment\nNAME=\"Larkspur\"\nID=larkspur\nID_LIKE='meadow field'\nVERSION_ID=14\nnonsense\n";
        let release = OsRelease::parse(text);
        assert_eq!(release.id(), Some("larkspur"));
        assert_eq!(release.title().as_deref(), Some("Larkspur 14"));
        let pretty = OsRelease::parse("PRETTY_NAME=\"The \\\"Blue\\\" One\"\n");
        assert_eq!(pretty.title().as_deref(), Some("The \"Blue\" One"));
        assert_eq!(OsRelease::parse("").title(), None);
    }
}
