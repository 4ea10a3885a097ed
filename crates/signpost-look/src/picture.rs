//! A picture behind the menu, in the one format that the boot program reads: a head of sixteen bytes, then three bytes a pixel, red,
//! green and blue, row by row from the top. The desk makes it of whatever people have.
//!
//! | bytes | |
//! |---|---|
//! | 0 to 7 | `SIGNPIC1` |
//! | 8, 9 | width, low byte first |
//! | 10, 11 | height |
//! | 12 to 15 | CRC-32 of what follows |

use alloc::vec::Vec;
use core::fmt;

use signpost_menu::appearance::{Colour, PictureFit};

const MARK: [u8; 8] = *b"SIGNPIC1";
const HEAD: usize = 16;

/// Most pixels of a picture: with three bytes each, what a home volume and a machine's memory have room for.
pub const MOST_PIXELS: usize = 1_296_000;

/// Longest side, in pixels.
pub const LONGEST_SIDE: usize = 4096;

/// Bytes of the longest file.
pub const LONGEST_FILE: usize = HEAD + 3 * MOST_PIXELS;

/// A picture.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Picture {
    size: (usize, usize),
    pixels: Vec<u8>,
}

/// Why a file is no picture.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum PictureFault {
    /// It does not begin as one.
    Unmarked,
    /// Its sides are longer than they may be, or it has none.
    Size(usize, usize),
    /// It has fewer or more bytes than its sides say.
    Length {
        /// Bytes that its sides ask for.
        wanted: usize,
        /// Bytes that there are.
        found: usize,
    },
    /// Its bytes are not those that were written.
    Damaged,
}

impl fmt::Display for PictureFault {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Unmarked => write!(f, "it is not in the format of pictures at boot"),
            Self::Size(width, height) => {
                write!(
                    f,
                    "it is {width} by {height} pixels; a picture at boot has at most {LONGEST_SIDE} to a side \
                     and {MOST_PIXELS} in all"
                )
            }
            Self::Length { wanted, found } => {
                write!(f, "it has {found} bytes behind its head, and {wanted} are right for its size")
            }
            Self::Damaged => write!(f, "its checksum is wrong"),
        }
    }
}

impl Picture {
    /// One of so many pixels, three bytes each.
    ///
    /// # Errors
    /// Where it is too large, or has another number of bytes.
    pub fn new(size: (usize, usize), pixels: Vec<u8>) -> Result<Self, PictureFault> {
        is_of(size, pixels.len())?;
        Ok(Self { size, pixels })
    }

    /// Reads a file.
    ///
    /// # Errors
    /// Why it is no picture.
    pub fn parse(mut bytes: Vec<u8>) -> Result<Self, PictureFault> {
        let (head, pixels) = bytes.split_at_checked(HEAD).ok_or(PictureFault::Unmarked)?;
        if head[..8] != MARK {
            return Err(PictureFault::Unmarked);
        }
        let side = |at: usize| usize::from(u16::from_le_bytes([head[at], head[at + 1]]));
        // Its sides are looked at before anything is added up or copied.
        let size = (side(8), side(10));
        is_of(size, pixels.len())?;
        if crc32fast::hash(pixels).to_le_bytes() != head[12..] {
            return Err(PictureFault::Damaged);
        }
        // What is read is not copied: there may be little memory.
        bytes.drain(..HEAD);
        Ok(Self { size, pixels: bytes })
    }

    /// The file that holds it.
    pub fn encode(&self) -> Vec<u8> {
        let side = |side: usize| u16::try_from(side).unwrap_or(u16::MAX).to_le_bytes();
        let mut bytes = Vec::with_capacity(HEAD + self.pixels.len());
        bytes.extend(MARK);
        bytes.extend(side(self.size.0));
        bytes.extend(side(self.size.1));
        bytes.extend(crc32fast::hash(&self.pixels).to_le_bytes());
        bytes.extend(&self.pixels);
        bytes
    }

