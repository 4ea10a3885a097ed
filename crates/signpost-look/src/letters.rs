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

    /// The pixels of a letter that are set: columns and rows from its upper left corner. One that there is not is a frame.
    pub fn pixels(&self, c: char) -> impl Iterator<Item = (usize, usize)> {
        let place = self.place(c);
        let row_length = self.width.div_ceil(8);
        let letter = place.and_then(|place| {
            let start = place * row_length * self.height;
            self.bits.get(start..start + row_length * self.height)
        });
        let (width, height) = (self.width, self.height);
        let is_set = move |column: usize, row: usize| match letter {
            Some(bits) => {
                bits.get(row * row_length + column / 8).is_some_and(|byte| byte >> (7 - column % 8) & 1 == 1)
            }
            None => is_on_frame((column, row), (width, height)),
        };
        (0..height)
            .flat_map(move |row| (0..width).map(move |column| (column, row)))
            .filter(move |(column, row)| is_set(*column, *row))
    }
}

/// The sign that stands for one that there is not: an upright frame.
fn is_on_frame((column, row): (usize, usize), (width, height): (usize, usize)) -> bool {
    let (left, right) = (width / 8, width - 1 - width / 8);
    let (top, bottom) = (height / 6, height - 1 - height / 6);
    let is_within = (left..=right).contains(&column) && (top..=bottom).contains(&row);
    is_within && (column == left || column == right || row == top || row == bottom)
}

#[cfg(test)]
mod tests {
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
            assert_eq!(letters.pixels(' ').count(), 0);
            assert!(letters.pixels('東').count() > 20);
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
