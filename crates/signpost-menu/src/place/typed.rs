//! Volumes and places as a person types them: more than a menu file takes, and the same everywhere.

use alloc::borrow::ToOwned;
use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec::Vec;

use super::{Place, Unresolved, VolumeIdentity, VolumeRef, resolve};

/// Volumes that a message lists.
const MAX_LISTED: usize = 12;
/// Beginnings of names that running systems give to disks with numbered partitions.
const DEVICES: [&str; 3] = ["sd", "vd", "hd"];

/// A volume and a path on it, as they were typed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Typed {
    /// The volume's index.
    pub volume: usize,
    /// How many bytes of the text name the volume.
    pub named: usize,
    /// The path, with `/` at its start; empty where none was typed.
    pub path: String,
}

/// Why what was typed names no place.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum Mistyped {
    /// It names none, or several.
    #[error("{0}")]
    Unresolved(#[from] Unresolved),
    /// It names nothing that is there.
    #[error("no volume is called {wanted}{}", there(volumes))]
    Unknown {
        /// What was typed.
        wanted: String,
        /// The names that there are.
        volumes: Vec<String>,
    },
    /// A path follows, where only a volume belongs.
    #[error("\"{typed}\" goes on with the path {path}; only a volume belongs here")]
    Path {
        /// What was typed.
        typed: String,
        /// The path.
        path: String,
    },
    /// A disk with several volumes.
    #[error("{disk} is a disk; its volumes are {}", volumes.join(", "))]
    Disk {
        /// The disk.
        disk: String,
        /// Its volumes.
        volumes: Vec<String>,
    },
    /// It is a name of another kind; this volume may be meant.
    #[error("{typed}: {why}; `{name}` may be meant")]
    Guess {
        /// The part that names the volume.
        typed: String,
        /// Why it is not simply taken.
        why: &'static str,
        /// The volume's index.
        volume: usize,
        /// Its name.
        name: String,
    },
}

fn there(volumes: &[String]) -> String {
    if volumes.is_empty() {
        return "; there are no volumes".to_owned();
    }
    let more = if volumes.len() > MAX_LISTED { ", …" } else { "" };
    let first: Vec<&str> = volumes.iter().take(MAX_LISTED).map(String::as_str).collect();
    format!("; there are {}{more}", first.join(", "))
}

/// The place that a person means. A volume is named as a survey prints it (`d2p1`, `kestrel/tidewater`), by a stable name, by
/// its device in the running system, by any start of its label, UUID or partition GUID, or by a system's id; `systems` says
/// which volume each of these means. A colon before the path is optional, `\` is as good as `/`.
///
/// # Errors
/// Where it fits no volume, or several: what there is.
pub fn typed(
    text: &str,
    volumes: &[VolumeIdentity],
    systems: impl FnOnce() -> Vec<(String, usize)>,
) -> Result<Typed, Mistyped> {
    let text = text.trim().replace('\\', "/");
    if let Some(found) = by_kind(&text, volumes) {
        return found;
    }
    let parts = splits(&text);
    let named = |volume, named: &str| Typed { volume, named: named.len(), path: path_behind(&text, named) };
    let by_name = |name: &str| volumes.iter().position(|volume| volume.name.eq_ignore_ascii_case(name));
    if let Some((volume, name)) = parts.iter().find_map(|name| Some((by_name(name)?, *name))) {
        return Ok(named(volume, name));
    }
    let by_device = |name: &str| volumes.iter().position(|volume| volume.device.as_deref() == Some(name));
    if let Some((volume, name)) = parts.iter().find_map(|name| Some((by_device(name)?, *name))) {
        return Ok(named(volume, name));
    }
    for name in &parts {
        if let Some(found) = disk(name, volumes) {
            return found.map(|volume| named(volume, name));
        }
    }
    if let Some(guess) = parts.iter().find_map(|name| guess(name, volumes)) {
        return Err(guess);
    }
    for name in &parts {
        match &by_start(name, volumes)[..] {
            [] => {}
            [volume] => return Ok(named(*volume, name)),
            several => return Err(Unresolved::several(name, several, volumes).into()),
        }
    }
    let systems = systems();
    let of_system = |name: &str| systems.iter().find(|(id, _)| id == name).map(|(_, volume)| *volume);
    if let Some((volume, name)) = parts.iter().find_map(|name| Some((of_system(name)?, *name))) {
        return Ok(named(volume, name));
    }
    let wanted = text.split(':').next().unwrap_or(&text).to_string();
    Err(Mistyped::Unknown { wanted, volumes: volumes.iter().map(|volume| volume.name.clone()).collect() })
}

