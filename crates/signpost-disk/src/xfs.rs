//! XFS, versions 4 and 5 (the "XFS Algorithms & Data Structures" guide, third edition). Numbers are big-endian.
//!
//! Every link is bounded: block numbers by the volume, trees by depth and count, folders by length.

mod folder;
mod inode;
mod superblock;

use alloc::format;
use alloc::string::String;
use alloc::vec;
use alloc::vec::Vec;

use crate::block::{SharedDevice, read_vec};
use crate::bytes::{len, short};
use crate::error::VolumeError;
use crate::runs::{self, Run};
use crate::tree::{NodeKind, Nodes, Tree};
use inode::{Fork, Inode};
use superblock::Superblock;

/// Bytes of a folder's data that are looked through.
const MAX_FOLDER: u64 = 16 << 20;
/// Folder data lies before this offset, its index behind.
const INDEX_OFFSET: u64 = 1 << 35;
/// Header of a block of a link's target, version 5: "Symbolic Links".
const LINK_HEADER: usize = 56;

/// An XFS volume, opened.
pub(crate) struct XfsVolume {
    device: SharedDevice,
    superblock: Superblock,
}

impl XfsVolume {
    /// Opens a volume whose superblock holds.
    pub(crate) fn open(device: SharedDevice) -> Result<Tree<Self>, VolumeError> {
        let superblock = Superblock::read(device.as_ref())?;
        Ok(Tree(Self { device, superblock }))
    }

    fn inode(&self, number: u64) -> Result<Inode, VolumeError> {
        let lost = || VolumeError::Corrupt(format!("XFS: inode {number} lies outside of the volume"));
        let offset = self.superblock.inode_offset(number).ok_or_else(lost)?;
        let bytes = read_vec(self.device.as_ref(), offset, len(self.superblock.inode_size))?;
        Inode::decode(number, &bytes, self.superblock.is_version_5)
    }

    fn map(&self, inode: &Inode) -> Result<Vec<Run>, VolumeError> {
        inode::Mapper { device: self.device.as_ref(), superblock: &self.superblock }.runs(inode)
    }

    /// Goes through a folder's names.
    fn names(&self, folder: &Inode, take: &mut folder::Take<'_>) -> Result<(), VolumeError> {
        let layout = folder::Layout {
            has_file_types: self.superblock.has_file_types,
            block_size: len(self.superblock.folder_block_size),
        };
        if let Fork::Local(bytes) = &folder.fork {
            return folder::short_form(bytes, &layout, take).ok_or_else(|| short("XFS short folder"));
        }
        let runs = self.map(folder)?;
        let data: Vec<&Run> = runs.iter().filter(|run| run.at < INDEX_OFFSET).collect();
        let end = data.last().map_or(0, |run| run.at.saturating_add(run.length));
        if end > MAX_FOLDER {
            return Err(VolumeError::Unsupported(format!("an XFS folder of {end} bytes")));
        }
        let mut block = vec![0; layout.block_size];
        let mut at = 0u64;
        while at < end {
            runs::read(self.device.as_ref(), &runs, at, &mut block)?;
            folder::block(&block, &layout, take)?;
            at = at.saturating_add(self.superblock.folder_block_size);
        }
        Ok(())
    }
}

impl Nodes for XfsVolume {
    type Node = Inode;

    fn root(&self) -> Result<Inode, VolumeError> {
        self.inode(self.superblock.root_inode)
    }

    fn kind(&self, node: &Inode) -> NodeKind {
        NodeKind::of_mode(node.mode)
    }

    fn size(&self, node: &Inode) -> u64 {
        node.size
    }

    fn child(&self, folder: &Inode, name: &str) -> Result<Option<Inode>, VolumeError> {
        let mut inode = None;
        self.names(folder, &mut |found| {
            if inode.is_none() && found.name == name.as_bytes() {
                inode = Some(found.inode);
            }
        })?;
        inode.map(|inode| self.inode(inode)).transpose()
    }

    fn children(&self, folder: &Inode) -> Result<Vec<(String, NodeKind)>, VolumeError> {
        let mut children = Vec::new();
        self.names(folder, &mut |found| {
            let asked = || self.inode(found.inode).map(|inode| NodeKind::of_mode(inode.mode));
            let kind = found.kind.unwrap_or_else(|| asked().unwrap_or(NodeKind::Other));
            children.push((String::from_utf8_lossy(found.name).into_owned(), kind));
        })?;
        Ok(children)
    }

    fn target(&self, link: &Inode) -> Result<Vec<u8>, VolumeError> {
        let size = len(link.size.min(1024));
        if let Fork::Local(bytes) = &link.fork {
            return Ok(bytes.get(..size).unwrap_or(bytes).to_vec());
        }
        let runs = self.map(link)?;
        let block_size = len(self.superblock.block_size);
        let (mut target, mut at) = (Vec::new(), 0u64);
        let header = if self.superblock.is_version_5 { LINK_HEADER } else { 0 };
        while target.len() < size {
            let mut block = vec![0; block_size];
            runs::read(self.device.as_ref(), &runs, at, &mut block)?;
            let left = size.saturating_sub(target.len());
            let piece = block.get(header..).unwrap_or_default();
            target.extend_from_slice(piece.get(..left).unwrap_or(piece));
            at = at.saturating_add(self.superblock.block_size);
        }
        Ok(target)
    }

    fn runs(&self, file: &Inode) -> Result<Option<(SharedDevice, Vec<Run>)>, VolumeError> {
        Ok(Some((self.device.clone(), self.map(file)?)))
    }

    fn read(&self, node: &Inode, offset: u64, buffer: &mut [u8]) -> Result<(), VolumeError> {
        if let Fork::Local(_) = node.fork {
            return Err(VolumeError::Corrupt(format!("XFS: file inode {} has its data in it", node.number)));
        }
        Ok(runs::read(self.device.as_ref(), &self.map(node)?, offset, buffer)?)
    }
}
