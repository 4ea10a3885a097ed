//! Paints a scene in pixels.

use alloc::vec;
use alloc::vec::Vec;
use core::cell::RefCell;
use core::ops::Range;

use signpost_menu::appearance::{Appearance, Colour, Palette, PictureFit, Role, Turn};
use signpost_menu::scene::{Piece, Scene, Tone, WHOLE};
use signpost_menu::symbol::Symbol;
use signpost_menu::text::shown;
use unicode_width::UnicodeWidthChar;

use crate::band::{Area, Band};
use crate::letters::Letters;
use crate::metrics::{Metrics, Type};
use crate::picture::Picture;
use crate::symbols;
use crate::turned::{on_panel, picture_of};

/// Rows of pixels that are painted at a time: of a large screen, what is painted takes two megabytes.
const AT_A_TIME: usize = 128;

/// Letters and colours for one screen.
pub struct Painter {
    /// Sizes.
    pub metrics: Metrics,
    palette: Palette,
    text: Letters,
    title: Letters,
    /// Those that were drawn already.
    symbols: RefCell<Vec<(Symbol, Vec<u8>)>>,
    /// What lies behind the menu.
    picture: Option<(Picture, PictureFit)>,
}

impl Painter {
    /// For a screen of this width and height in pixels; its height in millimetres, where that is known.
    pub fn new(screen: (usize, usize), millimetres: Option<usize>, look: &Appearance) -> Self {
        let metrics = Metrics::new(screen, millimetres, look);
        let (text, title) = (Letters::of(metrics.text.size), Letters::of(metrics.title.size));
        Self { metrics, palette: look.palette(), text, title, symbols: RefCell::default(), picture: None }
    }

    /// The same with a picture behind the menu.
    pub fn with_picture(self, picture: Picture, fit: PictureFit) -> Self {
        Self { picture: Some((picture, fit)), ..self }
    }

    /// What lies behind everything.
    pub fn ground(&self) -> Colour {
        self.palette.of(Role::Ground)
    }

    /// Paints rows of pixels, as many as the buffer has, from one on.
    pub fn paint(&self, scene: &Scene, top: usize, pixels: &mut [u32]) {
        pixels.fill(self.ground().0);
        let width = self.metrics.screen.0;
        let rows = top..top + pixels.len() / width.max(1);
        let mut band = Band { pixels, width, top };
        self.behind(&mut band, scene, &rows);
        for piece in &scene.pieces {
            let lines = touched(piece);
            let (from, to) = (self.metrics.y(lines.start), self.metrics.y(lines.end));
            if from < rows.end && rows.start < to {
                self.piece(&mut band, scene.end, piece);
            }
        }
        if let Some(cursor) = scene.cursor {
            self.cursor(&mut band, scene, cursor);
        }
    }

    /// The row of the list at a place in pixels, by its place in the list.
    pub fn row_at(&self, scene: &Scene, (x, y): (usize, usize)) -> Option<usize> {
        let columns = scene.panel();
        let is_beside = x < self.metrics.x(columns.start) || x >= self.metrics.x(columns.end);
        let is_there = |line: usize| (self.metrics.y(line)..self.metrics.y(line + 1)).contains(&y);
        scene.rows.iter().find(|(line, _)| !is_beside && is_there(*line)).map(|(_, place)| *place)
    }

    /// The picture, and on it a panel of the ground's colour: text is read on that alone.
    fn behind(&self, band: &mut Band<'_>, scene: &Scene, rows: &Range<usize>) {
        let Some((picture, fit)) = &self.picture else { return };
        let screen = self.metrics.screen;
        for (row, pixels) in rows.clone().zip(band.pixels.chunks_mut(screen.0.max(1))) {
            picture.row(*fit, screen, row, pixels);
        }
        let panel = scene.panel();
        // What is left over at the screen's edges belongs to the columns there.
        let x = if panel.start == 0 { 0 } else { self.metrics.x(panel.start) };
        let end = if panel.end >= self.metrics.frame.width { screen.0 } else { self.metrics.x(panel.end) };
        let area = Area { x, y: rows.start, width: end.saturating_sub(x), height: rows.len() };
        band.fill(area, self.ground());
    }

    /// Paints what differs from the scene before, or from the ground alone, and hands it on piece by piece: where it stands on a
    /// panel of which the picture is turned, and its pixels row by row.
    pub fn update(
        &self,
        before: Option<&Scene>,
        after: &Scene,
        turn: Turn,
        mut put: impl FnMut(Area, &[u32]),
    ) {
        let screen = self.metrics.screen;
        for rows in self.changed(before, after) {
            for top in rows.clone().step_by(AT_A_TIME) {
                let mut pixels = vec![0; screen.0 * AT_A_TIME.min(rows.end - top)];
                self.paint(after, top, &mut pixels);
                let (area, pixels) = on_panel(picture_of(screen, turn), turn, top, pixels);
                put(area, &pixels);
            }
        }
    }

