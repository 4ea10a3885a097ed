//! What a display says of itself (VESA Enhanced EDID, release A, revision 2).

use crate::bytes;

/// Bytes of the first block, which has all that is read here (3).
pub const LENGTH: usize = 128;

const HEADER: [u8; 8] = [0, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0];
/// Where width and height stand in centimetres (3.6.2).
const CENTIMETRES: usize = 21;
/// Where the first detailed timing stands (3.10).
const TIMING: usize = 54;
/// Heights that a display may have, in millimetres; some say a ratio instead, or nothing that could be.
const HEIGHTS: core::ops::RangeInclusive<usize> = 40..=3000;

/// The size that a display says is its own, in pixels: that of its first detailed timing (3.10.2).
pub fn own_size(block: &[u8]) -> Option<(usize, usize)> {
    let timing = first_timing(checked(block)?)?;
    let size = (of_twelve_bits(timing, 2, 4, true)?, of_twelve_bits(timing, 5, 7, true)?);
    (size.0 > 0 && size.1 > 0).then_some(size)
}

/// Its width and height in millimetres: of its first detailed timing, else in whole centimetres.
pub fn millimetres(block: &[u8]) -> Option<(usize, usize)> {
    let block = checked(block)?;
    let of_timing = first_timing(block).and_then(|timing| {
        Some((of_twelve_bits(timing, 12, 14, true)?, of_twelve_bits(timing, 13, 14, false)?))
    });
    let byte = |at: usize| block.get(at).copied().map(usize::from);
    let of_block = (byte(CENTIMETRES)?.checked_mul(10)?, byte(CENTIMETRES.checked_add(1)?)?.checked_mul(10)?);
    let could_be = |size: &(usize, usize)| size.0 > 0 && HEIGHTS.contains(&size.1);
    of_timing.into_iter().chain([of_block]).find(could_be)
}

/// A block that is one, and whole.
fn checked(block: &[u8]) -> Option<&[u8]> {
    let block = block.get(..LENGTH)?;
    let sum = block.iter().fold(0_u8, |sum, byte| sum.wrapping_add(*byte));
    (block.starts_with(&HEADER) && sum == 0).then_some(block)
}

/// The first detailed timing, where it is one and no text.
fn first_timing(block: &[u8]) -> Option<&[u8]> {
    let timing = block.get(TIMING..)?;
    (bytes::u16_at(timing, 0)? != 0).then_some(timing)
}

/// A number whose upper four bits stand in the upper or lower half of another byte.
fn of_twelve_bits(timing: &[u8], low: usize, high: usize, is_upper: bool) -> Option<usize> {
    let high = *timing.get(high)?;
    let high = usize::from(if is_upper { high >> 4 } else { high & 0xf });
    high.checked_mul(256)?.checked_add(usize::from(*timing.get(low)?))
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    /// 1366 by 768 (0x556, 0x300) pixels, 309 by 174 (0x135, 0xae) millimetres.
    fn display() -> [u8; LENGTH] {
        let mut block = [0; LENGTH];
        block[1..7].fill(0xff);
        block[21..23].copy_from_slice(&[31, 17]);
        block[54..69].copy_from_slice(&[1, 1, 0x56, 0, 0x50, 0, 0, 0x30, 0, 0, 0, 0, 0x35, 0xae, 0x10]);
        sealed(block)
    }

    fn sealed(mut block: [u8; LENGTH]) -> [u8; LENGTH] {
        let sum = block[..LENGTH - 1].iter().fold(0_u8, |sum, byte| sum.wrapping_add(*byte));
        block[LENGTH - 1] = 0_u8.wrapping_sub(sum);
        block
    }

    #[test]
    fn a_display_says_its_size_in_pixels_and_millimetres() {
        let whole = display();
        assert_eq!((own_size(&whole), millimetres(&whole)), (Some((1366, 768)), Some((309, 174))));
        let mut hurt = whole;
        hurt[60] ^= 1;
        assert_eq!((own_size(&hurt), millimetres(&hurt)), (None, None));
        assert_eq!((own_size(&whole[..127]), millimetres(&[])), (None, None));
        // A ratio instead of a size, then centimetres; then neither.
        let mut ratio = whole;
        ratio[66..69].copy_from_slice(&[16, 9, 0]);
        assert_eq!(millimetres(&sealed(ratio)), Some((310, 170)));
        ratio[21..23].copy_from_slice(&[16, 0]);
        assert_eq!(millimetres(&sealed(ratio)), None);
        let mut without_timing = whole;
        without_timing[54..56].fill(0);
        let without_timing = sealed(without_timing);
        assert_eq!((own_size(&without_timing), millimetres(&without_timing)), (None, Some((310, 170))));
    }

    proptest! {
        #[test]
        fn any_bytes_are_read_without_harm(bytes in proptest::collection::vec(any::<u8>(), 0..200)) {
            let mut block = display();
            for (own, byte) in block.iter_mut().skip(8).zip(&bytes) {
                *own = *byte;
            }
            let block = sealed(block);
            prop_assert!(own_size(&block).is_none_or(|size| size.0 > 0 && size.1 < 4096));
            prop_assert!(millimetres(&block).is_none_or(|size| HEIGHTS.contains(&size.1)));
            let _ = (own_size(&bytes), millimetres(&bytes));
        }
    }
}
