//! What the firmware's rules found, in words.

use alloc::format;
use alloc::string::String;
use alloc::vec::Vec;

use super::{Target, Untraced, Verdict};

/// What partitions and files are called.
pub trait Names {
    /// What people call a partition: `d1p2`.
    fn name(&self, partition: usize) -> String;
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
    /// Where the file is: `d1p1:/EFI/larkspur/lkload.efi`.
    pub fn place(&self, names: &impl Names) -> String {
        format!("{}:{}", names.name(self.partition), volume_path(&self.path))
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
                format!("the path {path} is written with slashes; firmware accepts only backslashes")
            }
            Self::NoFile { path, partitions } => match partitions[..] {
                [] => format!("no volume that the firmware reads has {path}"),
                [partition] => format!("{} has no file {path}", names.name(partition)),
                _ => format!("none of {} volumes has {path}", partitions.len()),
            },
            Self::Unreadable { partition } => {
                format!("{}: {}", names.name(*partition), names.unreadable(*partition))
            }
            Self::Unfit { target, why } => format!("{}: {why}", target.place(names)),
            Self::Hangs { target, why } => {
                format!("{}: {why}: the machine hangs once it is started", target.place(names))
            }
            Self::Network => "a network start; taken to get no answer".into(),
            Self::CannotFollow(Untraced::LegacyClass) => {
                "cannot be followed: a legacy device class, which UEFI firmware does not start".into()
            }
            Self::CannotFollow(Untraced::EmptyPath) => "cannot be followed: an empty device path".into(),
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

    /// Its kind.
    pub fn kind(&self) -> Kind {
        match self {
            Self::NoVariable => Kind::NoEntry,
            Self::Malformed(_) => Kind::Broken,
            Self::NotActive => Kind::NotInUse,
            Self::Category => Kind::Application,
            Self::Deleted => Kind::Deleted,
            Self::NoPartition { .. } => Kind::NoPartition,
            Self::NoDevice => Kind::NoDevice,
            Self::NoFile { .. } => Kind::NoFile,
            Self::Unreadable { .. } => Kind::Unreadable,
            Self::Unfit { .. } => Kind::Unfit,
            Self::Hangs { .. } => Kind::Hangs,
            Self::Network => Kind::Network,
            Self::CannotFollow(_) | Self::UnknownDevice => Kind::CannotFollow,
            Self::BuiltIn(_) => Kind::BuiltIn,
            Self::Starts(_) => Kind::Starts,
            Self::MayStart(..) => Kind::MayStart,
        }
    }
}

/// Kinds of verdict, a word each for programs that read JSON.
#[cfg_attr(feature = "serde", derive(serde::Serialize, serde::Deserialize))]
#[cfg_attr(feature = "serde", serde(rename_all = "kebab-case"))]
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Kind {
    /// No variable of this number.
    NoEntry,
    /// Its variable is broken.
    Broken,
    /// Not in use.
    NotInUse,
    /// Of another category than boot.
    Application,
    /// Made by the firmware, which deletes it.
    Deleted,
    /// Its partition is not there.
    NoPartition,
    /// Its device is not there.
    NoDevice,
    /// Its file is not there.
    NoFile,
    /// On a volume that firmware does not read.
    Unreadable,
    /// Its file cannot be started.
    Unfit,
    /// Started, it stands still.
    Hangs,
    /// A network start.
    Network,
    /// It cannot be followed from here.
    CannotFollow,
    /// A program inside the firmware.
    BuiltIn,
    /// It starts.
    Starts,
    /// It may start.
    MayStart,
}
