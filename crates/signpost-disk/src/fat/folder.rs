//! Folder entries (sections 6 and 7 of the specification).

use alloc::string::String;
use alloc::vec::Vec;
use core::ops::Range;

use zerocopy::byteorder::little_endian::{U16, U32};
use zerocopy::{FromBytes, Immutable, KnownLayout};

use crate::error::VolumeError;
use crate::text::fixed_text;

const ATTR_VOLUME_ID: u8 = 0x08;
const ATTR_DIRECTORY: u8 = 0x10;
const ATTR_LONG_NAME: u8 = 0x0f;
pub(super) const DELETED: u8 = 0xe5;
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
    /// The short name beside a long one.
    short_name: Option<ShortName>,
    pub(super) is_folder: bool,
    pub(super) first_cluster: u32,
    /// Bytes.
    pub(super) size: u32,
    /// Which entries of its folder it takes, its own the last.
    pub(super) slots: Range<usize>,
}

impl FolderEntry {
    /// Whether it goes by this name: case does not matter, and both names count.
    pub(super) fn matches(&self, name: &str) -> bool {
        is_same(&self.name, name) || self.short_name.is_some_and(|short| is_same(&short.text(), name))
    }
}

fn is_same(one: &str, other: &str) -> bool {
    if one.is_ascii() && other.is_ascii() {
        one.eq_ignore_ascii_case(other)
    } else {
        one.to_lowercase() == other.to_lowercase()
    }
}

/// Eight letters and three.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
struct ShortName {
    dir_name: [u8; 11],
    /// Bits 3 and 4 say that base or extension are shown in lower case.
    dir_nt_res: u8,
}

impl ShortName {
    fn text(self) -> String {
        let (base, extension) = self.dir_name.split_at(8);
        let mut text = String::with_capacity(self.dir_name.len().saturating_add(1));
        push_part(&mut text, base, self.dir_nt_res & 0x08 != 0);
        if !is_blank(extension) {
            text.push('.');
            push_part(&mut text, extension, self.dir_nt_res & 0x10 != 0);
        }
        text
    }
}

fn is_blank(field: &[u8]) -> bool {
    field.iter().take_while(|byte| **byte != 0).all(u8::is_ascii_whitespace)
}

fn push_part(text: &mut String, field: &[u8], is_lower: bool) {
    let part = String::from_utf8_lossy(field.split(|byte| *byte == 0).next().unwrap_or_default());
    let before = text.len();
    text.push_str(part.trim_end());
    if let Some(shown) = text.get_mut(before..).filter(|_| is_lower) {
        shown.make_ascii_lowercase();
    }
}

