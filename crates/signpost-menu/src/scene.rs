//! What is on the menu's screen, before cells or pixels: pieces with a role and a place. The unit is a line of text and the
//! width of a letter, which a painter makes as large as its screen wants.

use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec::Vec;

use crate::session::{LineEditor, Session, View};

/// How a piece is meant; a painter gives each a colour, or none.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Tone {
    /// Plain text.
    #[default]
    Plain,
    /// The heading.
    Heading,
    /// The chosen line. It also carries a mark.
    Chosen,
    /// What matters less.
    Faint,
    /// What wants a look.
    Warning,
}

/// Something on the screen.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Piece {
    /// A line of one tone over the whole width.
    Bar {
        /// The line.
        row: usize,
        /// How it is meant.
        tone: Tone,
    },
    /// A text, cut off where the screen ends.
    Text {
        /// Where it starts.
        column: usize,
        /// The line.
        row: usize,
        /// What it says.
        text: String,
        /// How it is meant.
        tone: Tone,
    },
}

/// All that is on the screen, what lies on top last.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Scene {
    /// Columns.
    pub width: usize,
    /// Lines.
    pub height: usize,
    /// What is on it.
    pub pieces: Vec<Piece>,
    /// Where the cursor is to be shown: column and row.
    pub cursor: Option<(usize, usize)>,
}

impl Scene {
    fn text(&mut self, column: usize, row: usize, text: &str, tone: Tone) {
        self.pieces.push(Piece::Text { column, row, text: text.to_string(), tone });
    }

    fn bar(&mut self, row: usize, tone: Tone) {
        self.pieces.push(Piece::Bar { row, tone });
    }
}

/// Columns left free at either side.
const MARGIN: usize = 2;

/// What a session shows on a screen of so many columns and lines.
pub fn scene(session: &Session, width: usize, height: usize) -> Scene {
    let mut scene = Scene { width, height, pieces: Vec::new(), cursor: None };
    match &session.view {
        View::Help => help(&mut scene),
        View::List => list(&mut scene, session),
        View::Args(editor) => {
            list(&mut scene, session);
            arguments(&mut scene, session, editor);
        }
    }
    scene
}

/// Rows below the list: what is chosen, messages, the keys, with a free row above and between.
const FOOT: usize = 5;
/// Rows above it.
const HEAD: usize = 3;

fn list(scene: &mut Scene, session: &Session) {
    let heading = match session.open_group() {
        Some(group) => format!("{} / {group}", session.heading),
        None => session.heading.clone(),
    };
    scene.text(MARGIN, usize::from(scene.height > 12), &heading, Tone::Heading);
    // A low screen gives its rows to the list first.
    let (head, foot) =
        if scene.height > 12 { (HEAD, FOOT) } else { (1, 3.min(scene.height.saturating_sub(2))) };
    let room = scene.height.saturating_sub(head).saturating_sub(foot).max(1);
    let rows = session.visible();
    let chosen = session.chosen();
    let top = (chosen.saturating_add(1)).saturating_sub(room);
    for (line, (place, row)) in rows.iter().enumerate().skip(top).take(room).enumerate() {
        let at = head.saturating_add(line);
        let tone = match (place == chosen, row.can_start) {
            (true, _) => Tone::Chosen,
            (false, true) => Tone::Plain,
            (false, false) => Tone::Faint,
        };
        if place == chosen {
            scene.bar(at, tone);
        }
        let mark = if place == chosen { ">" } else { " " };
        let number = if place < 9 { format!("{}", place.saturating_add(1)) } else { " ".into() };
        let cannot = if row.can_start { "" } else { " (cannot start)" };
        scene.text(MARGIN, at, &format!("{mark} {number}  {}{cannot}", row.title), tone);
    }
    if rows.len() > room {
        let shown = format!("{} of {}", chosen.saturating_add(1), rows.len());
        let column = scene.width.saturating_sub(shown.len().saturating_add(MARGIN));
        scene.text(column, head.saturating_sub(1), &shown, Tone::Faint);
    }
    let foot_at = scene.height.saturating_sub(foot.min(4));
    if let Some(row) = rows.get(chosen) {
        scene.text(MARGIN, foot_at, &row.line, if row.can_start { Tone::Plain } else { Tone::Warning });
    }
    let said_at = foot_at.saturating_add(1);
    let mut note_at = said_at;
    if let Some(seconds) = session.countdown() {
        scene.text(MARGIN, said_at, &format!("Starts in {seconds} s. Any key stops."), Tone::Heading);
        note_at = said_at.saturating_add(1);
    }
    if let Some(note) = &session.note {
        scene.text(MARGIN, note_at, note, Tone::Warning);
        let below = note_at.saturating_add(1);
        if session.has_failed() && below.saturating_add(1) < scene.height {
            scene.text(MARGIN, below, "Press : for the prompt, which starts it by hand.", Tone::Plain);
        }
    }
    if scene.height > 4 {
        let keys = match (session.open_group().is_some(), scene.width >= 60) {
            (false, true) => "Enter start   = arguments   * keep as default   : prompt   ? help",
            (true, true) => "Enter start   = arguments   : prompt   Escape back   ? help",
            (false, false) => "Enter start   ? help",
            (true, false) => "Enter start   Escape back   ? help",
        };
        scene.text(MARGIN, scene.height.saturating_sub(1), keys, Tone::Faint);
    }
}

