//! A file's bytes: runs on the device, small ones in the tree, packed ones ("EXTENT_DATA").

use alloc::format;
use alloc::vec;
use alloc::vec::Vec;

use super::item::{Key, kind};
use super::node::{Forest, TreeRoot};
use crate::block::read_vec;
use crate::bytes::{le32, le64, len, short};
use crate::error::VolumeError;
use crate::runs::{self, Run};

/// Bytes that an extent unpacks to at most; the format's own limit is a quarter.
const MAX_UNPACKED: u64 = 512 * 1024;
/// Extents that one reading passes.
const MAX_EXTENTS: usize = 200_000;

/// An extent of a file.
struct Extent {
    /// First byte within the file.
    at: u64,
    body: Body,
}

enum Body {
    /// In the tree itself.
    Inline { packing: Packing, unpacked: u64, data: Vec<u8> },
    /// On the device, as it is. Address 0 stands for a hole.
    Plain { logical: u64, length: u64 },
    /// On the device, packed; the file has `length` bytes from `offset` of what it unpacks to.
    Packed { packing: Packing, logical: u64, stored: u64, unpacked: u64, offset: u64, length: u64 },
}

#[derive(Clone, Copy)]
enum Packing {
    None,
    Zlib,
    Lzo,
    Zstd,
}

impl Extent {
    fn decode(at: u64, bytes: &[u8]) -> Option<Self> {
        let packing = match *bytes.get(16)? {
            0 => Packing::None,
            1 => Packing::Zlib,
            2 => Packing::Lzo,
            3 => Packing::Zstd,
            _ => return None,
        };
        let unpacked = le64(bytes, 8)?;
        let body = match *bytes.get(20)? {
            0 => Body::Inline { packing, unpacked, data: bytes.get(21..)?.to_vec() },
            kind => {
                let (logical, stored) = (le64(bytes, 21)?, le64(bytes, 29)?);
                let (offset, length) = (le64(bytes, 37)?, le64(bytes, 45)?);
                match packing {
                    // Room that was set aside and not written to reads as zero, as holes do.
                    _ if kind == 2 || logical == 0 => Body::Plain { logical: 0, length },
                    Packing::None => Body::Plain { logical: logical.checked_add(offset)?, length },
                    packing => Body::Packed { packing, logical, stored, unpacked, offset, length },
                }
            }
        };
        Some(Self { at, body })
    }

    fn end(&self) -> u64 {
        let length = match &self.body {
            Body::Inline { unpacked, .. } => *unpacked,
            Body::Plain { length, .. } | Body::Packed { length, .. } => *length,
        };
        self.at.saturating_add(length)
    }
}

/// Fills `buffer` with a file's bytes from `offset` on; what no extent covers reads as zero.
pub(super) fn read(
    forest: &Forest,
    tree: TreeRoot,
    inode: u64,
    offset: u64,
    buffer: &mut [u8],
) -> Result<(), VolumeError> {
    let end = offset.saturating_add(u64::try_from(buffer.len()).unwrap_or(u64::MAX));
    let extents = extents(forest, tree, inode, offset, end)?;
    let mut plain = Vec::new();
    for extent in &extents {
        if let Body::Plain { logical, length } = extent.body {
            add_runs(forest, extent.at, logical, length, &mut plain)?;
        }
    }
    runs::read(forest.device.as_ref(), &plain, offset, buffer)?;
    for extent in &extents {
        let bytes = match &extent.body {
            Body::Plain { .. } => continue,
            Body::Inline { packing, unpacked, data } => unpack(forest, *packing, data, *unpacked)?,
            Body::Packed { packing, logical, stored, unpacked, offset, length } => {
                let whole = unpack(forest, *packing, &stored_bytes(forest, *logical, *stored)?, *unpacked)?;
                let from = len(*offset).min(whole.len());
                let to = from.saturating_add(len(*length)).min(whole.len());
                whole.get(from..to).unwrap_or_default().to_vec()
            }
        };
        place(&bytes, extent.at, offset, buffer);
    }
    Ok(())
}

/// A whole file's runs; `None` where some of it is packed or stands in the tree.
pub(super) fn plain_runs(
    forest: &Forest,
    tree: TreeRoot,
    inode: u64,
) -> Result<Option<Vec<Run>>, VolumeError> {
    let mut found = Vec::new();
    for extent in extents(forest, tree, inode, 0, u64::MAX)? {
        let Body::Plain { logical, length } = extent.body else { return Ok(None) };
        add_runs(forest, extent.at, logical, length, &mut found)?;
    }
    Ok(Some(found))
}

/// Copies bytes that stand at `at` of a file into a buffer that holds what is from `offset` on.
fn place(bytes: &[u8], at: u64, offset: u64, buffer: &mut [u8]) {
    let skip = len(offset.saturating_sub(at));
    let from = len(at.saturating_sub(offset));
    let (Some(source), Some(target)) = (bytes.get(skip..), buffer.get_mut(from..)) else { return };
    let count = source.len().min(target.len());
    if let (Some(source), Some(target)) = (source.get(..count), target.get_mut(..count)) {
        target.copy_from_slice(source);
    }
}

