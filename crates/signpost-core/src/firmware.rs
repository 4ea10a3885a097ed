//! The firmware's own entries: what each is, and changes to them that leave a machine that starts.

mod change;
mod list;
mod tidy;

pub use change::{FirmwareChange, NewFirmwareEntry, Wish, change};
pub use list::{FirmwareList, ListedEntry, list};
use signpost_facts::{Error, FirmwareEntry, OptionNumber, Result};
use signpost_menu::nearest::nearest;
use signpost_place::Look;
pub use tidy::{Tidy, Told, tidy};

/// The number of the entry that a name means: its number in hexadecimal (`3`, `0003`, `Boot0003`), its label, or a part
/// of it that fits no other.
///
/// # Errors
/// Where none or several do: which there are.
pub fn find(look: &Look, name: &str) -> Result<u16> {
    let entries = &look.survey.firmware.entries;
    let digits = name.strip_prefix("Boot").unwrap_or(name);
    if let Some(number) = number_of(digits)
        && entries.iter().any(|entry| entry.number() == number)
    {
        return Ok(number);
    }
    let lower = name.to_lowercase();
    let matching = |is_it: &dyn Fn(&str) -> bool| -> Vec<&FirmwareEntry> {
        entries.iter().filter(|entry| is_it(&entry.label.to_lowercase())).collect()
    };
    let mut found = matching(&|label| label == lower);
    if found.is_empty() && !lower.is_empty() {
        found = matching(&|label| label.starts_with(&lower));
    }
    if found.is_empty() && lower.len() > 2 {
        found = matching(&|label| label.contains(&lower));
    }
    match found.as_slice() {
        [one] => Ok(one.number()),
        [] => Err(Error::WrongUse(unknown(entries, name, digits))),
        several => {
            let all: Vec<String> = several.iter().map(|entry| named(entry)).collect();
            Err(Error::WrongUse(format!("{name} is ambiguous: it fits {}; give its number", all.join(", "))))
        }
    }
}

/// What to say of a name that no entry has.
fn unknown(entries: &[FirmwareEntry], name: &str, digits: &str) -> String {
    let as_decimal =
        digits.parse::<u16>().ok().and_then(|number| entries.iter().find(|entry| entry.number() == number));
    if let Some(entry) = as_decimal {
        return format!(
            "there is no entry {name}; numbers are hexadecimal: {name} in decimal is {}",
            named(entry)
        );
    }
    let labels: Vec<String> =
        entries.iter().flat_map(|entry| [entry.label.clone(), entry.number.to_string()]).collect();
    match nearest(name, labels.iter().map(String::as_str)) {
        Some(near) => format!("the firmware has no entry {name}; did you mean {near}?"),
        None => {
            let all: Vec<String> = entries.iter().map(named).collect();
            format!("the firmware has no entry {name}; there are {}", all.join(", "))
        }
    }
}

/// A number of one to four hexadecimal digits.
pub fn number_of(digits: &str) -> Option<u16> {
    let is_number = (1..=4).contains(&digits.len()) && digits.chars().all(|c| c.is_ascii_hexdigit());
    u16::from_str_radix(digits, 16).ok().filter(|_| is_number)
}

/// An entry by number and label.
pub(crate) fn named(entry: &FirmwareEntry) -> String {
    format!("{} \"{}\"", entry.number, entry.label)
}

/// An entry by its number, with its label where there is one.
pub(crate) fn called(look: &Look, number: u16) -> String {
    let entry = look.survey.firmware.entries.iter().find(|entry| entry.number() == number);
    entry.map_or_else(|| OptionNumber(number).to_string(), named)
}
