//! What the menu shows: its list, the arguments of an entry being changed, its keys.

use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec::Vec;

use unicode_width::UnicodeWidthStr;

use super::{Frame, Piece, Scene, Tone, WHOLE};
use crate::appearance::{Countdown, Detail};
use crate::session::{LineEditor, Row, Session, View};
use crate::wrap::wrapped;

/// What a session shows in a frame.
pub fn scene(session: &Session, frame: Frame) -> Scene {
    let mut scene = Scene::empty(frame);
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
    let lines = scene.lines();
    let is_low = lines <= LOW;
    scene.title(usize::from(!is_low), &heading);
    // A long heading needs the line for itself; its letters may be half as large again.
    let has_room = heading.width().saturating_mul(2).saturating_add(8) <= scene.columns();
    scene.spoken = spoken(session, heading);
    if let Some((hours, minutes)) = session.time.filter(|_| has_room) {
        let time = format!("{hours:02}:{minutes:02}");
        scene.text(scene.columns().saturating_sub(time.len()), usize::from(!is_low), &time, Tone::Faint);
    }
    let head = if is_low { 1 } else { HEAD };
    let said = said(session, scene.columns(), is_low);
    let closing = session.look.closing.as_deref().filter(|_| !is_low);
    // The keys and the closing line, with a free row above them and above the messages, where there is room.
    let below = if is_low { 1 } else { 3_usize }.saturating_add(usize::from(closing.is_some()));
    let foot = said.len().max(2).saturating_add(below);
    let foot = foot.min(lines.saturating_sub(head).saturating_sub(1));
    let room = lines.saturating_sub(head).saturating_sub(foot).max(1);
    rows(scene, session, head, room);
    let at = head.saturating_add(room).saturating_add(usize::from(!is_low));
    for (line, said) in said.iter().take(foot.saturating_sub(1)).enumerate() {
        say(scene, at.saturating_add(line), said);
    }
    let last = lines.saturating_sub(1);
    if let Some(closing) = closing {
        scene.text(0, last.saturating_sub(1), closing, Tone::Plain);
    }
    if lines > 4 {
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
        let columns = scene.columns();
        let fitting = keys.iter().find(|keys| keys.len() <= columns);
        let keys = fitting.or(keys.last()).copied().unwrap_or_default();
        scene.text(0, last, keys, Tone::Faint);
    }
}

/// The list as it is read out.
fn spoken(session: &Session, heading: String) -> Vec<String> {
    let rows = session.visible();
    let mut lines = Vec::from([heading, String::from("Arrows choose, Enter starts, ? reads all keys.")]);
    lines.extend(session.look.closing.clone());
    if let Some(row) = rows.get(session.chosen()) {
        let cannot = if row.can_start { "" } else { ", cannot start" };
        let place = session.chosen().saturating_add(1);
        lines.push(format!("{place} of {}: {}{cannot}", rows.len(), row.title));
        lines.push(row.line.clone());
    }
    if session.countdown().is_some() {
        lines.push(format!("Starts in {} s. Press any key to stop.", session.counts_from()));
    }
    lines.extend(session.note.clone());
    lines
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
            scene.bar(at);
        }
        scene.rows.push((at.saturating_add(scene.top), place));
        let mark = if place == chosen { ">" } else { " " };
        let number = format!("{mark} {:>digits$}  ", place.saturating_add(1));
        entry(scene, session, (at, row), (&number, tone));
    }
    if rows.len() > room {
        let shown = format!("{} of {}", chosen.saturating_add(1), rows.len());
        let column = scene.columns().saturating_sub(shown.len());
        scene.text(column, head.saturating_sub(1), &shown, Tone::Faint);
    }
}

/// A row, behind its mark and number: its symbol, its title, and what it starts where the look asks for it.
fn entry(scene: &mut Scene, session: &Session, (at, row): (usize, &Row), (number, tone): (&str, Tone)) {
    let cannot = if row.can_start { "" } else { " (cannot start)" };
    let title = format!("{}{cannot}", row.title);
    let has_symbol = scene.frame.is_drawn && !session.look.without_symbols;
    let column = if has_symbol {
        scene.text(0, at, number, tone);
        let column = number.chars().count();
        let (symbol, left, top) = (row.symbol.clone(), scene.left, scene.top);
        let (shown_at, row) = (column.saturating_add(left), at.saturating_add(top));
        scene.pieces.push(Piece::Symbol { column: shown_at, row, symbol, tone });
        let column = column.saturating_add(3);
        scene.text(column, at, &title, tone);
        column
    } else {
        scene.text(0, at, &format!("{number}{title}"), tone);
        number.chars().count()
    };
    if session.look.detail == Detail::Full {
        let tone = if tone == Tone::Chosen { tone } else { Tone::Faint };
        // One below the other, but for titles that are longer than most.
        let most = session.visible().iter().map(|row| row.title.width()).max().unwrap_or(0);
        let own = title.width();
        let wide = own.max(most.min(scene.columns() / 3));
        let behind = column.saturating_add(wide).saturating_add(3);
        if behind < scene.columns() {
            scene.text(behind, at, &row.line, tone);
        }
    }
}