/// A stable name, with its kind before a colon.
fn by_kind(text: &str, volumes: &[VolumeIdentity]) -> Option<Result<Typed, Mistyped>> {
    // Behind the value a colon may stand before the path.
    let (kind, rest) = text.split_once(':')?;
    let plain = match rest.split_once(':') {
        Some((value, path)) if kind != "path" => format!("{kind}:{value}/{}", path.trim_start_matches('/')),
        _ => text.to_owned(),
    };
    let place = Place::parse(&plain).ok()?;
    if matches!(place.volume, VolumeRef::Name(_)) {
        return None;
    }
    let named = place.volume.to_string().len();
    let path = if plain.len() > named { place.path } else { String::new() };
    let found = resolve(&place.volume, volumes).map(|volume| Typed { volume, named, path });
    Some(found.map_err(Mistyped::from))
}

/// What may be the volume's name: all of it, and each part before a colon or a slash, the longest first.
fn splits(text: &str) -> Vec<&str> {
    let ends = text.match_indices([':', '/']).map(|(at, _)| at);
    let mut parts: Vec<&str> = ends.filter_map(|end| text.get(..end)).collect();
    parts.push(text);
    parts.reverse();
    parts.retain(|part| !part.is_empty() && *part != "/dev");
    parts
}

fn path_behind(text: &str, named: &str) -> String {
    let rest = text.get(named.len()..).unwrap_or_default().trim_start_matches(':');
    match rest {
        "" => String::new(),
        rest if rest.starts_with('/') => rest.to_owned(),
        rest => format!("/{rest}"),
    }
}

/// The only volume of a disk, where this is a disk's name.
fn disk(name: &str, volumes: &[VolumeIdentity]) -> Option<Result<usize, Mistyped>> {
    let number = name.strip_prefix("disk").or_else(|| name.strip_prefix('d'))?;
    number.parse::<u32>().ok()?;
    let start = format!("d{number}p");
    let on_it: Vec<usize> = positions(volumes, |volume| volume.name.starts_with(&start));
    match &on_it[..] {
        [] => None,
        [only] => Some(Ok(*only)),
        several => Some(Err(Mistyped::Disk {
            disk: format!("d{number}"),
            volumes: several.iter().filter_map(|volume| Some(volumes.get(*volume)?.name.clone())).collect(),
        })),
    }
}

fn positions(volumes: &[VolumeIdentity], is_it: impl Fn(&VolumeIdentity) -> bool) -> Vec<usize> {
    volumes.iter().enumerate().filter(|(_, volume)| is_it(volume)).map(|(index, _)| index).collect()
}

/// The volumes of which a label, UUID or partition GUID is this, or else starts so.
fn by_start(start: &str, volumes: &[VolumeIdentity]) -> Vec<usize> {
    let start = start.to_lowercase();
    let names = |volume: &VolumeIdentity| {
        let names = [&volume.label, &volume.uuid, &volume.part_uuid, &volume.part_label];
        names.into_iter().flatten().map(|name| name.to_lowercase()).collect::<Vec<_>>()
    };
    let whole = positions(volumes, |volume| names(volume).contains(&start));
    let found = match whole.is_empty() {
        true => positions(volumes, |volume| names(volume).iter().any(|name| name.starts_with(&start))),
        false => whole,
    };
    // Of a volume and its copies the nearest is meant.
    let near = found.iter().filter_map(|index| Some(volumes.get(*index)?.nearness)).min();
    found
        .into_iter()
        .filter(|index| volumes.get(*index).is_some_and(|volume| Some(volume.nearness) == near))
        .collect()
}

/// A name that is none of ours: a running system's for a partition, or a number that counts from 0.
fn guess(name: &str, volumes: &[VolumeIdentity]) -> Option<Mistyped> {
    let found = |disk: u32, partition: u32| {
        let name = format!("d{disk}p{partition}");
        let volume = volumes.iter().position(|volume| volume.name == name)?;
        Some((volume, name))
    };
    let device = name.strip_prefix("/dev/").unwrap_or(name);
    let (why, (volume, own)) = match device_numbers(device) {
        Some((disk, partition)) => {
            ("a running system may call it so, another may not", found(disk, partition)?)
        }
        None => {
            let (disk, partition) = name.strip_prefix('d')?.split_once('p')?;
            let (disk, partition): (u32, u32) = (disk.parse().ok()?, partition.parse().ok()?);
            let is_from_zero = disk == 0 || partition == 0;
            let one_up = || found(disk.max(1), partition.max(1));
            ("disks and partitions are counted from 1", one_up().filter(|_| is_from_zero)?)
        }
    };
    Some(Mistyped::Guess { typed: name.to_owned(), why, volume, name: own })
}

