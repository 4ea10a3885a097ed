//! Paths, walked over nodes: what XFS, btrfs, NTFS and ISO 9660 have in common. Links are followed, in bounds.

use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec::Vec;

use crate::block::SharedDevice;
use crate::bytes::len;
use crate::error::VolumeError;
use crate::file_system::{FileSystem, Item, Metadata, parts};
use crate::runs::{FileDevice, Run};

/// Links followed on one way to a file.
const MAX_LINKS: usize = 40;
/// Bytes of a link's target.
const MAX_TARGET: u64 = 4096;
/// Parts of a path, those of followed links counted in.
const MAX_PARTS: usize = 512;

/// What a node is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum NodeKind {
    Folder,
    File,
    Link,
    /// A device, a socket, a pipe.
    Other,
}

impl NodeKind {
    /// From the file type bits of a Unix mode.
    pub(crate) fn of_mode(mode: u16) -> Self {
        match mode & 0xf000 {
            0x4000 => Self::Folder,
            0x8000 => Self::File,
            0xa000 => Self::Link,
            _ => Self::Other,
        }
    }
}

/// A file system as nodes with children.
pub(crate) trait Nodes {
    type Node: Clone;

    fn root(&self) -> Result<Self::Node, VolumeError>;
    fn kind(&self, node: &Self::Node) -> NodeKind;
    /// Bytes.
    fn size(&self, node: &Self::Node) -> u64;
    /// The child of this name in a folder.
    fn child(&self, folder: &Self::Node, name: &str) -> Result<Option<Self::Node>, VolumeError>;
    /// Names in a folder, and what each is; `.` and `..` may be among them.
    fn children(&self, folder: &Self::Node) -> Result<Vec<(String, NodeKind)>, VolumeError>;
    /// A link's target.
    fn target(&self, link: &Self::Node) -> Result<Vec<u8>, VolumeError> {
        let mut target = alloc::vec![0; len(self.size(link).min(MAX_TARGET))];
        self.read(link, 0, &mut target)?;
        Ok(target)
    }
    /// The volume's device and a file's runs on it, where its bytes lie there as they are.
    fn runs(&self, file: &Self::Node) -> Result<Option<(SharedDevice, Vec<Run>)>, VolumeError>;
    /// Fills `buffer` from `offset` on, all of it within the node's size.
    fn read(&self, node: &Self::Node, offset: u64, buffer: &mut [u8]) -> Result<(), VolumeError>;
}

/// A file system made of nodes.
pub(crate) struct Tree<T>(pub(crate) T);

impl<T: Nodes> Tree<T> {
    pub(crate) fn find(&self, path: &str) -> Result<T::Node, VolumeError> {
        let mut way = Vec::from([self.0.root()?]);
        // The parts still to go, the next one last.
        let mut left: Vec<String> = parts(path).map(ToString::to_string).collect();
        left.reverse();
        let mut links = 0usize;
        while let Some(part) = left.pop() {
            if part == ".." {
                if way.len() > 1 {
                    way.pop();
                }
                continue;
            }
            let Some(folder) = way.last() else { break };
            if self.0.kind(folder) != NodeKind::Folder {
                return Err(VolumeError::NotFound(path.to_string()));
            }
            let node = self.0.child(folder, &part)?.ok_or_else(|| VolumeError::NotFound(path.to_string()))?;
            if self.0.kind(&node) != NodeKind::Link {
                way.push(node);
                continue;
            }
            links = links.saturating_add(1);
            let target = self.0.target(&node)?;
            let target = String::from_utf8_lossy(&target);
            if links > MAX_LINKS || left.len() > MAX_PARTS {
                return Err(VolumeError::Corrupt(format!("{path}: its links go round in a circle")));
            }
            if target.starts_with('/') {
                way.truncate(1);
            }
            let before = left.len();
            left.extend(parts(&target).map(ToString::to_string));
            if let Some(added) = left.get_mut(before..) {
                added.reverse();
            }
        }
        way.pop().ok_or_else(|| VolumeError::NotFound(path.to_string()))
    }

    fn folder(&self, path: &str) -> Result<T::Node, VolumeError> {
        let node = self.find(path)?;
        match self.0.kind(&node) {
            NodeKind::Folder => Ok(node),
            _ => Err(VolumeError::WrongKind { path: path.to_string(), found: "no folder" }),
        }
    }

    /// Whether a name in a folder leads to a folder by way of a link.
    fn leads_to_folder(&self, folder: &str, name: &str) -> bool {
        self.find(&format!("{folder}/{name}")).is_ok_and(|node| self.0.kind(&node) == NodeKind::Folder)
    }
}

impl<T: Nodes> FileSystem for Tree<T> {
    fn list(&self, folder: &str) -> Result<Vec<Item>, VolumeError> {
        let mut items = Vec::new();
        for (name, kind) in self.0.children(&self.folder(folder)?)? {
            if name == "." || name == ".." {
                continue;
            }
            let is_folder = match kind {
                NodeKind::Folder => true,
                NodeKind::Link => self.leads_to_folder(folder, &name),
                NodeKind::File | NodeKind::Other => false,
            };
            items.push(Item { name, is_folder });
        }
        items.sort_unstable();
        Ok(items)
    }

    fn metadata(&self, path: &str) -> Result<Metadata, VolumeError> {
        let node = self.find(path)?;
        let is_folder = self.0.kind(&node) == NodeKind::Folder;
        Ok(Metadata { size: self.0.size(&node), is_folder })
    }

    fn file_device(&self, path: &str) -> Result<Option<SharedDevice>, VolumeError> {
        let node = self.find(path)?;
        if self.0.kind(&node) != NodeKind::File {
            return Err(VolumeError::WrongKind { path: path.to_string(), found: "no plain file" });
        }
        let runs = self.0.runs(&node)?;
        Ok(runs.map(|(device, runs)| FileDevice::shared(&device, runs, self.0.size(&node))))
    }

    fn read_at(&self, path: &str, offset: u64, buffer: &mut [u8]) -> Result<usize, VolumeError> {
        let node = self.find(path)?;
        match self.0.kind(&node) {
            NodeKind::File => {}
            NodeKind::Folder => {
                return Err(VolumeError::WrongKind { path: path.to_string(), found: "a folder" });
            }
            _ => return Err(VolumeError::WrongKind { path: path.to_string(), found: "no plain file" }),
        }
        let there = len(self.0.size(&node).saturating_sub(offset)).min(buffer.len());
        let Some(wanted) = buffer.get_mut(..there) else { return Ok(0) };
        if !wanted.is_empty() {
            self.0.read(&node, offset, wanted)?;
        }
        Ok(there)
    }
}
