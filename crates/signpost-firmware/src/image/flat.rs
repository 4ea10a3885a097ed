//! A program as it stands in memory, for one that is packed into another and unpacked by it: laid out as firmware's loader would lay it
//! out ("PE Format"; UEFI 2.10, 2.1.1), without its headers, and with a list of the places where its own address has to be added.
//!
//! | bytes | |
//! |---|---|
//! | 0 to 3 | length of the image, low byte first |
//! | 4 to 7 | where it is entered |
//! | 8 to 15 | where its code begins and ends |
//! | 16 to 19 | how many places follow the image |
//! | from 20 on | the image and the places, four bytes each, as zlib packs them |

use alloc::vec;
use alloc::vec::Vec;
use core::ops::Range;

use super::pe::{Pe, PeFault};
use crate::bytes::{u32_at, u64_at};

/// Bytes of a packed program's head.
pub const HEAD: usize = 20;
/// Bytes of a page of memory.
pub const PAGE: u32 = 4096;
/// No program that is packed is longer, in bytes: what lies beyond is outside of it.
const LONGEST: u32 = 64 << 20;
/// Of a relocation: nothing, which pads a block; and 64 bits to which the address is added.
const ABSOLUTE: u16 = 0;
const DIR64: u16 = 10;

/// What is said of a program before it is unpacked, in bytes from its start in memory.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Head {
    /// How long it is.
    pub length: u32,
    /// Where it is entered.
    pub entry: u32,
    /// Its code, in whole pages.
    pub code: Range<u32>,
    /// How many places follow it.
    pub places: u32,
}

