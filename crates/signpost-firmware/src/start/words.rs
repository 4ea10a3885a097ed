//! What the firmware's rules found, in words.

use alloc::format;
use alloc::string::String;
use alloc::vec::Vec;

use super::{Target, Verdict};

/// What partitions and files are called.
pub trait Names {
    /// Where a partition is: `disk 1 partition 2`.
    fn place(&self, partition: usize) -> String;
    /// Its number on its disk now.
    fn number(&self, partition: usize) -> u32;
    /// Why the firmware does not read it.
    fn unreadable(&self, partition: usize) -> String;
    /// What a file starts, where that is known.
    fn title(&self, target: &Target) -> Option<String>;
}

/// Path of a target as volumes write it: with slashes, from the root.
pub fn volume_path(path: &str) -> String {
    ["/", path.trim_start_matches('\\')].concat().replace('\\', "/")
}

impl Target {
    /// Where the file is: `disk 1 partition 1, /EFI/larkspur/lkload.efi`.
    pub fn place(&self, names: &impl Names) -> String {
        format!("{}, {}", names.place(self.partition), volume_path(&self.path))
    }

    /// The same, with what it starts.
    pub fn titled(&self, names: &impl Names) -> String {
        match names.title(self) {
            Some(title) => format!("{title}: {}", self.place(names)),
            None => self.place(names),
        }
    }
}

impl Verdict {
    /// The verdict as a sentence's worth of words.
    pub fn words(&self, names: &impl Names) -> String {
        match self {
            Self::NoVariable => "there is no entry of this number".into(),
            Self::Malformed(why) => format!("broken: {why}"),
            Self::NotActive => "disabled".into(),
            Self::Category => "of another category than boot, which the order skips".into(),
            Self::Deleted => {
                "its disk is not there: the firmware made this entry, and deletes it at the next start".into()
            }
            Self::NoPartition { number, signature, renumbered } => match renumbered.first() {
                Some(partition) => format!(
                    "its partition now has number {}, the entry says {number}: the firmware does not find it",
                    names.number(*partition)
                ),
                None => format!("its partition is not there, number {number} with the identity {signature}"),
            },
            Self::NoDevice => "its disk is not there".into(),
            Self::NoFile { path, .. } if path.contains('/') => {
                format!("the path {path} is written with slashes; firmware takes backslashes alone")
            }
            Self::NoFile { path, partitions } => match partitions[..] {
                [] => format!("no volume that the firmware reads has {path}"),
                [partition] => format!("{} has no file {path}", names.place(partition)),
                _ => format!("none of {} volumes has {path}", partitions.len()),
            },
            Self::Unreadable { partition } => {
                format!("{}: {}", names.place(*partition), names.unreadable(*partition))
            }
            Self::Unfit { target, why } => format!("{}: {why}", target.place(names)),
            Self::Hangs { target, why } => {
                format!("{}: {why}: the machine stands still once it is started", target.place(names))
            }
            Self::Network => "a network start; taken to get no answer".into(),
            Self::CannotFollow(why) => format!("cannot be followed: {why}"),
            Self::UnknownDevice => {
                "cannot be followed: a device named by its controllers, which the disks do not tell".into()
            }
            Self::BuiltIn(_) => "a program inside the firmware".into(),
            Self::Starts(targets) => {
                let all: Vec<String> = targets.iter().map(|target| target.titled(names)).collect();
                all.join(", or ")
            }
            Self::MayStart(target, why) => format!("{}: {why}", target.titled(names)),
        }
    }

    /// A verdict's one-word kind, for programs that read JSON.
    pub fn kind(&self) -> &'static str {
        match self {
            Self::NoVariable => "no-entry",
            Self::Malformed(_) => "broken",
            Self::NotActive => "not-in-use",
            Self::Category => "application",
            Self::Deleted => "deleted",
            Self::NoPartition { .. } => "no-partition",
            Self::NoDevice => "no-device",
            Self::NoFile { .. } => "no-file",
            Self::Unreadable { .. } => "unreadable",
            Self::Unfit { .. } => "unfit",
            Self::Hangs { .. } => "hangs",
            Self::Network => "network",
            Self::CannotFollow(_) | Self::UnknownDevice => "cannot-follow",
            Self::BuiltIn(_) => "built-in",
            Self::Starts(_) => "starts",
            Self::MayStart(..) => "may-start",
        }
    }
}
