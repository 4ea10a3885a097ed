//! What the entries of a menu would start, and whether it is there.

use serde::Serialize;
use signpost_menu::MenuDocument;
use signpost_menu::document::{Entry, KernelChoice, Linux, Starts};
use signpost_menu::place::{Place, VolumeRef};

use crate::survey::{Look, VolumeReader, hex};

/// What an entry starts, found on the machine. Volumes are indices.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum StartTarget {
    /// An EFI program.
    Program {
        /// Its volume.
        volume: usize,
        /// Its path.
        path: String,
        /// Handed to it.
        args: String,
    },
    /// A Linux kernel.
    Linux {
        /// Volume of kernel and initrds.
        volume: usize,
        /// The kernel's path.
        kernel: String,
        /// The initrds' paths.
        initrds: Vec<String>,
        /// All arguments.
        args: String,
        /// The root volume, where one is named.
        root: Option<usize>,
    },
    /// A load option that is there.
    FirmwareEntry {
        /// Its number.
        number: u16,
    },
    /// Something that needs nothing from a disk.
    BuiltIn,
    /// A group's heading.
    Group,
}

/// An entry, with what it starts or why it cannot.
#[derive(Clone, Debug)]
pub struct ResolvedEntry<'d> {
    /// The entry.
    pub entry: &'d Entry,
    /// What it starts; or what was looked for and is not there.
    pub target: Result<StartTarget, String>,
    /// What else is worth saying, such as a newer kernel passed over.
    pub notes: Vec<String>,
}

/// A row of the menu, as facts.
#[derive(Clone, Debug, Serialize)]
pub struct MenuRow {
    /// The entry's id.
    pub id: String,
    /// Its title.
    pub title: String,
    /// Its kind.
    pub kind: &'static str,
    /// Whether it starts where nobody chooses.
    pub is_default: bool,
    /// Its group.
    pub group: Option<String>,
    /// Whether what it starts is there.
    pub is_there: bool,
    /// What it starts, or why it cannot.
    pub starts: String,
    /// What else is worth saying.
    pub notes: Vec<String>,
}

/// Looks for what every entry starts.
pub fn resolve<'d>(look: &Look<'_>, document: &'d MenuDocument) -> Vec<ResolvedEntry<'d>> {
    document.entries.iter().map(|entry| resolve_entry(look, document, entry)).collect()
}

/// The menu as a table of facts.
pub fn rows(look: &Look<'_>, document: &MenuDocument) -> Vec<MenuRow> {
    let default = document.default_entry(None).map(|entry| entry.id.as_str());
    resolve(look, document)
        .into_iter()
        .map(|resolved| MenuRow {
            id: resolved.entry.id.clone(),
            title: resolved.entry.title.clone(),
            kind: resolved.entry.starts.word(),
            is_default: default == Some(resolved.entry.id.as_str()),
            group: resolved.entry.group.clone(),
            is_there: resolved.target.is_ok(),
            starts: match &resolved.target {
                Ok(target) => words(look, resolved.entry, target),
                Err(why) => why.clone(),
            },
            notes: resolved.notes,
        })
        .collect()
}

fn words(look: &Look<'_>, entry: &Entry, target: &StartTarget) -> String {
    let at = |volume: usize| look.survey.volumes[volume].where_it_is();
    match target {
        StartTarget::Program { volume, path, .. } => format!("{}, {path}", at(*volume)),
        StartTarget::Linux { volume, kernel, .. } => format!("{}, {kernel}", at(*volume)),
        StartTarget::FirmwareEntry { number } => {
            let entry = look.survey.firmware.entries.iter().find(|entry| entry.number() == *number);
            let leads_to = entry.map(|entry| entry.finding.clone()).unwrap_or_default();
            format!("entry {}, {leads_to}", hex(*number))
        }
        StartTarget::BuiltIn => match entry.starts {
            Starts::SetupScreen => "the firmware's own screen".into(),
            Starts::Restart => "a restart".into(),
            _ => "power off".into(),
        },
        StartTarget::Group => "a group".into(),
    }
}

fn resolve_entry<'d>(look: &Look<'_>, document: &MenuDocument, entry: &'d Entry) -> ResolvedEntry<'d> {
    let mut notes = Vec::new();
    let target = match &entry.starts {
        Starts::Linux(linux) => self::linux(look, linux, &document.kernel_args, &mut notes),
        Starts::Efi { program, args } => find_file(look, program).map(|volume| StartTarget::Program {
            volume,
            path: program.path.clone(),
            args: args.clone(),
        }),
        Starts::FirmwareEntry { label, target, .. } => {
            firmware_entry(look, label, target.as_ref(), &mut notes)
                .map(|number| StartTarget::FirmwareEntry { number })
        }
        Starts::Sector { volume } => find_volume(look, volume)
            .and_then(|_| Err("a boot sector: UEFI firmware starts none".to_string())),
        Starts::Image { image, .. } => find_file(look, image)
            .and_then(|_| Err("systems inside image files cannot be started yet".to_string())),
        Starts::Group => Ok(StartTarget::Group),
        Starts::SetupScreen | Starts::Restart | Starts::PowerOff => Ok(StartTarget::BuiltIn),
    };
    ResolvedEntry { entry, target, notes }
}

fn find_volume(look: &Look<'_>, volume: &VolumeRef) -> Result<usize, String> {
    look.resolve(volume).map_err(|error| error.to_string())
}

