//! The three-way merge: what draft wrote last, what stands in the file, what there is to offer now.

use std::collections::{BTreeMap, BTreeSet};

use signpost_facts::Result;
use signpost_menu::MenuDocument;
use signpost_menu::document::{DefaultEntry, Entry, Starts};
use signpost_menu::entry_kind::EntryKind;
use signpost_menu::ids::EntryId;
use signpost_place::Look;
use toml_edit::Table;

use super::base::{Base, Written};
use super::field::Field;
use super::offer::{self, free_id, is_hidden, is_hidden_id};
use super::offered::{DraftEntry, Line, Offer, Place};
use super::text::section;
use crate::menu_text::{MenuText, set};
use crate::resolve::ResolvedEntry;
use crate::ways::{self, Reach, is_started_by};

/// What stands before the reason in the file, above an entry that starts nothing.
const GONE: &str = "# gone: ";

/// A merge to be made.
pub(super) struct Merge<'a> {
    look: &'a Look,
    document: &'a MenuDocument,
    offers: &'a [Offer],
    resolved: &'a [ResolvedEntry<'a>],
    out: Merged,
}

/// What came of it.
#[derive(Default)]
pub(super) struct Merged {
    pub(super) added: Vec<DraftEntry>,
    pub(super) changed: Vec<Line>,
    pub(super) kept: Vec<Line>,
    pub(super) left: Vec<String>,
    /// Ids of entries that are no longer in the file.
    pub(super) taken_out: Vec<EntryId>,
    /// Ids of entries that start in another way.
    pub(super) replaced: Vec<EntryId>,
    pub(super) base: Base,
}

/// What becomes of an offer.
enum Fate {
    /// It stands in the file under this id.
    Stands(EntryId),
    /// It is put there under this id.
    Comes(EntryId),
    /// It is not to be there.
    Stays,
}

impl Fate {
    fn id(&self) -> Option<&EntryId> {
        match self {
            Self::Stands(id) | Self::Comes(id) => Some(id),
            Self::Stays => None,
        }
    }
}

