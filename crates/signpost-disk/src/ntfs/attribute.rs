//! An attribute of a record: a value in the record itself, or runs of clusters.

#[cfg(feature = "ntfs")]
use alloc::vec::Vec;

use crate::bytes::{le16, le32, len};
#[cfg(feature = "ntfs")]
use crate::{
    bytes::le64,
    runs::{self, Run},
};

/// Runs of one file that are followed.
#[cfg(feature = "ntfs")]
const MAX_RUNS: usize = 100_000;

/// An attribute as it stands in a record.
#[derive(Clone, Copy)]
pub(crate) struct Attribute<'a> {
    /// Its type's number.
    pub(crate) kind: u32,
    bytes: &'a [u8],
}

impl<'a> Attribute<'a> {
    pub(super) fn new(kind: u32, bytes: &'a [u8]) -> Self {
        Self { kind, bytes }
    }

    fn is_resident(&self) -> bool {
        self.bytes.get(8) == Some(&0)
    }

    /// Its value, where it stands in the record.
    pub(crate) fn resident(&self) -> Option<&'a [u8]> {
        let from = usize::from(le16(self.bytes, 0x14)?);
        let size = len(le32(self.bytes, 0x10)?);
        self.bytes.get(from..from.checked_add(size)?).filter(|_| self.is_resident())
    }
}

#[cfg(feature = "ntfs")]
impl Attribute<'_> {
    /// Whether this is its name, in the bytes of UTF-16.
    pub(super) fn is_named(&self, name: &[u8]) -> bool {
        let own = || {
            let length = usize::from(*self.bytes.get(9)?).checked_mul(2)?;
            let from = usize::from(le16(self.bytes, 0x0a)?);
            self.bytes.get(from..from.checked_add(length)?)
        };
        own() == Some(name)
    }

    /// Whether its bytes are compressed or encrypted.
    pub(super) fn is_packed(&self) -> bool {
        le16(self.bytes, 0x0c).is_none_or(|flags| flags & 0x40ff != 0)
    }

    /// The first of its clusters that is described here.
    pub(super) fn first_cluster(&self) -> u64 {
        if self.is_resident() { 0 } else { le64(self.bytes, 0x10).unwrap_or(0) }
    }

    /// Bytes of the value, and how many of them were ever written; of its first piece alone.
    pub(super) fn sizes(&self) -> Option<(u64, u64)> {
        match self.resident() {
            Some(value) => u64::try_from(value.len()).ok().map(|size| (size, size)),
            None => Some((le64(self.bytes, 0x30)?, le64(self.bytes, 0x38)?)),
        }
    }

    /// Adds its runs to those of the pieces before it; `None` where they cannot be.
    pub(super) fn add_runs(&self, cluster_size: u64, volume_size: u64, runs: &mut Vec<Run>) -> Option<()> {
        let mut list = self.bytes.get(usize::from(le16(self.bytes, 0x20)?)..)?;
        let mut at = self.first_cluster();
        let mut cluster = 0i64;
        loop {
            let (&header, rest) = list.split_first()?;
            if header == 0 {
                return Some(());
            }
            let (length, offset) = (usize::from(header & 0xf), usize::from(header >> 4));
            let count = u64::try_from(signed(rest.get(..length)?)?).ok()?;
            let moved = rest.get(length..length.checked_add(offset)?)?;
            list = rest.get(length.checked_add(offset)?..)?;
            let from = if moved.is_empty() {
                None
            } else {
                cluster = cluster.checked_add(signed(moved)?)?;
                Some(u64::try_from(cluster).ok()?.checked_mul(cluster_size)?)
            };
            let run =
                Run { at: at.checked_mul(cluster_size)?, from, length: count.checked_mul(cluster_size)? };
            let ends_within =
                from.is_none_or(|from| from.checked_add(run.length).is_some_and(|end| end <= volume_size));
            (ends_within && runs.len() < MAX_RUNS).then_some(())?;
            runs::push(runs, run);
            at = at.checked_add(count)?;
        }
    }
}

/// A number of up to eight bytes with its sign.
#[cfg(feature = "ntfs")]
fn signed(bytes: &[u8]) -> Option<i64> {
    let fill = if bytes.last()? & 0x80 == 0 { 0 } else { 0xff };
    let mut whole = [fill; 8];
    whole.get_mut(..bytes.len())?.copy_from_slice(bytes);
    Some(i64::from_le_bytes(whole))
}
