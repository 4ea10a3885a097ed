//! An entry that was composed at the prompt, written into the older slot: at every cut the newer slot stays whole.

use alloc::string::{String, ToString};
use alloc::vec::Vec;

use signpost_menu::disk_number::DiskNumbers;
use signpost_menu::entry_text::entry_text;
use signpost_menu::quote::quoted;
use signpost_menu::slot::{Slot, Writer, newest};
use signpost_menu::{MenuDocument, ids, parse_leniently};

use super::Drivers;
use crate::at_boot::BootMachine;

/// Puts the entry behind all others: its id, and the menu then.
///
/// # Errors
/// Why it could not be written, in words.
pub fn save(
    drivers: &mut impl Drivers,
    machine: &BootMachine,
    title: &str,
    body: &[(&'static str, String)],
) -> Result<(String, MenuDocument), String> {
    let (slots, held) = super::slots(drivers, machine)?;
    // Where the menu of another home counts, its own slots are both older.
    let index = newest(&slots).map_or(0, |(index, _)| 1usize.saturating_sub(index));
    let held = match held.map(|held| held.slot) {
        Some(slot) => {
            let next = slot.serial.checked_add(1);
            let serial =
                next.ok_or("the menu carries the last number there is; apply it again from a system")?;
            Slot { serial, writer: Writer::Boot, ..slot }
        }
        None => Slot {
            serial: 1,
            writer: Writer::Boot,
            machine: String::new(),
            disks: DiskNumbers::default(),
            homes: Vec::new(),
            picture: None,
            text: "format = 1\n\n[menu]\nhost = \"signpost\"\n".to_string(),
        },
    };
    let document = parse_leniently(&held.text).0.unwrap_or_default();
    let id = ids::slug(title, "composed");
    let id = ids::first_free(&id, &id, |id| document.entry(id).is_some());
    let mut text = held.text.trim_end().to_string();
    text.push('\n');
    let own = [("id", quoted(&id)), ("title", quoted(title))];
    let fields = own.into_iter().chain(body.iter().map(|(key, value)| (*key, value.clone())));
    text.push_str(&entry_text("composed at the prompt, at boot", fields));
    let (document, problems) = parse_leniently(&text);
    let document = document.filter(|document| document.entry(&id).is_some());
    let document = document.ok_or_else(|| {
        problems.first().map_or("the menu would not be valid".into(), |problem| problem.message.clone())
    })?;
    let slot = Slot { text, ..held };
    let bytes = slot.encode().ok_or("the menu is too long for a slot")?;
    drivers.write_slot(index, &bytes)?;
    Ok((id, document))
}
