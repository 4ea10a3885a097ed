//! How the menu looks: `[look]` of a menu file, and the colours that come of it.

mod colour;
mod screen;

use alloc::string::String;

pub use colour::{Colour, MIN_CONTRAST, NAMED};
pub use screen::{Scale, ScreenMode};

/// `[look]`, as it is written.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Appearance {
    /// The look that the rest is put on.
    pub name: LookName,
    /// How large letters are.
    pub scale: Scale,
    /// What it is drawn on.
    pub screen: ScreenMode,
    /// How a panel is built in.
    pub turn: Turn,
    /// Colours that are set one by one, in the order of [`Role::ALL`].
    pub colours: [Option<Colour>; 8],
    /// No signs before the titles.
    pub without_symbols: bool,
    /// What a row says.
    pub detail: Detail,
    /// How the countdown is shown.
    pub countdown: Countdown,
    /// A line of one's own below the list.
    pub closing: Option<String>,
    /// The file of the picture behind the menu, as it is named at the desk.
    pub picture: Option<String>,
    /// How the picture is made to fit.
    pub picture_fit: PictureFit,
    /// Where the text stands.
    pub align: Align,
    /// How wide the text is.
    pub width: Width,
    /// Whether the time is shown.
    pub clock: bool,
    /// Whether consoles of letters get plain lines, for a screen reader.
    pub announce: bool,
}

/// A look that comes with the program.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum LookName {
    /// Dark, calm.
    #[default]
    Dusk,
    /// Light.
    Chalk,
    /// White on black, with the strongest contrast there is.
    Contrast,
}

impl LookName {
    /// All of them.
    pub const ALL: [Self; 3] = [Self::Dusk, Self::Chalk, Self::Contrast];

    /// The word that stands for it in the file.
    pub const fn word(self) -> &'static str {
        match self {
            Self::Dusk => "dusk",
            Self::Chalk => "chalk",
            Self::Contrast => "contrast",
        }
    }

    /// Its colours, in the order of [`Role::ALL`].
    const fn colours(self) -> [Colour; 8] {
        match self {
            Self::Dusk => [
                Colour(0x16_1e_26),
                Colour(0xd9_e0_e6),
                Colour(0x8f_a3_b3),
                Colour(0xff_ff_ff),
                Colour(0xf2_c1_4e),
                Colour(0x9f_d3_c7),
                Colour(0x10_20_24),
                Colour(0x4c_9a_8b),
            ],
            Self::Chalk => [
                Colour(0xf6_f4_ef),
                Colour(0x2b_30_36),
                Colour(0x5f_68_70),
                Colour(0x15_3b_50),
                Colour(0x9a_3f_0c),
                Colour(0x1f_5a_78),
                Colour(0xff_ff_ff),
                Colour(0x2f_7d_a3),
            ],
            Self::Contrast => [
                Colour(0x00_00_00),
                Colour(0xff_ff_ff),
                Colour(0xff_ff_ff),
                Colour(0xff_ff_ff),
                Colour(0xff_ff_00),
                Colour(0xff_ff_00),
                Colour(0x00_00_00),
                Colour(0xff_ff_ff),
            ],
        }
    }
}

/// What a colour is for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Role {
    /// What lies behind everything.
    Ground,
    /// Plain text.
    Text,
    /// What matters less.
    Faint,
    /// The heading.
    Heading,
    /// What wants a look.
    Warning,
    /// The bar of the chosen entry.
    Chosen,
    /// The text on it.
    ChosenText,
    /// Symbols, rules and the bar of the countdown.
    Accent,
}

impl Role {
    /// All of them, in the file's order.
    pub const ALL: [Self; 8] = [
        Self::Ground,
        Self::Text,
        Self::Faint,
        Self::Heading,
        Self::Warning,
        Self::Chosen,
        Self::ChosenText,
        Self::Accent,
    ];

    /// Its key in the file.
    pub const fn key(self) -> &'static str {
        match self {
            Self::Ground => "ground",
            Self::Text => "text",
            Self::Faint => "faint",
            Self::Heading => "heading",
            Self::Warning => "warning",
            Self::Chosen => "chosen",
            Self::ChosenText => "chosen-text",
            Self::Accent => "accent",
        }
    }

    /// What it is to be read on; nothing of a colour that nobody reads.
    pub const fn is_read_on(self) -> Option<Self> {
        match self {
            Self::Text | Self::Faint | Self::Heading | Self::Warning => Some(Self::Ground),
            Self::ChosenText => Some(Self::Chosen),
            Self::Ground | Self::Chosen | Self::Accent => None,
        }
    }

    fn index(self) -> usize {
        Self::ALL.iter().position(|role| *role == self).unwrap_or_default()
    }
}

/// The sixteen colours of a text console, in the order that its firmware numbers them; the first eight can lie behind text
/// (UEFI specification, 12.4.2: `EFI_BLACK` and so on; the same as those of a VGA's attributes).
const CONSOLE: [Colour; 16] = [
    Colour(0x00_00_00),
    Colour(0x00_00_aa),
    Colour(0x00_aa_00),
    Colour(0x00_aa_aa),
    Colour(0xaa_00_00),
    Colour(0xaa_00_aa),
    Colour(0xaa_55_00),
    Colour(0xaa_aa_aa),
    Colour(0x55_55_55),
    Colour(0x55_55_ff),
    Colour(0x55_ff_55),
    Colour(0x55_ff_ff),
    Colour(0xff_55_55),
    Colour(0xff_55_ff),
    Colour(0xff_ff_55),
    Colour(0xff_ff_ff),
];