/// The extents of a file that have bytes from `offset` to `end`.
fn extents(
    forest: &Forest,
    tree: TreeRoot,
    inode: u64,
    offset: u64,
    end: u64,
) -> Result<Vec<Extent>, VolumeError> {
    let mut found: Vec<Extent> = Vec::new();
    let mut fault = None;
    let from = Key { object: inode, kind: kind::EXTENT_DATA, offset: 0 };
    forest.walk(tree, from, &mut |key, bytes| {
        if (key.object, key.kind) != (inode, kind::EXTENT_DATA) || key.offset >= end {
            return false;
        }
        match Extent::decode(key.offset, bytes) {
            Some(extent) if extent.end() > offset => found.push(extent),
            Some(_) => {}
            None => fault = Some(short("btrfs extent")),
        }
        if found.len() > MAX_EXTENTS {
            let why =
                format!("a file of more than {MAX_EXTENTS} extents on btrfs; so many are not read at once");
            fault = Some(VolumeError::Unsupported(why));
        }
        fault.is_none()
    })?;
    fault.map_or(Ok(found), Err)
}

/// Runs of a plain extent, one for each chunk that it reaches over.
fn add_runs(
    forest: &Forest,
    at: u64,
    logical: u64,
    length: u64,
    found: &mut Vec<Run>,
) -> Result<(), VolumeError> {
    if logical == 0 {
        found.push(Run { at, from: None, length });
        return Ok(());
    }
    let mut done = 0u64;
    while done < length {
        let (copies, there) = forest.locate(logical.saturating_add(done), length.saturating_sub(done))?;
        let from = copies.first().copied();
        runs::push(found, Run { at: at.saturating_add(done), from, length: there });
        done = done.saturating_add(there.max(1));
    }
    Ok(())
}

fn stored_bytes(forest: &Forest, logical: u64, stored: u64) -> Result<Vec<u8>, VolumeError> {
    if stored > MAX_UNPACKED {
        return Err(VolumeError::Corrupt(format!("btrfs: a packed extent of {stored} bytes")));
    }
    let (copies, there) = forest.locate(logical, stored)?;
    let from = copies.first().copied().filter(|_| there == stored);
    let from =
        from.ok_or_else(|| VolumeError::Corrupt("btrfs: a packed extent reaches past its chunk".into()))?;
    Ok(read_vec(forest.device.as_ref(), from, len(stored))?)
}

fn unpack(forest: &Forest, packing: Packing, packed: &[u8], unpacked: u64) -> Result<Vec<u8>, VolumeError> {
    if unpacked > MAX_UNPACKED {
        return Err(VolumeError::Corrupt(format!("btrfs: an extent that unpacks to {unpacked} bytes")));
    }
    let mut bytes = vec![0; len(unpacked)];
    let done = match packing {
        Packing::None => {
            place(packed, 0, 0, &mut bytes);
            Some(())
        }
        Packing::Zlib => zlib(packed, &mut bytes),
        Packing::Zstd => zstd(packed, &mut bytes),
        Packing::Lzo => lzo(packed, &mut bytes, len(forest.superblock.sector_size)),
    };
    done.map(|()| bytes).ok_or_else(|| VolumeError::Corrupt("btrfs: an extent that does not unpack".into()))
}

fn zlib(packed: &[u8], bytes: &mut [u8]) -> Option<()> {
    use miniz_oxide::inflate::core::{DecompressorOxide, decompress, inflate_flags};
    let flags =
        inflate_flags::TINFL_FLAG_PARSE_ZLIB_HEADER | inflate_flags::TINFL_FLAG_USING_NON_WRAPPING_OUTPUT_BUF;
    let (status, _, _) = decompress(&mut DecompressorOxide::new(), packed, bytes, 0, flags);
    // What unpacks to more than the file needs has filled the buffer.
    let is_done = matches!(
        status,
        miniz_oxide::inflate::TINFLStatus::Done | miniz_oxide::inflate::TINFLStatus::HasMoreOutput
    );
    is_done.then_some(())
}

fn zstd(packed: &[u8], bytes: &mut [u8]) -> Option<()> {
    use ruzstd::io::Read;
    let mut decoder = ruzstd::decoding::StreamingDecoder::new(packed).ok()?;
    let mut done = 0usize;
    while let Some(rest) = bytes.get_mut(done..).filter(|rest| !rest.is_empty()) {
        match decoder.read(rest).ok()? {
            0 => break,
            read => done = done.saturating_add(read),
        }
    }
    Some(())
}

/// LZO: the whole's length, then segments of at most a sector, each behind its own length, which never stands
/// across the border of a sector.
fn lzo(packed: &[u8], bytes: &mut [u8], sector: usize) -> Option<()> {
    let total = len(le32(packed, 0)?).min(packed.len());
    let (mut at, mut done) = (4usize, 0usize);
    while at < total && done < bytes.len() {
        let left = sector.checked_sub(at.checked_rem(sector)?)?;
        if left < 4 {
            at = at.checked_add(left)?;
        }
        let length = len(le32(packed, at)?);
        at = at.checked_add(4)?;
        let end = at.checked_add(length)?;
        let mut segment = vec![0; sector];
        let written = lzokay::decompress::decompress(packed.get(at..end)?, &mut segment).ok()?;
        let target = bytes.get_mut(done..)?;
        let count = written.min(target.len());
        target.get_mut(..count)?.copy_from_slice(segment.get(..count)?);
        done = done.checked_add(written)?;
        at = end;
    }
    Some(())
}
