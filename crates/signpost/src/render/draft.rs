use std::path::Path;

use signpost_core::draft::Draft;

use super::style;
use super::table::Table;

pub fn text(draft: &Draft, path: &Path, dry_run: bool) -> String {
    let would = if dry_run { "would be " } else { "" };
    let mut text = match (draft.is_new_file, draft.added.len()) {
        (true, _) => format!("{} {would}made\n", path.display()),
        (false, 0) => format!("{}: nothing new\n", path.display()),
        (false, _) => format!("{} {would}added to; what stood in it stays\n", path.display()),
    };
    if !draft.added.is_empty() {
        text.push_str(&format!("\n{}\n", style::heading("Added")));
        let mut table = Table::new(&["", "", ""]);
        for entry in &draft.added {
            table.row([entry.id.clone(), entry.title.clone(), entry.why.clone()]);
        }
        text.push_str(&table.text());
    }
    if !draft.gone.is_empty() {
        text.push_str(&format!("\n{} (they stay in the file)\n", style::heading("Start nothing any more")));
        let mut table = Table::new(&["", ""]);
        for entry in &draft.gone {
            table.row([entry.id.clone(), entry.why.clone()]);
        }
        text.push_str(&table.text());
    }
    if !draft.left.is_empty() {
        text.push_str(&format!("\n{}\n", style::heading("Not taken up")));
        draft.left.iter().for_each(|line| text.push_str(&format!("  {line}\n")));
    }
    if dry_run && (draft.is_new_file || !draft.added.is_empty()) {
        text.push_str(&format!("\n{}\n\n{}", style::heading("The file"), draft.text));
    }
    text
}
