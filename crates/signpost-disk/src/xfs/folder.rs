//! Folders: names in the inode, or in blocks of data ("Directories").

use alloc::format;

use crate::bytes::{be16, be32, be64, len, short};
use crate::error::VolumeError;
use crate::tree::NodeKind;

/// What is known of all folders of a volume.
pub(super) struct Layout {
    pub(super) has_file_types: bool,
    /// Bytes of a folder block.
    pub(super) block_size: usize,
}

/// A name in a folder.
pub(super) struct Name<'a> {
    pub(super) name: &'a [u8],
    pub(super) inode: u64,
    /// What it is, where the folder says so.
    pub(super) kind: Option<NodeKind>,
}

/// What is done with each name: folders have thousands, of which most are passed by.
pub(super) type Take<'t> = dyn FnMut(Name<'_>) + 't;

fn kind(file_type: u8) -> NodeKind {
    match file_type {
        1 => NodeKind::File,
        2 => NodeKind::Folder,
        7 => NodeKind::Link,
        _ => NodeKind::Other,
    }
}

/// Names in the inode itself ("Shortform Directories").
pub(super) fn short_form(bytes: &[u8], layout: &Layout, take: &mut Take<'_>) -> Option<()> {
    let (count, wide) = (*bytes.first()?, *bytes.get(1)? != 0);
    let width = if wide { 8 } else { 4 };
    let mut at = 2usize.checked_add(width)?;
    for _ in 0..count {
        let length = usize::from(*bytes.get(at)?);
        let from = at.checked_add(3)?;
        let end = from.checked_add(length)?;
        let name = bytes.get(from..end)?;
        let typed = if layout.has_file_types { Some(kind(*bytes.get(end)?)) } else { None };
        let number = end.checked_add(usize::from(layout.has_file_types))?;
        let inode = if wide { be64(bytes, number)? } else { u64::from(be32(bytes, number)?) };
        take(Name { name, inode, kind: typed });
        at = number.checked_add(width)?;
    }
    Some(())
}

/// The names of one block of data. A hole in a folder reads as zeros, and holds none.
pub(super) fn block(block: &[u8], layout: &Layout, take: &mut Take<'_>) -> Result<(), VolumeError> {
    let magic = block.get(..4).unwrap_or_default();
    let (header, has_index) = match magic {
        b"XD2D" => (16, false),
        b"XD2B" => (16, true),
        b"XDD3" => (64, false),
        b"XDB3" => (64, true),
        [0, 0, 0, 0] => return Ok(()),
        _ => return Err(VolumeError::Corrupt(format!("XFS: a folder block starts with {magic:02x?}"))),
    };
    let end = if has_index { index_start(block) } else { Some(block.len()) };
    let end = end.ok_or_else(|| short("XFS folder block"))?;
    entries(block, header, end, layout, take).ok_or_else(|| short("XFS folder block"))
}

/// In a folder of one block its index stands behind the names: eight bytes an entry, then their count.
fn index_start(block: &[u8]) -> Option<usize> {
    let tail = block.len().checked_sub(8)?;
    tail.checked_sub(len(be32(block, tail)?).checked_mul(8)?)
}

fn entries(block: &[u8], start: usize, end: usize, layout: &Layout, take: &mut Take<'_>) -> Option<()> {
    let mut at = start;
    while at < end {
        if be16(block, at)? == 0xffff {
            // Room that is free, as long as it says; no less than its own fields.
            at = at.checked_add(usize::from(be16(block, at.checked_add(2)?)?).max(8))?;
            continue;
        }
        let length = usize::from(*block.get(at.checked_add(8)?)?);
        let from = at.checked_add(9)?;
        let name_end = from.checked_add(length)?;
        let typed = if layout.has_file_types { Some(kind(*block.get(name_end)?)) } else { None };
        let name = block.get(from..name_end)?;
        take(Name { name, inode: be64(block, at)?, kind: typed });
        // A tag of two bytes ends it; the whole is padded to eight.
        let used = name_end.checked_add(usize::from(layout.has_file_types))?.checked_add(2)?;
        at = at.checked_add(used.checked_sub(at)?.checked_next_multiple_of(8)?)?;
    }
    Some(())
}
