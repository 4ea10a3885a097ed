use anstyle::{AnsiColor, Style};
use signpost_menu::screen::{Grid, Tone};

/// The screen in a frame, so that its size is seen.
pub fn text(grid: &Grid) -> String {
    let rule = format!("+{}+\n", "-".repeat(grid.width()));
    let mut text = rule.clone();
    for row in grid.rows() {
        text.push('|');
        for run in row.chunk_by(|a, b| a.tone == b.tone) {
            let part: String = run.iter().map(|cell| cell.symbol).filter(|symbol| *symbol != '\0').collect();
            let style = run.first().map(|cell| style(cell.tone)).unwrap_or_default();
            text.push_str(&format!("{style}{part}{style:#}"));
        }
        text.push_str("|\n");
    }
    text + &rule
}

fn style(tone: Tone) -> Style {
    match tone {
        Tone::Plain => Style::new(),
        Tone::Heading => Style::new().bold(),
        Tone::Chosen => Style::new().invert(),
        Tone::Faint => AnsiColor::Cyan.on_default(),
        Tone::Warning => AnsiColor::Yellow.on_default(),
    }
}
