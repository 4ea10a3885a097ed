//! Folder entries (sections 6 and 7 of the specification).

use alloc::format;
use alloc::string::String;
use alloc::vec::Vec;

use zerocopy::byteorder::little_endian::{U16, U32};
use zerocopy::{FromBytes, Immutable, KnownLayout};

use crate::probe::fixed_text;

const ATTR_VOLUME_ID: u8 = 0x08;
const ATTR_DIRECTORY: u8 = 0x10;
const ATTR_LONG_NAME: u8 = 0x0f;
const DELETED: u8 = 0xe5;
const LAST_LONG_ENTRY: u8 = 0x40;
/// A name of 255 characters takes 20 entries.
const MAX_LONG_ENTRIES: u8 = 20;

/// A short entry.
#[derive(FromBytes, KnownLayout, Immutable)]
#[repr(C)]
struct Short {
    dir_name: [u8; 11],
    dir_attr: u8,
    dir_nt_res: u8,
    dir_crt_time_tenth: u8,
    dir_crt_time: U16,
    dir_crt_date: U16,
    dir_lst_acc_date: U16,
    dir_fst_clus_hi: U16,
    dir_wrt_time: U16,
    dir_wrt_date: U16,
    dir_fst_clus_lo: U16,
    dir_file_size: U32,
}

/// One file or folder.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct FolderEntry {
    pub(super) name: String,
    short_name: String,
    pub(super) is_folder: bool,
    pub(super) first_cluster: u32,
    /// Bytes.
    pub(super) size: u32,
}

impl FolderEntry {
    /// Whether it goes by this name, given in lower case: case does not matter, and both names count.
    pub(super) fn matches(&self, lower: &str) -> bool {
        self.name.to_lowercase() == lower || self.short_name.to_lowercase() == lower
    }
}

/// A long name under way: its parts come last first, before their short entry.
struct LongName {
    units: Vec<[u16; 13]>,
    checksum: u8,
    /// Order number of the next part.
    expected: u8,
}

/// The entries of a folder's bytes, deleted ones and labels left out.
pub(super) fn decode(bytes: &[u8]) -> Vec<FolderEntry> {
    let mut entries = Vec::new();
    let mut long: Option<LongName> = None;
    for raw in records(bytes) {
        let Ok((short, _)) = Short::read_from_prefix(raw) else { break };
        if short.dir_attr & 0x3f == ATTR_LONG_NAME {
            long = LongName::next(long, raw);
            continue;
        }
        let held = long.take();
        if short.dir_attr & ATTR_VOLUME_ID != 0 || short.dir_name.starts_with(&[DELETED]) {
            continue;
        }
        let short_name = short.short_name();
        let name = held.and_then(|long| long.finish(&short.dir_name)).unwrap_or_else(|| short_name.clone());
        entries.push(FolderEntry {
            name,
            short_name,
            is_folder: short.dir_attr & ATTR_DIRECTORY != 0,
            first_cluster: u32::from(short.dir_fst_clus_hi.get()) << 16
                | u32::from(short.dir_fst_clus_lo.get()),
            size: short.dir_file_size.get(),
        });
    }
    entries
}

/// The volume's label, an entry of the root folder.
pub(super) fn label(root: &[u8]) -> Option<String> {
    records(root)
        .filter_map(|raw| Short::read_from_prefix(raw).ok())
        .find(|(short, _)| {
            short.dir_attr & (ATTR_VOLUME_ID | ATTR_DIRECTORY) == ATTR_VOLUME_ID
                && short.dir_attr & 0x3f != ATTR_LONG_NAME
                && !short.dir_name.starts_with(&[DELETED])
        })
        .and_then(|(short, _)| fixed_text(&short.dir_name))
}

/// Whether these first bytes of a folder hold its end mark.
pub(super) fn has_ended(bytes: &[u8]) -> bool {
    bytes.as_chunks::<32>().0.iter().any(|raw| raw.starts_with(&[0]))
}

/// The records up to the first that was never used.
fn records(bytes: &[u8]) -> impl Iterator<Item = &[u8]> {
    bytes.as_chunks::<32>().0.iter().map(<[u8; 32]>::as_slice).take_while(|raw| !raw.starts_with(&[0]))
}

impl Short {
    fn short_name(&self) -> String {
        let (base, extension) = self.dir_name.split_at(8);
        // Bits 3 and 4 say that base or extension are shown in lower case.
        let text = |bytes: &[u8], lower: bool| {
            let text = fixed_text(bytes).unwrap_or_default();
            if lower { text.to_ascii_lowercase() } else { text }
        };
        let base = text(base, self.dir_nt_res & 0x08 != 0);
        let extension = text(extension, self.dir_nt_res & 0x10 != 0);
        if extension.is_empty() { base } else { format!("{base}.{extension}") }
    }
}

impl LongName {
    /// Takes in the next part; a part out of order ends the name.
    fn next(held: Option<Self>, raw: &[u8]) -> Option<Self> {
        let order = *raw.first()?;
        let checksum = *raw.get(13)?;
        let mut units = [0; 13];
        let places = [1..11, 14..26, 28..32];
        let bytes =
            places.into_iter().filter_map(|range| raw.get(range)).flatten().copied().collect::<Vec<u8>>();
        for (unit, pair) in units.iter_mut().zip(bytes.as_chunks::<2>().0) {
            *unit = u16::from_le_bytes(*pair);
        }
        let number = order & !LAST_LONG_ENTRY;
        let mut name = if order & LAST_LONG_ENTRY != 0 {
            let fits = (1..=MAX_LONG_ENTRIES).contains(&number);
            fits.then(|| Self { units: Vec::new(), checksum, expected: number })
        } else {
            held.filter(|held| held.expected == number && held.checksum == checksum && number > 0)
        }?;
        name.units.insert(0, units);
        name.expected = number.saturating_sub(1);
        Some(name)
    }

    /// The whole name, if it belongs to this short one.
    fn finish(self, short: &[u8; 11]) -> Option<String> {
        let sum = short.iter().fold(0u8, |sum, byte| sum.rotate_right(1).wrapping_add(*byte));
        if self.expected != 0 || self.checksum != sum {
            return None;
        }
        let units: Vec<u16> = self.units.into_iter().flatten().take_while(|unit| *unit != 0).collect();
        Some(String::from_utf16_lossy(&units))
    }
}
