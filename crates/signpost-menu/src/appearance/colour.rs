//! Colours, and whether one can be read on another (Web Content Accessibility Guidelines 2.2, "contrast ratio").

use alloc::format;
use alloc::string::String;
use core::fmt;

/// Red, green and blue, eight bits each.
#[derive(Clone, Copy, PartialEq, Eq)]
pub struct Colour(pub u32);

/// Least contrast at which text can be read, in hundredths (criterion 1.4.3).
pub const MIN_CONTRAST: u32 = 450;

/// Colours that have a name: the sixteen of HTML 4.01, 6.5.
pub const NAMED: [(&str, Colour); 16] = [
    ("black", Colour(0x00_00_00)),
    ("navy", Colour(0x00_00_80)),
    ("green", Colour(0x00_80_00)),
    ("teal", Colour(0x00_80_80)),
    ("maroon", Colour(0x80_00_00)),
    ("purple", Colour(0x80_00_80)),
    ("olive", Colour(0x80_80_00)),
    ("silver", Colour(0xc0_c0_c0)),
    ("gray", Colour(0x80_80_80)),
    ("blue", Colour(0x00_00_ff)),
    ("lime", Colour(0x00_ff_00)),
    ("aqua", Colour(0x00_ff_ff)),
    ("red", Colour(0xff_00_00)),
    ("fuchsia", Colour(0xff_00_ff)),
    ("yellow", Colour(0xff_ff_00)),
    ("white", Colour(0xff_ff_ff)),
];

impl Colour {
    /// What a file or a person writes: a name, or `#rrggbb`.
    ///
    /// # Errors
    /// What would be right.
    pub fn parse(text: &str) -> Result<Self, String> {
        let named = NAMED.iter().find(|(name, _)| *name == text).map(|(_, colour)| *colour);
        let digits = text.strip_prefix('#').filter(|digits| digits.len() == 6);
        let digits = digits.filter(|digits| digits.bytes().all(|byte| byte.is_ascii_hexdigit()));
        let written = digits.and_then(|digits| u32::from_str_radix(digits, 16).ok()).map(Self);
        named.or(written).ok_or_else(|| {
            let names = NAMED.iter().map(|(name, _)| *name);
            let meant = crate::nearest::nearest(text, names).map(|name| format!("; did you mean {name}?"));
            format!(
                "a colour is #rrggbb, such as #9fd3c7, or a name, such as white or navy{}",
                meant.unwrap_or_default()
            )
        })
    }

    /// Red, green, blue.
    #[inline]
    pub const fn parts(self) -> [u8; 3] {
        let [_, red, green, blue] = self.0.to_be_bytes();
        [red, green, blue]
    }

    #[inline]
    const fn of(parts: [u8; 3]) -> Self {
        Self(u32::from_be_bytes([0, parts[0], parts[1], parts[2]]))
    }

    /// Relative luminance, of 65535 times ten thousand.
    fn luminance(self) -> u64 {
        const WEIGHTS: [u64; 3] = [2126, 7152, 722];
        let light = |part: u8| LIGHT.get(usize::from(part)).copied().map_or(0, u64::from);
        let weighed = self.parts().into_iter().zip(WEIGHTS);
        weighed.map(|(part, weight)| light(part).saturating_mul(weight)).fold(0, u64::saturating_add)
    }

    /// The contrast of two colours, in hundredths: 100 to 2100.
    pub fn contrast(self, other: Self) -> u32 {
        const FLARE: u64 = 65_535 * 10_000 / 20;
        let (a, b) = (self.luminance(), other.luminance());
        let (brighter, darker) = (a.max(b).saturating_add(FLARE), a.min(b).saturating_add(FLARE));
        u32::try_from(brighter.saturating_mul(100).checked_div(darker).unwrap_or(0)).unwrap_or(u32::MAX)
    }

    /// A mixture of this colour and another, `of_other` of 255 parts of which are the other.
    #[must_use]
    #[inline]
    pub fn mixed(self, other: Self, of_other: u8) -> Self {
        let [own, others] = [self.parts(), other.parts()];
        let mix = |a: u8, b: u8| {
            let (a, b, part) = (u32::from(a), u32::from(b), u32::from(of_other));
            let sum = a.saturating_mul(255_u32.saturating_sub(part)).saturating_add(b.saturating_mul(part));
            u8::try_from(sum.saturating_add(127) / 255).unwrap_or(u8::MAX)
        };
        Self::of([mix(own[0], others[0]), mix(own[1], others[1]), mix(own[2], others[2])])
    }

