use signpost_core::check::Check;
use signpost_facts::cause::{Cause, Effect};

use super::style::{self, sentence};
use super::table::Table;

pub fn text(found: &Check) -> String {
    let word = if found.starts { style::good("Next start") } else { style::bad("Next start") };
    let mut text = format!("{word}  {}\n", found.starts_next);
    for causes in found.causes.chunk_by(|one, other| one.effect == other.effect) {
        let Some(first) = causes.first() else { continue };
        text.push_str(&format!("\n{}\n", heading(first.effect)));
        let mut table = Table::new(&["", ""]);
        causes.iter().for_each(|cause| table.row([cause.code.to_string(), lines(cause).join("\n")]));
        text.push_str(&table.text());
    }
    if found.causes.is_empty() {
        text.push_str("\nNo problems.\n");
    }
    if !found.unseen.is_empty() {
        text.push_str(&format!("\n{}\n", style::heading("Not looked at")));
        let mut table = Table::new(&["", ""]);
        found.unseen.iter().for_each(|line| table.row([String::new(), line.clone()]));
        text.push_str(&table.text());
    }
    let felt = found.causes.iter().any(|cause| cause.effect.is_felt() && !cause.cures.is_empty());
    if felt {
        text.push_str("\n`signpost mend` cures what keeps the machine or a system from starting; `--dry-run` shows how.\n");
    }
    text
}

fn heading(effect: Effect) -> String {
    match effect {
        Effect::CannotTell | Effect::NothingStarts | Effect::StartsOther | Effect::SystemLost => {
            style::bad(effect.words())
        }
        Effect::WillBreak => style::problem(effect.words()),
        Effect::Untidy => style::heading(effect.words()),
    }
}

/// What a cause is, what speaks for it, what cures it.
fn lines(cause: &Cause) -> Vec<String> {
    let mut lines = vec![sentence(&cause.message)];
    lines.extend(cause.evidence.iter().map(|line| format!("- {line}")));
    if !cause.symptoms.is_empty() {
        let codes: Vec<&str> = cause.symptoms.iter().map(|finding| finding.code.word()).collect();
        lines.push(format!("- seen as {}", codes.join(", ")));
    }
    for (index, cure) in cause.cures.iter().enumerate() {
        let by = if index == 0 { String::new() } else { format!(" --by {}", cure.name) };
        let word = if index == 0 { "Cure" } else { "Or" };
        lines.push(format!("{word}: `signpost mend {}{by}`: {}", cause.code, cure.what));
    }
    if let Some(by_hand) = cause.by_hand.as_ref().filter(|_| cause.cures.is_empty()) {
        lines.push(sentence(by_hand));
    }
    lines
}
