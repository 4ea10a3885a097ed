//! Sectors that BIOS firmware starts by.

use signpost_core::bios::{Held, SectorPlan};
use signpost_facts::change::Change;

use super::plan::{refusals, write_list};
use super::rehearse::outcome;
use super::style;
use super::table::Table;

pub fn list(sectors: &[Held]) -> String {
    let mut table = Table::new(&["sector", "what it is", "digest", "notes"]);
    for held in sectors {
        table.row([held.name.clone(), held.what.to_string(), held.digest.clone(), held.notes.join("; ")]);
    }
    table.text()
}

pub fn planned(plan: &SectorPlan) -> String {
    let writes: Vec<&str> = plan.writes.iter().map(Change::what).collect();
    let mut text = write_list(&writes, "Nothing to write: nothing would change.");
    text.push_str(&refusals(&plan.refusals));
    text + "\n" + &outcome("Next start then", &plan.outcome)
}

pub fn done(plan: &SectorPlan) -> String {
    let mut text = String::new();
    if plan.writes.is_empty() {
        text.push_str("Nothing was written: nothing would change.\n");
    }
    plan.writes
        .iter()
        .for_each(|write| text.push_str(&format!("  {}  {}\n", style::good("done"), write.what())));
    text + "\n" + &outcome("Next start", &plan.outcome)
}
