//! Pictures turned for panels that are built in sideways.

use alloc::vec;
use alloc::vec::Vec;

use signpost_menu::appearance::Turn;

use crate::band::Area;

/// The picture's width and height for a panel of this width and height.
pub fn picture_of(panel: (usize, usize), turn: Turn) -> (usize, usize) {
    match turn {
        Turn::None | Turn::Half => panel,
        Turn::Quarter | Turn::ThreeQuarters => (panel.1, panel.0),
    }
}

/// Rows of a picture as they stand on a panel of this width and height: where, and their pixels row by row.
pub fn on_panel(panel: (usize, usize), turn: Turn, top: usize, rows: Vec<u32>) -> (Area, Vec<u32>) {
    let (width, height) = picture_of(panel, turn);
    let count = rows.len() / width.max(1);
    let at = |row: usize, column: usize| rows.get(row * width + column).copied().unwrap_or(0);
    match turn {
        Turn::None => (Area { x: 0, y: top, width, height: count }, rows),
        Turn::Half => {
            let turned = rows.iter().rev().copied().collect();
            (Area { x: 0, y: height.saturating_sub(top + count), width, height: count }, turned)
        }
        // The picture's upper edge is the panel's right one; its rows are columns, read from the bottom.
        Turn::Quarter | Turn::ThreeQuarters => {
            let mut turned = vec![0; rows.len()];
            for row in 0..count {
                for column in 0..width {
                    let (x, y) = match turn {
                        Turn::Quarter => (count - 1 - row, column),
                        _ => (row, width - 1 - column),
                    };
                    if let Some(pixel) = turned.get_mut(y * count + x) {
                        *pixel = at(row, column);
                    }
                }
            }
            let x = if turn == Turn::Quarter { height.saturating_sub(top + count) } else { top };
            (Area { x, y: 0, width: count, height: width }, turned)
        }
    }
}

/// Where a place of a panel of this width and height is in the picture.
pub fn in_picture(panel: (usize, usize), turn: Turn, (x, y): (usize, usize)) -> (usize, usize) {
    let (x, y) = (x.min(panel.0.saturating_sub(1)), y.min(panel.1.saturating_sub(1)));
    let (right, bottom) = (panel.0.saturating_sub(1 + x), panel.1.saturating_sub(1 + y));
    match turn {
        Turn::None => (x, y),
        Turn::Half => (right, bottom),
        Turn::Quarter => (y, right),
        Turn::ThreeQuarters => (bottom, x),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_place_of_the_panel_is_found_in_the_picture() {
        for turn in [Turn::None, Turn::Half, Turn::Quarter, Turn::ThreeQuarters] {
            let size = (3, 2);
            let width = picture_of(size, turn).0;
            for (place, pixel) in panel(size, turn).into_iter().enumerate() {
                let (x, y) = in_picture(size, turn, (place % 3, place / 3));
                assert_eq!(y * width + x, pixel as usize, "{turn:?} {place}");
            }
            assert_eq!(in_picture(size, turn, (99, 99)), in_picture(size, turn, (2, 1)));
        }
    }

    /// A panel put together from bands of a picture whose pixels are numbered.
    fn panel(size: (usize, usize), turn: Turn) -> Vec<u32> {
        let (width, height) = picture_of(size, turn);
        let mut panel = vec![u32::MAX; size.0 * size.1];
        for top in (0..height).step_by(2) {
            let count = 2.min(height - top);
            let rows = (top * width..(top + count) * width).map(|pixel| pixel as u32).collect();
            let (area, pixels) = on_panel(size, turn, top, rows);
            for (place, pixel) in pixels.into_iter().enumerate() {
                panel[(area.y + place / area.width) * size.0 + area.x + place % area.width] = pixel;
            }
        }
        panel
    }

    #[test]
    fn a_picture_is_turned_clockwise() {
        assert_eq!(panel((3, 2), Turn::None), [0, 1, 2, 3, 4, 5]);
        assert_eq!(panel((3, 2), Turn::Half), [5, 4, 3, 2, 1, 0]);
        // The picture is two wide and three high: 0 1 / 2 3 / 4 5.
        assert_eq!(panel((3, 2), Turn::Quarter), [4, 2, 0, 5, 3, 1]);
        assert_eq!(panel((3, 2), Turn::ThreeQuarters), [1, 3, 5, 0, 2, 4]);
    }
}