    /// Paints one row of a screen; what the picture leaves free stays as it is.
    pub fn row(&self, fit: PictureFit, screen: (usize, usize), row: usize, pixels: &mut [u32]) {
        match fit {
            PictureFit::Cover => self.scaled(covering(self.size, screen), screen, row, pixels),
            PictureFit::Fit => self.scaled(fitting(self.size, screen), screen, row, pixels),
            PictureFit::Centre => {
                let place = |at: usize, of: usize, side: usize| centred(at, side, of).filter(|at| *at < of);
                let Some(y) = place(row, self.size.1, screen.1) else { return };
                for (x, pixel) in pixels.iter_mut().enumerate() {
                    if let Some(x) = place(x, self.size.0, screen.0) {
                        *pixel = self.at(x, y).0;
                    }
                }
            }
            PictureFit::Tile => {
                for (x, pixel) in pixels.iter_mut().enumerate() {
                    *pixel = self.at(x % self.size.0, row % self.size.1).0;
                }
            }
        }
    }

    /// A row of the picture made this large, in the middle of the screen.
    fn scaled(&self, large: (usize, usize), screen: (usize, usize), row: usize, pixels: &mut [u32]) {
        let Some(y) = centred(row, screen.1, large.1).filter(|y| *y < large.1) else { return };
        let (y, below, part_y) = between(y, self.size.1, large.1);
        let (free, cut) = (screen.0.saturating_sub(large.0) / 2, large.0.saturating_sub(screen.0) / 2);
        let places = all_between(self.size.0, large.0, cut);
        for (pixel, (x, beside, part_x)) in pixels.iter_mut().skip(free).zip(places) {
            let upper = self.at(x, y).mixed(self.at(beside, y), part_x);
            let lower = self.at(x, below).mixed(self.at(beside, below), part_x);
            *pixel = upper.mixed(lower, part_y).0;
        }
    }

    fn at(&self, x: usize, y: usize) -> Colour {
        let start = 3 * (y * self.size.0 + x);
        match self.pixels.get(start..start + 3) {
            Some(&[red, green, blue]) => Colour(u32::from_be_bytes([0, red, green, blue])),
            _ => Colour(0),
        }
    }
}

/// Whether a picture of this size has so many bytes.
fn is_of((width, height): (usize, usize), found: usize) -> Result<(), PictureFault> {
    let sides = 1..=LONGEST_SIDE;
    if !sides.contains(&width) || !sides.contains(&height) || width * height > MOST_PIXELS {
        return Err(PictureFault::Size(width, height));
    }
    let wanted = 3 * width * height;
    if found == wanted { Ok(()) } else { Err(PictureFault::Length { wanted, found }) }
}

/// A place of a screen as one of a picture that lies in its middle; nothing before the picture begins.
fn centred(at: usize, screen: usize, picture: usize) -> Option<usize> {
    match screen > picture {
        true => at.checked_sub((screen - picture) / 2),
        false => Some(at + (picture - screen) / 2),
    }
}

/// The places of the smaller picture between which one of the larger lies, and how near it is to the second, of 255.
fn between(at: usize, small: usize, large: usize) -> (usize, usize, u8) {
    let exact = at as u64 * small as u64 * 256 / large.max(1) as u64;
    let (first, part) = (usize::try_from(exact / 256).unwrap_or(usize::MAX - 1), exact % 256);
    let last = small - 1;
    (first.min(last), (first + 1).min(last), u8::try_from(part).unwrap_or(u8::MAX))
}

/// The same for each place from one on, to the end: without a division for each, which processors of old take long for.
fn all_between(small: usize, large: usize, from: usize) -> impl Iterator<Item = (usize, usize, u8)> {
    let large = large.max(1);
    let of = small as u64 * 256;
    let exact = from as u64 * of;
    let mut whole = usize::try_from(exact / large as u64).unwrap_or(usize::MAX);
    let mut rest = (exact % large as u64) as usize;
    let (step, over) = (small * 256 / large, small * 256 % large);
    let last = small - 1;
    (from..large).map(move |_| {
        let first = whole / 256;
        let place = (first.min(last), (first + 1).min(last), (whole % 256) as u8);
        (whole, rest) = (whole + step, rest + over);
        if rest >= large {
            (whole, rest) = (whole + 1, rest - large);
        }
        place
    })
}

/// How large a picture is that leaves nothing of a screen free.
fn covering(picture: (usize, usize), screen: (usize, usize)) -> (usize, usize) {
    match picture.0 * screen.1 > picture.1 * screen.0 {
        true => (picture.0 * screen.1 / picture.1, screen.1),
        false => (screen.0, picture.1 * screen.0 / picture.0),
    }
}

/// How large a picture is that is on the screen as a whole.
fn fitting(picture: (usize, usize), screen: (usize, usize)) -> (usize, usize) {
    match picture.0 * screen.1 > picture.1 * screen.0 {
        true => (screen.0, (picture.1 * screen.0 / picture.0).max(1)),
        false => ((picture.0 * screen.1 / picture.1).max(1), screen.1),
    }
}

