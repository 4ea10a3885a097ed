use signpost_core::menu::document::{DefaultEntry, Host, MenuDocument, Timeout};
use signpost_core::resolve::MenuRow;

use super::style;
use super::table::Table;

pub fn text(file: &str, document: &MenuDocument, rows: &[MenuRow]) -> String {
    let settings = &document.settings;
    let heading = settings.heading.as_deref().unwrap_or(file);
    let host = match settings.host {
        Host::Firmware => "the firmware's own list shows it",
        Host::Signpost => "the boot program shows it",
    };
    let timeout = match settings.timeout {
        Timeout::Seconds(0) => "starts at once".to_string(),
        Timeout::Seconds(seconds) => format!("waits {seconds} s"),
        Timeout::Never => "waits for a key".into(),
    };
    let default = match &settings.default {
        DefaultEntry::Id(id) => id.as_str(),
        DefaultEntry::First => "the first",
        DefaultEntry::LastStarted => "what was started last",
    };
    let mut text = format!("{}  {host}, {timeout}, default {default}\n\n", style::heading(heading));
    if rows.is_empty() {
        return text + "  no entries; `signpost draft` adds what is on the machine\n";
    }
    let mut table = Table::new(&["", "id", "title", "kind", "there", "starts"]);
    for (index, row) in rows.iter().enumerate() {
        let mark = if row.is_default { ">" } else { " " };
        let indent = if row.group.is_some() { "  " } else { "" };
        let starts = std::iter::once(&row.starts).chain(&row.notes).cloned().collect::<Vec<_>>().join("; ");
        table.row([
            format!("{mark} {}", index + 1),
            row.id.clone(),
            format!("{indent}{}", row.title),
            row.kind.into(),
            if row.is_there { "yes".into() } else { "NO".into() },
            starts,
        ]);
    }
    text.push_str(&table.text());
    let gone = rows.iter().filter(|row| !row.is_there).count();
    if gone > 0 {
        let entries = if gone == 1 { "1 entry starts".to_string() } else { format!("{gone} entries start") };
        text.push_str(&format!("\n{}\n", style::bad(&format!("{entries} nothing that is there"))));
    }
    text
}