    /// The rows of pixels in which a scene differs from the one before it, or from the ground alone; neighbours are one range.
    fn changed(&self, before: Option<&Scene>, after: &Scene) -> Vec<Range<usize>> {
        let has_other_panel = before.is_none_or(|before| before.panel() != after.panel());
        if self.picture.is_some() && has_other_panel {
            return core::iter::once(0..self.metrics.screen.1).collect();
        }
        let mut changed: Vec<Range<usize>> = Vec::new();
        for line in 0..self.metrics.frame.height {
            let cursor_of = |scene: &Scene| scene.cursor.filter(|(_, row)| *row == line);
            let was = before.into_iter().flat_map(|scene| on(scene, line));
            if was.eq(on(after, line)) && before.and_then(cursor_of) == cursor_of(after) {
                continue;
            }
            let rows = self.metrics.y(line)..self.metrics.y(line + 1);
            match changed.last_mut() {
                Some(last) if last.end == rows.start => last.end = rows.end,
                _ => changed.push(rows),
            }
        }
        changed
    }

    fn piece(&self, band: &mut Band<'_>, end: usize, piece: &Piece) {
        let metrics = &self.metrics;
        match piece {
            Piece::Bar { column, row, columns } => {
                let (x, y) = (metrics.x(*column), metrics.y(*row));
                let area = Area { x, y, width: columns * metrics.column, height: metrics.line };
                band.fill_round(area, metrics.line / 5, self.palette.of(Role::Chosen));
            }
            Piece::Text { column, row, text, tone } => {
                let y = metrics.y(*row) + (metrics.line - metrics.text.of_letter().1) / 2;
                let area = (metrics.x(*column), y, metrics.x(end));
                self.letters(band, area, text, (&self.text, metrics.text, self.colour(*tone)));
            }
            Piece::Title { column, row, text } => {
                let height = metrics.title.of_letter().1;
                let middle = metrics.y(*row) + metrics.line / 2;
                let y = middle.saturating_sub(height / 2);
                let area = (metrics.x(*column), y, metrics.x(end));
                self.letters(band, area, text, (&self.title, metrics.title, self.colour(Tone::Heading)));
                let thick = metrics.line / 10;
                let y = middle + height / 2 + thick;
                let area = Area { x: metrics.x(*column), y, width: 4 * metrics.column, height: thick };
                band.fill(area, self.palette.of(Role::Accent));
            }
            Piece::Symbol { column, row, symbol, tone } => {
                let side = 2 * metrics.column;
                let y = metrics.y(*row) + metrics.line.saturating_sub(side) / 2;
                let role = match tone {
                    Tone::Chosen => Role::ChosenText,
                    Tone::Faint => Role::Faint,
                    _ => Role::Accent,
                };
                self.symbol(band, (metrics.x(*column), y), symbol, (side, self.palette.of(role)));
            }
            Piece::Meter { column, row, columns, left } => self.meter(band, (*column, *row), *columns, *left),
        }
    }

    /// Letters from a place to a column of pixels; a text that does not fit ends in `~`.
    fn letters(
        &self,
        band: &mut Band<'_>,
        (x, y, end): (usize, usize, usize),
        text: &str,
        (letters, size, colour): (&Letters, Type, Colour),
    ) {
        let (width, _) = size.of_letter();
        let text = shown(text);
        let advance = |symbol: char| width * symbol.width().unwrap_or(1);
        let is_whole = x + text.chars().map(advance).sum::<usize>() <= end;
        // What is cut leaves room for the sign that says so.
        let end = if is_whole { end } else { end.saturating_sub(width) };
        let mut at = x;
        for symbol in text.chars().filter(|symbol| advance(*symbol) > 0) {
            if at + advance(symbol) > end {
                break;
            }
            self.letter(band, (at, y), symbol, (letters, size, colour));
            at += advance(symbol);
        }
        if !is_whole {
            self.letter(band, (at, y), '~', (letters, size, colour));
        }
    }

    fn letter(
        &self,
        band: &mut Band<'_>,
        (x, y): (usize, usize),
        symbol: char,
        (letters, size, colour): (&Letters, Type, Colour),
    ) {
        letters.runs(symbol, |column, row, count| {
            let (x, y) = (x + column * size.factor, y + row * size.factor);
            band.fill(Area { x, y, width: count * size.factor, height: size.factor }, colour);
        });
    }

    fn symbol(
        &self,
        band: &mut Band<'_>,
        (x, y): (usize, usize),
        symbol: &Symbol,
        (side, colour): (usize, Colour),
    ) {
        let mut drawn = self.symbols.borrow_mut();
        if !drawn.iter().any(|(own, _)| own == symbol) {
            drawn.push((symbol.clone(), symbols::coverage(symbol, side)));
        }
        let Some((_, cover)) = drawn.iter().find(|(own, _)| own == symbol) else { return };
        for (place, cover) in cover.iter().enumerate().filter(|(_, cover)| **cover > 0) {
            band.blend((x + place % side, y + place / side), colour, *cover);
        }
    }

