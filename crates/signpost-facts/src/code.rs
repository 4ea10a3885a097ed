//! The codes of findings, causes and guards: one namespace, in words.

use alloc::borrow::Cow;
use core::fmt;

use serde::de::Error;
use serde::{Deserialize, Deserializer};

/// A finding's, a cause's or a guard's code.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Code {
    /// A disk cannot be read at all.
    DiskUnreadable,
    /// A partition table is broken.
    TableBroken,
    /// A GPT without its protective MBR.
    TableUnprotected,
    /// Partitions overlap or lie outside of the disk.
    PartitionMisplaced,
    /// A GPT's backup is whole, and not at the disk's end.
    BackupMisplaced,
    /// A volume says what it is, and is broken.
    VolumeBroken,
    /// A volume is not broken, and cannot be read even so.
    VolumeUnread,
    /// Two volumes share an identity.
    Clone,
    /// A system sleeps on a volume.
    Hibernated,
    /// A volume was in use when the machine went down.
    Unclean,
    /// Volumes of one size without a label.
    NoLabel,
    /// A system's `/etc/fstab` names a volume that is not there.
    FstabWrong,
    /// An entry file names files that are not there.
    EntryFileBroken,
    /// The newest kernel of a system has no initrd, though others of the system have.
    InitrdMissing,
    /// The firmware's variables cannot be read, in whole or in part.
    VariablesBroken,
    /// The firmware has no room for the variables that a change needs.
    VariablesFull,
    /// The firmware's variables can be read, and not be written.
    VariablesClosed,
    /// A load option is broken.
    EntryBroken,
    /// A load option's partition or device is gone.
    EntryStale,
    /// A load option's file is gone.
    EntryFileGone,
    /// A load option's file cannot be started.
    EntryUnfit,
    /// Two load options start the same file.
    EntryDuplicate,
    /// A load option stands in no order.
    EntryUnordered,
    /// The order names a number that has no load option.
    OrderDangling,
    /// The order names a number twice.
    OrderTwice,
    /// The running system is not what starts next.
    NotFirst,
    /// What the machine was started from is not a system's own entry.
    StartedByFallback,
    /// A boot with a number of its own comes first, once.
    NextBootSet,
    /// The running system was started in BIOS mode, and the machine's systems start by UEFI.
    StartedInBios,
    /// The firmware has lost the entry of our menu, or holds it disabled or altered.
    EntryLost,
    /// Our boot program is gone or damaged.
    BootProgramGone,
    /// A slot of the active menu is damaged.
    MenuDamaged,
    /// The ESP that entries name is gone, and another one holds what they start.
    EspNew,
    /// A partition has another number than the entry that names it says.
    PartitionMoved,
    /// A system's loader is gone or damaged.
    LoaderGone,
    /// A kernel or an initrd that an entry of the menu names is gone.
    KernelGone,
    /// The newest kernel of a system has no modules.
    ModulesMissing,
    /// Kernel arguments name a volume that is not there.
    ArgumentWrong,
    /// A volume that an entry of the menu names is gone.
    VolumeGone,
    /// A disk that was there is not here.
    DiskMissing,
    /// Nothing that is active starts a system.
    NoWay,
    /// The only entry that would start a system is disabled.
    EntryDisabled,
    /// The menu file has errors.
    MenuFileBroken,
    /// Nobody can reach the menu: it is never shown, and the default does not start.
    MenuUnseen,
    /// The picture behind the menu is gone from the home volume, or damaged.
    PictureGone,
    /// The default was started as often as its tries say, and never came up.
    TriesUsedUp,
    /// The active boot program is not the one that is installed.
    BootProgramOld,
    /// Two volumes hold menus of this machine, and they differ.
    HomesDisagree,
    /// The home volume has no room for what a change needs.
    EspFull,
    /// A volume holds boot files, and its partition is of a type that firmware does not look at.
    EspType,
    /// The machine starts by the fallback path of a disk alone, or by an entry that the firmware made.
    FallbackEmpty,
    /// The first sector of the first disk of a BIOS machine starts nothing.
    FirstSectorLost,
    /// Plain code finds no active partition.
    NoneActive,
    /// Plain code finds several active partitions.
    SeveralActive,
    /// The active partition has no boot sector that starts something.
    BootSectorLost,
    /// A boot sector says wrongly where its partition begins.
    BootSectorMoved,
    /// Guard: nothing would start.
    NothingStarts,
    /// Guard: an entry that is not ours would change.
    ForeignEntry,
    /// Guard: what the machine was started from would be removed.
    StartedFrom,
    /// Guard: the menu's default could not start.
    DefaultGone,
    /// Guard: another system of this PC applied the menu.
    OtherSystem,
    /// Guard: the home volume has no room.
    NoRoom,
    /// Guard: nothing else in the menu starts a system.
    LastWay,
    /// Guard: what was saved at boot would be lost.
    ChangedAtBoot,
    /// Guard: Secure Boot will refuse what is to start.
    SecureBootRefuses,
    /// Guard: what would be written to is a partition whose bytes may be another's.
    PartitionUnsafe,
    /// Guard: a record says that more was written than a step of ours writes.
    RecordForeign,
    /// Guard: a sector that was saved from another disk.
    SectorForeign,
    /// Guard: what somebody keeps where the boot program goes.
    GapInUse,
    /// Guard: nobody could be asked.
    Unconfirmed,
}

