use signpost_menu::ids::EntryId;
use std::path::Path;

use signpost_core::draft::{Draft, Line, Saved, SavedKind};

use super::menu::left_out;
use super::style;
use super::table::Table;

pub fn text(draft: &Draft, path: &Path, dry_run: bool) -> String {
    let would = if dry_run { "would be " } else { "" };
    let is_refreshed = !draft.added.is_empty() || !draft.changed.is_empty();
    let mut text = match (draft.is_new_file || draft.begun_from.is_some(), is_refreshed) {
        (true, _) => format!("{} {would}made\n", path.display()),
        (false, false) => format!("{}: nothing new\n", path.display()),
        (false, true) => format!("{} {would}refreshed; what was changed by hand stays\n", path.display()),
    };
    if let Some(whose) = &draft.begun_from {
        text.push_str(&format!("It begins with {whose}.\n"));
    }
    let members = |id: &EntryId| draft.added.iter().filter(|entry| entry.group.as_ref() == Some(id)).count();
    let is_new = |id: &EntryId| draft.added.iter().any(|entry| entry.id == *id);
    // Members of a group that is new go without saying.
    let shown: Vec<_> =
        draft.added.iter().filter(|entry| !entry.group.as_ref().is_some_and(is_new)).collect();
    let added = shown.iter().map(|entry| {
        let why = match members(&entry.id) {
            0 => entry.why.clone(),
            count => format!("a group of {count}; `signpost menu --all` shows what is in it"),
        };
        [entry.id.to_string(), entry.title.clone(), why]
    });
    section(&mut text, "Added", added);
    section(&mut text, "Changed", draft.changed.iter().map(cells));
    section(&mut text, "Stays as it is", draft.kept.iter().map(cells));
    section(&mut text, "Out of reach now (left as they are)", draft.out_of_reach.iter().map(cells));
    section(&mut text, "Start nothing any more (marked in the file)", draft.gone.iter().map(cells));
    text.push_str(&left_out("Left out", &draft.left));
    if !draft.saved.is_empty() && !draft.takes_saved {
        text.push_str(&format!("\n{}", saved(&draft.saved)));
        text.push_str("  `signpost draft --take-saved` adds this to the menu file\n");
    }
    if dry_run && draft.is_different {
        text.push_str(&format!("\n{}\n\n{}", style::heading("The file"), draft.text));
    }
    text
}

/// What was decided at boot, in full.
pub fn saved(saved: &[Saved]) -> String {
    let mut text = format!("{}\n", style::heading("Saved at boot, and not in the menu file"));
    for saved in saved {
        let what = match saved.what {
            SavedKind::Added => "is new",
            SavedKind::Changed => "was changed",
            SavedKind::Default => "was kept as the default",
        };
        text.push_str(&format!("  {} {what}\n", saved.id));
        saved.text.lines().for_each(|line| text.push_str(&format!("    {line}\n")));
    }
    text
}

fn cells(line: &Line) -> [String; 2] {
    [line.id.to_string(), line.why.clone()]
}

fn section<const N: usize>(
    text: &mut String,
    heading: &str,
    rows: impl ExactSizeIterator<Item = [String; N]>,
) {
    if rows.len() == 0 {
        return;
    }
    text.push_str(&format!("\n{}\n", style::heading(heading)));
    let mut table = Table::new(&[""; N]);
    rows.for_each(|row| table.row(row));
    text.push_str(&table.text());
}
