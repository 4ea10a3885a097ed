//! What is mounted where (`/proc/PID/mountinfo`, proc(5)).

use std::os::fd::OwnedFd;
use std::path::{Path, PathBuf};

use rustix::fs::{Mode, OFlags};

use super::numbers::Numbers;

/// One mount.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Mount {
    id: u32,
    parent: u32,
    /// The device beneath, where it has one of its own: btrfs and overlays make up theirs.
    pub device: Numbers,
    /// What of the file system is mounted: `/`, a folder of it, or a subvolume.
    pub root: String,
    /// Where.
    pub point: PathBuf,
    /// Whether it takes no writing, by the mount or by the file system.
    pub is_read_only: bool,
    /// The file system's type.
    pub kind: String,
    /// What was mounted, as whoever did it wrote it.
    pub source: String,
}

/// Reads the table; lines that are none are skipped.
pub fn parse(text: &str) -> Vec<Mount> {
    text.lines().filter_map(line).collect()
}

/// `36 35 98:0 /mnt1 /mnt2 rw,noatime master:1 - ext3 /dev/root rw,errors=continue`
fn line(line: &str) -> Option<Mount> {
    let (before, after) = line.split_once(" - ")?;
    let mut fields = before.split(' ');
    let id = fields.next()?.parse().ok()?;
    let parent = fields.next()?.parse().ok()?;
    let device = Numbers::parse(fields.next()?)?;
    let root = unescape(fields.next()?);
    let point = PathBuf::from(unescape(fields.next()?));
    let options = fields.next()?;
    let mut rest = after.split(' ');
    let kind = rest.next()?.to_string();
    let source = unescape(rest.next()?);
    let is_read_only = [options, rest.next().unwrap_or_default()]
        .iter()
        .any(|list| list.split(',').any(|word| word == "ro"));
    Some(Mount { id, parent, device, root, point, is_read_only, kind, source })
}

/// Blanks, tabs, line ends and backslashes are written as three octal digits.
fn unescape(text: &str) -> String {
    let mut bytes = Vec::new();
    let mut rest = text.as_bytes();
    while let [first, tail @ ..] = rest {
        let octal = (*first == b'\\').then(|| tail.get(..3)).flatten();
        let value = octal
            .and_then(|digits| std::str::from_utf8(digits).ok())
            .and_then(|digits| u8::from_str_radix(digits, 8).ok());
        bytes.push(value.unwrap_or(*first));
        rest = if value.is_some() { &tail[3..] } else { tail };
    }
    String::from_utf8_lossy(&bytes).into_owned()
}

/// The mounts that can be reached by their paths: those that no later one covers.
pub fn visible(mounts: &[Mount]) -> Vec<&Mount> {
    mounts.iter().filter(|mount| !mounts.iter().any(|other| covers(other, mount, mounts))).collect()
}

/// Whether `other` lies on the way to `mount` without being beneath it.
fn covers(other: &Mount, mount: &Mount, mounts: &[Mount]) -> bool {
    other.id != mount.id && mount.point.starts_with(&other.point) && !is_beneath(other, mount, mounts)
}

fn is_beneath(other: &Mount, mount: &Mount, mounts: &[Mount]) -> bool {
    let mut parent = mount.parent;
    // Bounded: a table that goes round in a circle is none.
    for _ in 0..mounts.len() {
        if parent == other.id {
            return true;
        }
        let Some(next) = mounts.iter().find(|mount| mount.id == parent) else { return false };
        parent = next.parent;
    }
    false
}

/// The mount in which a path lies.
pub fn holding<'m>(mounts: &[&'m Mount], path: &Path) -> Option<&'m Mount> {
    mounts
        .iter()
        .copied()
        .filter(|mount| path.starts_with(&mount.point))
        .max_by_key(|mount| mount.point.as_os_str().len())
}

/// The top folder of a volume that is mounted so, and whether it takes writing.
pub fn open(mounts: &[Mount]) -> Option<(OwnedFd, bool)> {
    let whole = mounts.iter().filter(|mount| mount.root == "/");
    let mount = whole.min_by_key(|mount| mount.is_read_only)?;
    let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC;
    Some((rustix::fs::open(&mount.point, flags, Mode::empty()).ok()?, !mount.is_read_only))
}

/// Free bytes of a volume that is mounted so, and bytes of what is taken at once; `None` where it is not mounted.
pub fn free(mounts: &[Mount]) -> Option<(u64, u64)> {
    let (folder, _) = open(mounts)?;
    let found = rustix::fs::fstatvfs(&folder).ok()?;
    Some((found.f_bavail.saturating_mul(found.f_frsize), found.f_frsize))
}

#[cfg(test)]
mod tests {
    use super::*;

    const TABLE: &str = "\
1 0 254:1 / / rw,relatime - ext4 /dev/vda1 rw
20 1 0:22 / /sys rw - sysfs sysfs rw
21 1 0:40 / /home rw - autofs systemd-1 rw,fd=50
22 21 254:3 / /home rw - xfs /dev/vda3 rw
23 1 254:2 / /boot/efi ro,relatime - vfat /dev/vda2 rw
24 1 0:50 /@ /srv/tide\\040store rw - btrfs /dev/vdb1 rw,subvol=/@
25 1 254:1 /var/lib /mnt rw - ext4 /dev/vda1 rw
26 1 0:60 / /boot rw - tmpfs none rw
nonsense
";

    #[test]
    fn lines_are_read_with_their_escapes() {
        let mounts = parse(TABLE);
        assert_eq!(mounts.len(), 8);
        let store = mounts.iter().find(|mount| mount.kind == "btrfs").unwrap();
        assert_eq!((store.point.to_str(), store.root.as_str()), (Some("/srv/tide store"), "/@"));
        assert_eq!((store.device, store.source.as_str()), (Numbers { major: 0, minor: 50 }, "/dev/vdb1"));
        assert!(mounts.iter().find(|mount| mount.kind == "vfat").unwrap().is_read_only);
    }

    /// The automount's own place lies beneath what came there; a memory disk over `/boot` hides the ESP below it.
    #[test]
    fn covered_mounts_are_told_from_stacked_ones() {
        let mounts = parse(TABLE);
        let points: Vec<(&str, &str)> = visible(&mounts)
            .iter()
            .map(|mount| (mount.point.to_str().unwrap(), mount.kind.as_str()))
            .collect();
        assert!(points.contains(&("/home", "xfs")) && !points.contains(&("/home", "autofs")), "{points:?}");
        assert!(
            points.contains(&("/boot", "tmpfs")) && !points.contains(&("/boot/efi", "vfat")),
            "{points:?}"
        );
        assert!(points.contains(&("/", "ext4")));
        let all = visible(&mounts);
        assert_eq!(holding(&all, Path::new("/home/anna/x")).map(|mount| mount.kind.as_str()), Some("xfs"));
        assert_eq!(holding(&all, Path::new("/homer")).map(|mount| mount.id), Some(1));
    }
}
