//! The files and folders of a volume, by its inodes.

use alloc::format;
use alloc::string::String;
use alloc::vec;
use alloc::vec::Vec;

use super::folder::Entries;
use super::inode::{Body, Inode};
use super::layout::Layout;
use crate::block::{SharedDevice, read_vec};
use crate::bytes::len;
use crate::error::VolumeError;
use crate::runs::{self, Run};
use crate::tree::{NodeKind, Nodes};

const ROOT_INODE: u32 = 2;
/// Bytes of a folder that are looked through.
const MAX_FOLDER: u64 = 16 << 20;

impl Layout {
    fn inode(&self, number: u32) -> Result<Inode, VolumeError> {
        let lie = || VolumeError::Corrupt(format!("ext: inode {number} cannot be where it would have to be"));
        let at = self.inode_at(number)?.ok_or_else(lie)?;
        let raw = read_vec(self.device.as_ref(), at, len(self.inode_size))?;
        Inode::read(self, number, &raw)
    }

    /// The bytes of a folder's entries.
    fn names(&self, folder: &Inode) -> Result<Vec<u8>, VolumeError> {
        if folder.is_encrypted {
            return Err(VolumeError::Unsupported("ext: a folder whose names are encrypted".into()));
        }
        match &folder.body {
            // The number of the folder above stands before its entries.
            Body::Here(bytes) => Ok(bytes.get(4..).unwrap_or_default().to_vec()),
            Body::Runs(runs) if folder.size <= MAX_FOLDER => {
                let mut names = vec![0; len(folder.size)];
                runs::read(self.device.as_ref(), runs, 0, &mut names)?;
                Ok(names)
            }
            Body::Runs(_) => {
                Err(VolumeError::Unsupported(format!("ext: a folder of {} bytes of names", folder.size)))
            }
        }
    }
}

impl Nodes for Layout {
    type Node = Inode;

    fn root(&self) -> Result<Inode, VolumeError> {
        self.inode(ROOT_INODE)
    }

    fn kind(&self, node: &Inode) -> NodeKind {
        NodeKind::of_mode(node.mode)
    }

    fn size(&self, node: &Inode) -> u64 {
        node.size
    }

    fn child(&self, folder: &Inode, name: &str) -> Result<Option<Inode>, VolumeError> {
        let names = self.names(folder)?;
        let mut in_other_case = None;
        for entry in Entries::of(&names, self.block_size) {
            let entry = entry?;
            if entry.name == name.as_bytes() {
                return self.inode(entry.inode).map(Some);
            }
            if folder.ignores_case && entry.name.eq_ignore_ascii_case(name.as_bytes()) {
                in_other_case = Some(entry.inode);
            }
        }
        in_other_case.map(|number| self.inode(number)).transpose()
    }

    fn children(&self, folder: &Inode) -> Result<Vec<(String, NodeKind)>, VolumeError> {
        let names = self.names(folder)?;
        let mut children = Vec::new();
        for entry in Entries::of(&names, self.block_size) {
            let entry = entry?;
            let kind = match entry.kind {
                Some(kind) => kind,
                None => NodeKind::of_mode(self.inode(entry.inode)?.mode),
            };
            children.push((String::from_utf8_lossy(entry.name).into_owned(), kind));
        }
        Ok(children)
    }

    fn runs(&self, file: &Inode) -> Result<Option<(SharedDevice, Vec<Run>)>, VolumeError> {
        Ok(match &file.body {
            Body::Runs(runs) if !file.is_encrypted => Some((self.device.clone(), runs.clone())),
            _ => None,
        })
    }

    fn read(&self, node: &Inode, offset: u64, buffer: &mut [u8]) -> Result<(), VolumeError> {
        if node.is_encrypted {
            return Err(VolumeError::Unsupported("ext: an encrypted file".into()));
        }
        match &node.body {
            Body::Runs(runs) => Ok(runs::read(self.device.as_ref(), runs, offset, buffer)?),
            Body::Here(bytes) => runs::copy(bytes, offset, buffer)
                .ok_or_else(|| VolumeError::Corrupt("ext: a file in an inode ends before its size".into())),
        }
    }
}
