//! The keys of the menu's policy, with their values and what they take.

use signpost_core::edit::{Difference, Setting, Tuned};

use textwrap::indent;

use super::style;
use super::table::Table;

/// The keys with their values, their defaults, what they take and mean; those of the look at their defaults only where all are
/// asked for.
pub fn keys(tuned: &Tuned, all: bool) -> String {
    let mut table = Table::new(&["key", "value", "default", "takes", "meaning"]);
    let is_shown = |key: &&Setting| all || !key.name.starts_with("look.") || key.value != key.default;
    for key in tuned.settings.iter().filter(is_shown) {
        table.row([key.name, &key.value, key.default, key.values, key.meaning].map(str::to_string));
    }
    let left = tuned.settings.iter().filter(|key| !is_shown(key)).count();
    let more = match left {
        0 => String::new(),
        left => format!(
            "\n{left} more keys of the look are at their defaults; `signpost tune --all` shows them.\n"
        ),
    };
    table.text() + &more + &warnings(tuned)
}

/// What changes, and what of a policy fits nothing here.
pub fn changes(tuned: &Tuned) -> String {
    let mut text = String::new();
    for Difference { key, value, before } in tuned.differences() {
        text.push_str(&format!("{key} = {value}, it was {before}\n"));
    }
    text + &notes(&tuned.notes)
}

/// The same under a heading, where there is any of it.
pub fn by_policy(tuned: &Tuned) -> String {
    match changes(tuned) {
        none if none.is_empty() => none,
        changes => format!("\n{}\n{}", style::heading("By the policy"), indent(&changes, "  ")),
    }
}

/// What was changed.
pub fn changed(tuned: &Tuned, is_trial: bool) -> String {
    let text = changes(tuned);
    let next = match (tuned.differences().is_empty(), is_trial) {
        (true, _) => "Nothing was written: nothing would change.\n",
        (false, true) => "Nothing was written.\n",
        (false, false) => "`signpost plan` shows what would be written, `signpost apply` makes it active.\n",
    };
    text + &warnings(tuned) + next
}

fn warnings(tuned: &Tuned) -> String {
    notes(&tuned.warnings)
}

/// Notes, a line each.
pub fn notes(notes: &[String]) -> String {
    notes.iter().map(|note| format!("{} {note}\n", style::problem("Note:"))).collect()
}
