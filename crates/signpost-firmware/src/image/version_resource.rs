//! The version resource of a program: who made it, as what (Microsoft's `VS_VERSIONINFO`, inside the
//! resource directory of "PE Format", section ".rsrc").

use alloc::string::{String, ToString};

use super::pe::Pe;
use crate::bytes::{u16_at, u32_at};
use crate::ucs2::Ucs2;

/// `RT_VERSION`.
const VERSION_TYPE: u32 = 16;
/// Resource directories are three levels deep: type, name, language.
const LEVELS: usize = 3;
/// More children than any block of strings has.
const MAX_CHILDREN: usize = 64;

/// The strings of a version resource.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct VersionResource {
    /// `CompanyName`.
    pub company: Option<String>,
    /// `ProductName`.
    pub product: Option<String>,
    /// `ProductVersion`.
    pub product_version: Option<String>,
    /// `FileDescription`.
    pub description: Option<String>,
}

/// Reads it from the whole file; `None` where there is none, or it is broken.
pub fn decode(pe: &Pe, file: &[u8]) -> Option<VersionResource> {
    let base = pe.resources?;
    let section = pe
        .sections
        .iter()
        .find(|section| base.checked_sub(section.address).is_some_and(|within| within < section.size))?;
    let start = usize::try_from(section.offset.checked_add(base.checked_sub(section.address)?)?).ok()?;
    let directory = file.get(start..)?;
    let entry = find_data_entry(directory)?;
    let address = u32_at(directory, entry)?;
    let size = usize::try_from(u32_at(directory, entry.checked_add(4)?)?).ok()?;
    let within = usize::try_from(address.checked_sub(section.address)?).ok()?;
    let at = usize::try_from(section.offset).ok()?.checked_add(within)?;
    let bytes = file.get(at..at.checked_add(size)?)?;
    let mut found = VersionResource::default();
    let root = Block::decode(bytes)?;
    for strings in root.children().filter(|block| block.key == "StringFileInfo") {
        for table in strings.children() {
            for string in table.children() {
                found.take(&string);
            }
        }
    }
    Some(found)
}

impl VersionResource {
    fn take(&mut self, string: &Block<'_>) {
        let slot = match string.key.as_str() {
            "CompanyName" => &mut self.company,
            "ProductName" => &mut self.product,
            "ProductVersion" => &mut self.product_version,
            "FileDescription" => &mut self.description,
            _ => return,
        };
        let text = Ucs2::decode_lenient(string.value).to_string();
        let text: String = text.trim().chars().filter(|c| !c.is_control()).take(120).collect();
        if !text.is_empty() {
            *slot = Some(text);
        }
    }
}

/// Offset of the version's data entry within the directory: the version type, then the first of each level.
fn find_data_entry(directory: &[u8]) -> Option<usize> {
    let mut table = 0usize;
    for level in 0..LEVELS {
        let named = usize::from(u16_at(directory, table.checked_add(12)?)?);
        let count = named.checked_add(usize::from(u16_at(directory, table.checked_add(14)?)?))?;
        let mut offset = None;
        for index in 0..count.min(MAX_CHILDREN) {
            let entry = table.checked_add(16)?.checked_add(index.checked_mul(8)?)?;
            if level > 0 || u32_at(directory, entry)? == VERSION_TYPE {
                offset = Some(u32_at(directory, entry.checked_add(4)?)?);
                break;
            }
        }
        let offset = offset?;
        let is_directory = offset & 0x8000_0000 != 0;
        table = usize::try_from(offset & 0x7fff_ffff).ok()?;
        if is_directory != (level < 2) {
            return None;
        }
    }
    Some(table)
}

/// One block of the resource: `wLength`, `wValueLength`, `wType`, a key, a value, children.
struct Block<'a> {
    key: String,
    value: &'a [u8],
    rest: &'a [u8],
    /// Offset of `rest` in the resource: children are aligned from its start.
    rest_at: usize,
}

impl<'a> Block<'a> {
    fn decode(bytes: &'a [u8]) -> Option<Self> {
        Self::decode_at(bytes, 0).map(|(block, _)| block)
    }

    /// The block at the start of `bytes`, which lies at `at` in the resource; and its length in bytes.
    fn decode_at(bytes: &'a [u8], at: usize) -> Option<(Self, usize)> {
        let length = usize::from(u16_at(bytes, 0)?);
        let value_length = usize::from(u16_at(bytes, 2)?);
        let is_text = u16_at(bytes, 4)? == 1;
        let bytes = bytes.get(..length)?;
        let (key, used) = Ucs2::decode_terminated(bytes.get(6..)?)?;
        let value_at = align(at.checked_add(6)?.checked_add(used)?)?.checked_sub(at)?;
        // Text lengths count 16-bit units.
        let value_length = if is_text { value_length.checked_mul(2)? } else { value_length };
        let value_end = value_at.checked_add(value_length)?.min(length);
        let value = bytes.get(value_at..value_end).unwrap_or_default();
        let rest_at = align(at.checked_add(value_end.max(value_at.min(length)))?)?;
        let rest = bytes.get(rest_at.checked_sub(at)?..).unwrap_or_default();
        Some((Self { key: key.to_string(), value, rest, rest_at }, length))
    }

    fn children(&self) -> impl Iterator<Item = Block<'a>> {
        let (mut rest, mut at) = (self.rest, self.rest_at);
        core::iter::from_fn(move || {
            let (block, length) = Self::decode_at(rest, at)?;
            let next = align(at.checked_add(length)?)?;
            rest = rest.get(next.checked_sub(at)?..).unwrap_or_default();
            at = next;
            (length > 0).then_some(block)
        })
        .take(MAX_CHILDREN)
    }
}

fn align(offset: usize) -> Option<usize> {
    offset.checked_next_multiple_of(4)
}
