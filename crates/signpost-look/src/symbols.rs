//! Symbols, drawn for this project: lines and rounds on a square of 24 units, at any size.

use alloc::vec;
use alloc::vec::Vec;

use signpost_menu::symbol::Shape::{self, Dot, Frame, Line, OpenRing, Ring};
use signpost_menu::symbol::{self, Symbol};

/// Units of the square's side.
const SIDE: i32 = symbol::SIDE as i32;
/// Parts of a unit that are computed with.
const PARTS: i32 = 16;
/// Half the width of a line, in parts.
const HALF: i32 = 15;
/// Samples of a pixel, in either direction.
const SAMPLES: i32 = 4;

/// What a symbol is made of.
fn shapes(symbol: &Symbol) -> &[Shape] {
    match symbol {
        Symbol::Terminal => {
            &[Frame([2, 4, 22, 20], 3), Line([6, 9, 9, 12]), Line([9, 12, 6, 15]), Line([12, 15, 17, 15])]
        }
        Symbol::Window => &[Frame([2, 4, 22, 20], 3), Line([3, 9, 21, 9]), Line([9, 10, 9, 19])],
        Symbol::Disk => {
            &[Frame([2, 5, 22, 19], 3), Line([3, 13, 21, 13]), Dot([17, 16], 1), Line([6, 16, 11, 16])]
        }
        Symbol::Disc => &[Ring([12, 12], 10), Ring([12, 12], 3)],
        Symbol::Chip => &[
            Frame([6, 6, 18, 18], 2),
            Line([9, 2, 9, 5]),
            Line([15, 2, 15, 5]),
            Line([9, 19, 9, 22]),
            Line([15, 19, 15, 22]),
            Line([2, 9, 5, 9]),
            Line([2, 15, 5, 15]),
            Line([19, 9, 22, 9]),
            Line([19, 15, 22, 15]),
        ],
        Symbol::Stack => {
            &[Frame([2, 9, 17, 21], 3), Line([6, 6, 19, 6]), Line([20, 7, 20, 17]), Line([10, 3, 22, 3])]
        }
        Symbol::Sliders => &[
            Line([3, 6, 12, 6]),
            Ring([16, 6], 3),
            Line([20, 6, 21, 6]),
            Line([3, 18, 4, 18]),
            Ring([8, 18], 3),
            Line([12, 18, 21, 18]),
        ],
        Symbol::Restart => &[OpenRing([12, 12], 9), Line([18, 6, 18, 1]), Line([18, 6, 13, 6])],
        Symbol::Power => &[OpenRing([12, 13], 9), Line([12, 2, 12, 11])],
        Symbol::Lifebelt => &[
            Ring([12, 12], 10),
            Ring([12, 12], 4),
            Line([5, 5, 9, 9]),
            Line([15, 15, 19, 19]),
            Line([19, 5, 15, 9]),
            Line([9, 15, 5, 19]),
        ],
        Symbol::Own(shapes) => shapes,
    }
}

/// Whether a shape covers a place, in parts.
fn covers(shape: Shape, (x, y): (i32, i32)) -> bool {
    let parts = |units: u8| i32::from(units) * PARTS;
    match shape {
        Line(ends) => is_on_line(ends.map(parts), (x, y)),
        Frame(edges, radius) => is_on_frame(edges.map(parts), parts(radius), (x, y)),
        Ring(middle, radius) => is_on_ring(middle.map(parts), parts(radius), (x, y)),
        OpenRing(middle, radius) => {
            let [across, down] = middle.map(parts);
            let is_open = down - y > (x - across).abs();
            !is_open && is_on_ring([across, down], parts(radius), (x, y))
        }
        Dot(middle, radius) => {
            let [across, down] = middle.map(parts);
            let reach = parts(radius) + HALF / 2;
            (x - across).pow(2) + (y - down).pow(2) <= reach.pow(2)
        }
    }
}

