//! What stands for a kind of start beside its title: which sign, and of what lines one of the owner's own is made.

use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec::Vec;

use crate::entry_kind::EntryKind;

/// A symbol.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Symbol {
    /// A window with a line typed in it: a Linux kernel.
    Terminal,
    /// A window: a system that starts by a program of its own.
    Window,
    /// A disk: a boot sector.
    Disk,
    /// A disc: a system in an image.
    Disc,
    /// A chip: a test of the memory.
    Chip,
    /// Several sheets: a group.
    Stack,
    /// Sliders: the firmware's settings.
    Sliders,
    /// A round arrow.
    Restart,
    /// The sign on a power button.
    Power,
    /// A lifebelt: a system that brings another up again.
    Lifebelt,
    /// One of the owner's own.
    Own(Vec<Shape>),
}

/// Units of the square that a symbol stands on, from its upper left corner.
pub const SIDE: u8 = 24;
/// Shapes of a symbol of one's own at most.
pub const MAX_SHAPES: usize = 24;

/// A piece of a symbol, in units.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Shape {
    /// A line with round ends: from, to.
    Line([u8; 4]),
    /// A frame with round corners: its middle line's left, top, right, bottom; the corners' radius.
    Frame([u8; 4], u8),
    /// A circle: its middle, its radius.
    Ring([u8; 2], u8),
    /// The same, open within a right angle towards the top.
    OpenRing([u8; 2], u8),
    /// A filled circle.
    Dot([u8; 2], u8),
}

impl Shape {
    /// One as the menu file writes it, such as `line 4 20 20 4`.
    ///
    /// # Errors
    /// What is wrong with it, in words.
    pub fn parse(text: &str) -> Result<Self, String> {
        let mut words = text.split_ascii_whitespace();
        let word = words.next().unwrap_or_default();
        let numbers: Option<Vec<u8>> =
            words.map(|word| word.parse().ok().filter(|unit| *unit <= SIDE)).collect();
        let numbers = numbers
            .ok_or_else(|| format!("\"{text}\": behind its word stand whole numbers from 0 to {SIDE}"))?;
        let shape = match (word, numbers.as_slice()) {
            ("line", [x1, y1, x2, y2]) => Self::Line([*x1, *y1, *x2, *y2]),
            ("frame", [left, top, right, bottom, radius]) if left < right && top < bottom => {
                let least = right.abs_diff(*left).min(bottom.abs_diff(*top));
                Self::Frame([*left, *top, *right, *bottom], (*radius).min(least / 2))
            }
            ("ring", [x, y, radius]) => Self::Ring([*x, *y], *radius),
            ("open-ring", [x, y, radius]) => Self::OpenRing([*x, *y], *radius),
            ("dot", [x, y, radius]) => Self::Dot([*x, *y], *radius),
            _ => {
                return Err(format!(
                    "\"{text}\" is none of: line X Y X Y, frame LEFT TOP RIGHT BOTTOM RADIUS, ring X Y RADIUS, \
                     open-ring X Y RADIUS, dot X Y RADIUS"
                ));
            }
        };
        Ok(shape)
    }
}

impl Symbol {
    /// One of the owner's own, of shapes as the menu file writes them.
    ///
    /// # Errors
    /// What is wrong with them, in words.
    pub fn own<'t>(shapes: impl Iterator<Item = &'t str>) -> Result<Self, String> {
        let shapes = shapes.map(Shape::parse).collect::<Result<Vec<_>, _>>()?;
        if (1..=MAX_SHAPES).contains(&shapes.len()) {
            return Ok(Self::Own(shapes));
        }
        Err(format!("a symbol has 1 to {MAX_SHAPES} lines, and this one has {}", shapes.len()))
    }

    /// One of ours, by its word.
    ///
    /// # Errors
    /// Which there are.
    pub fn named(word: &str) -> Result<Self, String> {
        let found = Self::ALL.iter().find(|symbol| symbol.word() == word);
        found.cloned().ok_or_else(|| {
            let words = Self::ALL.map(|symbol| symbol.word().to_string());
            format!("\"{word}\" is none of: {}; a list such as [\"ring 12 12 9\", \"line 12 3 12 21\"] draws one of your own", words.join(", "))
        })
    }

    /// All of them.
    pub const ALL: [Self; 10] = [
        Self::Terminal,
        Self::Window,
        Self::Disk,
        Self::Disc,
        Self::Chip,
        Self::Stack,
        Self::Sliders,
        Self::Restart,
        Self::Power,
        Self::Lifebelt,
    ];

    /// The word that stands for it in the file.
    pub const fn word(&self) -> &'static str {
        match self {
            Self::Terminal => "terminal",
            Self::Window => "window",
            Self::Disk => "disk",
            Self::Disc => "disc",
            Self::Chip => "chip",
            Self::Stack => "stack",
            Self::Sliders => "sliders",
            Self::Restart => "restart",
            Self::Power => "power",
            Self::Lifebelt => "lifebelt",
            Self::Own(_) => "own",
        }
    }

    /// What goes with a kind of start; with one that nobody knows.
    pub fn of_kind(kind: Option<EntryKind>) -> Self {
        match kind {
            Some(EntryKind::Linux) => Self::Terminal,
            Some(EntryKind::Efi | EntryKind::FirmwareEntry) | None => Self::Window,
            Some(EntryKind::Sector) => Self::Disk,
            Some(EntryKind::Image) => Self::Disc,
            Some(EntryKind::Group) => Self::Stack,
            Some(EntryKind::SetupScreen) => Self::Sliders,
            Some(EntryKind::Restart) => Self::Restart,
            Some(EntryKind::PowerOff) => Self::Power,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn a_symbol_of_ones_own_is_made_of_lines() {
        let read = |lines: &[&str]| Symbol::own(lines.iter().copied());
        let drawn = read(&["frame 2 4 22 20 9", " line  4 20 20 4", "dot 12 12 2"]);
        // Corners are no rounder than half the frame.
        let shapes = [Shape::Frame([2, 4, 22, 20], 8), Shape::Line([4, 20, 20, 4]), Shape::Dot([12, 12], 2)];
        assert_eq!(drawn, Ok(Symbol::Own(shapes.to_vec())));
        for (lines, why) in [
            (&["line 4 20 20"][..], "is none of: line X Y X Y"),
            (&["line 4 20 20 25"], "whole numbers from 0 to 24"),
            (&["ring 12 12 -1"], "whole numbers from 0 to 24"),
            (&["frame 9 4 2 20 1"], "is none of"),
            (&["star 1 2 3"], "is none of"),
            (&[""], "is none of"),
            (&[], "has 1 to 24 lines, and this one has 0"),
            (&["dot 1 1 1"; 25], "this one has 25"),
        ] {
            let said = read(lines).unwrap_err();
            assert!(said.contains(why), "{lines:?}: {said}");
        }
        assert!(Symbol::named("own").is_err(), "it names none");
    }

    proptest! {
        #[test]
        fn any_line_is_read_or_refused(text in "\\PC{0,40}", units in prop::collection::vec(0..300_u16, 0..6)) {
            let numbers: Vec<String> = units.iter().map(ToString::to_string).collect();
            for word in ["line", "frame", "ring", "open-ring", "dot", &text] {
                if let Ok(shape) = Shape::parse(&format!("{word} {}", numbers.join(" "))) {
                    prop_assert!(units.iter().all(|unit| *unit <= u16::from(SIDE)), "{shape:?}");
                }
            }
        }
    }
}
