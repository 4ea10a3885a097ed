//! What was decided at boot and is not in the menu file yet: entries that were saved or changed at the prompt, a default that
//! was kept. It is never overwritten in silence.

use signpost_facts::noted::Taken;
use signpost_facts::{Code, Refusal};
use signpost_menu::document::{DefaultEntry, Entry};
use signpost_menu::ids::EntryId;
use signpost_menu::slot::{Slot, Writer, newest};
use signpost_menu::{MenuDocument, parse_leniently};
use signpost_place::Look;
use signpost_place::home::{in_force, newest_at_home};

/// All that was decided at boot and is there now, as `draft` takes it in.
pub fn taken_now(look: &Look) -> Taken {
    Taken { slot: newest_at_home(look).map(|slot| slot.serial), kept: look.ours.kept.clone() }
}

/// What was decided at boot.
#[derive(Clone, Debug, Default)]
pub struct News {
    /// Ids of entries that were put into the menu.
    pub added: Vec<EntryId>,
    /// Ids of entries that were changed.
    pub changed: Vec<EntryId>,
    /// The id that was kept as the default.
    pub default: Option<String>,
    /// The text of the menu that holds them.
    pub text: String,
}

impl News {
    /// Held against the text that was last applied: what differs from that was decided at boot.
    pub fn of(look: &Look, document: &MenuDocument) -> Self {
        let applied = look.noted.applied.as_ref().map(|applied| applied.menu.clone());
        let taken = &look.noted.taken;
        let mut news = in_force(look)
            .map(|found| from_slots(&found.slots, taken, document, applied))
            .unwrap_or_default();
        let is_default = |id: &String| document.settings.default == DefaultEntry::Id(id.clone().into());
        let kept = look.ours.kept.clone().filter(|id| taken.kept.as_ref() != Some(id) && !is_default(id));
        let held = parse_leniently(&news.text).0.unwrap_or_default();
        news.default = kept.filter(|id| document.entry(id).is_some() || held.entry(id).is_some());
        news
    }

    /// Whether there is none.
    pub fn is_empty(&self) -> bool {
        self.added.is_empty() && self.changed.is_empty() && self.default.is_none()
    }

    /// The guard against losing it.
    pub(crate) fn refusal(&self) -> Option<Refusal> {
        let mut what: Vec<String> = Vec::new();
        if !self.added.is_empty() {
            what.push(format!("{} was saved at boot", self.added.join(", ")));
        }
        if !self.changed.is_empty() {
            what.push(format!("{} was changed at boot", self.changed.join(", ")));
        }
        what.extend(self.default.as_ref().map(|id| format!("{id} was kept as the default at boot")));
        (!what.is_empty()).then(|| Refusal {
            code: Code::ChangedAtBoot,
            message: format!("{}, and the menu file does not have that", what.join("; ")),
            way: "`signpost draft --take-saved` adds it to the menu file".into(),
        })
    }
}

fn from_slots(
    slots: &[Result<Slot, signpost_menu::slot::SlotFault>; 2],
    taken: &Taken,
    document: &MenuDocument,
    applied: Option<String>,
) -> News {
    let Some((index, slot)) = newest(slots) else { return News::default() };
    if slot.writer != Writer::Boot || taken.slot == Some(slot.serial) {
        return News::default();
    }
    // The boot program writes over the older slot, so what was applied, or taken in, stands in the other one.
    let other = slots.get(1 - index).and_then(|other| other.as_ref().ok());
    let other = other.filter(|other| other.writer == Writer::Desk || taken.slot == Some(other.serial));
    let base = other.map(|other| other.text.clone()).or(applied).unwrap_or_default();
    let base = parse_leniently(&base).0.unwrap_or_default();
    let held = parse_leniently(&slot.text).0.unwrap_or_default();
    let mut news = News { text: slot.text.clone(), ..News::default() };
    for entry in &held.entries {
        let is_same = |other: Option<&Entry>| other.is_some_and(|other| is_same(other, entry));
        if is_same(base.entry(&entry.id)) || is_same(document.entry(&entry.id)) {
            continue;
        }
        let list = if document.entry(&entry.id).is_some() { &mut news.changed } else { &mut news.added };
        list.push(entry.id.clone());
    }
    news
}

/// Whether two entries say the same, wherever they stand.
fn is_same(one: &Entry, other: &Entry) -> bool {
    Entry { line: 0, ..one.clone() } == Entry { line: 0, ..other.clone() }
}

#[cfg(test)]
mod tests {
    use signpost_menu::disk_number::DiskNumbers;

    use super::*;

    fn slot(serial: u64, writer: Writer, ids: &[&str]) -> Result<Slot, signpost_menu::slot::SlotFault> {
        let entry = |id: &&str| format!("[[entry]]\nid = \"{id}\"\nstarts = \"group\"\n");
        let text = format!("format = 1\n{}", ids.iter().map(entry).collect::<String>());
        Ok(Slot {
            serial,
            writer,
            machine: String::new(),
            disks: DiskNumbers::default(),
            homes: Vec::new(),
            picture: None,
            text,
        })
    }

    fn document(ids: &[&str]) -> MenuDocument {
        parse_leniently(&slot(1, Writer::Desk, ids).unwrap().text).0.unwrap()
    }

    #[test]
    fn news_is_what_differs_from_what_was_applied_and_is_news_once() {
        let slots = [slot(1, Writer::Desk, &["a"]), slot(2, Writer::Boot, &["a", "b"])];
        let nothing = Taken::default();
        let added = |taken: &Taken, ids: &[&str]| from_slots(&slots, taken, &document(ids), None).added;
        assert_eq!(added(&nothing, &["a"]), ["b"]);
        assert_eq!(added(&nothing, &[]), ["b"], "what was applied and is removed by hand is not news");
        assert!(added(&nothing, &["a", "b"]).is_empty());
        let taken = Taken { slot: Some(2), kept: None };
        assert!(added(&taken, &["a"]).is_empty(), "it was taken in, and removed by hand since");
        // Saved once more: what was taken in is what the new one is held against.
        let slots = [slot(3, Writer::Boot, &["a", "b", "c"]), slot(2, Writer::Boot, &["a", "b"])];
        assert_eq!(from_slots(&slots, &taken, &document(&["a"]), None).added, ["c"]);
    }

    #[test]
    fn a_field_that_was_changed_at_boot_is_news_too() {
        let mut changed = slot(2, Writer::Boot, &["a"]).unwrap();
        changed.text = changed.text.replace("group\"", "restart\"");
        let news = from_slots(
            &[slot(1, Writer::Desk, &["a"]), Ok(changed)],
            &Taken::default(),
            &document(&["a"]),
            None,
        );
        assert_eq!((news.changed, news.added.len()), (vec!["a".into()], 0));
    }
}