fn is_on_line([x1, y1, x2, y2]: [i32; 4], (x, y): (i32, i32)) -> bool {
    let (along_x, along_y) = (x2 - x1, y2 - y1);
    let length = along_x * along_x + along_y * along_y;
    if length == 0 {
        return (x - x1).pow(2) + (y - y1).pow(2) <= HALF.pow(2);
    }
    let part = ((x - x1) * along_x + (y - y1) * along_y).clamp(0, length);
    // Times the length, so that nothing is divided.
    let off_x = i64::from(x - x1) * i64::from(length) - i64::from(part) * i64::from(along_x);
    let off_y = i64::from(y - y1) * i64::from(length) - i64::from(part) * i64::from(along_y);
    let reach = i64::from(HALF) * i64::from(length);
    off_x * off_x + off_y * off_y <= reach * reach
}

fn is_on_ring([across, down]: [i32; 2], radius: i32, (x, y): (i32, i32)) -> bool {
    let distance = (x - across).pow(2) + (y - down).pow(2);
    ((radius - HALF).max(0).pow(2)..=(radius + HALF).pow(2)).contains(&distance)
}

fn is_on_frame([left, top, right, bottom]: [i32; 4], radius: i32, (x, y): (i32, i32)) -> bool {
    // How far beyond the straight part of the edge, in either direction.
    let beyond = |value: i32, low: i32, high: i32| (low + radius - value).max(value - (high - radius));
    let (across, down) = (beyond(x, left, right), beyond(y, top, bottom));
    if across > 0 && down > 0 {
        let distance = across.pow(2) + down.pow(2);
        return ((radius - HALF).max(0).pow(2)..=(radius + HALF).pow(2)).contains(&distance);
    }
    (across.max(down) - radius).abs() <= HALF
}

/// How much of each pixel a symbol covers, of 255, on a square of so many pixels.
pub fn coverage(symbol: &Symbol, side: usize) -> Vec<u8> {
    let shapes = shapes(symbol);
    let pixels = i32::try_from(side).unwrap_or(0);
    let steps = pixels * SAMPLES;
    let mut cover = vec![0; side * side];
    let place = |sample: i32| (2 * sample + 1) * SIDE * PARTS / (2 * steps);
    let at = (0..pixels).flat_map(|row| (0..pixels).map(move |column| (column, row)));
    for ((column, row), cover) in at.zip(&mut cover) {
        let samples = (0..SAMPLES).flat_map(|down| (0..SAMPLES).map(move |across| (across, down)));
        let hit = samples.filter(|(across, down)| {
            let (x, y) = (place(column * SAMPLES + across), place(row * SAMPLES + down));
            shapes.iter().any(|shape| covers(*shape, (x, y)))
        });
        *cover = u8::try_from(hit.count() * 255 / 16).unwrap_or(u8::MAX);
    }
    cover
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn no_two_symbols_are_alike_and_none_leaves_its_square() {
        for side in [16, 24, 64] {
            let drawn: Vec<Vec<u8>> = Symbol::ALL.iter().map(|symbol| coverage(symbol, side)).collect();
            for (index, one) in drawn.iter().enumerate() {
                let inked = one.iter().filter(|cover| **cover > 127).count();
                assert!(
                    (side * side / 12..side * side / 2).contains(&inked),
                    "{:?}: {inked}",
                    Symbol::ALL[index]
                );
                for other in &drawn[index + 1..] {
                    let apart = one.iter().zip(other).filter(|(a, b)| a.abs_diff(**b) > 127).count();
                    assert!(apart > side * side / 20, "{:?}", Symbol::ALL[index]);
                }
            }
        }
    }

    #[test]
    fn a_symbol_of_ones_own_is_drawn_as_it_says() {
        let drawn = |lines: &[&str]| coverage(&Symbol::own(lines.iter().copied()).unwrap(), 24);
        let inked = |cover: &[u8]| {
            let rows = cover.chunks(24).enumerate();
            rows.filter(|(_, row)| row.iter().any(|cover| *cover > 127))
                .map(|(row, _)| row)
                .collect::<Vec<_>>()
        };
        assert_eq!(inked(&drawn(&["line 2 12 22 12"])), [11, 12]);
        // What has no length is a dot, and not everything.
        assert_eq!(inked(&drawn(&["line 5 5 5 5"])), [4, 5]);
        assert_eq!(inked(&drawn(&["ring 12 12 24"])), [0; 0]);
        let whole = drawn(&["frame 0 0 24 24 12", "open-ring 0 24 24", "dot 24 0 24"]);
        assert_eq!(whole.len(), 24 * 24);
    }
}
