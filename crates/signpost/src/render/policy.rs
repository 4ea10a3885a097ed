//! A policy: what it can say, and where a menu file is otherwise.

use std::path::PathBuf;

use serde::Serialize;
use signpost_core::edit::{Difference, OwnKey};

use super::style;
use super::table::Table;
use super::tune::notes;

/// How a menu file stands to a policy.
#[derive(Serialize)]
pub struct Compared {
    /// The policy's file.
    pub file: PathBuf,
    /// What the menu file has otherwise.
    pub differences: Vec<Difference>,
    /// What of the policy fits nothing here.
    pub notes: Vec<String>,
    /// Why the two cannot be compared.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub fault: Option<String>,
}

/// All keys, with what they take and mean.
pub fn keys(keys: &[OwnKey]) -> String {
    let mut table = Table::new(&["key", "takes", "meaning", "example"]);
    for key in keys {
        table.row([key.name, key.values, key.meaning, key.example].map(str::to_string));
    }
    table.text()
        + "\nValues stand as TOML: timeout = 10, show = \"on-key\", [kernel] and under it args = \"quiet\".\n"
}

/// Where the menu file is otherwise.
pub fn compared(compared: &Compared) -> String {
    let mut text = String::new();
    if !compared.differences.is_empty() {
        let mut table = Table::new(&["key", "the policy", "the menu file"]);
        for difference in &compared.differences {
            table.row([difference.key.clone(), difference.value.clone(), difference.before.clone()]);
        }
        text = table.text() + "\n";
    }
    text + &line(compared) + &notes(&compared.notes)
}

/// The same in a line.
pub fn line(compared: &Compared) -> String {
    let file = compared.file.display();
    let own = format!("`signpost tune --from {file}` sets it right");
    match (&compared.fault, compared.differences.len()) {
        (Some(fault), _) => format!("{} {fault}\n", style::problem("The policy cannot be followed:")),
        (None, 0) => format!("{} the menu file is as {file} says.\n", style::good("Policy:")),
        (None, 1) => {
            format!("{} the menu file differs from {file} in one thing; {own}.\n", style::problem("Policy:"))
        }
        (None, count) => {
            format!(
                "{} the menu file differs from {file} in {count} things; {own}.\n",
                style::problem("Policy:")
            )
        }
    }
}