impl<'a> Merge<'a> {
    pub(super) fn new(
        look: &'a Look,
        document: &'a MenuDocument,
        resolved: &'a [ResolvedEntry<'a>],
        offers: &'a [Offer],
        base: Base,
    ) -> Self {
        Self { look, document, offers, resolved, out: Merged { base, ..Merged::default() } }
    }

    /// Merges into the file.
    pub(super) fn into(mut self, file: &mut MenuText) -> Result<Merged> {
        self.take_out_what_is_gone(file)?;
        let fates = self.fates(file);
        for (index, offer) in self.offers.iter().enumerate() {
            match &fates[index] {
                Fate::Stays => {}
                Fate::Stands(id) => self.refresh(file, offer, id, &fates)?,
                Fate::Comes(id) => self.add(file, index, id, &fates)?,
            }
        }
        Ok(self.out)
    }

    fn fates(&mut self, file: &MenuText) -> Vec<Fate> {
        let mut taken: Vec<EntryId> = file.list().into_iter().map(|(id, ..)| id).collect();
        let mut fates: Vec<Fate> = Vec::new();
        for offer in self.offers {
            let fate = self.fate(offer, &mut taken, &fates);
            fates.push(fate);
        }
        fates
    }

    fn fate(&mut self, offer: &Offer, taken: &mut Vec<EntryId>, before: &[Fate]) -> Fate {
        let written = self.out.base.get(&offer.key).cloned();
        let known_id = written.as_ref().map_or(offer.id.as_str(), |written| written.id.as_str());
        let system = offer.system.map(|index| &self.look.survey.systems[index]);
        if system.is_some_and(|system| is_hidden(self.look, self.document, system))
            || is_hidden_id(self.document, known_id)
        {
            self.out.base.drop_key(&offer.key);
            self.out.left.push(format!("{}: hidden in the menu file", offer.title()));
            return Fate::Stays;
        }
        let stands =
            |id: &str| self.document.entry(id).is_some() && !self.out.taken_out.iter().any(|out| out == id);
        match written {
            Some(written) if stands(&written.id) => Fate::Stands(written.id),
            Some(written) => {
                if offer.system.is_some() || offer.place == Place::Heading {
                    let way = "`signpost draft --offer-removed` offers it again";
                    self.out.left.push(format!("{}: taken out of the menu by hand; {way}", offer.title()));
                }
                let fields = self.fields(offer, before);
                self.out.base.put(&offer.key, Written { id: written.id, why: offer.why.clone(), fields });
                Fate::Stays
            }
            None => match self.made_by_hand(offer) {
                Some(id) => {
                    let fields = self.fields(offer, before);
                    let written = Written { id: id.clone(), why: offer.why.clone(), fields };
                    self.out.base.put(&offer.key, written);
                    Fate::Stands(id)
                }
                // Its group was taken out, and with it what comes into it.
                None if self.group_id(offer, before).is_none_or(|group| group.is_some()) => {
                    let id = free_id(&offer.id, taken);
                    taken.push(id.clone());
                    Fate::Comes(id)
                }
                None => Fate::Stays,
            },
        }
    }

    /// The entry that somebody made for the same: of a system, one that starts it and is not another offer's.
    fn made_by_hand(&self, offer: &Offer) -> Option<EntryId> {
        let belongs: BTreeSet<&EntryId> = self.out.base.entries().map(|(_, written)| &written.id).collect();
        let mut free = self.resolved.iter().filter(|entry| !belongs.contains(&entry.entry.id));
        let found = match offer.system.and_then(|index| self.look.survey.systems.get(index)) {
            Some(system) => free.find(|entry| {
                entry.target.as_ref().is_ok_and(|target| is_started_by(self.look, system, target))
            }),
            None => free.find(|entry| starts_the_same(entry.entry, offer)),
        };
        found.map(|entry| entry.entry.id.clone())
    }

    /// The id of the group that an offer goes into, where it is in the menu; `None` for one that goes into none.
    fn group_id(&self, offer: &Offer, fates: &[Fate]) -> Option<Option<EntryId>> {
        let Place::In(group) = &offer.place else { return None };
        let heading = self.offers.iter().position(|offer| offer.key == *group)?;
        Some(fates.get(heading).and_then(Fate::id).cloned())
    }

    /// All keys of an offer but its id.
    fn fields(&self, offer: &Offer, fates: &[Fate]) -> BTreeMap<String, Field> {
        fields_of(offer, self.group_id(offer, fates).flatten().as_deref())
    }

    /// Takes over what is different now into an entry that stands, but for what was changed by hand.
    fn refresh(&mut self, file: &mut MenuText, offer: &Offer, id: &EntryId, fates: &[Fate]) -> Result<()> {
        let now = self.fields(offer, fates);
        let Some(before) = self.out.base.get(&offer.key).cloned() else { return Ok(()) };
        let table = file.entry(id)?;
        if before.fields.get("starts") == now.get("starts") {
            for key in before.fields.keys().chain(now.keys()).collect::<BTreeSet<_>>() {
                let (b, n) = (before.fields.get(key), now.get(key));
                let f = table.get(key).and_then(Field::of_item);
                if n == b || f.as_ref() == n {
                    continue;
                }
                let shown = |field: Option<&Field>| field.map_or("nothing".to_string(), Field::text);
                if f.as_ref() == b {
                    put(table, key, n);
                    let mut why = format!("{key} is {} now, and was {}", shown(n), shown(b));
                    if key == "args" && before.why != offer.why {
                        why.push_str(&format!("; then: {}; now: {}", before.why, offer.why));
                    }
                    self.out.changed.push(Line { id: id.clone(), why });
                } else {
                    let why = format!("{key} stays as you changed it; the machine has {} now", shown(n));
                    self.out.kept.push(Line { id: id.clone(), why });
                }
            }
        } else if is_untouched(table, &before) && self.is_out_of_reach(id) {
            let why = format!("stays: what it starts is out of reach now; new would be: {}", offer.why);
            self.out.kept.push(Line { id: id.clone(), why });
            return Ok(());
        } else if is_untouched(table, &before) {
            let is_body = |key: &&String| !matches!(key.as_str(), "title" | "in");
            before.fields.keys().filter(is_body).for_each(|key| put(table, key, None));
            now.iter().filter(|(key, _)| is_body(key)).for_each(|(key, value)| put(table, key, Some(value)));
            self.out.replaced.push(id.to_string().into());
            let why = format!("starts in another way now: {}", offer.why);
            self.out.changed.push(Line { id: id.clone(), why });
        } else if table.get("starts").and_then(Field::of_item).as_ref() != now.get("starts") {
            let why = format!("stays as you changed it; new would be: {}", offer.why);
            self.out.kept.push(Line { id: id.clone(), why });
        }
        change_comment(table, &format!("# {}\n", before.why), &format!("# {}\n", offer.why));
        let written = Written { id: id.to_string().into(), why: offer.why.clone(), fields: now };
        self.out.base.put(&offer.key, written);
        Ok(())
    }

    fn is_out_of_reach(&self, id: &str) -> bool {
        let resolved = self.resolved.iter().find(|entry| entry.entry.id == id);
        resolved.is_some_and(|entry| ways::of_entry(self.look, entry) == Reach::OutOfReach)
    }

    fn add(&mut self, file: &mut MenuText, index: usize, id: &EntryId, fates: &[Fate]) -> Result<()> {
        let offer = &self.offers[index];
        let fields = self.fields(offer, fates);
        let mut shown = offer.clone();
        if let Some(group) = fields.get("in") {
            shown.body.push(("in", group.clone()));
        }
        let at = self.natural_place(&file.list(), index, fates);
        file.insert_entry(at, &section(id, &shown))?;
        let group = self.group_id(offer, fates).flatten();
        self.out.base.put(&offer.key, Written { id: id.to_string().into(), why: offer.why.clone(), fields });
        let (id, title, why) = (id.clone(), offer.title().to_string(), offer.why.clone());
        self.out.added.push(DraftEntry { id, title, why, group });
        Ok(())
    }

    /// Where an offer goes among the entries of the file: behind what it follows in a new menu, else before what
    /// follows it, else behind all but what is most often last.
    fn natural_place(
        &self,
        list: &[(EntryId, Option<EntryId>, String)],
        index: usize,
        fates: &[Fate],
    ) -> usize {
        let place_of = |id: &str| list.iter().position(|(own, ..)| own == id);
        let level = |offer: &Offer| match &offer.place {
            Place::In(group) => Some(group.clone()),
            Place::Plain | Place::Heading => None,
        };
        let own_level = level(&self.offers[index]);
        let found = |other: usize| {
            let is_beside = level(&self.offers[other]) == own_level;
            fates[other].id().filter(|_| is_beside).and_then(|id| place_of(id))
        };
        if let Some(at) = (0..index).rev().find_map(found) {
            let members = list.iter().rposition(|(_, group, _)| group.as_ref() == Some(&list[at].0));
            return members.map_or(at, |last| last.max(at)) + 1;
        }
        if let Some(at) = (index + 1..self.offers.len()).find_map(found) {
            return at;
        }
        if let Some(at) =
            self.group_id(&self.offers[index], fates).flatten().and_then(|group| place_of(&group))
        {
            return at + 1;
        }
        let is_last = |starts: &str| {
            let kind = EntryKind::of_word(starts);
            matches!(kind, Some(EntryKind::SetupScreen | EntryKind::Restart | EntryKind::PowerOff))
        };
        list.iter().rposition(|(_, _, starts)| !is_last(starts)).map_or(0, |at| at + 1)
    }

    /// Entries of a system that is there, for a kernel that is not: where nobody has touched them, they go.
    fn take_out_what_is_gone(&mut self, file: &mut MenuText) -> Result<()> {
        let systems: Vec<String> = self
            .look
            .survey
            .systems
            .iter()
            .map(|system| format!("{} ", offer::key(self.look, system)))
            .collect();
        let is_offered = |key: &str| self.offers.iter().any(|offer| offer.key == key);
        let lost = self.out.base.entries().filter(|(key, _)| {
            !is_offered(key) && systems.iter().any(|system| key.starts_with(system.as_str()))
        });
        let mut lost: Vec<(String, Written)> =
            lost.map(|(key, written)| (key.clone(), written.clone())).collect();
        // Members before the heading over them.
        lost.reverse();
        for (key, written) in lost {
            let id = &written.id;
            if self.document.entry(id).is_none()
                || self.document.settings.default == DefaultEntry::Id(id.clone())
            {
                self.out.base.drop_key(&key);
                continue;
            }
            let has_members = file.list().iter().any(|(_, group, _)| group.as_ref() == Some(id));
            // What is out of reach may be there the next time.
            let resolved = self.resolved.iter().find(|entry| entry.entry.id == *id);
            let reach = resolved.map_or(Reach::OutOfReach, |entry| ways::of_entry(self.look, entry));
            if reach == Reach::OutOfReach {
                continue;
            }
            self.out.base.drop_key(&key);
            if is_untouched(file.entry(id)?, &written) && !has_members {
                file.remove_entry(id)?;
                let what =
                    if reach == Reach::Gone { "what it started is gone" } else { "it is no longer offered" };
                let why = format!("is taken out: {what}, and nobody had changed it");
                self.out.changed.push(Line { id: id.clone(), why });
                self.out.taken_out.push(id.clone());
            }
        }
        Ok(())
    }
}

