//! A record of the master file table, and the fixups that records and index nodes have.

use alloc::string::String;
use alloc::vec::Vec;

use super::attribute::Attribute;
use crate::bytes::{le16, le32, len};
use crate::text::utf16_text;

/// Bytes between two fixups.
const STRIDE: usize = 512;
/// Attributes of one record that are looked at.
const MAX_ATTRIBUTES: usize = 256;
const VOLUME_NAME: u32 = 0x60;
const VOLUME_INFORMATION: u32 = 0x70;

/// A record whose fixups are undone.
#[derive(Clone)]
pub(crate) struct Record {
    bytes: Vec<u8>,
    first: usize,
}

impl Record {
    /// From a record's bytes; `None` where it is none that is whole.
    pub(crate) fn decode(mut bytes: Vec<u8>) -> Option<Self> {
        undo_fixups(&mut bytes, *b"FILE")?;
        let first = usize::from(le16(&bytes, 0x14)?);
        Some(Self { bytes, first })
    }

    fn flags(&self) -> u16 {
        le16(&self.bytes, 0x16).unwrap_or(0)
    }

    /// Whether it is in use.
    #[cfg(feature = "ntfs")]
    pub(crate) fn is_used(&self) -> bool {
        self.flags() & 1 != 0
    }

    /// Whether it is a folder's.
    #[cfg(feature = "ntfs")]
    pub(crate) fn is_folder(&self) -> bool {
        self.flags() & 2 != 0
    }

    /// Its attributes.
    pub(crate) fn attributes(&self) -> impl Iterator<Item = Attribute<'_>> {
        let mut at = self.first;
        let next = move || {
            let (kind, length) = (le32(&self.bytes, at)?, len(le32(&self.bytes, at.checked_add(4)?)?));
            let bytes = self.bytes.get(at..at.checked_add(length)?)?;
            at = at.checked_add(length)?;
            (kind != u32::MAX && length >= 24).then(|| Attribute::new(kind, bytes))
        };
        core::iter::from_fn(next).take(MAX_ATTRIBUTES)
    }
}

/// What the record of `$Volume` says: the label, and whether the volume was in use when the machine went down.
pub(crate) fn label(record: &Record) -> (Option<String>, bool) {
    let value = |kind| {
        record.attributes().find(|attribute| attribute.kind == kind).and_then(|found| found.resident())
    };
    let label = value(VOLUME_NAME).and_then(|name| utf16_text(name, u16::from_le_bytes));
    // `VOLUME_IS_DIRTY`.
    let flags = value(VOLUME_INFORMATION).and_then(|field| le16(field, 10)).unwrap_or(0);
    (label, flags & 1 != 0)
}

/// Puts back what each stride's last two bytes were before they became the mark of one writing; `None` where a mark is not
/// there, so that not all of it was written.
pub(super) fn undo_fixups(bytes: &mut [u8], magic: [u8; 4]) -> Option<()> {
    bytes.starts_with(&magic).then_some(())?;
    let (offset, count) = (usize::from(le16(bytes, 4)?), usize::from(le16(bytes, 6)?));
    let mark = le16(bytes, offset)?;
    for stride in 1..count {
        let original = le16(bytes, offset.checked_add(stride.checked_mul(2)?)?)?;
        let at = stride.checked_mul(STRIDE)?.checked_sub(2)?;
        (le16(bytes, at)? == mark).then_some(())?;
        bytes.get_mut(at..at.checked_add(2)?)?.copy_from_slice(&original.to_le_bytes());
    }
    Some(())
}