/// What stands in a line below the list.
enum Said {
    /// A text.
    Text(String, Tone),
    /// The time that is left, of [`WHOLE`].
    Meter(usize),
}

fn say(scene: &mut Scene, row: usize, said: &Said) {
    match said {
        Said::Text(text, tone) => scene.text(0, row, text, *tone),
        Said::Meter(left) => {
            let (column, row) = (scene.left, row.saturating_add(scene.top));
            let columns = scene.columns().min(40);
            scene.pieces.push(Piece::Meter { column, row, columns, left: *left });
        }
    }
}

/// What stands below the list: what the chosen entry starts, the countdown, a note; none of it cut where it fits.
fn said(session: &Session, columns: usize, is_low: bool) -> Vec<Said> {
    let most = if is_low { 2 } else { 4 };
    let mut lines = Vec::new();
    let say = |lines: &mut Vec<Said>, text: &str, tone: Tone| {
        lines.extend(wrapped(text, columns).into_iter().take(most).map(|line| Said::Text(line, tone)));
    };
    if let Some(row) = session.visible().get(session.chosen()) {
        say(&mut lines, &row.line, if row.can_start { Tone::Plain } else { Tone::Warning });
    }
    if let Some(seconds) = session.countdown() {
        let stops = if columns < 40 { "A key stops it." } else { "Press any key to stop." };
        say(&mut lines, &format!("Starts in {seconds} s. {stops}"), Tone::Heading);
        if session.look.countdown == Countdown::Bar && !is_low {
            lines.push(Said::Meter(session.part_left(WHOLE)));
        }
    }
    if let Some(note) = &session.note {
        say(&mut lines, note, Tone::Warning);
        if session.has_failed() && !is_low {
            say(&mut lines, "Press : for the prompt, which starts it by hand.", Tone::Plain);
        }
    }
    lines
}

/// The arguments over the rows that speak of the chosen entry; a long line shows the part around the cursor.
fn arguments(scene: &mut Scene, session: &Session, editor: &LineEditor) {
    let title = session.visible().get(session.chosen()).map(|row| row.title.clone()).unwrap_or_default();
    let lines = scene.lines();
    let row = lines.saturating_sub(4.min(lines));
    // The rows are free of what stood there.
    let first = row.saturating_add(scene.top);
    scene.pieces.retain(|piece| piece.row() < first);
    scene.rows.clear();
    let heading = format!("Arguments of {title}, for this start only:");
    scene.spoken.extend([heading.clone(), editor.text()]);
    scene.text(0, row, &heading, Tone::Heading);
    let room = scene.columns().saturating_sub(1).max(1);
    let from = editor.cursor().saturating_sub(room.saturating_sub(1));
    let part: String = editor.text().chars().skip(from).take(room).collect();
    let text_row = row.saturating_add(1).min(lines.saturating_sub(1));
    if scene.frame.is_drawn {
        scene.bar(text_row);
    }
    scene.text(0, text_row, &part, Tone::Chosen);
    scene.set_cursor(editor.cursor().saturating_sub(from), text_row);
    scene.text(0, lines.saturating_sub(1), "Enter start with these   Escape back", Tone::Faint);
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
    let lines = scene.lines();
    scene.title(usize::from(lines > LOW), "Keys");
    scene.spoken = HELP.iter().map(|(keys, what, _)| format!("{keys}: {what}.")).collect();
    let from = if lines > LOW { HEAD } else { 1 };
    let wide = scene.columns() >= 56;
    for (line, (keys, what, short)) in HELP.iter().enumerate() {
        let row = from.saturating_add(line);
        if wide {
            scene.text(0, row, keys, Tone::Plain);
            scene.text(32, row, what, Tone::Faint);
        } else {
            scene.text(0, row, short, Tone::Plain);
        }
    }
    scene.text(0, lines.saturating_sub(1), "Any key goes back", Tone::Faint);
}
