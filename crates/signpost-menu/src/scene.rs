//! What is on the menu's screen, before cells or pixels: pieces with a role and a place. The unit is a line of text and the
//! width of a letter, which a painter makes as large as its screen wants.

use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec::Vec;

use crate::session::{LineEditor, Session, View};
use crate::wrap::wrapped;

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

/// Rows above the list.
const HEAD: usize = 3;

/// Lower screens give their rows to the list first.
const LOW: usize = 12;

fn list(scene: &mut Scene, session: &Session) {
    let heading = match session.open_group() {
        Some(group) => format!("{} / {group}", session.heading),
        None => session.heading.clone(),
    };
    let is_low = scene.height <= LOW;
    scene.text(MARGIN, usize::from(!is_low), &heading, Tone::Heading);
    let head = if is_low { 1 } else { HEAD };
    let said = said(session, scene.width, is_low);
    // The keys, with a free row above that and above the messages, where there is room.
    let foot = said.len().max(2).saturating_add(if is_low { 1 } else { 3 });
    let foot = foot.min(scene.height.saturating_sub(head).saturating_sub(1));
    let room = scene.height.saturating_sub(head).saturating_sub(foot).max(1);
    rows(scene, session, head, room);
    let at = head.saturating_add(room).saturating_add(usize::from(!is_low));
    for (line, (text, tone)) in said.iter().take(foot.saturating_sub(1)).enumerate() {
        scene.text(MARGIN, at.saturating_add(line), text, *tone);
    }
    if scene.height > 4 {
        let keys: [&str; 3] = match session.open_group().is_some() {
            false => [
                "Enter start   = arguments   * keep as default   : prompt   ? help",
                "Enter start   = arguments   : prompt   ? help",
                "Enter start   ? help",
            ],
            true => [
                "Enter start   = arguments   : prompt   Escape back   ? help",
                "Enter start   = arguments   Escape back   ? help",
                "Enter start   Escape back   ? help",
            ],
        };
        let columns = scene.width.saturating_sub(MARGIN.saturating_mul(2));
        let fitting = keys.iter().find(|keys| keys.len() <= columns);
        let keys = fitting.or(keys.last()).copied().unwrap_or_default();
        scene.text(MARGIN, scene.height.saturating_sub(1), keys, Tone::Faint);
    }
}

/// The rows of the list, as many as there is room for, the chosen one among them.
fn rows(scene: &mut Scene, session: &Session, head: usize, room: usize) {
    let rows = session.visible();
    let chosen = session.chosen();
    let digits = rows.len().to_string().len();
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
        let number = place.saturating_add(1);
        let cannot = if row.can_start { "" } else { " (cannot start)" };
        scene.text(MARGIN, at, &format!("{mark} {number:>digits$}  {}{cannot}", row.title), tone);
    }
    if rows.len() > room {
        let shown = format!("{} of {}", chosen.saturating_add(1), rows.len());
        let column = scene.width.saturating_sub(shown.len().saturating_add(MARGIN));
        scene.text(column, head.saturating_sub(1), &shown, Tone::Faint);
    }
}

/// What stands below the list: what the chosen entry starts, the countdown, a note; none of it cut where it fits.
fn said(session: &Session, width: usize, is_low: bool) -> Vec<(String, Tone)> {
    let columns = width.saturating_sub(MARGIN.saturating_mul(2)).max(1);
    let most = if is_low { 2 } else { 4 };
    let mut lines = Vec::new();
    let mut say = |text: &str, tone: Tone| {
        lines.extend(wrapped(text, columns).into_iter().take(most).map(|line| (line, tone)));
    };
    if let Some(row) = session.visible().get(session.chosen()) {
        say(&row.line, if row.can_start { Tone::Plain } else { Tone::Warning });
    }
    if let Some(seconds) = session.countdown() {
        let stops = if columns < 40 { "A key stops it." } else { "Press any key to stop." };
        say(&format!("Starts in {seconds} s. {stops}"), Tone::Heading);
    }
    if let Some(note) = &session.note {
        say(note, Tone::Warning);
        if session.has_failed() && !is_low {
            say("Press : for the prompt, which starts it by hand.", Tone::Plain);
        }
    }
    lines
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

/// Keys, and what they do: in full, and on a narrow screen.
const HELP: [(&str, &str, &str); 10] = [
    ("Arrows, Home, End, page keys", "move the selection", "Arrows   move the selection"),
    ("A number", "go to that entry; 1 and then 2 is entry 12", "Number   go to that entry"),
    ("A letter", "go to the next title that begins with it", "Letter   next title with it"),
    ("Enter", "start the selected entry, or open the group", "Enter    start, or open the group"),
    ("Escape", "go back", "Escape   go back"),
    ("= or F2", "change the arguments, for this start only", "= or F2  arguments for this start"),
    ("* or F3", "make the selected entry the default", "* or F3  make it the default"),
    ("? or F1", "this help", "? or F1  this help"),
    (": or F4", "the prompt: compose a start by hand", ": or F4  the prompt"),
    ("Any key", "stops the countdown", "Any key  stops the countdown"),
];

fn help(scene: &mut Scene) {
    scene.text(MARGIN, usize::from(scene.height > 12), "Keys", Tone::Heading);
    let from = if scene.height > 12 { HEAD } else { 1 };
    let wide = scene.width >= 60;
    for (line, (keys, what, short)) in HELP.iter().enumerate() {
        let row = from.saturating_add(line);
        if wide {
            scene.text(MARGIN, row, keys, Tone::Plain);
            scene.text(34, row, what, Tone::Faint);
        } else {
            scene.text(MARGIN, row, short, Tone::Plain);
        }
    }
    scene.text(MARGIN, scene.height.saturating_sub(1), "Any key goes back", Tone::Faint);
}
