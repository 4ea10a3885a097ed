use signpost_core::firmware::{FirmwareChange, FirmwareList, ListedEntry, Tidy, Told};
use signpost_facts::change::Change;
use signpost_facts::secure_boot::Verdict;
use signpost_firmware::start::Kind;

use super::plan::{notes, refusals, write_list};
use super::rehearse::outcome;
use super::style;
use super::table::Table;

/// Every entry, those in the order first.
pub fn list(list: &FirmwareList, has_paths: bool) -> String {
    if list.entries.is_empty() {
        return "The firmware has no entries; it starts the fallback paths of its disks.\n".into();
    }
    let mut table = Table::new(&["number", "use", "label", "made by", "leads to"]);
    for entry in &list.entries {
        let leads_to: Vec<String> = std::iter::once(entry.leads_to.clone()).chain(problems(entry)).collect();
        table.row([
            entry.number.to_string(),
            used(entry),
            entry.label.clone(),
            entry.made_by.into(),
            leads_to.join("\n"),
        ]);
    }
    let mut text = table.text();
    if has_paths {
        text.push_str(&format!("\n{}\n", style::heading("Device paths")));
        for entry in &list.entries {
            let data = match entry.data_length {
                0 => String::new(),
                length => format!("  and {length} bytes of data"),
            };
            text.push_str(&format!("  {}  {}{data}\n", entry.number, entry.path));
        }
    }
    if !list.order.is_empty() {
        text.push('\n');
        list.order.iter().for_each(|line| text.push_str(&format!("  {} {line}\n", style::problem("note:"))));
    }
    text
}

fn used(entry: &ListedEntry) -> String {
    let place = entry.place.map_or_else(|| "not in the order".to_string(), |place| place.to_string());
    let words = [
        (!entry.is_active).then_some("disabled"),
        entry.is_current.then_some("current"),
        entry.is_next.then_some("next"),
    ];
    std::iter::once(place.as_str()).chain(words.into_iter().flatten()).collect::<Vec<_>>().join(", ")
}

/// Problems with an entry, a line each.
fn problems(entry: &ListedEntry) -> Vec<String> {
    let mut lines: Vec<String> = entry.findings.iter().map(|finding| format!("- {finding}")).collect();
    match &entry.secure_boot {
        // What it leads to has said so already where that stands against the start.
        Some(_) if matches!(entry.verdict, Kind::Unfit | Kind::MayStart) => {}
        Some(verdict @ (Verdict::Refused(_) | Verdict::CannotTell { .. })) => {
            lines.push(format!("- {}", verdict.text()));
        }
        Some(Verdict::Accepted(_)) | None => {}
    }
    lines
}

pub fn planned(change: &FirmwareChange) -> String {
    let writes: Vec<&str> = change.writes.iter().map(Change::what).collect();
    let mut text = write_list(&writes, "Nothing to write: nothing would change.");
    text.push_str(&notes(&change.notes));
    text.push_str(&refusals(&change.refusals));
    text + "\n" + &outcome("Next start then", &change.outcome)
}

pub fn done(change: &FirmwareChange) -> String {
    let mut text = String::new();
    for write in &change.writes {
        text.push_str(&format!("  {}  {}\n", style::good("done"), write.what()));
    }
    if change.writes.is_empty() {
        text.push_str("Nothing was written: nothing would change.\n");
    }
    text.push_str(&notes(&change.notes));
    text + &outcome("Next start", &change.outcome)
}

pub fn tidy(tidy: &Tidy) -> String {
    let mut text = String::new();
    section(&mut text, "Can be removed", &tidy.goes);
    section(&mut text, "Stays, with problems", &tidy.left);
    if !text.is_empty() {
        text.push('\n');
    }
    if tidy.change.writes.is_empty() {
        return text + "There is nothing to tidy.\n";
    }
    text + &planned(&tidy.change)
}

fn section(text: &mut String, heading: &str, all: &[Told]) {
    if all.is_empty() {
        return;
    }
    if !text.is_empty() {
        text.push('\n');
    }
    text.push_str(&format!("{}\n", style::heading(heading)));
    let mut table = Table::new(&["", ""]);
    all.iter().for_each(|told| table.row([told.entry.clone(), told.why.clone()]));
    text.push_str(&table.text());
}
