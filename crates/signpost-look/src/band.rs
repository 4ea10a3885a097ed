//! A band of a picture: all of its columns, some of its rows.

use signpost_menu::appearance::Colour;

/// Where one draws; what lies outside is left out.
pub struct Band<'a> {
    /// `0x00RRGGBB` each.
    pub pixels: &'a mut [u32],
    /// Pixels in a row.
    pub width: usize,
    /// The first row, of the picture's.
    pub top: usize,
}

/// A rectangle, in pixels.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Area {
    /// Its left edge.
    pub x: usize,
    /// Its upper edge.
    pub y: usize,
    /// How wide it is.
    pub width: usize,
    /// How high.
    pub height: usize,
}

impl Band<'_> {
    /// The pixels of a row from a column on, as many as there are.
    fn row(&mut self, (x, y): (usize, usize), length: usize) -> &mut [u32] {
        let start = x.min(self.width);
        let end = x.saturating_add(length).min(self.width);
        let row = y.checked_sub(self.top).map(|row| row * self.width);
        let found = row.and_then(|row| self.pixels.get_mut(row + start..row + end));
        found.unwrap_or_default()
    }

    /// Fills a rectangle.
    pub fn fill(&mut self, area: Area, colour: Colour) {
        for y in area.y..area.y + area.height {
            self.row((area.x, y), area.width).fill(colour.0);
        }
    }

    /// Fills a rectangle whose corners are round.
    pub fn fill_round(&mut self, area: Area, radius: usize, colour: Colour) {
        for y in 0..area.height {
            // How far the round of this row is set in, in sixteenths of a pixel; the middle of the row counts.
            let inset = match (y < radius, y >= area.height.saturating_sub(radius)) {
                (true, _) => inset(radius, radius - 1 - y),
                (_, true) => inset(radius, y - (area.height - radius)),
                _ => 0,
            };
            let (whole, part) = (inset / 16, inset % 16);
            let at = area.y + y;
            let inner = area.width.saturating_sub(2 * (whole + 1));
            self.row((area.x + whole + 1, at), inner).fill(colour.0);
            let cover = u8::try_from(255 - part * 15).unwrap_or(u8::MAX);
            self.blend((area.x + whole, at), colour, cover);
            self.blend((area.x + area.width.saturating_sub(whole + 1), at), colour, cover);
        }
    }

    /// Mixes a colour into a pixel, `cover` of 255.
    pub fn blend(&mut self, at: (usize, usize), colour: Colour, cover: u8) {
        if let [pixel] = self.row(at, 1) {
            *pixel = Colour(*pixel).mixed(colour, cover).0;
        }
    }
}

/// How far a circle's edge is from its square's, in sixteenths of a pixel, so many rows from its middle.
fn inset(radius: usize, row: usize) -> usize {
    let (radius, height) = (radius * 16, row * 16 + 8);
    radius - (radius * radius).saturating_sub(height * height).isqrt()
}
