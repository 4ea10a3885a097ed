use signpost_core::menu_rows::MenuRow;
use signpost_facts::FirmwareKind;
use signpost_menu::document::{DefaultEntry, Host, MenuDocument, Timeout};
use signpost_menu::entry_kind::EntryKind;

use super::style;
use super::table::Table;
use super::width::{HELD, hanging};

/// The menu as a table; members of groups are folded unless all are asked for, or they cannot start.
pub fn text(
    file: &str,
    document: &MenuDocument,
    rows: &[MenuRow],
    firmware: FirmwareKind,
    is_all: bool,
) -> String {
    let mut text = head(file, document, firmware);
    if rows.is_empty() {
        return text + "  no entries; `signpost draft` adds what is on the machine\n";
    }
    let mut table = Table::new(&["", "id", "title", "kind", "starts"]);
    let mut folded = 0;
    for row in rows {
        if row.group.is_some() && row.is_there && !row.is_default && !is_all {
            folded += 1;
            continue;
        }
        let mark = if row.is_default { ">" } else { " " };
        let indent = if row.group.is_some() { "  " } else { "" };
        table.row([
            format!("{mark}{HELD}{indent}{}", row.number),
            row.id.to_string(),
            format!("{indent}{}", row.title),
            row.kind.into(),
            starts(row, rows),
        ]);
    }
    text.push_str(&table.text());
    if folded > 0 {
        text.push_str(&format!("\n{} in groups: --all shows them\n", count(folded)));
    }
    let gone = rows.iter().filter(|row| !row.is_there).count();
    if gone > 0 {
        let starts = if gone == 1 { "starts" } else { "start" };
        text.push_str(&format!(
            "\n{}\n",
            style::bad(&format!("{} {starts} nothing that is there", count(gone)))
        ));
    }
    text
}

/// What shows the menu, and what starts when nobody chooses.
fn head(file: &str, document: &MenuDocument, firmware: FirmwareKind) -> String {
    let settings = &document.settings;
    let heading = settings.heading.as_deref().unwrap_or(file);
    let host = match settings.host {
        Host::Firmware if firmware == FirmwareKind::Bios => "the default starts, and no menu is shown",
        Host::Firmware => "the firmware's own list shows it",
        Host::Signpost => "the boot program shows it",
    };
    let timeout = match settings.timeout {
        Timeout::Seconds(seconds) => format!("timeout {seconds} s"),
        Timeout::Never => "no timeout".into(),
    };
    let default = match &settings.default {
        DefaultEntry::Id(id) => id.as_str(),
        DefaultEntry::First => "the first",
        DefaultEntry::LastStarted => "what was started last",
    };
    format!("{}  {host}, {timeout}, default {default}\n\n", style::heading(heading))
}

/// What an entry starts, or why it does not.
fn starts(row: &MenuRow, rows: &[MenuRow]) -> String {
    let mut starts = match EntryKind::of_word(row.kind) {
        Some(EntryKind::Group) => {
            let members = rows.iter().filter(|member| member.group.as_ref() == Some(&row.id)).count();
            format!("opens a group of {members}")
        }
        _ => std::iter::once(&row.starts).chain(&row.notes).cloned().collect::<Vec<_>>().join("; "),
    };
    if !row.is_there {
        starts = format!("NOT THERE: {starts}");
    }
    if let Some(why) = &row.host_cannot {
        starts = format!("NOT IN THIS MENU: {why}");
    }
    if row.is_included {
        starts.push_str(" (found, not in the file)");
    }
    starts
}

/// Systems that a menu does not start, each with the reason or the command that adds it.
pub fn left_out(heading: &str, lines: &[String]) -> String {
    if lines.is_empty() {
        return String::new();
    }
    let lines = lines.iter().map(|line| hanging(line, "  ")).collect::<String>();
    format!("\n{}\n{lines}", style::heading(heading))
}

fn count(entries: usize) -> String {
    if entries == 1 { "1 entry".into() } else { format!("{entries} entries") }
}
