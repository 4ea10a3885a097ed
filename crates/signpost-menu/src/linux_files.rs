//! Files of a Linux system that say how it is started: kernels and initrds by their names, its table of mounts, its
//! arguments.

use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec::Vec;

use crate::place::{VolumeIdentity, VolumeRef};

/// The arguments that a system keeps for its kernels.
pub const CMDLINE: &str = "/etc/kernel/cmdline";
/// Its table of mounts (fstab(5)).
pub const FSTAB: &str = "/etc/fstab";

/// What follows the first dash of a kernel's file name: `6.9.4` of `vmlinuz-6.9.4`.
pub fn version_in_name(name: &str) -> &str {
    name.split_once('-').map_or("", |(_, version)| version)
}

/// What the file of arguments says, on one line; `None` where it says nothing.
pub fn kept_arguments(text: &str) -> Option<String> {
    let words: Vec<&str> = text.split_whitespace().collect();
    (!words.is_empty()).then(|| words.join(" "))
}

/// Arguments made from where a system's root is, and what of the volume they are made from. Without an initrd nothing but
/// the kernel looks for the root, and that knows partitions alone.
pub fn made_arguments(volume: &VolumeIdentity, root_path: &str, has_initrd: bool) -> (String, &'static str) {
    let uuid = volume.uuid.as_ref().filter(|_| has_initrd || volume.part_uuid.is_none());
    let (root, what) = match (&volume.lv, uuid, &volume.part_uuid) {
        // What finds the root in the initrd wakes the group by this name.
        (Some((group, name)), _, _) => (format!("/dev/mapper/{}", mapper_name(group, name)), "name"),
        (None, Some(uuid), _) => (format!("UUID={uuid}"), "UUID"),
        (None, None, Some(uuid)) => (format!("PARTUUID={uuid}"), "partition's identity"),
        (None, None, None) => (String::new(), "lack of any identity"),
    };
    let flags = match root_path.trim_start_matches('/') {
        "" => String::new(),
        subvolume => format!(" {}", subvolume_argument(subvolume)),
    };
    (format!("root={root}{flags} ro"), what)
}

/// The argument that names a subvolume as the root; the kernel takes a blank within quotes.
pub fn subvolume_argument(subvolume: &str) -> String {
    let quote = if subvolume.contains(' ') { "\"" } else { "" };
    format!("rootflags={quote}subvol={subvolume}{quote}")
}

/// The device mapper's name of a logical volume: a dash parts group and name, so their own are doubled.
pub fn mapper_name(group: &str, name: &str) -> String {
    format!("{}-{}", group.replace('-', "--"), name.replace('-', "--"))
}

/// Group and name of a logical volume, from the device mapper's name of it.
pub fn mapper_parts(mapped: &str) -> Option<(String, String)> {
    let mapped = mapped.replace("--", "\0");
    let (group, name) = mapped.split_once('-')?;
    Some((group.replace('\0', "-"), name.replace('\0', "-")))
}

/// A line that says what is mounted where.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Mount<'a> {
    /// Its number, from 1.
    pub line: usize,
    /// What is mounted.
    pub what: &'a str,
    /// Where.
    pub at: &'a str,
    /// How.
    pub options: &'a str,
}

/// Every line of a table of mounts that says so.
pub fn mounts(text: &str) -> Vec<Mount<'_>> {
    let lines = (1..).zip(text.lines()).filter(|(_, line)| !line.trim_start().starts_with('#'));
    lines
        .filter_map(|(line, text)| {
            let mut fields = text.split_whitespace();
            let (what, at) = (fields.next()?, fields.next()?);
            Some(Mount { line, what, at, options: fields.nth(1).unwrap_or_default() })
        })
        .collect()
}

/// Folders of `/dev` that are not groups of logical volumes.
const OTHER_FOLDERS: [&str; 7] = ["disk", "md", "block", "bus", "cciss", "loop", "zvol"];

/// The volume that a line's first field names; `None` for what is not a stable name.
pub fn named(what: &str) -> Option<VolumeRef> {
    let unquoted = |value: &str| value.trim_matches('"').to_string();
    if let Some((kind, value)) = what.split_once('=') {
        return Some(match kind {
            "UUID" => VolumeRef::Uuid(unquoted(value)),
            "LABEL" => VolumeRef::Label(unquoted(value)),
            "PARTUUID" => VolumeRef::PartUuid(unquoted(value)),
            "PARTLABEL" => VolumeRef::PartLabel(unquoted(value)),
            _ => return None,
        });
    }
    let by_folder = [
        ("/dev/disk/by-uuid/", VolumeRef::Uuid as fn(String) -> VolumeRef),
        ("/dev/disk/by-label/", VolumeRef::Label),
        ("/dev/disk/by-partuuid/", VolumeRef::PartUuid),
    ];
    if let Some((value, kind)) =
        by_folder.iter().find_map(|(folder, kind)| Some((what.strip_prefix(folder)?, kind)))
    {
        return Some(kind(value.to_string()));
    }
    let below = what.strip_prefix("/dev/")?;
    if let Some(mapped) = below.strip_prefix("mapper/") {
        let (group, name) = mapper_parts(mapped)?;
        return Some(VolumeRef::Lv(group, name));
    }
    // A logical volume also has a name in a folder of its group.
    let (group, name) = below.split_once('/')?;
    let is_group = !OTHER_FOLDERS.contains(&group) && !name.is_empty() && !name.contains('/');
    is_group.then(|| VolumeRef::Lv(group.to_string(), name.to_string()))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn dashes_in_names_of_logical_volumes_are_doubled() {
        assert_eq!(mapper_name("tide-bench", "root"), "tide--bench-root");
        assert_eq!(
            named("/dev/mapper/tide--bench-root"),
            Some(VolumeRef::Lv("tide-bench".into(), "root".into()))
        );
    }

    #[test]
    fn lines_and_names_are_read() {
        let text = "# comment\n\nUUID=\"ab-cd\"  / ext4 defaults 0 1\n/dev/mapper/tide--bench-home /home xfs nofail\n";
        let mounts = mounts(text);
        assert_eq!((mounts.len(), mounts[0].line, mounts[0].at), (2, 3, "/"));
        assert_eq!(mounts[1].options, "nofail");
        assert_eq!(named(mounts[0].what), Some(VolumeRef::Uuid("ab-cd".into())));
        assert_eq!(named(mounts[1].what), Some(VolumeRef::Lv("tide-bench".into(), "home".into())));
        assert_eq!(named("/dev/sda1"), None);
        assert_eq!(named("/dev/tide/root"), Some(VolumeRef::Lv("tide".into(), "root".into())));
        assert_eq!((named("/dev/md/root"), named("/dev/disk/by-path/x")), (None, None));
        assert_eq!(named("/dev/disk/by-label/TIDE"), Some(VolumeRef::Label("TIDE".into())));
    }
}