impl Code {
    /// Every code.
    pub const ALL: [Self; 70] = [
        Self::DiskUnreadable,
        Self::TableBroken,
        Self::TableUnprotected,
        Self::PartitionMisplaced,
        Self::BackupMisplaced,
        Self::VolumeBroken,
        Self::VolumeUnread,
        Self::Clone,
        Self::Hibernated,
        Self::Unclean,
        Self::NoLabel,
        Self::FstabWrong,
        Self::EntryFileBroken,
        Self::InitrdMissing,
        Self::VariablesBroken,
        Self::VariablesFull,
        Self::VariablesClosed,
        Self::EntryBroken,
        Self::EntryStale,
        Self::EntryFileGone,
        Self::EntryUnfit,
        Self::EntryDuplicate,
        Self::EntryUnordered,
        Self::OrderDangling,
        Self::OrderTwice,
        Self::NotFirst,
        Self::StartedByFallback,
        Self::NextBootSet,
        Self::StartedInBios,
        Self::EntryLost,
        Self::BootProgramGone,
        Self::MenuDamaged,
        Self::EspNew,
        Self::PartitionMoved,
        Self::LoaderGone,
        Self::KernelGone,
        Self::ModulesMissing,
        Self::ArgumentWrong,
        Self::VolumeGone,
        Self::DiskMissing,
        Self::NoWay,
        Self::EntryDisabled,
        Self::MenuFileBroken,
        Self::MenuUnseen,
        Self::PictureGone,
        Self::TriesUsedUp,
        Self::BootProgramOld,
        Self::HomesDisagree,
        Self::EspFull,
        Self::EspType,
        Self::FallbackEmpty,
        Self::FirstSectorLost,
        Self::NoneActive,
        Self::SeveralActive,
        Self::BootSectorLost,
        Self::BootSectorMoved,
        Self::NothingStarts,
        Self::ForeignEntry,
        Self::StartedFrom,
        Self::DefaultGone,
        Self::OtherSystem,
        Self::NoRoom,
        Self::LastWay,
        Self::ChangedAtBoot,
        Self::SecureBootRefuses,
        Self::PartitionUnsafe,
        Self::RecordForeign,
        Self::SectorForeign,
        Self::GapInUse,
        Self::Unconfirmed,
    ];

