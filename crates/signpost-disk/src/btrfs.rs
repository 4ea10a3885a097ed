//! btrfs on one device (its "On-disk Format" document). Numbers are little-endian.
//!
//! Paths start in the top-level subvolume; other subvolumes are folders in it. Every node is checked against its
//! checksum, and its second copy is taken where the first one is broken.

mod extent;
mod item;
mod node;
mod subvolume;
mod superblock;

use alloc::format;
use alloc::string::{String, ToString};
use alloc::sync::Arc;
use alloc::vec::Vec;

use crate::block::{BlockDevice, ReadError, SharedDevice};
use crate::bytes::short;
use crate::error::VolumeError;
use crate::file_system::{FileSystem, Item, Metadata};
use crate::runs::Run;
use crate::tree::{NodeKind, Nodes, Tree};
use item::{DirItem, InodeItem, Key, kind};
use node::{Forest, TreeRoot};
use subvolume::FS_TREE;

/// Names of one folder that are listed.
const MAX_NAMES: usize = 200_000;

/// A btrfs volume, opened.
pub(crate) struct BtrfsVolume {
    forest: Forest,
    top: TreeRoot,
}

/// A node of the tree of files: an inode of a subvolume.
#[derive(Clone, Debug)]
pub(crate) struct File {
    tree: TreeRoot,
    number: u64,
    inode: InodeItem,
}

impl BtrfsVolume {
    /// Opens a volume whose superblock holds.
    pub(crate) fn open(device: SharedDevice) -> Result<Rooted, VolumeError> {
        let forest = Forest::open(device)?;
        let top = forest.subvolume(FS_TREE)?;
        Ok(Rooted(Tree(Self { forest, top })))
    }

    fn file(&self, tree: TreeRoot, number: u64) -> Result<File, VolumeError> {
        let key = Key { object: number, kind: kind::INODE_ITEM, offset: 0 };
        let item = self.forest.find(tree, key)?.ok_or_else(|| {
            VolumeError::Corrupt(format!("btrfs: inode {number} is named in a folder and is not there"))
        })?;
        let inode = InodeItem::decode(&item).ok_or_else(|| short("btrfs inode"))?;
        Ok(File { tree, number, inode })
    }

    /// What a folder's entry leads to: an inode of the same tree, or the root of another subvolume.
    fn follow(&self, tree: TreeRoot, entry: &DirItem) -> Result<File, VolumeError> {
        if entry.location.kind == kind::ROOT_ITEM {
            // A snapshot has the names of the subvolumes inside of what it was made from, and not these themselves.
            let parent = self.forest.parent_of(entry.location.object)?.map(|(parent, _, _)| parent);
            if parent != Some(tree.number) {
                return Ok(File { tree, number: 0, inode: InodeItem { size: 0, mode: 0x4000 } });
            }
            let tree = self.forest.subvolume(entry.location.object)?;
            return self.file(tree, tree.folder);
        }
        self.file(tree, entry.location.object)
    }
}

impl Nodes for BtrfsVolume {
    type Node = File;

    fn root(&self) -> Result<File, VolumeError> {
        self.file(self.top, self.top.folder)
    }

    fn kind(&self, node: &File) -> NodeKind {
        NodeKind::of_mode(node.inode.mode)
    }

    fn size(&self, node: &File) -> u64 {
        node.inode.size
    }

    fn child(&self, folder: &File, name: &str) -> Result<Option<File>, VolumeError> {
        let key = Key {
            object: folder.number,
            kind: kind::DIR_ITEM,
            offset: u64::from(item::name_hash(name.as_bytes())),
        };
        let Some(bytes) = self.forest.find(folder.tree, key)? else { return Ok(None) };
        // Names with one hash share an item.
        let entries = DirItem::decode_all(&bytes);
        let entry = entries.iter().find(|entry| entry.name == name.as_bytes());
        entry.map(|entry| self.follow(folder.tree, entry)).transpose()
    }

    fn children(&self, folder: &File) -> Result<Vec<(String, NodeKind)>, VolumeError> {
        let mut names = Vec::new();
        let from = Key { object: folder.number, kind: kind::DIR_INDEX, offset: 0 };
        self.forest.walk(folder.tree, from, &mut |key, bytes| {
            if (key.object, key.kind) != (folder.number, kind::DIR_INDEX) || names.len() >= MAX_NAMES {
                return false;
            }
            for entry in DirItem::decode_all(bytes) {
                names.push((String::from_utf8_lossy(&entry.name).into_owned(), entry.node_kind()));
            }
            true
        })?;
        Ok(names)
    }

    fn runs(&self, file: &File) -> Result<Option<(SharedDevice, Vec<Run>)>, VolumeError> {
        let runs = extent::plain_runs(&self.forest, file.tree, file.number)?;
        Ok(runs.map(|runs| (self.forest.device.clone(), runs)))
    }

    fn read(&self, node: &File, offset: u64, buffer: &mut [u8]) -> Result<(), VolumeError> {
        extent::read(&self.forest, node.tree, node.number, offset, buffer)
    }
}

/// The volume's files, and the roots that systems in it may have.
pub(crate) struct Rooted(Tree<BtrfsVolume>);

impl FileSystem for Rooted {
    fn list(&self, folder: &str) -> Result<Vec<Item>, VolumeError> {
        self.0.list(folder)
    }

    fn metadata(&self, path: &str) -> Result<Metadata, VolumeError> {
        self.0.metadata(path)
    }

    fn read_at(&self, path: &str, offset: u64, buffer: &mut [u8]) -> Result<usize, VolumeError> {
        self.0.read_at(path, offset, buffer)
    }

    fn file_device(&self, path: &str) -> Result<Option<SharedDevice>, VolumeError> {
        if let Some(device) = self.0.file_device(path)? {
            return Ok(Some(device));
        }
        let file = self.0.find(path)?;
        let device = self.0.0.forest.device.clone();
        let size = file.inode.size;
        let (tree, inode) = (file.tree, file.number);
        Ok(Some(Arc::new(Unpacked { device, tree, inode, size })))
    }

    fn subvolumes(&self) -> Result<Vec<crate::file_system::Subvolume>, VolumeError> {
        subvolume::all(&self.0.0.forest)
    }
}

/// A file's bytes as a device, where they are packed on the volume. A device is shared between threads, which what was read of
/// the trees is not: it is read anew each time.
struct Unpacked {
    device: SharedDevice,
    tree: TreeRoot,
    inode: u64,
    /// Bytes.
    size: u64,
}

impl BlockDevice for Unpacked {
    fn size(&self) -> u64 {
        self.size
    }

    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> Result<(), ReadError> {
        let length = buffer.len();
        let end = u64::try_from(length).ok().and_then(|length| offset.checked_add(length));
        if end.is_none_or(|end| end > self.size) {
            return Err(ReadError::past_end(offset, length, self.size));
        }
        let read = Forest::open(self.device.clone())
            .and_then(|forest| extent::read(&forest, self.tree, self.inode, offset, buffer));
        read.map_err(|error| ReadError { offset, length, why: error.to_string() })
    }
}