/// Why a program cannot be laid out.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum FlatFault {
    /// It is none.
    #[error(transparent)]
    Pe(#[from] PeFault),
    /// It has no such section.
    #[error("it has no section {0}")]
    Section(&'static str),
    /// Something of it lies outside of it.
    #[error("what it says of {0} lies outside of it")]
    Outside(&'static str),
    /// It is loaded in a way that is not known here.
    #[error("it has relocations of type {0}")]
    Relocation(u16),
}

impl Head {
    /// The head of a packed program, and what follows it.
    pub fn read(packed: &[u8]) -> Option<(Self, &[u8])> {
        let number = |index: usize| u32_at(packed, index.checked_mul(4)?);
        let head =
            Self { length: number(0)?, entry: number(1)?, code: number(2)?..number(3)?, places: number(4)? };
        Some((head, packed.get(HEAD..)?))
    }

    /// Its bytes.
    pub fn encode(&self) -> Vec<u8> {
        let all = [self.length, self.entry, self.code.start, self.code.end, self.places];
        all.into_iter().flat_map(u32::to_le_bytes).collect()
    }

    /// Bytes of memory that unpacking takes; nothing, where no program is so long.
    pub fn unpacked(&self) -> Option<usize> {
        let length = self.places.checked_mul(4)?.checked_add(self.length)?;
        let is_within = self.entry < self.length && self.code.end <= self.length.next_multiple_of(PAGE);
        usize::try_from(length).ok().filter(|_| is_within && self.code.start <= self.code.end)
    }

    /// Adds the address at which a program was unpacked in all its places; whether they lie within it.
    pub fn place(&self, unpacked: &mut [u8], address: u64) -> bool {
        let Ok(length) = usize::try_from(self.length) else { return false };
        let Some((image, places)) = unpacked.split_at_mut_checked(length) else { return false };
        places.as_chunks().0.iter().all(|place| {
            let at = usize::try_from(u32::from_le_bytes(*place)).ok();
            let value = at.and_then(|at| image.get_mut(at..)?.first_chunk_mut());
            value.is_some_and(|value| {
                *value = u64::from_le_bytes(*value).wrapping_add(address).to_le_bytes();
                true
            })
        })
    }
}

/// A program of 64 bits laid out for the address 0, its places behind it.
///
/// # Errors
/// Where it is none, or something of it lies outside of it.
pub fn flatten(file: &[u8]) -> Result<(Head, Vec<u8>), FlatFault> {
    let pe = Pe::decode(file)?;
    let length = pe.loading.image_size;
    let outside = FlatFault::Outside;
    let mut image = vec![0; usize::try_from(length.min(LONGEST)).map_err(|_| outside("its length"))?];
    for section in pe.sections.iter().filter(|section| section.name != ".reloc") {
        let bytes = part(file, section.offset, section.size).ok_or(outside("a section"))?;
        let to = part_mut(&mut image, section.address, section.size).ok_or(outside("a section"))?;
        to.copy_from_slice(bytes);
    }
    let text = pe.section(".text").ok_or(FlatFault::Section(".text"))?;
    let code_end = text.address.checked_add(text.memory_size).ok_or(outside("its code"))?;
    let base = base_of(file).ok_or(outside("its address"))?;
    let relocations = pe.section_bytes(file, ".reloc").ok_or(FlatFault::Section(".reloc"))?;
    let places = places(relocations)?;
    for place in &places {
        let value = part_mut(&mut image, *place, 8).and_then(|bytes| bytes.first_chunk_mut());
        let value = value.ok_or(outside("a relocation"))?;
        *value = u64::from_le_bytes(*value).wrapping_sub(base).to_le_bytes();
    }
    image.extend(places.iter().flat_map(|place| place.to_le_bytes()));
    let head = Head {
        length,
        entry: pe.loading.entry_point,
        code: text.address..code_end.next_multiple_of(PAGE),
        places: u32::try_from(places.len()).map_err(|_| outside("a relocation"))?,
    };
    Ok((head, image))
}

/// `ImageBase` of the optional header.
fn base_of(file: &[u8]) -> Option<u64> {
    /// Bytes from the mark of the PE header to it.
    const IMAGE_BASE: usize = 24 + 24;
    let header = usize::try_from(u32_at(file, 0x3c)?).ok()?;
    u64_at(file, header.checked_add(IMAGE_BASE)?)
}

/// The places in base relocation blocks ("PE Format", "The .reloc Section").
fn places(mut blocks: &[u8]) -> Result<Vec<u32>, FlatFault> {
    const BLOCK_HEAD: usize = 8;
    let outside = || FlatFault::Outside("a relocation");
    let mut places = Vec::new();
    while let Some((page, size)) = u32_at(blocks, 0).zip(u32_at(blocks, 4)) {
        // What pads the section is no block.
        if size == 0 {
            break;
        }
        let size = usize::try_from(size).ok().filter(|size| *size >= BLOCK_HEAD).ok_or_else(outside)?;
        let (block, rest) = blocks.split_at_checked(size).ok_or_else(outside)?;
        for entry in block.get(BLOCK_HEAD..).unwrap_or_default().as_chunks().0 {
            let entry = u16::from_le_bytes(*entry);
            match entry >> 12 {
                ABSOLUTE => {}
                DIR64 => places.push(page.checked_add(u32::from(entry & 0xfff)).ok_or_else(outside)?),
                other => return Err(FlatFault::Relocation(other)),
            }
        }
        blocks = rest;
    }
    Ok(places)
}

fn range(start: u32, length: u32) -> Option<Range<usize>> {
    let (start, length) = (usize::try_from(start).ok()?, usize::try_from(length).ok()?);
    Some(start..start.checked_add(length)?)
}

fn part(bytes: &[u8], start: u32, length: u32) -> Option<&[u8]> {
    bytes.get(range(start, length)?)
}

fn part_mut(bytes: &mut [u8], start: u32, length: u32) -> Option<&mut [u8]> {
    bytes.get_mut(range(start, length)?)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    const BASE: u64 = 0x1_4000_0000;

    /// A program of three sections: code that knows an address in the data, and the relocation for that.
    fn program() -> Vec<u8> {
        let mut file = vec![0; 0x800];
        let mut put = |at: usize, bytes: &[u8]| file[at..at + bytes.len()].copy_from_slice(bytes);
        put(0, b"MZ");
        put(0x3c, &0x80_u32.to_le_bytes());
        put(0x80, b"PE\0\0\x64\x86\x03\0");
        put(0x94, &240_u16.to_le_bytes());
        let optional = 0x98;
        put(optional, &0x20b_u16.to_le_bytes());
        put(optional + 16, &0x1010_u32.to_le_bytes());
        put(optional + 24, &BASE.to_le_bytes());
        put(optional + 56, &0x4000_u32.to_le_bytes());
        put(optional + 108, &16_u32.to_le_bytes());
        let sections =
            [(".text", 0x1000_u32, 0x200_u32), (".data", 0x2000, 0x400), (".reloc", 0x3000, 0x600)];
        for (index, (name, address, offset)) in sections.into_iter().enumerate() {
            let at = optional + 240 + index * 40;
            put(at, name.as_bytes());
            let size = if name == ".reloc" { 12_u32 } else { 0x180 };
            for (field, value) in [(8, size), (12, address), (16, 0x200), (20, offset)] {
                put(at + field, &u32::to_le_bytes(value));
            }
        }
        put(0x220, &(BASE + 0x2008).to_le_bytes());
        put(0x408, b"data");
        put(0x600, &[0x1000_u32, 12].map(u32::to_le_bytes).concat());
        put(0x608, &[0xa020_u16, 0].map(u16::to_le_bytes).concat());
        file
    }

    #[test]
    fn a_program_is_laid_out_and_placed_as_firmware_does_it() {
        let (head, mut image) = flatten(&program()).unwrap();
        assert_eq!(head, Head { length: 0x4000, entry: 0x1010, code: 0x1000..0x2000, places: 1 });
        assert_eq!(head.unpacked(), Some(image.len()));
        assert_eq!(&image[0x2008..0x200c], b"data");
        assert_eq!(u64_at(&image, 0x1020), Some(0x2008));
        assert!(head.place(&mut image, 0x700_0000));
        assert_eq!(u64_at(&image, 0x1020), Some(0x700_2008));
        let packed = [head.encode(), vec![7]].concat();
        assert_eq!(Head::read(&packed), Some((head, &[7][..])));
    }

    #[test]
    fn what_lies_outside_is_refused() {
        let with = |at: usize, value: u32| {
            let mut file = program();
            file[at..at + 4].copy_from_slice(&value.to_le_bytes());
            flatten(&file).unwrap_err()
        };
        // A section's address, its offset in the file, a relocation's page, a block's length.
        assert_eq!(with(0x98 + 240 + 12, 0x3f00), FlatFault::Outside("a section"));
        assert_eq!(with(0x98 + 240 + 20, 0x7f0), FlatFault::Outside("a section"));
        assert_eq!(with(0x600, 0x4000), FlatFault::Outside("a relocation"));
        assert_eq!(with(0x604, 4), FlatFault::Outside("a relocation"));
        assert_eq!(with(0x604, 13), FlatFault::Outside("a relocation"));
        assert_eq!(with(0x608, 0x3020), FlatFault::Relocation(3));
        assert!(matches!(flatten(b"MZ"), Err(FlatFault::Pe(_))));
        let (head, mut image) = flatten(&program()).unwrap();
        image[0x4000..].copy_from_slice(&0x3ffc_u32.to_le_bytes());
        assert!(!head.place(&mut image, 0), "a place that ends behind the program");
        assert_eq!(Head { entry: 0x4000, ..head.clone() }.unpacked(), None);
        assert_eq!(Head { places: u32::MAX, ..head }.unpacked(), None);
    }

    proptest! {
        #[test]
        fn altered_bytes_are_laid_out_or_refused(at in 0..0x800_usize, byte: u8, address: u64) {
            let mut file = program();
            file[at] = byte;
            if let Ok((head, mut image)) = flatten(&file) {
                let _ = head.place(&mut image, address);
            }
        }
    }
}