#[cfg(test)]
mod tests {
    use alloc::vec;

    use proptest::prelude::*;

    use super::*;

    /// Two by two: white, black / black, white.
    fn small() -> Picture {
        let (white, black) = ([255; 3], [0; 3]);
        Picture::new((2, 2), [white, black, black, white].concat()).unwrap()
    }

    fn painted(fit: PictureFit, screen: (usize, usize)) -> Vec<Vec<u32>> {
        let row = |row| {
            let mut pixels = vec![7; screen.0];
            small().row(fit, screen, row, &mut pixels);
            pixels
        };
        (0..screen.1).map(row).collect()
    }

    const W: u32 = 0xff_ff_ff;

    #[test]
    fn each_way_to_fit_puts_the_picture_where_it_says() {
        assert_eq!(painted(PictureFit::Centre, (4, 2)), [[7, W, 0, 7], [7, 0, W, 7]]);
        assert_eq!(painted(PictureFit::Tile, (5, 3)), [[W, 0, W, 0, W], [0, W, 0, W, 0], [W, 0, W, 0, W]]);
        // As high as the screen, with the rest free beside it.
        assert_eq!(painted(PictureFit::Fit, (4, 2)), [[7, W, 0, 7], [7, 0, W, 7]]);
        let covered = painted(PictureFit::Cover, (4, 2));
        assert!(covered.iter().flatten().all(|pixel| *pixel != 7), "{covered:x?}");
        assert_eq!(painted(PictureFit::Cover, (2, 2)), [[W, 0], [0, W]]);
        // Between two pixels lies what is between their colours.
        assert_eq!(painted(PictureFit::Cover, (4, 4))[0][1] & 0xff, 127);
    }

    #[test]
    fn what_was_written_is_read_and_a_lie_is_told() {
        let file = small().encode();
        assert_eq!(Picture::parse(file.clone()), Ok(small()));
        assert_eq!(Picture::parse(file[..10].to_vec()), Err(PictureFault::Unmarked));
        assert_eq!(
            Picture::parse(file[..file.len() - 1].to_vec()),
            Err(PictureFault::Length { wanted: 12, found: 11 })
        );
        let with = |at: usize, byte: u8| {
            let mut file = file.clone();
            file[at] = byte;
            Picture::parse(file)
        };
        assert_eq!(with(0, b'X'), Err(PictureFault::Unmarked));
        assert_eq!(with(HEAD, 1), Err(PictureFault::Damaged));
        assert_eq!(with(8, 3), Err(PictureFault::Length { wanted: 18, found: 12 }));
        assert_eq!(with(8, 0), Err(PictureFault::Size(0, 2)));
        // It says that it is huge; nothing is made ready for that.
        let mut huge = file.clone();
        huge[8..12].fill(0xff);
        assert_eq!(Picture::parse(huge), Err(PictureFault::Size(65_535, 65_535)));
        assert_eq!(Picture::new((5000, 1), vec![0; 15_000]), Err(PictureFault::Size(5000, 1)));
    }

    proptest! {
        #[test]
        fn any_bytes_are_a_picture_or_a_fault(bytes in proptest::collection::vec(any::<u8>(), 0..200), marked in any::<bool>()) {
            let mut bytes = bytes;
            if marked && bytes.len() >= 8 {
                bytes[..8].copy_from_slice(&MARK);
            }
            if let Ok(picture) = Picture::parse(bytes.clone()) {
                prop_assert_eq!(picture.encode(), bytes);
            }
        }

        #[test]
        fn places_are_found_one_by_one_as_all_at_once(small in 1..5000_usize, large in 1..9000_usize, from in 0..9000_usize) {
            let each = (from..large).map(|at| between(at, small, large));
            prop_assert!(each.eq(all_between(small, large, from)));
        }

        #[test]
        fn any_picture_fits_any_screen(size in (1..40_usize, 1..40_usize), screen in (1..60_usize, 1..60_usize)) {
            let picture = Picture::new(size, vec![9; 3 * size.0 * size.1]).unwrap();
            for fit in PictureFit::ALL {
                for row in 0..screen.1 {
                    picture.row(*fit, screen, row, &mut vec![0; screen.0]);
                }
            }
        }
    }
}
