//! How large things are on a screen.

use signpost_menu::appearance::{Appearance, Scale};
use signpost_menu::scene::Frame;

use crate::letters::Size;

/// Lines that a screen has where nobody sets a scale, about.
const LINES: usize = 30;
/// Lines are no lower than this, in millimetres, where the screen's height is known.
const LEAST: usize = 4;
/// Fewer columns than these are too few for the menu; then letters are smaller.
const FEWEST: usize = 60;

/// A size of letters, drawn so many times as large.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Type {
    /// The bitmaps.
    pub size: Size,
    /// How many pixels a pixel of theirs is wide and high.
    pub factor: usize,
}

/// The type scale: each with its [`Scale`] in halves.
const TYPES: [(u8, Type); 8] = [
    (2, Type { size: Size::Small, factor: 1 }),
    (3, Type { size: Size::Medium, factor: 1 }),
    (4, Type { size: Size::Large, factor: 1 }),
    (6, Type { size: Size::Medium, factor: 2 }),
    (8, Type { size: Size::Large, factor: 2 }),
    (12, Type { size: Size::Medium, factor: 4 }),
    (16, Type { size: Size::Large, factor: 4 }),
    (24, Type { size: Size::Medium, factor: 8 }),
];

impl Type {
    /// Width and height of a letter, in pixels.
    pub const fn of_letter(self) -> (usize, usize) {
        let (width, height) = self.size.of_letter();
        (width * self.factor, height * self.factor)
    }

    /// From one line to the next, in pixels.
    const fn line(self) -> usize {
        self.of_letter().1 * 5 / 4
    }
}

/// Sizes of a screen's parts, in pixels.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Metrics {
    /// The screen.
    pub screen: (usize, usize),
    /// The letters.
    pub text: Type,
    /// Those of the title, the next on the scale.
    pub title: Type,
    /// Width of a column.
    pub column: usize,
    /// Height of a line.
    pub line: usize,
    /// Where the first column and line begin.
    pub origin: (usize, usize),
    /// Columns and lines.
    pub frame: Frame,
}

impl Metrics {
    /// What fits a screen of this width and height at a scale; how high it is in millimetres, where that is known.
    pub fn new(screen: (usize, usize), millimetres: Option<usize>, look: &Appearance) -> Self {
        let place = match look.scale {
            Scale::Auto => automatic(screen, millimetres),
            Scale::Halves(halves) => TYPES.iter().position(|(own, _)| *own == halves).unwrap_or(0),
        };
        let at = |place: usize| TYPES[place.min(TYPES.len() - 1)].1;
        let (text, title) = (at(place), at(place + 1));
        let (column, line) = (text.of_letter().0, text.line());
        let (width, height) = ((screen.0 / column).max(1), (screen.1 / line).max(1));
        let origin =
            (screen.0.saturating_sub(width * column) / 2, screen.1.saturating_sub(height * line) / 2);
        Self {
            screen,
            text,
            title,
            column,
            line,
            origin,
            frame: Frame { width, height, is_drawn: true, align: look.align, text: look.width },
        }
    }

    /// Where a column begins, in pixels from the left.
    pub fn x(&self, column: usize) -> usize {
        self.origin.0 + column * self.column
    }

    /// Where a line begins, in pixels from the top.
    pub fn y(&self, line: usize) -> usize {
        self.origin.1 + line * self.line
    }
}

/// The type whose lines come nearest to a thirtieth of the height, and of which enough columns fit; on a small screen the next one
/// that can be read.
fn automatic((width, height): (usize, usize), millimetres: Option<usize>) -> usize {
    let wanted = height / LINES;
    let fits = |text: Type| width / text.of_letter().0 >= FEWEST;
    let fitting = || TYPES.iter().enumerate().filter(|(_, (_, text))| fits(*text));
    let least = millimetres.map_or(0, |millimetres| (LEAST * height).div_ceil(millimetres.max(1)));
    let is_read = |(_, (_, text)): &(usize, &(u8, Type))| text.line() >= least;
    // The larger of two that are as near.
    let nearest = fitting().rev().filter(is_read).min_by_key(|(_, (_, text))| text.line().abs_diff(wanted));
    nearest.or_else(|| fitting().next_back()).map_or(0, |(place, _)| place)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_line_is_about_a_thirtieth_of_any_screen() {
        for screen in [
            (640, 480),
            (800, 600),
            (1024, 768),
            (1280, 800),
            (1920, 1080),
            (2560, 1440),
            (3840, 2160),
            (7680, 4320),
        ] {
            let lines = Metrics::new(screen, None, &Appearance::default()).frame.height;
            assert!((24..=36).contains(&lines), "{screen:?}: {lines}");
        }
        // A narrow one has room for its columns first.
        assert!(Metrics::new((600, 1024), None, &Appearance::default()).frame.width >= FEWEST);
    }

    fn of(scale: Scale) -> Appearance {
        Appearance { scale, ..Appearance::default() }
    }

    #[test]
    fn a_scale_that_is_set_counts_and_nothing_is_too_small() {
        for scale in Scale::ALL {
            let metrics = Metrics::new((1, 1), None, &of(scale));
            assert_eq!((metrics.frame.width, metrics.frame.height), (1, 1));
        }
        assert_eq!(Metrics::new((1280, 800), None, &of(Scale::Halves(2))).text.of_letter(), (8, 16));
        assert_eq!(Metrics::new((1280, 800), None, &of(Scale::Halves(8))).text.of_letter(), (32, 64));
    }

    #[test]
    fn a_small_screen_has_larger_letters_and_room_for_the_menu_all_the_same() {
        let line = |screen, millimetres| Metrics::new(screen, millimetres, &Appearance::default()).line;
        // Seven inches: 3 mm a line would be too little.
        assert_eq!((line((1024, 600), None), line((1024, 600), Some(90))), (20, 30));
        // Ten inches and more are as they were.
        for tall in [136, 200, 340, 700] {
            assert_eq!(line((1280, 800), Some(tall)), line((1280, 800), None), "{tall}");
        }
        // However small it says it is, the menu has its columns.
        assert!(Metrics::new((1280, 800), Some(1), &Appearance::default()).frame.width >= FEWEST);
        assert!(line((1280, 800), Some(0)) > 0);
    }
}