    /// The code as it is written.
    pub fn word(self) -> &'static str {
        match self {
            Self::DiskUnreadable => "disk-unreadable",
            Self::TableBroken => "table-broken",
            Self::TableUnprotected => "table-unprotected",
            Self::PartitionMisplaced => "partition-misplaced",
            Self::BackupMisplaced => "backup-misplaced",
            Self::VolumeBroken => "volume-broken",
            Self::VolumeUnread => "volume-unread",
            Self::Clone => "clone",
            Self::Hibernated => "hibernated",
            Self::Unclean => "unclean",
            Self::NoLabel => "no-label",
            Self::FstabWrong => "fstab-wrong",
            Self::EntryFileBroken => "entry-file-broken",
            Self::InitrdMissing => "initrd-missing",
            Self::VariablesBroken => "variables-broken",
            Self::VariablesFull => "variables-full",
            Self::VariablesClosed => "variables-closed",
            Self::EntryBroken => "entry-broken",
            Self::EntryStale => "entry-stale",
            Self::EntryFileGone => "entry-file-gone",
            Self::EntryUnfit => "entry-unfit",
            Self::EntryDuplicate => "entry-duplicate",
            Self::EntryUnordered => "entry-unordered",
            Self::OrderDangling => "order-dangling",
            Self::OrderTwice => "order-twice",
            Self::NotFirst => "not-first",
            Self::StartedByFallback => "started-by-fallback",
            Self::NextBootSet => "next-boot-set",
            Self::StartedInBios => "started-in-bios",
            Self::EntryLost => "entry-lost",
            Self::BootProgramGone => "boot-program-gone",
            Self::MenuDamaged => "menu-damaged",
            Self::EspNew => "esp-new",
            Self::PartitionMoved => "partition-moved",
            Self::LoaderGone => "loader-gone",
            Self::KernelGone => "kernel-gone",
            Self::ModulesMissing => "modules-missing",
            Self::ArgumentWrong => "argument-wrong",
            Self::VolumeGone => "volume-gone",
            Self::DiskMissing => "disk-missing",
            Self::NoWay => "no-way",
            Self::EntryDisabled => "entry-disabled",
            Self::MenuFileBroken => "menu-file-broken",
            Self::MenuUnseen => "menu-unseen",
            Self::PictureGone => "picture-gone",
            Self::TriesUsedUp => "tries-used-up",
            Self::BootProgramOld => "boot-program-old",
            Self::HomesDisagree => "homes-disagree",
            Self::EspFull => "esp-full",
            Self::EspType => "esp-type",
            Self::FallbackEmpty => "fallback-empty",
            Self::FirstSectorLost => "first-sector-lost",
            Self::NoneActive => "none-active",
            Self::SeveralActive => "several-active",
            Self::BootSectorLost => "boot-sector-lost",
            Self::BootSectorMoved => "boot-sector-moved",
            Self::NothingStarts => "nothing-starts",
            Self::ForeignEntry => "foreign-entry",
            Self::StartedFrom => "started-from",
            Self::DefaultGone => "default-gone",
            Self::OtherSystem => "other-system",
            Self::NoRoom => "no-room",
            Self::LastWay => "last-way",
            Self::ChangedAtBoot => "changed-at-boot",
            Self::SecureBootRefuses => "secure-boot-refuses",
            Self::PartitionUnsafe => "partition-unsafe",
            Self::RecordForeign => "record-foreign",
            Self::SectorForeign => "sector-foreign",
            Self::GapInUse => "gap-in-use",
            Self::Unconfirmed => "unconfirmed",
        }
    }

    /// The code that is written so.
    pub fn parse(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|code| code.word() == word)
    }

    /// Whether it is a guard's, which `--despite` can override.
    pub fn is_guard(self) -> bool {
        matches!(
            self,
            Self::NothingStarts
                | Self::ForeignEntry
                | Self::StartedFrom
                | Self::DefaultGone
                | Self::OtherSystem
                | Self::LastWay
                | Self::ChangedAtBoot
                | Self::SecureBootRefuses
                | Self::RecordForeign
                | Self::SectorForeign
                | Self::GapInUse
        )
    }
}

impl fmt::Display for Code {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.word())
    }
}

impl serde::Serialize for Code {
    fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(self.word())
    }
}

impl<'de> Deserialize<'de> for Code {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let word = Cow::<str>::deserialize(deserializer)?;
        Self::parse(&word).ok_or_else(|| D::Error::custom("no code"))
    }
}
