//! Subvolumes: the trees of files of a volume, and the one that is taken where nobody names any.

use alloc::format;
use alloc::string::String;
use alloc::vec::Vec;

use super::item::{DirItem, Key, kind, name_hash};
use super::node::{Forest, TreeRoot};
use crate::bytes::{le16, le64, short};
use crate::error::VolumeError;
use crate::file_system::Subvolume;

/// The top-level subvolume's tree.
pub(super) const FS_TREE: u64 = 5;

/// The folder of the tree of roots, which holds the name `default`.
const ROOT_TREE_FOLDER: u64 = 6;
/// Subvolumes that are named.
const MAX_SUBVOLUMES: usize = 4096;
/// Folders and subvolumes on the way to one.
const MAX_DEPTH: usize = 64;
const FLAG_READ_ONLY: u64 = 1;

impl Forest {
    /// The tree of a subvolume.
    pub(super) fn subvolume(&self, number: u64) -> Result<TreeRoot, VolumeError> {
        self.root_item(number)?
            .map(|(root, _)| root)
            .ok_or_else(|| VolumeError::Corrupt(format!("btrfs: subvolume {number} is not there")))
    }

    /// The tree of a subvolume, and its flags.
    fn root_item(&self, number: u64) -> Result<Option<(TreeRoot, u64)>, VolumeError> {
        let from = Key { object: number, kind: kind::ROOT_ITEM, offset: 0 };
        let mut found = None;
        self.walk(self.roots, from, &mut |key, bytes| {
            if (key.object, key.kind) == (number, kind::ROOT_ITEM) {
                found = Some(bytes.to_vec());
                return true;
            }
            false
        })?;
        let Some(bytes) = found else { return Ok(None) };
        let fields = || {
            let root = TreeRoot {
                at: le64(&bytes, 176)?,
                level: *bytes.get(238)?,
                folder: le64(&bytes, 168)?,
                number,
            };
            Some((root, le64(&bytes, 208)?))
        };
        fields().map(Some).ok_or_else(|| short("btrfs root item"))
    }

    /// The number of the subvolume that is taken where nobody names any.
    fn default_subvolume(&self) -> Result<u64, VolumeError> {
        const NAME: &[u8] = b"default";
        let key = Key { object: ROOT_TREE_FOLDER, kind: kind::DIR_ITEM, offset: u64::from(name_hash(NAME)) };
        let item = self.find(self.roots, key)?.unwrap_or_default();
        let entry = DirItem::decode_all(&item).into_iter().find(|entry| entry.name == NAME);
        Ok(entry.map_or(FS_TREE, |entry| entry.location.object))
    }

    /// A subvolume's path from the top: its name in its folder, that folder's way up, and so on.
    fn path_of(&self, number: u64) -> Result<Option<String>, VolumeError> {
        let mut parts: Vec<String> = Vec::new();
        let mut current = number;
        while current != FS_TREE {
            if parts.len() > MAX_DEPTH {
                return Ok(None);
            }
            let Some((parent, folder, name)) = self.parent_of(current)? else { return Ok(None) };
            parts.push(name);
            let tree = self.subvolume(parent)?;
            let mut inode = folder;
            while inode != tree.folder {
                let Some((above, name)) = self.folder_above(tree, inode)? else { return Ok(None) };
                parts.push(name);
                inode = above;
                if parts.len() > MAX_DEPTH {
                    return Ok(None);
                }
            }
            current = parent;
        }
        parts.reverse();
        Ok(Some(format!("/{}", parts.join("/"))))
    }

    /// `ROOT_BACKREF`: the subvolume that a subvolume stands in, the folder there, its name.
    pub(super) fn parent_of(&self, number: u64) -> Result<Option<(u64, u64, String)>, VolumeError> {
        let from = Key { object: number, kind: kind::ROOT_BACKREF, offset: 0 };
        let mut found = None;
        self.walk(self.roots, from, &mut |key, bytes| {
            if (key.object, key.kind) == (number, kind::ROOT_BACKREF) {
                found =
                    counted_name(bytes, 16, 18).and_then(|name| Some((key.offset, le64(bytes, 0)?, name)));
            }
            false
        })?;
        Ok(found)
    }

    /// `INODE_REF`: the folder above a folder, and its name there.
    fn folder_above(&self, tree: TreeRoot, inode: u64) -> Result<Option<(u64, String)>, VolumeError> {
        let from = Key { object: inode, kind: kind::INODE_REF, offset: 0 };
        let mut found = None;
        self.walk(tree, from, &mut |key, bytes| {
            if (key.object, key.kind) == (inode, kind::INODE_REF) {
                found = counted_name(bytes, 8, 10).map(|name| (key.offset, name));
            }
            false
        })?;
        Ok(found)
    }
}

fn counted_name(bytes: &[u8], length_at: usize, at: usize) -> Option<String> {
    let length = usize::from(le16(bytes, length_at)?);
    Some(String::from_utf8_lossy(bytes.get(at..)?.get(..length)?).into_owned())
}

/// Every subvolume that can be written to, with its path.
pub(super) fn all(forest: &Forest) -> Result<Vec<Subvolume>, VolumeError> {
    let default = forest.default_subvolume()?;
    let mut numbers = Vec::new();
    let from = Key { object: 256, kind: kind::ROOT_ITEM, offset: 0 };
    forest.walk(forest.roots, from, &mut |key, bytes| {
        // Numbers from 2^64 - 256 on are the volume's own trees.
        if key.object > u64::MAX.saturating_sub(256) {
            return false;
        }
        let is_writable = le64(bytes, 208).is_some_and(|flags| flags & FLAG_READ_ONLY == 0);
        if key.kind == kind::ROOT_ITEM && (is_writable || key.object == default) {
            numbers.push((key.object, copied(bytes)));
        }
        numbers.len() < MAX_SUBVOLUMES
    })?;
    numbers.dedup_by_key(|(number, _)| *number);
    let mut found = Vec::new();
    for (number, copied) in numbers {
        if let Some(path) = forest.path_of(number)? {
            found.push(Subvolume { path, is_default: number == default, copied });
        }
    }
    Ok(found)
}

/// When a subvolume was made as a copy of another: `parent_uuid` and `otime` of its `ROOT_ITEM`, which count where
/// `generation_v2` says that they were written.
fn copied(root_item: &[u8]) -> Option<i64> {
    let is_written = le64(root_item, 160)? == le64(root_item, 239)?;
    let parent = root_item.get(263..279)?;
    (is_written && parent.iter().any(|byte| *byte != 0)).then(|| le64(root_item, 339))?.map(u64::cast_signed)
}
