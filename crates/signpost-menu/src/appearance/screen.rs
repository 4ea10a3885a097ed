//! The screen that the menu is drawn on, and how large.

use alloc::string::String;

use crate::firmware::Firmware;

/// How large letters are, in halves of the smallest: its lines are 16 pixels high.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Scale {
    /// As the screen's height asks for.
    #[default]
    Auto,
    /// So many halves.
    Halves(u8),
}

impl Scale {
    /// All of them.
    pub const ALL: [Self; 6] =
        [Self::Auto, Self::Halves(2), Self::Halves(3), Self::Halves(4), Self::Halves(6), Self::Halves(8)];

    /// The word that stands for it in the file.
    pub const fn word(self) -> &'static str {
        match self {
            Self::Auto => "auto",
            Self::Halves(2) => "1",
            Self::Halves(3) => "1.5",
            Self::Halves(4) => "2",
            Self::Halves(6) => "3",
            Self::Halves(_) => "4",
        }
    }
}

/// What the menu is drawn on.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum ScreenMode {
    /// The screen as firmware has left it.
    #[default]
    Keep,
    /// The largest mode that firmware offers.
    Native,
    /// This size, else the nearest that is not larger.
    Size {
        /// Pixels across.
        width: u16,
        /// Pixels down.
        height: u16,
    },
    /// Firmware's own letters.
    Text,
}

/// Bounds of a screen, in pixels.
const SMALLEST: (u16, u16) = (320, 200);
const LARGEST: (u16, u16) = (7680, 4320);

impl ScreenMode {
    /// What a file or a person writes.
    ///
    /// # Errors
    /// What would be right.
    pub fn parse(text: &str) -> Result<Self, String> {
        let right = || {
            let near: String = text.chars().map(|c| if c.is_ascii_digit() { c } else { 'x' }).collect();
            let meant = size(&near).map_or_else(String::new, |(width, height)| {
                alloc::format!("; did you mean {width}x{height}?")
            });
            alloc::format!(
                "a screen is keep, native, text, or pixels across and down from 320x200 to 7680x4320, such as 1280x800{meant}"
            )
        };
        match text {
            "keep" => Ok(Self::Keep),
            "native" => Ok(Self::Native),
            "text" => Ok(Self::Text),
            _ => size(text).map(|(width, height)| Self::Size { width, height }).ok_or_else(right),
        }
    }

    /// As a file holds it.
    pub fn text(self) -> String {
        match self {
            Self::Keep => "keep".into(),
            Self::Native => "native".into(),
            Self::Text => "text".into(),
            Self::Size { width, height } => alloc::format!("{width}x{height}"),
        }
    }

    /// Whether the menu is drawn in pixels: firmware's own letters are asked for, or are what BIOS firmware leaves.
    pub fn is_drawn(self, firmware: Firmware) -> bool {
        match self {
            Self::Text => false,
            Self::Keep => firmware == Firmware::Uefi,
            Self::Native | Self::Size { .. } => true,
        }
    }

    /// What came of it where it could not be had: drawn at another size, or not at all.
    pub fn otherwise(self, drawn: Option<(usize, usize)>) -> Option<String> {
        let wanted = match self {
            Self::Keep | Self::Text => return None,
            Self::Native => None,
            Self::Size { width, height } => Some((usize::from(width), usize::from(height))),
        };
        match drawn {
            None => Some("there is no screen of pixels; the menu was in letters".into()),
            Some(drawn) if wanted.is_none_or(|wanted| wanted == drawn) => None,
            Some((width, height)) => Some(alloc::format!(
                "the screen has no mode of {}; the menu was drawn at {width}x{height}",
                self.text()
            )),
        }
    }

    /// Which of the modes that firmware offers it is drawn in, in pixels: its place among them. Nothing where the mode stays.
    pub fn choose(self, modes: &[(usize, usize)]) -> Option<usize> {
        let area = |(width, height): (usize, usize)| width.saturating_mul(height);
        let limit = match self {
            Self::Keep | Self::Text => return None,
            Self::Native => (usize::from(LARGEST.0), usize::from(LARGEST.1)),
            Self::Size { width, height } => (width.into(), height.into()),
        };
        let fits = |mode: &(usize, usize)| mode.0 <= limit.0 && mode.1 <= limit.1;
        let fitting = modes.iter().enumerate().filter(|(_, mode)| fits(mode));
        fitting.max_by_key(|(_, mode)| area(**mode)).map(|(place, _)| place)
    }
}

fn size(text: &str) -> Option<(u16, u16)> {
    let (width, height) = text.split_once('x')?;
    let size = (width.parse().ok()?, height.parse().ok()?);
    let is_within = |value: u16, least: u16, most: u16| (least..=most).contains(&value);
    (is_within(size.0, SMALLEST.0, LARGEST.0) && is_within(size.1, SMALLEST.1, LARGEST.1)).then_some(size)
}