/// Disk and partition, counted from 1, of a name like `sda4`, `vdb2`, `nvme0n1p3`.
fn device_numbers(name: &str) -> Option<(u32, u32)> {
    if let Some(rest) = name.strip_prefix("nvme") {
        let (disk, rest) = rest.split_once('n')?;
        let (_, partition) = rest.split_once('p')?;
        return Some((disk.parse::<u32>().ok()?.checked_add(1)?, partition.parse().ok()?));
    }
    let rest = DEVICES.iter().find_map(|start| name.strip_prefix(start))?;
    let letter = rest.chars().next().filter(char::is_ascii_lowercase)?;
    let disk = u32::from(letter).checked_sub(u32::from('a'))?.checked_add(1)?;
    Some((disk, rest.get(1..)?.parse().ok()?))
}

#[cfg(test)]
mod tests {
    use alloc::vec;

    use super::*;

    fn machine() -> Vec<VolumeIdentity> {
        let volume = |name: &str, label: &str, uuid: &str, device: Option<&str>| VolumeIdentity {
            name: name.into(),
            label: Some(label.into()),
            uuid: Some(uuid.into()),
            device: device.map(Into::into),
            ..VolumeIdentity::default()
        };
        vec![
            volume("d1p1", "LARK-ESP", "4F2A-11C9", Some("/dev/nvme0n1p1")),
            volume("d1p2", "larkspur", "7c0e4b1a-52d3", None),
            volume("d2p3a", "skerry", "7c99-0001", None),
            volume("kestrel/tidewater", "tidewater", "e2b7", None),
        ]
    }

    fn found(text: &str) -> Result<(usize, String), Mistyped> {
        let systems = || vec![("gauge".to_string(), 2)];
        typed(text, &machine(), systems).map(|found| (found.volume, found.path))
    }

    #[test]
    fn every_way_to_name_a_place_is_understood() {
        for (text, volume, path) in [
            ("d1p2", 1, ""),
            ("D1P2:", 1, ""),
            ("d1p2:/boot/vmlinuz", 1, "/boot/vmlinuz"),
            ("d1p2/boot", 1, "/boot"),
            ("d1p2:boot", 1, "/boot"),
            (r"d1p1:\EFI\BOOT", 0, "/EFI/BOOT"),
            ("d2p3a", 2, ""),
            ("d2", 2, ""),
            ("disk2", 2, ""),
            ("kestrel/tidewater", 3, ""),
            ("kestrel/tidewater/boot", 3, "/boot"),
            ("kestrel/tidewater:/boot", 3, "/boot"),
            ("uuid:4f2a-11c9/EFI", 0, "/EFI"),
            ("uuid:4f2a-11c9:EFI", 0, "/EFI"),
            ("uuid:4F2A-11C9", 0, ""),
            ("label:skerry", 2, ""),
            ("lark-e", 0, ""),
            ("4f2a:/EFI", 0, "/EFI"),
            ("larkspur/etc/fstab", 1, "/etc/fstab"),
            ("e2", 3, ""),
            ("/dev/nvme0n1p1", 0, ""),
            ("/dev/nvme0n1p1/EFI", 0, "/EFI"),
            ("gauge:/bsd", 2, "/bsd"),
        ] {
            assert_eq!(found(text), Ok((volume, path.to_string())), "{text}");
        }
    }

    #[test]
    fn what_names_none_or_several_says_what_there_is() {
        for (text, hint) in [
            (
                "lark",
                "lark is ambiguous: it fits 2 volumes, d1p1 (uuid:4F2A-11C9), d1p2 (uuid:7c0e4b1a-52d3)",
            ),
            ("d1", "d1 is a disk; its volumes are d1p1, d1p2"),
            ("d9p1", "no volume is called d9p1; there are d1p1, d1p2, d2p3a, kestrel/tidewater"),
            ("wick:/EFI", "no volume is called wick;"),
            ("label:larkspurr", "there is label:larkspur"),
            ("/dev/sda2", "/dev/sda2: a running system may call it so, another may not; `d1p2` may be meant"),
            ("d0p1", "counted from 1; `d1p1`"),
            ("", "no volume is called ;"),
        ] {
            let error = found(text).unwrap_err().to_string();
            assert!(error.contains(hint), "{text}: {error}");
        }
    }

    #[test]
    fn names_of_running_systems_are_understood() {
        for (name, expected) in [
            ("sda4", Some((1, 4))),
            ("vdb12", Some((2, 12))),
            ("nvme0n1p3", Some((1, 3))),
            ("nvme1n1p2", Some((2, 2))),
            ("sda", None),
            ("sd4", None),
            ("nvme0", None),
            ("sdé1", None),
            ("loop0", None),
        ] {
            assert_eq!(device_numbers(name), expected, "{name}");
        }
    }
}
