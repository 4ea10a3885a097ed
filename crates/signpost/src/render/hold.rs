use signpost_core::hold::{HoldPlan, Log};
use signpost_facts::change::Change;

use super::plan::{notes, refusals, write_list};
use super::rehearse::outcome;
use super::style;
use super::table::Table;

pub fn plan(plan: &HoldPlan, is_in_vain: bool) -> String {
    let writes: Vec<&str> = plan.writes.iter().map(Change::what).collect();
    let mut text = if writes.is_empty() {
        format!("{}.\n", unchanged(plan))
    } else {
        format!("{}  {}\n\n", style::heading("Next start now"), plan.found) + &write_list(&writes, "")
    };
    text.push_str(&notes(&plan.left));
    if is_in_vain {
        text.push_str(&format!(
            "  {} the same was corrected too often in a row; `signpost hold` writes nothing\n",
            style::problem("note:")
        ));
    }
    text.push_str(&refusals(&plan.refusals));
    if !plan.outcome.is_sound() {
        text.push_str("  `signpost check` names what else is wrong\n");
    }
    text + "\n" + &outcome("Next start then", &plan.outcome)
}

pub fn done(plan: &HoldPlan) -> String {
    let mut text = String::new();
    for write in &plan.writes {
        text.push_str(&format!("  {}  {}\n", style::good("done"), write.what()));
    }
    if plan.writes.is_empty() {
        text.push_str(&format!("{}; nothing was written.\n", unchanged(plan)));
    }
    text.push_str(&notes(&plan.left));
    text + &outcome("Next start", &plan.outcome)
}

/// What is said where nothing is to be written: whether all is well, the notes say.
fn unchanged(plan: &HoldPlan) -> &'static str {
    if plan.left.is_empty() {
        "Everything is as it was applied"
    } else {
        "There is nothing for hold to correct"
    }
}

/// What the journal gets: a line for each correction, with its priority (sd-daemon(3)); nothing where nothing was done.
pub fn journal(plan: &HoldPlan) -> String {
    let corrected = plan.writes.iter().map(|write| format!("<5>corrected: {}\n", write.what()));
    let mut text: String = corrected.collect();
    if !plan.writes.is_empty() {
        text.push_str(&format!(
            "<5>as it was found, next start: {}\n<5>next start now: {}\n",
            plan.found, plan.outcome.text
        ));
    }
    text.extend(plan.left.iter().map(|left| format!("<4>{left}\n")));
    text
}

pub fn log(log: &Log) -> String {
    let corrections: Vec<_> =
        log.corrections.iter().filter(|correction| !correction.what.is_empty()).collect();
    if corrections.is_empty() {
        return "Nothing has needed correcting yet.\n".into();
    }
    let mut table = Table::new(&["when", "corrected", "what would have started"]);
    for correction in corrections {
        table.row([correction.time.clone(), correction.what.join("\n"), correction.found.clone()]);
    }
    table.text()
}
