use anstyle::{Ansi256Color, AnsiColor, Color, RgbColor, Style};
use signpost_menu::appearance::{Colour, Palette, Role};
use signpost_menu::screen::{Grid, Tone};

/// How many colours a terminal has.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Depth {
    /// The sixteen that its user has chosen.
    Sixteen,
    /// A table of 256.
    Table,
    /// Each as it is.
    Full,
}

impl Depth {
    /// As the terminal's variables say.
    pub fn of_terminal() -> Self {
        let variable = |name| std::env::var(name).unwrap_or_default();
        Self::of(&variable("COLORTERM"), &variable("TERM"))
    }

    fn of(color_term: &str, term: &str) -> Self {
        match color_term {
            "truecolor" | "24bit" => Self::Full,
            _ if term.contains("256color") => Self::Table,
            _ => Self::Sixteen,
        }
    }
}

/// The screen in a frame, so that its size is seen.
pub fn text(grid: &Grid, palette: &Palette, depth: Depth) -> String {
    let rule = format!("+{}+\n", "-".repeat(grid.width()));
    let mut text = rule.clone();
    for row in grid.rows() {
        text.push('|');
        for run in row.chunk_by(|a, b| a.tone == b.tone) {
            let part: String = run.iter().map(|cell| cell.symbol).filter(|symbol| *symbol != '\0').collect();
            let tone = run.first().map(|cell| cell.tone).unwrap_or_default();
            let style = style(tone, palette, depth);
            text.push_str(&format!("{style}{part}{style:#}"));
        }
        text.push_str("|\n");
    }
    text + &rule
}

fn style(tone: Tone, palette: &Palette, depth: Depth) -> Style {
    if depth != Depth::Sixteen {
        let role = tone.role();
        let behind = role.is_read_on().unwrap_or(Role::Ground);
        let style = Style::new()
            .fg_color(Some(shown(palette.of(role), depth)))
            .bg_color(Some(shown(palette.of(behind), depth)));
        return if tone == Tone::Heading { style.bold() } else { style };
    }
    match tone {
        Tone::Plain => Style::new(),
        Tone::Heading => Style::new().bold(),
        Tone::Chosen => Style::new().invert(),
        Tone::Faint => AnsiColor::Cyan.on_default(),
        Tone::Warning => AnsiColor::Yellow.on_default(),
    }
}

fn shown(colour: Colour, depth: Depth) -> Color {
    let [red, green, blue] = colour.parts();
    if depth == Depth::Full {
        return RgbColor(red, green, blue).into();
    }
    // Of the table, 16 to 231 are a cube whose sides have these steps, 232 to 255 a scale of greys.
    const STEPS: [u8; 6] = [0, 95, 135, 175, 215, 255];
    let of = |red: u8, green: u8, blue: u8| Colour(u32::from_be_bytes([0, red, green, blue]));
    let cube = (0..216_usize).map(|place| of(STEPS[place / 36], STEPS[place / 6 % 6], STEPS[place % 6]));
    let greys = (0..24_u8).map(|place| of(8 + 10 * place, 8 + 10 * place, 8 + 10 * place));
    let table: Vec<Colour> = cube.chain(greys).collect();
    let place = colour.nearest_of(&table, |_| true).unwrap_or(0);
    Ansi256Color(u8::try_from(16 + place).unwrap_or(u8::MAX)).into()
}

/// A picture's file.
pub fn png(pixels: &[u32], (width, height): (usize, usize)) -> Vec<u8> {
    let mut file = Vec::new();
    let (width, height) = (u32::try_from(width).unwrap_or(0), u32::try_from(height).unwrap_or(0));
    let mut encoder = png::Encoder::new(&mut file, width, height);
    encoder.set_color(png::ColorType::Rgb);
    encoder.set_depth(png::BitDepth::Eight);
    let mut bytes = Vec::with_capacity(pixels.len() * 3);
    pixels.iter().for_each(|pixel| bytes.extend_from_slice(&Colour(*pixel).parts()));
    let written = encoder.write_header().and_then(|mut writer| {
        writer.write_image_data(&bytes)?;
        writer.finish()
    });
    debug_assert!(written.is_ok(), "a picture of this size can be written to memory");
    file
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_terminal_gets_the_colours_that_it_has() {
        assert_eq!(Depth::of("truecolor", "xterm"), Depth::Full);
        assert_eq!(Depth::of("", "xterm-256color"), Depth::Table);
        assert_eq!(Depth::of("", "linux"), Depth::Sixteen);
        assert_eq!(shown(Colour(0xff_ff_ff), Depth::Table), Ansi256Color(231).into());
        assert_eq!(shown(Colour(0x80_80_80), Depth::Table), Ansi256Color(244).into());
    }
}
