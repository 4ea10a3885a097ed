//! UFS of the BSD family, and ZFS.

use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec::Vec;

use super::head::Head;
use crate::bytes::{be32, be64, le32, len};
use crate::identity::{Identity, VolumeKind};
use crate::text::fixed_text;

/// Where a superblock of UFS may stand (`SBLOCKSEARCH` of `ufs/ffs/fs.h`).
const UFS_OFFSETS: [u64; 4] = [65536, 8192, 0, 262_144];
const UFS1_MAGIC: u32 = 0x0001_1954;
const UFS2_MAGIC: u32 = 0x1954_0119;

/// UFS, in either byte order.
pub(super) fn ufs(head: &Head<'_>) -> Option<Identity> {
    for offset in UFS_OFFSETS {
        let Some(magic) = head.array::<4>(offset.saturating_add(1372)) else { continue };
        for word in [le32 as fn(&[u8], usize) -> Option<u32>, be32] {
            let kind = match word(&magic, 0)? {
                UFS1_MAGIC => VolumeKind::Ufs1,
                UFS2_MAGIC => VolumeKind::Ufs2,
                _ => continue,
            };
            let superblock = head.bytes(offset, 1376)?;
            let (first, second) = (word(&superblock, 144)?, word(&superblock, 148)?);
            let uuid = (first != 0 || second != 0).then(|| format!("{first:08x}{second:08x}"));
            let label = superblock.get(680..712).filter(|_| kind == VolumeKind::Ufs2).and_then(fixed_text);
            let mut identity = Identity::named(kind, label, uuid);
            // `fs_clean`.
            identity.is_unclean = *superblock.get(209)? == 0;
            return Some(identity);
        }
    }
    None
}

/// Where the name-value list of the first label stands ("ZFS On-Disk Specification", 1.3).
const NVLIST: u64 = 16 * 1024;
/// Bytes of it that are looked at.
const NVLIST_LENGTH: usize = 4096;
/// Pairs that are looked at.
const MAX_PAIRS: usize = 64;

/// A member of a pool: the pool's name is its label, the pool's number its identity.
pub(super) fn zfs(head: &Head<'_>) -> Option<Identity> {
    // XDR encoding, little-endian host or not; then version 0 and flags.
    let start = head.array::<8>(NVLIST)?;
    if start[0] != 1 || start[1] > 1 || be32(&start, 4)? != 0 {
        return None;
    }
    let list = head.bytes(NVLIST, NVLIST_LENGTH)?;
    let mut at = 12usize;
    let (mut name, mut guid) = (None, None);
    for _ in 0..MAX_PAIRS {
        let size = len(be32(&list, at)?);
        if size == 0 {
            break;
        }
        let pair: Vec<u8> = list.get(at..at.checked_add(size)?)?.to_vec();
        let name_length = len(be32(&pair, 8)?);
        let key = pair.get(12..)?.get(..name_length)?;
        // Behind the name, padded to 4: its type, the number of its values, the values.
        let value = 12usize.checked_add(name_length.checked_next_multiple_of(4)?)?.checked_add(8)?;
        match key {
            b"name" => name = text(&pair, value),
            b"pool_guid" => guid = be64(&pair, value),
            _ => {}
        }
        at = at.checked_add(size)?;
    }
    Some(Identity::named(VolumeKind::Zfs, name, Some(guid?.to_string())))
}

fn text(pair: &[u8], at: usize) -> Option<String> {
    let length = len(be32(pair, at)?);
    fixed_text(pair.get(at.checked_add(4)?..)?.get(..length)?)
}
