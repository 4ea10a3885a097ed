//! Keys and items of the trees.

use alloc::vec::Vec;

use crate::bytes::{le16, le32, le64};
use crate::checksum;
use crate::tree::NodeKind;

/// Kinds of item.
pub(super) mod kind {
    pub(in super::super) const INODE_ITEM: u8 = 1;
    pub(in super::super) const DIR_ITEM: u8 = 84;
    pub(in super::super) const DIR_INDEX: u8 = 96;
    pub(in super::super) const EXTENT_DATA: u8 = 108;
    pub(in super::super) const ROOT_ITEM: u8 = 132;
    pub(in super::super) const ROOT_BACKREF: u8 = 144;
    pub(in super::super) const CHUNK_ITEM: u8 = 228;
    pub(in super::super) const INODE_REF: u8 = 12;
}

/// Bytes of a key on disk.
pub(super) const KEY_LENGTH: usize = 17;
/// Names that share one hash.
const MAX_SHARED: usize = 64;

/// What orders the items of a tree.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(super) struct Key {
    pub(super) object: u64,
    pub(super) kind: u8,
    pub(super) offset: u64,
}

impl Key {
    pub(super) fn decode(bytes: &[u8], at: usize) -> Option<Self> {
        let bytes = bytes.get(at..)?;
        Some(Self { object: le64(bytes, 0)?, kind: *bytes.get(8)?, offset: le64(bytes, 9)? })
    }
}

/// The hash by which names are found.
pub(super) fn name_hash(name: &[u8]) -> u32 {
    checksum::crc32c_seeded(!1, name)
}

/// `btrfs_inode_item`.
#[derive(Clone, Copy, Debug)]
pub(super) struct InodeItem {
    pub(super) size: u64,
    pub(super) mode: u16,
}

impl InodeItem {
    pub(super) fn decode(bytes: &[u8]) -> Option<Self> {
        let [low, high, ..] = le32(bytes, 52)?.to_le_bytes();
        Some(Self { size: le64(bytes, 16)?, mode: u16::from_le_bytes([low, high]) })
    }
}

/// `btrfs_dir_item`: a name and what it leads to.
#[derive(Clone, Debug)]
pub(super) struct DirItem {
    pub(super) location: Key,
    pub(super) name: Vec<u8>,
    file_type: u8,
}

impl DirItem {
    /// All of an item's; what is cut short ends it.
    pub(super) fn decode_all(bytes: &[u8]) -> Vec<Self> {
        let mut found = Vec::new();
        let mut rest = bytes;
        while let Some((entry, after)) = Self::decode(rest) {
            found.push(entry);
            if found.len() >= MAX_SHARED {
                break;
            }
            rest = after;
        }
        found
    }

    fn decode(bytes: &[u8]) -> Option<(Self, &[u8])> {
        let (data, name) = (usize::from(le16(bytes, 25)?), usize::from(le16(bytes, 27)?));
        let end = 30usize.checked_add(name)?;
        let entry = Self {
            location: Key::decode(bytes, 0)?,
            file_type: *bytes.get(29)?,
            name: bytes.get(30..end)?.to_vec(),
        };
        Some((entry, bytes.get(end.checked_add(data)?..)?))
    }

    pub(super) fn node_kind(&self) -> NodeKind {
        match self.file_type {
            1 => NodeKind::File,
            2 => NodeKind::Folder,
            7 => NodeKind::Link,
            _ => NodeKind::Other,
        }
    }
}
