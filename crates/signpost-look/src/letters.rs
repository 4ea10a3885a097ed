//! Letters of a fixed width, as bitmaps in three sizes. Where they come from stands in `letters/README.md`.

use alloc::vec::Vec;

/// Where a packed file of letters begins.
pub const MAGIC: [u8; 4] = *b"SPL1";
/// No file of letters is longer, unpacked, in bytes.
const MAX_UNPACKED: usize = 256 * 1024;

/// A size of letters.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Size {
    /// 8 by 16 pixels.
    Small,
    /// 12 by 24.
    Medium,
    /// 16 by 32.
    Large,
}

impl Size {
    /// Width and height of a letter, in pixels.
    pub const fn of_letter(self) -> (usize, usize) {
        match self {
            Self::Small => (8, 16),
            Self::Medium => (12, 24),
            Self::Large => (16, 32),
        }
    }

    const fn packed(self) -> &'static [u8] {
        match self {
            Self::Small => include_bytes!("../letters/16.letters"),
            Self::Medium => include_bytes!("../letters/24.letters"),
            Self::Large => include_bytes!("../letters/32.letters"),
        }
    }
}

/// The letters of one size.
#[derive(Clone, Debug, Default)]
pub struct Letters {
    width: usize,
    height: usize,
    /// Sorted.
    codes: Vec<u16>,
    bits: Vec<u8>,
}

impl Letters {
    /// Those that come with the program.
    pub fn of(size: Size) -> Self {
        Self::unpack(size.packed()).unwrap_or_default()
    }

    /// Reads a packed file: deflated; [`MAGIC`], width and height in pixels, how many letters there are (16 bits, little end
    /// first), their code points in rising order, then their rows, each in whole bytes, the leftmost pixel in the highest bit.
    pub fn unpack(packed: &[u8]) -> Option<Self> {
        let bytes = miniz_oxide::inflate::decompress_to_vec_with_limit(packed, MAX_UNPACKED).ok()?;
        let rest = bytes.strip_prefix(&MAGIC)?;
        let (&[width, height, low, high], rest) = rest.split_first_chunk()?;
        let (width, height) = (usize::from(width), usize::from(height));
        let count = usize::from(u16::from_le_bytes([low, high]));
        let (codes, bits) = rest.split_at_checked(count.checked_mul(2)?)?;
        let codes: Vec<u16> = codes.as_chunks().0.iter().map(|code| u16::from_le_bytes(*code)).collect();
        let length = width.div_ceil(8).checked_mul(height)?.checked_mul(count)?;
        let is_whole = width > 0 && height > 0 && bits.len() == length && codes.is_sorted();
        is_whole.then(|| Self { width, height, codes, bits: bits.to_vec() })
    }

    /// Whether there is a letter for this.
    pub fn has(&self, c: char) -> bool {
        self.place(c).is_some()
    }

    fn place(&self, c: char) -> Option<usize> {
        self.codes.binary_search(&u16::try_from(u32::from(c)).ok()?).ok()
    }

    /// The pixels of a letter that are set, in runs: first column, row, and how many, from its upper left corner. One that there
    /// is not is a frame.
    pub fn runs(&self, c: char, mut run: impl FnMut(usize, usize, usize)) {
        let row_length = self.width.div_ceil(8);
        let letter = self.place(c).and_then(|place| {
            let start = place * row_length * self.height;
            self.bits.get(start..start + row_length * self.height)
        });
        for row in 0..self.height {
            let bits = match letter {
                Some(letter) => letter
                    .get(row * row_length..(row + 1) * row_length)
                    .unwrap_or_default()
                    .iter()
                    .fold(0_u32, |bits, byte| bits << 8 | u32::from(*byte)),
                None => frame_row(row, (self.width, self.height), row_length * 8),
            };
            // The leftmost pixel in the highest bit.
            let mut left = bits << (32 - row_length * 8);
            let mut column = 0;
            while left != 0 {
                let free = left.leading_zeros();
                left <<= free;
                let set = left.leading_ones();
                column += free as usize;
                run(column, row, set as usize);
                left = left.checked_shl(set).unwrap_or(0);
                column += set as usize;
            }
        }
    }
}

/// A row of the sign that stands for one that there is not, an upright frame, in so many bits.
fn frame_row(row: usize, (width, height): (usize, usize), bits: usize) -> u32 {
    let (left, right) = (width / 8, width - 1 - width / 8);
    let (top, bottom) = (height / 6, height - 1 - height / 6);
    let bit = |column: usize| 1_u32 << (bits - 1 - column);
    match row {
        row if row == top || row == bottom => (left..=right).map(bit).sum(),
        row if (top..bottom).contains(&row) => bit(left) | bit(right),
        _ => 0,
    }
}

#[cfg(test)]
mod tests {
    use alloc::vec;

    use super::*;

    #[test]
    fn every_size_has_latin_greek_cyrillic_and_box_signs() {
        for size in [Size::Small, Size::Medium, Size::Large] {
            let letters = Letters::of(size);
            assert_eq!((letters.width, letters.height), size.of_letter());
            for c in "Az09~ÄñßŐžĄαΩώЖяіїґ─│┌┘█▌…–“”€→".chars() {
                assert!(letters.has(c), "{size:?} has no {c}");
            }
            assert!(!letters.has('東'));
            let drawn = |c: char| {
                let (width, height) = size.of_letter();
                let mut rows = vec![vec![false; width]; height];
                letters.runs(c, |column, row, count| rows[row][column..column + count].fill(true));
                rows
            };
            let is_empty = |rows: &[Vec<bool>]| rows.iter().flatten().all(|pixel| !pixel);
            assert!(is_empty(&drawn(' ')));
            let bar = drawn('█');
            assert!(bar.iter().flatten().all(|pixel| *pixel), "{size:?}");
            // A frame: full above and below, two strokes between.
            let frame = drawn('東');
            let counts: Vec<usize> =
                frame.iter().map(|row| row.iter().filter(|pixel| **pixel).count()).collect();
            assert_eq!((counts[0], counts[size.of_letter().1 / 2]), (0, 2), "{size:?}");
            assert!(counts.iter().filter(|count| **count > 2).count() == 2, "{size:?}");
        }
    }

    #[test]
    fn what_is_no_file_of_letters_is_none() {
        let packed = Size::Small.packed();
        for length in (0..packed.len()).step_by(97) {
            assert!(Letters::unpack(&packed[..length]).is_none());
        }
        assert!(Letters::unpack(&[0; 64]).is_none());
        let bomb = miniz_oxide::deflate::compress_to_vec(&[0; MAX_UNPACKED + 1], 6);
        assert!(Letters::unpack(&bomb).is_none());
    }
}
