use signpost_core::rehearse::{Kind, Outcome, Rehearsal, Step};

use super::style;
use super::table::Table;

pub fn text(rehearsal: &Rehearsal) -> String {
    let mut text = style::heading("From power-on") + "\n";
    if rehearsal.steps.is_empty() {
        text.push_str("  the firmware has no entry and no disk to try\n");
    }
    if !rehearsal.steps.is_empty() {
        text.push_str(&steps(&rehearsal.steps));
    }
    let starts = rehearsal.outcome.is_sound();
    let hint = if starts { "" } else { "  `signpost check` names the cause and its cure\n" };
    text + "\n" + hint + &outcome("Ends with", &rehearsal.outcome)
}

/// The steps as a table; BIOS firmware has no entries.
fn steps(steps: &[Step]) -> String {
    let number = |index: usize| (index + 1).to_string();
    if steps.iter().all(|step| step.entry.is_none() && step.label.is_none()) {
        let mut table = Table::new(&["step", "why", "finding"]);
        for (index, step) in steps.iter().enumerate() {
            table.row([number(index), step.reason.clone(), step.finding.clone()]);
        }
        return table.text();
    }
    if steps.iter().all(|step| step.entry.is_none()) {
        let mut table = Table::new(&["step", "why", "label", "finding"]);
        for (index, step) in steps.iter().enumerate() {
            let label = step.label.clone().unwrap_or_default();
            table.row([number(index), step.reason.clone(), label, step.finding.clone()]);
        }
        return table.text();
    }
    let mut table = Table::new(&["step", "why", "entry", "label", "finding"]);
    for (index, step) in steps.iter().enumerate() {
        table.row([
            number(index),
            step.reason.clone(),
            step.entry.map_or_else(|| "-".into(), String::from),
            step.label.clone().unwrap_or_default(),
            step.finding.clone(),
        ]);
    }
    table.text()
}

/// The end of a start: notes first, so that the last line names what starts, behind this name.
pub fn outcome(name: &str, outcome: &Outcome) -> String {
    let text: String = outcome.notes.iter().map(|note| format!("  {note}\n")).collect();
    let line = match outcome.kind {
        Kind::Starts => style::good(&outcome.text),
        Kind::MayStart | Kind::WaitsAsAsked => style::problem(&outcome.text),
        Kind::Waits | Kind::BuiltIn | Kind::Hangs | Kind::Nothing => style::bad(&outcome.text),
    };
    format!("{text}{}  {line}\n", style::heading(name))
}