    fn meter(&self, band: &mut Band<'_>, (column, row): (usize, usize), columns: usize, left: usize) {
        let metrics = &self.metrics;
        let height = metrics.line / 4;
        let (x, y) = (metrics.x(column), metrics.y(row) + (metrics.line - height) / 2);
        let width = columns * metrics.column;
        let rail = self.ground().mixed(self.palette.of(Role::Faint), 80);
        band.fill_round(Area { x, y, width, height }, height / 2, rail);
        let filled = width * left.min(WHOLE) / WHOLE;
        if filled > height {
            let area = Area { x, y, width: filled, height };
            band.fill_round(area, height / 2, self.palette.of(Role::Accent));
        }
    }

    fn cursor(&self, band: &mut Band<'_>, scene: &Scene, (column, row): (usize, usize)) {
        let metrics = &self.metrics;
        let is_on_bar =
            scene.pieces.iter().any(|piece| matches!(piece, Piece::Bar { row: own, .. } if *own == row));
        let colour = self.colour(if is_on_bar { Tone::Chosen } else { Tone::Heading });
        let height = metrics.line / 10;
        let y = metrics.y(row) + metrics.line - 2 * height;
        band.fill(Area { x: metrics.x(column), y, width: metrics.column, height }, colour);
    }

    fn colour(&self, tone: Tone) -> Colour {
        self.palette.of(tone.role())
    }
}

/// The lines that a piece reaches into; a title is larger than its own.
fn touched(piece: &Piece) -> Range<usize> {
    let row = piece.row();
    match piece {
        Piece::Title { .. } => row.saturating_sub(1)..row + 2,
        _ => row..row + 1,
    }
}

/// What reaches into a line.
fn on(scene: &Scene, line: usize) -> impl Iterator<Item = &Piece> {
    scene.pieces.iter().filter(move |piece| touched(piece).contains(&line))
}

#[cfg(test)]
mod tests {
    use signpost_menu::scene::Frame;

    use super::*;

    /// A line of text on a screen of so many columns, as cells that are touched or not.
    fn inked(columns: usize, text: &str) -> Vec<bool> {
        let painter = Painter::new((columns * 8, 20), None, &Appearance::default());
        let frame = painter.metrics.frame;
        let piece = Piece::Text { column: 0, row: 0, text: text.into(), tone: Tone::Plain };
        let mut scene = Scene::empty(frame);
        (scene.end, scene.pieces) = (columns, vec![piece]);
        let mut pixels = vec![0; columns * 8 * 20];
        painter.paint(&scene, 0, &mut pixels);
        let is_ink = |column: usize| {
            (0..20).any(|row| {
                pixels[row * columns * 8 + column * 8..][..8].iter().any(|pixel| *pixel != painter.ground().0)
            })
        };
        (0..columns).map(is_ink).collect()
    }

    #[test]
    fn a_text_that_is_cut_ends_in_a_sign_of_its_own() {
        // Blanks show where the sign stands.
        assert_eq!(inked(6, "a    b"), [true, false, false, false, false, true]);
        assert_eq!(inked(6, "a     bc"), [true, false, false, false, false, true]);
        assert_eq!(inked(3, "a b"), [true, false, true]);
        assert_eq!(inked(4, "a   "), [true, false, false, false]);
    }

    #[test]
    fn what_is_painted_in_bands_is_what_is_painted_at_once() {
        let painter = Painter::new((320, 200), None, &Appearance::default());
        let text = Piece::Text { column: 2, row: 3, text: "Größe Ж Ω".into(), tone: Tone::Warning };
        let title = Piece::Title { column: 2, row: 1, text: "Tide".into() };
        let meter = Piece::Meter { column: 2, row: 5, columns: 10, left: 77 };
        let bar = Piece::Bar { column: 1, row: 3, columns: 20 };
        let frame = Frame { is_drawn: true, ..Frame::cells(40, 10) };
        let mut scene = Scene::empty(frame);
        scene.pieces = vec![bar, text, title, meter];
        in_bands_as_at_once(&painter, &scene);
        // Where nothing changed, nothing is painted; a title reaches into its neighbours.
        assert_eq!(painter.changed(Some(&scene), &scene), []);
        let mut without = scene.clone();
        without.pieces.truncate(2);
        assert_eq!(painter.changed(Some(&without), &scene), [0..60, 100..120]);
        let picture = Picture::new((5, 3), (0..45).collect()).unwrap();
        for fit in PictureFit::ALL {
            let painter = Painter::new((320, 200), None, &Appearance::default());
            let painter = painter.with_picture(picture.clone(), *fit);
            in_bands_as_at_once(&painter, &scene);
            assert!(painter.changed(None, &scene).into_iter().eq(core::iter::once(0..200)));
            assert_eq!(painter.changed(Some(&without), &scene), [0..60, 100..120]);
        }
    }

    fn in_bands_as_at_once(painter: &Painter, scene: &Scene) {
        let mut whole = vec![0; 320 * 200];
        painter.paint(scene, 0, &mut whole);
        for height in [1, 7, 64] {
            let mut banded = vec![0; 320 * 200];
            for (place, band) in banded.chunks_mut(320 * height).enumerate() {
                painter.paint(scene, place * height, band);
            }
            assert!(banded == whole, "bands of {height}");
        }
    }
}