/// All keys of an offer but its id, in this group.
pub(super) fn fields_of(offer: &Offer, group: Option<&str>) -> BTreeMap<String, Field> {
    let mut fields: BTreeMap<String, Field> =
        offer.body.iter().map(|(key, value)| ((*key).to_string(), value.clone())).collect();
    if let Some(group) = group {
        fields.insert("in".into(), group.into());
    }
    fields
}

/// Whether an entry that no draft is known to have made is the very group that is offered, or starts the very kernel with the same
/// arguments.
fn starts_the_same(entry: &Entry, offer: &Offer) -> bool {
    if offer.place == Place::Heading {
        return entry.starts == Starts::Group && entry.title == offer.title();
    }
    let field = |key: &str| offer.body.iter().find(|(own, _)| *own == key).map(|(_, value)| value);
    let Starts::Linux(linux) = &entry.starts else { return false };
    let kernel = match &linux.kernel {
        signpost_menu::document::KernelChoice::Fixed(path) => path.clone(),
        signpost_menu::document::KernelChoice::Newest(newest) => newest.to_string(),
    };
    field("kernel") == Some(&Field::Text(kernel)) && field("args") == Some(&Field::Text(linux.args.clone()))
}

fn is_untouched(table: &Table, written: &Written) -> bool {
    let own = written.fields.iter().filter(|(key, _)| *key != "title" && *key != "in");
    own.into_iter().all(|(key, value)| table.get(key).and_then(Field::of_item).as_ref() == Some(value))
}