    /// The colour nearest to this one, on the way to black or to white, that can be read on a ground.
    pub fn nearest_readable(self, ground: Self) -> Self {
        let toward = |end: Self| {
            (0..=u8::MAX)
                .map(|part| (part, self.mixed(end, part)))
                .find(|(_, mixed)| mixed.contrast(ground) >= MIN_CONTRAST)
        };
        let found = [toward(Self(0)), toward(Self(0xff_ff_ff))].into_iter().flatten();
        found.min_by_key(|(part, _)| *part).map_or(self, |(_, colour)| colour)
    }

    /// Which of some colours is nearest to this one, of those whose place is taken: its place.
    pub fn nearest_of(self, among: &[Self], is_taken: impl Fn(usize) -> bool) -> Option<usize> {
        let own = self.parts();
        let distance = |other: &Self| {
            let parts = own.into_iter().zip(other.parts());
            parts.map(|(a, b)| u32::from(a.abs_diff(b)).saturating_pow(2)).fold(0, u32::saturating_add)
        };
        let taken = among.iter().enumerate().filter(|(place, _)| is_taken(*place));
        taken.min_by_key(|(_, other)| distance(other)).map(|(place, _)| place)
    }
}

/// A part of a colour as light, of 65535: ((x / 255 + 0.055) / 1.055) ^ 2.4, and x / 255 / 12.92 for the darkest.
#[rustfmt::skip]
static LIGHT: [u16; 256] = [
        0, 20, 40, 60, 80, 99, 119, 139, 159, 179, 199, 219, 241, 264, 288, 313, 340, 367, 396, 427, 458, 491, 526,
        562, 599, 637, 677, 718, 761, 805, 851, 898, 947, 997, 1048, 1101, 1156, 1212, 1270, 1330, 1391, 1453, 1517,
        1583, 1651, 1720, 1790, 1863, 1937, 2013, 2090, 2170, 2250, 2333, 2418, 2504, 2592, 2681, 2773, 2866, 2961,
        3058, 3157, 3258, 3360, 3464, 3570, 3678, 3788, 3900, 4014, 4129, 4247, 4366, 4488, 4611, 4736, 4864, 4993,
        5124, 5257, 5392, 5530, 5669, 5810, 5953, 6099, 6246, 6395, 6547, 6700, 6856, 7014, 7174, 7335, 7500, 7666,
        7834, 8004, 8177, 8352, 8528, 8708, 8889, 9072, 9258, 9445, 9635, 9828, 10022, 10219, 10417, 10619, 10822,
        11028, 11235, 11446, 11658, 11873, 12090, 12309, 12530, 12754, 12980, 13209, 13440, 13673, 13909, 14146,
        14387, 14629, 14874, 15122, 15371, 15623, 15878, 16135, 16394, 16656, 16920, 17187, 17456, 17727, 18001,
        18277, 18556, 18837, 19121, 19407, 19696, 19987, 20281, 20577, 20876, 21177, 21481, 21787, 22096, 22407,
        22721, 23038, 23357, 23678, 24002, 24329, 24658, 24990, 25325, 25662, 26001, 26344, 26688, 27036, 27386,
        27739, 28094, 28452, 28813, 29176, 29542, 29911, 30282, 30656, 31033, 31412, 31794, 32179, 32567, 32957,
        33350, 33745, 34143, 34544, 34948, 35355, 35764, 36176, 36591, 37008, 37429, 37852, 38278, 38706, 39138,
        39572, 40009, 40449, 40891, 41337, 41785, 42236, 42690, 43147, 43606, 44069, 44534, 45002, 45473, 45947,
        46423, 46903, 47385, 47871, 48359, 48850, 49344, 49841, 50341, 50844, 51349, 51858, 52369, 52884, 53401,
        53921, 54445, 54971, 55500, 56032, 56567, 57105, 57646, 58190, 58737, 59287, 59840, 60396, 60955, 61517,
        62082, 62650, 63221, 63795, 64372, 64952, 65535,
];

impl fmt::Display for Colour {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match NAMED.iter().find(|(_, colour)| colour == self) {
            Some((name, _)) => f.write_str(name),
            None => write!(f, "#{:06x}", self.0),
        }
    }
}

impl fmt::Debug for Colour {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "#{:06x}", self.0)
    }
}
