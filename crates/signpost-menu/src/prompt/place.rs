//! Volumes and places as they are typed, those of a running system and those counted from 0 among them.

use alloc::format;
use alloc::string::{String, ToString};

use super::{Hands, Prompt};
use crate::place::{Place, VolumeRef, resolve};

/// What a place leads to: the volume's index, and the path.
pub(super) struct Found {
    pub(super) volume: usize,
    pub(super) path: String,
}

impl Prompt {
    /// The volume that is meant; `line` is taken again with its right name once `yes` is said.
    pub(super) fn volume(&mut self, hands: &impl Hands, line: &str, text: &str) -> Result<usize, String> {
        self.place(hands, line, text).map(|found| found.volume)
    }

    /// The place that is meant.
    pub(super) fn place(&mut self, hands: &impl Hands, line: &str, text: &str) -> Result<Found, String> {
        let count = hands.volumes().len();
        if text.is_empty() {
            return Err(format!("which volume? there are v1 to v{count}, as `volumes` shows them"));
        }
        let (name, path) = match text.strip_prefix("/dev/") {
            Some(device) => (device.split([':', '/']).next().unwrap_or_default(), ""),
            None => text.split_once(':').unwrap_or((text, "")),
        };
        if let Some((volume, why)) = foreign(hands, text, name) {
            let typed = if text.starts_with("/dev/") { format!("/dev/{name}") } else { name.to_string() };
            let number = format!("v{}", volume.saturating_add(1));
            self.asked = Some(line.replacen(&typed, &number, 1));
            let at = hands.whereabouts(volume);
            return Err(format!("{typed}: {why}; that is {number}, {at}. Take it? (yes)"));
        }
        let whole = if text.contains(':') { text.to_string() } else { format!("{text}:") };
        let place = Place::parse(&whole)
            .map_err(|_| format!("{text} names no volume; v1 to v{count} do, with a path as in v1:/EFI"))?;
        let volume = match (&place.volume, resolve(&place.volume, hands.volumes())) {
            (_, Ok(volume)) => volume,
            (VolumeRef::Number(number), Err(_)) => {
                return Err(format!("there is no volume v{number}; there are v1 to v{count}"));
            }
            (_, Err(error)) => return Err(error.to_string()),
        };
        let path = if path.is_empty() { "/".to_string() } else { place.path };
        Ok(Found { volume, path })
    }
}

/// A name that is none of ours: a running system's for a partition, or a number that counts from 0.
fn foreign(hands: &impl Hands, text: &str, name: &str) -> Option<(usize, &'static str)> {
    if matches!(name, "v0" | "0") {
        return hands.volumes().first().map(|_| (0, "volumes are counted from 1"));
    }
    if let Some(index) = name.parse::<usize>().ok().and_then(|number| number.checked_sub(1)) {
        return hands.volumes().get(index).map(|_| (index, "volumes are counted from 1, with a v before it"));
    }
    let device = text.strip_prefix("/dev/").map_or(name, |_| name);
    let (disk, partition) = device_numbers(device)?;
    let at = format!("disk {disk} partition {partition}");
    let volume = (0..hands.volumes().len()).find(|volume| {
        let place = hands.whereabouts(*volume);
        place == at || place.starts_with(&format!("{at} "))
    })?;
    Some((volume, "a running system may call it so, another may not"))
}

/// Disk and partition, counted from 1, of a name like `sda4`, `vdb2`, `nvme0n1p3`.
fn device_numbers(name: &str) -> Option<(u32, u32)> {
    if let Some(rest) = name.strip_prefix("nvme") {
        let (disk, rest) = rest.split_once('n')?;
        let (_, partition) = rest.split_once('p')?;
        return Some((disk.parse::<u32>().ok()?.checked_add(1)?, partition.parse().ok()?));
    }
    let rest = ["sd", "vd", "hd"].iter().find_map(|start| name.strip_prefix(start))?;
    let letter = rest.chars().next().filter(char::is_ascii_lowercase)?;
    let disk = u32::from(letter).checked_sub(u32::from('a'))?.checked_add(1)?;
    Some((disk, rest.get(1..)?.parse().ok()?))
}

#[cfg(test)]
mod tests {
    use super::*;

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
