//! Names in a folder: nodes of `$INDEX_ROOT` and `$INDEX_ALLOCATION`, with a `$FILE_NAME` in each entry.

use core::cmp::Ordering;

use crate::bytes::{le16, le32, le64, len};

/// Number of a record: the lower 48 bits of a reference.
pub(super) const NUMBER: u64 = (1 << 48) - 1;
const IS_FOLDER: u32 = 0x1000_0000;
/// Records before this one are the volume's own.
const FIRST_OF_USERS: u64 = 16;
/// Namespace of the short twins that long names have for systems of old.
const SHORT: u8 = 2;

/// One entry of a node.
pub(super) struct Entry<'a> {
    /// Its name; `None` for the last one, which has none.
    pub(super) name: Option<Name<'a>>,
    /// The node with names that come before it, by its number of clusters or sectors.
    pub(super) below: Option<u64>,
}

/// A name, and the file that has it.
pub(super) struct Name<'a> {
    pub(super) record: u64,
    pub(super) is_folder: bool,
    is_short: bool,
    /// UTF-16.
    pub(super) units: &'a [u8],
}

/// The entries of a node, whose header stands at `header`; `None` for one that is impossible.
pub(super) struct Entries<'a>(&'a [u8]);

impl<'a> Entries<'a> {
    pub(super) fn of(node: &'a [u8], header: usize) -> Option<Self> {
        let node = node.get(header..)?;
        let (first, end) = (len(le32(node, 0)?), len(le32(node, 4)?));
        node.get(first..end).map(Self)
    }

    fn take(&mut self) -> Option<Entry<'a>> {
        let bytes = self.0;
        let (length, flags) = (usize::from(le16(bytes, 8)?), le16(bytes, 12)?);
        // An entry shorter than its own header would never end.
        let entry = bytes.get(..length).filter(|_| length >= 16)?;
        let is_last = flags & 2 != 0;
        self.0 = if is_last { &[] } else { bytes.get(length..)? };
        let below = (flags & 1 != 0).then(|| le64(entry, length.checked_sub(8)?)).flatten();
        let name = if is_last { None } else { Some(Name::decode(entry)?) };
        Some(Entry { name, below })
    }
}

impl<'a> Iterator for Entries<'a> {
    type Item = Option<Entry<'a>>;

    fn next(&mut self) -> Option<Self::Item> {
        if self.0.is_empty() {
            return None;
        }
        let entry = self.take();
        if entry.is_none() {
            self.0 = &[];
        }
        Some(entry)
    }
}

impl<'a> Name<'a> {
    fn decode(entry: &'a [u8]) -> Option<Self> {
        let key = entry.get(16..)?;
        let length = usize::from(*key.get(0x40)?).checked_mul(2)?;
        Some(Self {
            record: le64(entry, 0)? & NUMBER,
            is_folder: le32(key, 0x38)? & IS_FOLDER != 0,
            is_short: *key.get(0x41)? == SHORT,
            units: key.get(0x42..length.checked_add(0x42)?)?,
        })
    }

    /// Whether people see it: not a short twin, and not one of the volume's own files.
    pub(super) fn is_shown(&self) -> bool {
        !self.is_short && self.record >= FIRST_OF_USERS
    }

    /// Its units.
    pub(super) fn chars(&self) -> impl Iterator<Item = u16> {
        self.units.as_chunks::<2>().0.iter().map(|unit| u16::from_le_bytes(*unit))
    }
}

/// The order of names in an index: unit by unit, each in capitals.
pub(super) fn compare(
    wanted: impl Iterator<Item = u16>,
    name: &Name<'_>,
    capital: impl Fn(u16) -> u16,
) -> Ordering {
    wanted.map(&capital).cmp(name.chars().map(&capital))
}