/// The one of them that terminals show as brown, yellow or orange: nothing is read on it for sure.
const BROWN: usize = 6;

/// A colour for each role.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Palette([Colour; 8]);

impl Palette {
    /// The colour of a role.
    pub fn of(&self, role: Role) -> Colour {
        self.0.get(role.index()).copied().unwrap_or(Colour(0))
    }

    /// What a text console shows a text of this role in, by its numbers: the letters' colour, which can be read, and the one
    /// behind them.
    pub fn on_console(&self, role: Role) -> (u8, u8) {
        let (behind, _) = CONSOLE.split_at(8);
        let on =
            self.of(role.is_read_on().unwrap_or(Role::Ground)).nearest_of(behind, |place| place != BROWN);
        let on = on.unwrap_or(0);
        let ground = behind.get(on).copied().unwrap_or(Colour(0));
        let can_be_read =
            |place: usize| CONSOLE.get(place).is_some_and(|colour| colour.contrast(ground) >= MIN_CONTRAST);
        let letters = self.of(role).nearest_of(&CONSOLE, can_be_read).unwrap_or(7);
        (u8::try_from(letters).unwrap_or(7), u8::try_from(on).unwrap_or(0))
    }
}

impl Appearance {
    /// Its colours: those set one by one over those of the look.
    pub fn palette(&self) -> Palette {
        let mut colours = self.name.colours();
        for (colour, own) in colours.iter_mut().zip(self.colours) {
            *colour = own.unwrap_or(*colour);
        }
        Palette(colours)
    }

    /// The colour that is set for a role by itself.
    pub fn own(&self, role: Role) -> Option<Colour> {
        self.colours.get(role.index()).copied().flatten()
    }

    /// Sets the colour of a role by itself.
    pub fn set(&mut self, role: Role, colour: Option<Colour>) {
        if let Some(own) = self.colours.get_mut(role.index()) {
            *own = colour;
        }
    }

    /// Each pair of colours that cannot be read on each other, with how much they differ in hundredths, and the nearest to
    /// the first that would do.
    pub fn unreadable(&self) -> impl Iterator<Item = Unreadable> {
        let palette = self.palette();
        Role::ALL.into_iter().filter_map(move |role| {
            let on = role.is_read_on()?;
            let (colour, ground) = (palette.of(role), palette.of(on));
            let contrast = colour.contrast(ground);
            (contrast < MIN_CONTRAST).then(|| Unreadable {
                role,
                on,
                contrast,
                would_do: colour.nearest_readable(ground),
            })
        })
    }
}

/// A text that cannot be read.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Unreadable {
    /// The text.
    pub role: Role,
    /// What it stands on.
    pub on: Role,
    /// Their contrast, in hundredths.
    pub contrast: u32,
    /// The nearest colour of the text that can be read there.
    pub would_do: Colour,
}

/// A word that stands for a value in the file.
macro_rules! words {
    ($(#[$doc:meta])* $name:ident { $(#[$first_doc:meta])* $first:ident = $first_word:literal, $($(#[$next_doc:meta])* $next:ident = $word:literal),+ }) => {
        $(#[$doc])*
        #[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
        pub enum $name {
            $(#[$first_doc])*
            #[default]
            $first,
            $($(#[$next_doc])* $next),+
        }

        impl $name {
            /// All of them.
            pub const ALL: &'static [Self] = &[Self::$first, $(Self::$next),+];

            /// The word that stands for it in the file.
            pub const fn word(self) -> &'static str {
                match self {
                    Self::$first => $first_word,
                    $(Self::$next => $word),+
                }
            }
        }
    };
}

words! {
    /// How far the picture is turned, clockwise, for a panel that is built in sideways.
    Turn {
        /// Not at all.
        None = "0",
        /// A quarter.
        Quarter = "90",
        /// A half.
        Half = "180",
        /// Three quarters.
        ThreeQuarters = "270"
    }
}

words! {
    /// What a row of the list says.
    Detail {
        /// The title; what the chosen entry starts stands below the list.
        Title = "title",
        /// The title, and what it starts.
        Full = "full"
    }
}

words! {
    /// How the countdown is shown.
    Countdown {
        /// In words.
        Number = "number",
        /// In words, and as a bar that shrinks.
        Bar = "bar"
    }
}

words! {
    /// How a picture is made to fit a screen.
    PictureFit {
        /// As large as it must be to leave nothing free; what is too much is cut off at both sides.
        Cover = "cover",
        /// As large as it can be with nothing cut off.
        Fit = "fit",
        /// As large as it is, in the middle.
        Centre = "centre",
        /// As large as it is, again and again.
        Tile = "tile"
    }
}

words! {
    /// Where the text of a drawn menu stands.
    Align {
        /// In the middle.
        Centre = "centre",
        /// At the left.
        Left = "left",
        /// At the right.
        Right = "right"
    }
}

words! {
    /// How wide the text of a drawn menu is.
    Width {
        /// As wide as can be read well.
        Wide = "wide",
        /// A narrow column, that leaves room for a picture beside it.
        Narrow = "narrow",
        /// As wide as the screen.
        Full = "full"
    }
}

impl Width {
    /// The most columns that a text has whose lines may be so long.
    pub fn most(self, longest: usize) -> usize {
        const NARROW: usize = 56;
        match self {
            Self::Wide => longest,
            Self::Narrow => longest.min(NARROW),
            Self::Full => usize::MAX,
        }
    }
}

#[cfg(test)]
mod tests;
