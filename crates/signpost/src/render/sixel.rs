//! Pictures on a terminal that shows them, as DEC's sixels: bands of six rows, of each colour in a band which of the six are its own
//! (DEC STD 070, 9.6 "Sixel Graphics").

use std::collections::BTreeMap;
use std::fmt::Write;

/// Most colours of a picture.
const COLOURS: usize = 256;
/// Rows of a band.
const BAND: usize = 6;
/// What stands for none of the six.
const NONE: u8 = b'?';

/// The picture as a text; its pixels are `0x00RRGGBB`, row by row.
pub fn sixels(pixels: &[u32], (width, height): (usize, usize)) -> String {
    let palette = Palette::of(pixels);
    let mut text = format!("\x1bP0;1;0q\"1;1;{width};{height}");
    for (colour, place) in &palette.places {
        let [_, red, green, blue] = colour.to_be_bytes().map(|part| (u32::from(part) * 100 + 127) / 255);
        let _ = write!(text, "#{place};2;{red};{green};{blue}");
    }
    for band in pixels.chunks(width.max(1) * BAND) {
        let mut lines: BTreeMap<usize, Vec<u8>> = BTreeMap::new();
        for (at, pixel) in band.iter().enumerate() {
            let line = lines.entry(palette.place(*pixel)).or_insert_with(|| vec![0; width]);
            line[at % width] |= 1 << (at / width);
        }
        for (place, line) in lines {
            let _ = write!(text, "#{place}");
            for run in line.chunk_by(|one, other| one == other) {
                let sign = char::from(NONE + run[0]);
                match run.len() {
                    1..4 => (0..run.len()).for_each(|_| text.push(sign)),
                    count => {
                        let _ = write!(text, "!{count}{sign}");
                    }
                }
            }
            // Back to the band's beginning, for the next colour.
            text.push('$');
        }
        text.push('-');
    }
    text + "\x1b\\\n"
}

/// The colours of a picture; of one with too many, those that come near, told apart as finely as there may be.
struct Palette {
    places: BTreeMap<u32, usize>,
    /// Bits that count of each part of a colour.
    bits: u32,
}

impl Palette {
    fn of(pixels: &[u32]) -> Self {
        let with = |bits| Self { places: numbered(pixels.iter().map(|pixel| near(*pixel, bits))), bits };
        // With two bits there are 64 colours in all.
        (3..=8).rev().map(with).find(|palette| palette.places.len() <= COLOURS).unwrap_or_else(|| with(2))
    }

    fn place(&self, pixel: u32) -> usize {
        self.places.get(&near(pixel, self.bits)).copied().unwrap_or_default()
    }
}

fn numbered(colours: impl Iterator<Item = u32>) -> BTreeMap<u32, usize> {
    let mut places = BTreeMap::new();
    for colour in colours {
        let next = places.len();
        places.entry(colour).or_insert(next);
    }
    places
}

/// The nearest colour of which each part has so many bits, from 2 to 8.
fn near(pixel: u32, bits: u32) -> u32 {
    let most = (1 << bits) - 1;
    let part = |part: u8| u8::try_from((u32::from(part) * most + 127) / 255 * 255 / most).unwrap_or(u8::MAX);
    let [_, red, green, blue] = pixel.to_be_bytes();
    u32::from_be_bytes([0, part(red), part(green), part(blue)])
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_band_says_of_each_colour_where_it_is() {
        let (white, red) = (0xff_ff_ff, 0xff_00_00);
        // Two rows: white and red, red and white; in a second band, after six rows, five of white.
        let pixels = [white, red, red, white];
        assert_eq!(
            sixels(&pixels, (2, 2)),
            "\x1bP0;1;0q\"1;1;2;2#1;2;100;0;0#0;2;100;100;100#0@A$#1A@$-\x1b\\\n"
        );
        let tall = sixels(&[white; 5 * 7], (5, 7));
        assert!(tall.contains("#0!5~$-#0!5@$-\x1b\\"), "{tall:?}");
    }

    #[test]
    fn a_picture_of_many_colours_gets_those_that_come_near() {
        let pixels: Vec<u32> = (0..4096).map(|at| (at % 64) * 0x04_00_00 + (at / 64) * 0x04_04).collect();
        let palette = Palette::of(&pixels);
        assert!(palette.bits < 8 && palette.places.len() <= COLOURS, "{} bits", palette.bits);
        assert_eq!((near(0xff_ff_ff, 3), near(0x01_02_03, 3)), (0xff_ff_ff, 0));
        assert_eq!(near(0x12_34_56, 8), 0x12_34_56);
    }
}
