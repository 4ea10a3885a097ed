//! The keys of the menu's policy, with their values and what they take.

use signpost_core::edit::Tuned;

use super::style;
use super::table::Table;

/// Every key with its value, its default, what it takes and means.
pub fn all(tuned: &Tuned) -> String {
    let mut table = Table::new(&["key", "value", "default", "takes", "meaning"]);
    for setting in &tuned.settings {
        let key = setting;
        table.row([key.name, &setting.value, key.default, key.values, key.meaning].map(str::to_string));
    }
    table.text() + &warnings(tuned)
}

/// What was changed.
pub fn changed(tuned: &Tuned, is_trial: bool) -> String {
    let mut text = String::new();
    for setting in &tuned.settings {
        if let Some(before) = &setting.before {
            text.push_str(&format!("{} = {}, it was {before}\n", setting.name, setting.value));
        }
    }
    let next = match (text.is_empty(), is_trial) {
        (true, _) => "Nothing was written: nothing would change.\n",
        (false, true) => "Nothing was written.\n",
        (false, false) => "`signpost plan` shows what would be written, `signpost apply` makes it active.\n",
    };
    text + &warnings(tuned) + next
}

fn warnings(tuned: &Tuned) -> String {
    tuned.warnings.iter().map(|warning| format!("{} {warning}\n", style::problem("Note:"))).collect()
}
