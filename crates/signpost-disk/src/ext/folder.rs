//! Names in a folder ("Directory Entries").

use crate::bytes::{le16, le32};
use crate::error::VolumeError;
use crate::tree::NodeKind;

/// One name in a folder.
pub(super) struct Entry<'a> {
    pub(super) inode: u32,
    /// `None` where volumes do not say it, as old ones.
    pub(super) kind: Option<NodeKind>,
    pub(super) name: &'a [u8],
}

/// The names in a folder's bytes. Folders with an index hold it in what reads as unused entries.
pub(super) struct Entries<'a> {
    left: &'a [u8],
    block_size: u64,
}

impl<'a> Entries<'a> {
    pub(super) fn of(bytes: &'a [u8], block_size: u64) -> Self {
        Self { left: bytes, block_size }
    }

    fn take(&mut self) -> Option<Entry<'a>> {
        let bytes = self.left;
        let inode = le32(bytes, 0)?;
        let length = match le16(bytes, 4)? {
            // 64 KiB have no number of their own there.
            0 | u16::MAX if self.block_size == 0x1_0000 => 0x1_0000,
            length => usize::from(length),
        };
        let name_length = usize::from(*bytes.get(6)?);
        let kind = match *bytes.get(7)? {
            0 => None,
            1 => Some(NodeKind::File),
            2 => Some(NodeKind::Folder),
            7 => Some(NodeKind::Link),
            _ => Some(NodeKind::Other),
        };
        // An entry shorter than its own header would never end.
        self.left = (length >= 8).then(|| bytes.get(length..)).flatten()?;
        Some(Entry { inode, kind, name: bytes.get(8..name_length.checked_add(8)?)? })
    }
}

impl<'a> Iterator for Entries<'a> {
    type Item = Result<Entry<'a>, VolumeError>;

    fn next(&mut self) -> Option<Self::Item> {
        while !self.left.is_empty() {
            match self.take() {
                Some(entry) if entry.inode == 0 => {}
                Some(entry) => return Some(Ok(entry)),
                None => {
                    self.left = &[];
                    return Some(Err(VolumeError::Corrupt("ext: an impossible folder entry".into())));
                }
            }
        }
        None
    }
}