fn open<'l>(look: &'l Look<'_>, volume: usize) -> Result<&'l VolumeReader, String> {
    look.reader(volume).ok_or_else(|| {
        let facts = &look.survey.volumes[volume];
        let why = facts.fault.clone().unwrap_or_else(|| format!("{} is not looked into", facts.kind));
        format!("{} cannot be read: {why}", facts.where_it_is())
    })
}

fn find_file(look: &Look<'_>, place: &Place) -> Result<usize, String> {
    let volume = find_volume(look, &place.volume)?;
    need_file(look, volume, &place.path)?;
    Ok(volume)
}

fn need_file(look: &Look<'_>, volume: usize, path: &str) -> Result<(), String> {
    if open(look, volume)?.has_file(path) {
        return Ok(());
    }
    let at = look.survey.volumes[volume].where_it_is();
    Err(format!("{at} has no file {path}{}", nearby(open(look, volume)?, path)))
}

/// What stands where the file should: the nearest name in its folder.
fn nearby(reader: &VolumeReader, path: &str) -> String {
    let Some((folder, name)) = path.rsplit_once('/') else { return String::new() };
    let Ok(items) = reader.list(if folder.is_empty() { "/" } else { folder }) else {
        return format!("; there is no folder {folder}");
    };
    match signpost_menu::nearest::nearest(name, items.iter().map(|item| item.name.as_str())) {
        Some(near) => format!("; there is {near}"),
        None => String::new(),
    }
}

fn linux(
    look: &Look<'_>,
    linux: &Linux,
    kernel_args: &str,
    notes: &mut Vec<String>,
) -> Result<StartTarget, String> {
    let volume = find_volume(look, &linux.volume)?;
    let reader = open(look, volume)?;
    let (kernel, version) = match &linux.kernel {
        KernelChoice::Fixed(path) => {
            need_file(look, volume, path)?;
            let name = path.rsplit('/').next().unwrap_or_default();
            (path.clone(), name.split_once('-').map(|(_, version)| version.to_string()).unwrap_or_default())
        }
        KernelChoice::Newest(newest) => {
            let items = reader.list(&newest.folder).map_err(|error| error.to_string())?;
            let is_complete = |version: &str| {
                linux.initrd.iter().all(|initrd| reader.has_file(&initrd.replace("{version}", version)))
            };
            let chosen = newest.choose(items.iter().map(|item| item.name.as_str()), is_complete);
            let chosen = chosen.map_err(|incomplete| match incomplete[..] {
                [] => format!("no kernel fits {newest}"),
                _ => format!("no kernel of {newest} has its initrd: {}", incomplete.join(", ")),
            })?;
            notes.extend(
                chosen.passed_over.iter().map(|path| format!("{path} is newer, and its initrd is not there")),
            );
            (chosen.path, chosen.version)
        }
    };
    let initrds: Vec<String> =
        linux.initrd.iter().map(|initrd| initrd.replace("{version}", &version)).collect();
    initrds.iter().try_for_each(|initrd| need_file(look, volume, initrd))?;
    let root = linux.root.as_ref().map(|root| find_volume(look, root)).transpose()?;
    let mut args = linux.args.clone();
    if let Some(root) = root {
        args = args.replace("{root}", &root_argument(look, root));
    }
    let args = [args.as_str(), kernel_args]
        .iter()
        .filter(|part| !part.is_empty())
        .copied()
        .collect::<Vec<_>>()
        .join(" ");
    Ok(StartTarget::Linux { volume, kernel, initrds, args, root })
}

fn root_argument(look: &Look<'_>, root: usize) -> String {
    let volume = &look.survey.volumes[root];
    match &volume.uuid {
        Some(uuid) => format!("UUID={uuid}"),
        None => format!("PARTUUID={}", volume.part_uuid),
    }
}

/// The load option of this label; where several have it, the target tells, else the one first in the order.
fn firmware_entry(
    look: &Look<'_>,
    label: &str,
    target: Option<&Place>,
    notes: &mut Vec<String>,
) -> Result<u16, String> {
    let entries = &look.survey.firmware.entries;
    let volume = target.map(|place| find_volume(look, &place.volume)).transpose()?;
    let fits = |entry: &&crate::survey::FirmwareEntry| {
        let leads_there = match (target, volume, &entry.target) {
            (Some(place), Some(volume), Some(found)) => {
                found.volume == volume + 1 && found.file.eq_ignore_ascii_case(&place.path)
            }
            (Some(_), _, _) => false,
            (None, _, _) => true,
        };
        entry.label == label && leads_there
    };
    let mut found = entries.iter().filter(fits);
    let Some(first) = found.next() else {
        let labels: Vec<&str> = entries.iter().map(|entry| entry.label.as_str()).collect();
        let near = signpost_menu::nearest::nearest(label, labels).filter(|near| *near != label);
        let hint = near.map(|near| format!("; there is \"{near}\"")).unwrap_or_default();
        let there = if target.is_some() { " that starts this file" } else { "" };
        return Err(format!("the firmware has no entry \"{label}\"{there}{hint}"));
    };
    if let Some(second) = found.next() {
        notes.push(format!(
            "entries {} and {} both fit; the first in the order counts",
            first.number, second.number
        ));
    }
    Ok(first.number())
}
