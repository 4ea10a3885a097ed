//! Screens of pixels on BIOS: what the VESA BIOS Extension (core functions, version 3.0) says.

use crate::bytes;

/// Bytes of `ModeInfoBlock` (4.4).
pub const MODE_LENGTH: usize = 256;

/// A mode that can be drawn in: each pixel red, green and blue by itself, all of them in one piece of memory.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Mode {
    /// Pixels across and down.
    pub size: (usize, usize),
    /// Bytes from one row to the next.
    pub row: usize,
    /// Bytes of a pixel: 3 or 4, blue first.
    pub pixel: usize,
    /// Where the first one lies in memory.
    pub memory: u32,
}

impl Mode {
    /// A mode as firmware describes it; none that cannot be drawn in.
    pub fn read(block: &[u8; MODE_LENGTH]) -> Option<Self> {
        /// Supported, in pixels, with memory in one piece.
        const WANTED: u16 = 0x91;
        /// `MemoryModel`: packed pixels, direct colours.
        const MODELS: [u8; 2] = [4, 6];
        /// Bits of red, green and blue, and where they begin in a pixel.
        const COLOURS: [u8; 6] = [8, 16, 8, 8, 8, 0];
        let word = |at: usize| bytes::u16_at(block, at).map(usize::from);
        let byte = |at: usize| block.get(at).copied();
        let attributes = bytes::u16_at(block, 0)?;
        let size = (word(0x12)?, word(0x14)?);
        // A later version tells of rows in one piece by themselves.
        let row = word(0x32).filter(|row| *row > 0).or(word(0x10))?;
        let pixel = usize::from(byte(0x19)? / 8);
        let memory = bytes::u32_at(block, 0x28)?;
        let is_fitting = attributes & WANTED == WANTED
            && MODELS.contains(&byte(0x1b)?)
            && matches!(byte(0x19)?, 24 | 32)
            && block.get(0x1f..0x25)? == COLOURS;
        // Above the first megabyte, and all of it below the end of 32 bits.
        let length = row.checked_mul(size.1)?;
        let end = u64::from(memory).checked_add(u64::try_from(length).ok()?)?;
        let lies_well = memory >= 0x10_0000 && end <= 1 << 32;
        let is_whole = size.0 > 0 && size.1 > 0 && size.0.checked_mul(pixel)? <= row;
        (is_fitting && lies_well && is_whole).then_some(Self { size, row, pixel, memory })
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    /// 1280 by 800, 32 bits a pixel, at 0xfd000000.
    fn mode() -> [u8; MODE_LENGTH] {
        let mut block = [0; MODE_LENGTH];
        block[..2].copy_from_slice(&0x009b_u16.to_le_bytes());
        block[0x10..0x12].copy_from_slice(&5120_u16.to_le_bytes());
        block[0x12..0x16].copy_from_slice(&[0, 5, 0x20, 3]);
        block[0x19] = 32;
        block[0x1b] = 6;
        block[0x1f..0x25].copy_from_slice(&[8, 16, 8, 8, 8, 0]);
        block[0x28..0x2c].copy_from_slice(&0xfd00_0000_u32.to_le_bytes());
        block
    }

    #[test]
    fn a_mode_that_can_be_drawn_in_is_one() {
        let read = Mode::read(&mode()).unwrap();
        assert_eq!(read, Mode { size: (1280, 800), row: 5120, pixel: 4, memory: 0xfd00_0000 });
        let without = |change: fn(&mut [u8; MODE_LENGTH])| {
            let mut block = mode();
            change(&mut block);
            Mode::read(&block)
        };
        // Text, no linear memory, 16 bits, other colours, rows that are too short, memory that is none.
        assert_eq!(without(|block| block[0] &= !0x10), None);
        assert_eq!(without(|block| block[0] &= !0x80), None);
        assert_eq!(without(|block| block[0x19] = 16), None);
        assert_eq!(without(|block| block[0x20] = 0), None);
        assert_eq!(without(|block| block[0x11] = 1), None);
        assert_eq!(without(|block| block[0x28..0x2c].fill(0)), None);
        assert_eq!(without(|block| block[0x28..0x2c].fill(0xff)), None);
    }

    proptest! {
        #[test]
        fn any_bytes_are_a_mode_that_lies_in_memory_or_none(bytes in proptest::collection::vec(any::<u8>(), MODE_LENGTH)) {
            let mut block = mode();
            for (at, byte) in bytes.iter().enumerate().filter(|(_, byte)| **byte > 0xc0) {
                block[at] = *byte;
            }
            if let Some(mode) = Mode::read(&block) {
                prop_assert!(mode.size.0 * mode.pixel <= mode.row);
                prop_assert!(u64::from(mode.memory) + (mode.row * mode.size.1) as u64 <= 1 << 32);
            }
        }
    }
}
