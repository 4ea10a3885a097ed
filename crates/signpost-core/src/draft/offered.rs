//! An entry that draft offers, and an entry that it made.

use serde::Serialize;
use signpost_menu::ids::EntryId;

use super::field::Field;

/// Keys and values of an entry, and why it is as it is.
pub(crate) type Body = (Vec<(&'static str, Field)>, String);

/// An entry that is offered.
#[derive(Clone, Debug)]
pub(crate) struct Offer {
    /// What it is for; the same at every draft.
    pub(super) key: String,
    /// The id that it gets where no other has it.
    pub(super) id: String,
    /// Why it is as it is.
    pub(crate) why: String,
    /// Its keys, the title first, without its id.
    pub(crate) body: Vec<(&'static str, Field)>,
    /// Where it stands.
    pub(super) place: Place,
    /// The system that it is the entry of: its index.
    pub(super) system: Option<usize>,
}

/// Where an offered entry stands.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Place {
    /// In the menu.
    Plain,
    /// In the menu, over members.
    Heading,
    /// In the group of this key.
    In(String),
}

impl Offer {
    /// One that somebody asked for.
    pub(crate) fn by_hand(title: String, (mut body, why): Body) -> Self {
        body.insert(0, ("title", title.into()));
        Self { key: String::new(), id: String::new(), why, body, place: Place::Plain, system: None }
    }

    pub(super) fn member(key: String, id: String, title: String, body: Body, group: &str) -> Self {
        Self { key, id, place: Place::In(group.to_string()), ..Self::by_hand(title, body) }
    }

    pub(crate) fn title(&self) -> &str {
        match self.body.first() {
            Some(("title", Field::Text(title))) => title,
            _ => &self.id,
        }
    }
}

/// An entry that draft made.
#[derive(Clone, Debug, Serialize)]
pub struct DraftEntry {
    /// Its id.
    pub id: EntryId,
    /// Its title.
    pub title: String,
    /// Why it starts in this way.
    pub why: String,
    /// The id of its group.
    pub group: Option<EntryId>,
}

/// Something about an entry, on a line.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Line {
    /// Its id.
    pub id: EntryId,
    /// What there is to say.
    pub why: String,
}