fn put(table: &mut Table, key: &str, value: Option<&Field>) {
    match value {
        Some(value) => set(table, key, value.to_value()),
        None => {
            table.remove(key);
        }
    }
}

fn change_comment(table: &mut Table, before: &str, now: &str) {
    let prefix = prefix(table);
    if before != now && prefix.contains(before) {
        table.decor_mut().set_prefix(prefix.replace(before, now));
    }
}

fn prefix(table: &Table) -> String {
    table.decor().prefix().and_then(|prefix| prefix.as_str()).unwrap_or_default().to_string()
}

/// Says in the file which entries start nothing any more, and removes that where they do again.
pub(super) fn mark_gone(file: &mut MenuText, document: &MenuDocument, gone: &[Line]) -> Result<()> {
    let there: Vec<EntryId> = file.list().into_iter().map(|(id, ..)| id).collect();
    for entry in document.entries.iter().filter(|entry| there.contains(&entry.id)) {
        let table = file.entry(&entry.id)?;
        let prefix = prefix(table);
        let mut marked: String =
            prefix.split_inclusive('\n').filter(|line| !line.starts_with(GONE)).collect();
        if let Some(line) = gone.iter().find(|line| line.id == entry.id) {
            marked.push_str(&format!("{GONE}{}\n", line.why.replace(char::is_control, " ")));
        }
        if marked != prefix {
            table.decor_mut().set_prefix(marked);
        }
    }
    Ok(())
}
