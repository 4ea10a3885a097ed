use signpost_core::check::Check;
use signpost_core::mend::Mend;
use signpost_facts::change::Change;

use super::check;
use super::plan::{refusals, write_list, writes};
use super::rehearse::outcome;
use super::style;
use super::table::Table;

pub fn text(mend: &Mend) -> String {
    let mut text = String::new();
    if mend.cured.is_empty() {
        text.push_str("This program can cure none of what was asked for.\n");
    } else {
        text.push_str(&format!("{}\n", style::heading("Cures")));
        let mut table = Table::new(&["", ""]);
        for cured in &mend.cured {
            let mut lines = vec![cured.cause.clone(), format!("-> {}", cured.what)];
            if !cured.others.is_empty() {
                lines.push(format!(
                    "   or `signpost mend {} --by {}`",
                    cured.code,
                    cured.others.join("`, `--by ")
                ));
            }
            table.row([cured.code.to_string(), lines.join("\n")]);
        }
        text.push_str(&table.text());
    }
    if !mend.left.is_empty() {
        text.push_str(&format!("\n{}\n", style::heading("Left as it is")));
        let mut table = Table::new(&["", ""]);
        for left in &mend.left {
            table.row([left.code.to_string(), format!("{}\n{}", left.cause, left.what)]);
        }
        text.push_str(&table.text());
    }
    text.push_str(&format!("\n{}  {}\n\n", style::heading("Next start now"), mend.found));
    let writes: Vec<&str> = mend.writes.iter().map(Change::what).collect();
    text.push_str(&write_list(&writes, "Nothing to write."));
    if mend.goes_on {
        text.push_str("  What lies behind the partition table is planned once that is written.\n");
    }
    text.push_str(&refusals(&mend.refusals));
    text + "\n" + &outcome("Next start then", &mend.outcome)
}

pub fn done(mend: &Mend, record: Option<u32>, now: &Check) -> String {
    let mut text = String::new();
    for write in &mend.writes {
        text.push_str(&format!("  {}  {}\n", style::good("done"), write.what()));
    }
    match record {
        Some(record) => text.push_str(&format!(
            "\nMended: {}, read back; record {record} of the history. `signpost undo` undoes it.\n\n",
            writes(mend.writes.len())
        )),
        None => text.push_str("Nothing was written.\n\n"),
    }
    text + &check::text(now)
}