/// The entries of a folder's bytes, deleted ones and labels left out.
pub(super) fn decode(bytes: &[u8], is_fat_32: bool) -> Vec<FolderEntry> {
    // FAT12 and FAT16 leave these two bytes to others.
    let high = |entry: &Short| if is_fat_32 { u32::from(entry.dir_fst_clus_hi.get()) } else { 0 };
    let mut entries = Vec::new();
    let mut long = LongName::none();
    for (index, raw) in records(bytes).enumerate() {
        let Ok((short, _)) = Short::read_from_prefix(raw) else { break };
        if short.dir_attr & 0x3f == ATTR_LONG_NAME {
            long.take(raw);
            continue;
        }
        let parts = usize::from(long.parts);
        let long_name = long.finish(&short.dir_name);
        let start = if long_name.is_some() { index.saturating_sub(parts) } else { index };
        if short.dir_attr & ATTR_VOLUME_ID != 0 || short.dir_name.starts_with(&[DELETED]) {
            continue;
        }
        let short_name = ShortName { dir_name: short.dir_name, dir_nt_res: short.dir_nt_res };
        let (name, short_name) = match long_name {
            Some(name) => (name, Some(short_name)),
            None => (short_name.text(), None),
        };
        entries.push(FolderEntry {
            name,
            short_name,
            is_folder: short.dir_attr & ATTR_DIRECTORY != 0,
            first_cluster: high(&short) << 16 | u32::from(short.dir_fst_clus_lo.get()),
            size: short.dir_file_size.get(),
            slots: start..index.saturating_add(1),
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
fn records(bytes: &[u8]) -> impl Iterator<Item = &[u8; 32]> {
    bytes.as_chunks::<32>().0.iter().take_while(|raw| !raw.starts_with(&[0]))
}

/// A long name under way: its parts come last first, before their short entry.
struct LongName {
    units: [[u16; 13]; MAX_LONG_ENTRIES as usize],
    /// Parts that it has; 0 while there is none.
    parts: u8,
    /// Order number of the next part.
    expected: u8,
    checksum: u8,
}

impl LongName {
    fn none() -> Self {
        Self { units: [[0; 13]; MAX_LONG_ENTRIES as usize], parts: 0, expected: 0, checksum: 0 }
    }

    /// Takes in the next part; a part out of order ends the name.
    fn take(&mut self, raw: &[u8; 32]) {
        let (order, checksum) = (raw[0], raw[13]);
        let number = order & !LAST_LONG_ENTRY;
        if order & LAST_LONG_ENTRY != 0 {
            (self.parts, self.expected, self.checksum) = (number, number, checksum);
        }
        let place = number.checked_sub(1).and_then(|index| self.units.get_mut(usize::from(index)));
        match place.filter(|_| self.parts > 0 && self.expected == number && self.checksum == checksum) {
            Some(place) => {
                let pairs = [&raw[1..11], &raw[14..26], &raw[28..32]];
                let pairs = pairs.into_iter().flat_map(|bytes| bytes.as_chunks::<2>().0);
                for (unit, pair) in place.iter_mut().zip(pairs) {
                    *unit = u16::from_le_bytes(*pair);
                }
                self.expected = number.saturating_sub(1);
            }
            None => self.parts = 0,
        }
    }

    /// The whole name, if it belongs to this short one. It is done with then in any case.
    fn finish(&mut self, short: &[u8; 11]) -> Option<String> {
        let parts = usize::from(core::mem::take(&mut self.parts));
        if parts == 0 || self.expected != 0 || self.checksum != checksum(short) {
            return None;
        }
        let units = self.units.iter().take(parts).flatten().copied().take_while(|unit| *unit != 0);
        let mut name = String::with_capacity(parts.saturating_mul(13));
        name.extend(char::decode_utf16(units).map(|c| c.unwrap_or(char::REPLACEMENT_CHARACTER)));
        Some(name)
    }
}

/// What every part of a long name says of its short one.
fn checksum(short: &[u8; 11]) -> u8 {
    short.iter().fold(0, |sum: u8, byte| sum.rotate_right(1).wrapping_add(*byte))
}

/// A time as folders write it: days since 1980 and two seconds, packed (section 6 of the specification).
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Stamp {
    /// Year from 1980, month and day.
    pub date: u16,
    /// Hour, minute and half the seconds.
    pub time: u16,
}

impl Stamp {
    /// The time of these parts; what lies outside of 1980 to 2107 is put to its edge.
    pub fn new((year, month, day): (i32, u8, u8), (hour, minute, second): (u8, u8, u8)) -> Self {
        let year = u16::try_from(year.clamp(1980, 2107).saturating_sub(1980)).unwrap_or(0);
        Self {
            date: year << 9 | u16::from(month & 0xf) << 5 | u16::from(day & 0x1f),
            time: u16::from(hour & 0x1f) << 11
                | u16::from(minute & 0x3f) << 5
                | u16::from((second / 2) & 0x1f),
        }
    }
}

/// Points a short entry at other clusters.
pub(super) fn point(raw: &mut [u8], cluster: u32, size: u64, stamp: Stamp) {
    let mut put = |at: usize, bytes: &[u8]| {
        if let Some(place) = raw.get_mut(at..at.saturating_add(bytes.len())) {
            place.copy_from_slice(bytes);
        }
    };
    put(20, &u16::try_from(cluster >> 16).unwrap_or(0).to_le_bytes());
    put(22, &stamp.time.to_le_bytes());
    put(24, &stamp.date.to_le_bytes());
    put(26, &u16::try_from(cluster & 0xffff).unwrap_or(0).to_le_bytes());
    put(28, &u32::try_from(size).unwrap_or(0).to_le_bytes());
}

fn short(name: &[u8; 11], (cluster, size, is_folder): (u32, u64, bool), stamp: Stamp) -> Vec<u8> {
    let mut raw = Vec::from(*name);
    // An archive bit for files.
    raw.push(if is_folder { ATTR_DIRECTORY } else { 0x20 });
    raw.extend([0, 0]);
    for part in [stamp.time, stamp.date, stamp.date] {
        raw.extend(part.to_le_bytes());
    }
    raw.resize(32, 0);
    point(&mut raw, cluster, size, stamp);
    raw
}

/// What every folder but the root starts with: itself, and the one above it.
pub(super) fn first_entries(cluster: u32, above: u32, stamp: Stamp) -> Vec<u8> {
    let own = short(b".          ", (cluster, 0, true), stamp);
    [own, short(b"..         ", (above, 0, true), stamp)].concat()
}

/// The entries of a new name among these: the parts of its long name, where it needs one, and its own.
///
/// # Errors
/// Where no entry can have such a name.
pub(super) fn encode(
    name: &str,
    among: &[FolderEntry],
    what: (u32, u64, bool),
    stamp: Stamp,
) -> Result<Vec<u8>, VolumeError> {
    const MOST_UNITS: usize = 255;
    let units: Vec<u16> = name.encode_utf16().collect();
    let is_bad = |c: char| c.is_control() || "\"*/:<>?\\|".contains(c);
    if units.is_empty() || units.len() > MOST_UNITS || name.contains(is_bad) || name.ends_with([' ', '.']) {
        return Err(VolumeError::Unsupported(alloc::format!("no file of a FAT can be called {name}")));
    }
    let own = short_name(name, among);
    let mut bytes = Vec::new();
    if (ShortName { dir_name: own, dir_nt_res: 0 }).text() != name {
        let parts: Vec<&[u16]> = units.chunks(13).collect();
        for (index, part) in parts.iter().enumerate().rev() {
            bytes.extend(long(part, (index, index.saturating_add(1) == parts.len()), checksum(&own)));
        }
    }
    bytes.extend(short(&own, what, stamp));
    Ok(bytes)
}

/// A part of a long name; behind the name's end stand a zero and units of ones.
fn long(part: &[u16], (index, is_last): (usize, bool), checksum: u8) -> Vec<u8> {
    let number = u8::try_from(index.saturating_add(1)).unwrap_or(0);
    let mut units = part.iter().copied().chain([0]).chain(core::iter::repeat(0xffff));
    let mut raw = Vec::from([number | if is_last { LAST_LONG_ENTRY } else { 0 }]);
    for (count, behind) in [(5, &[ATTR_LONG_NAME, 0, checksum][..]), (6, &[0, 0]), (2, &[])] {
        (0..count).filter_map(|_| units.next()).for_each(|unit| raw.extend(unit.to_le_bytes()));
        raw.extend(behind);
    }
    raw
}

/// A short name that no other entry has: the name itself where it fits, else its letters with a number.
fn short_name(name: &str, among: &[FolderEntry]) -> [u8; 11] {
    let (stem, extension) = name.rsplit_once('.').unwrap_or((name, ""));
    let fits = |c: char| c.is_ascii_alphanumeric() || "$%'-_@~`!(){}^#&".contains(c);
    let letters = |text: &str, most: usize| -> Vec<u8> {
        let kept = text.chars().filter(|c| *c != ' ' && *c != '.').take(most);
        kept.map(|c| if fits(c) { u8::try_from(c.to_ascii_uppercase()).unwrap_or(b'_') } else { b'_' })
            .collect()
    };
    let packed = |stem: &[u8], extension: &[u8]| {
        let mut packed = [b' '; 11];
        packed.iter_mut().zip(stem.iter().take(8)).for_each(|(slot, byte)| *slot = *byte);
        packed.iter_mut().skip(8).zip(extension).for_each(|(slot, byte)| *slot = *byte);
        packed
    };
    let is_taken = |own: &[u8; 11]| {
        let text = ShortName { dir_name: *own, dir_nt_res: 0 }.text();
        among.iter().any(|entry| entry.matches(&text))
    };
    let (base, ending) = (letters(stem, 8), letters(extension, 3));
    let is_whole =
        stem.chars().all(fits) && extension.chars().all(fits) && stem.len() <= 8 && extension.len() <= 3;
    let own = packed(&base, &ending);
    if is_whole && !base.is_empty() && !is_taken(&own) {
        return own;
    }
    let numbered = (1u32..1_000_000).map(|number| {
        let tail = alloc::format!("~{number}").into_bytes();
        let room = 8usize.saturating_sub(tail.len());
        let stem: Vec<u8> = base.iter().take(room).copied().chain(tail).collect();
        packed(&stem, &ending)
    });
    numbered.into_iter().find(|own| !is_taken(own)).unwrap_or(own)
}
