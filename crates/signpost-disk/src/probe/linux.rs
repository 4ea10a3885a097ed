//! File systems that come from Linux (the kernel's documents and headers of the same names).

use super::head::Head;
use super::xfs_log;
use crate::bytes::{le64, uuid_at};
use crate::identity::{Identity, VolumeKind};
use crate::text::{fixed_text, utf16_text};

/// XFS (the "XFS Algorithms & Data Structures" guide, "Superblocks").
pub(super) fn xfs(head: &Head<'_>) -> Option<Identity> {
    let superblock = head.bytes(0, 512).filter(|bytes| bytes.starts_with(b"XFSB"))?;
    let label = superblock.get(108..120).and_then(fixed_text);
    let mut identity = Identity::named(VolumeKind::Xfs, label, uuid_at(&superblock, 32));
    identity.is_unclean = xfs_log::is_dirty(head.device, &superblock).unwrap_or(false);
    Some(identity)
}

/// btrfs (its "On-disk Format" document, "Superblock"). A log tree is there where the last writes were not
/// yet taken in.
pub(super) fn btrfs(head: &Head<'_>) -> Option<Identity> {
    if !head.has(0x1_0040, b"_BHRfS_M") {
        return None;
    }
    let superblock = head.bytes(0x1_0000, 0x300)?;
    let label = superblock.get(0x12b..0x22b).and_then(fixed_text);
    let mut identity = Identity::named(VolumeKind::Btrfs, label, uuid_at(&superblock, 0x20));
    identity.is_unclean = le64(&superblock, 0x60)? != 0;
    Some(identity)
}

/// F2FS (`struct f2fs_super_block`).
pub(super) fn f2fs(head: &Head<'_>) -> Option<Identity> {
    let superblock = head.bytes(1024, 124 + 1024)?;
    if !superblock.starts_with(&[0x10, 0x20, 0xf5, 0xf2]) {
        return None;
    }
    let label = superblock.get(124..).and_then(|field| utf16_text(field, u16::from_le_bytes));
    Some(Identity::named(VolumeKind::F2fs, label, uuid_at(&superblock, 108)))
}

/// EROFS (`struct erofs_super_block`).
pub(super) fn erofs(head: &Head<'_>) -> Option<Identity> {
    let superblock = head.bytes(1024, 128)?;
    if !superblock.starts_with(&[0xe2, 0xe1, 0xf5, 0xe0]) {
        return None;
    }
    let label = superblock.get(64..80).and_then(fixed_text);
    Some(Identity::named(VolumeKind::Erofs, label, uuid_at(&superblock, 48)))
}

/// squashfs, which has neither label nor UUID.
pub(super) fn squashfs(head: &Head<'_>) -> Option<Identity> {
    head.has(0, b"hsqs").then(|| Identity::of_kind(VolumeKind::Squashfs))
}

/// Where swap ends its first page: by page size, 10 bytes before its end.
const SWAP_MARKS: [u64; 4] = [0x1000, 0x2000, 0x4000, 0x1_0000];
/// Marks that stand in its place while a system sleeps.
const SLEEPING: [&[u8; 10]; 4] = [b"S1SUSPEND\0", b"S2SUSPEND\0", b"ULSUSPEND\0", b"LINHIB0001"];

/// Linux swap (`union swap_header`), the marks of hibernation among it.
pub(super) fn swap(head: &Head<'_>) -> Option<Identity> {
    let mark = SWAP_MARKS.iter().find_map(|page| {
        let mark = head.array::<10>(page.checked_sub(10)?)?;
        let is_swap = mark == *b"SWAPSPACE2" || mark == *b"SWAP-SPACE";
        (is_swap || SLEEPING.contains(&&mark)).then_some(mark)
    })?;
    let header = head.bytes(1024, 44)?;
    let label = header.get(28..44).and_then(fixed_text);
    let mut identity = Identity::named(VolumeKind::Swap, label, uuid_at(&header, 12));
    identity.is_hibernated = SLEEPING.contains(&&mark);
    Some(identity)
}