/// The arguments over the two rows that speak of the chosen entry; a long line shows the part around the
/// cursor.
fn arguments(scene: &mut Scene, session: &Session, editor: &LineEditor) {
    let title = session.visible().get(session.chosen()).map(|row| row.title.clone()).unwrap_or_default();
    let row = scene.height.saturating_sub(4.min(scene.height));
    for line in row..scene.height {
        scene.bar(line, Tone::Plain);
    }
    scene.text(MARGIN, row, &format!("Arguments of {title}, for this start only:"), Tone::Heading);
    let room = scene.width.saturating_sub(MARGIN.saturating_mul(2)).saturating_sub(1).max(1);
    let from = editor.cursor().saturating_sub(room.saturating_sub(1));
    let part: String = editor.text().chars().skip(from).take(room).collect();
    let text_row = row.saturating_add(1).min(scene.height.saturating_sub(1));
    scene.text(MARGIN, text_row, &part, Tone::Chosen);
    let column = MARGIN.saturating_add(editor.cursor().saturating_sub(from));
    scene.cursor = (column < scene.width).then_some((column, text_row));
    let keys = "Enter start with these   Escape back";
    scene.text(MARGIN, scene.height.saturating_sub(1), keys, Tone::Faint);
}

const HELP: [(&str, &str); 10] = [
    ("Arrows, Home, End, page keys", "move the selection"),
    ("1 to 9", "go to that entry"),
    ("a letter", "go to the next title that begins with it"),
    ("Enter", "start the selected entry, or open the group"),
    ("Escape", "go back"),
    ("= or F2", "change a Linux entry's arguments, for this start only"),
    ("* or F3", "make the selected entry the default"),
    ("? or F1", "this help"),
    (": or F4", "the prompt: look around, put a start together by hand"),
    ("any key", "stops the countdown"),
];

fn help(scene: &mut Scene) {
    scene.text(MARGIN, usize::from(scene.height > 12), "Keys", Tone::Heading);
    let from = if scene.height > 12 { HEAD } else { 1 };
    let wide = scene.width >= 60;
    for (line, (keys, what)) in HELP.iter().enumerate() {
        let row = from.saturating_add(line);
        if wide {
            scene.text(MARGIN, row, keys, Tone::Plain);
            scene.text(34, row, what, Tone::Faint);
        } else {
            scene.text(MARGIN, row, &format!("{keys}: {what}"), Tone::Plain);
        }
    }
    scene.text(MARGIN, scene.height.saturating_sub(1), "Any key goes back", Tone::Faint);
}
