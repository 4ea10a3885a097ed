//! Ids of entries: what they are, and how one is made from titles and names that no other entry has.

use alloc::collections::{BTreeMap, BTreeSet};
use alloc::format;
use alloc::string::{String, ToString};
use core::borrow::Borrow;
use core::fmt;
use core::ops::Deref;

/// Ids that mean something else.
pub const RESERVED_IDS: [&str; 3] = ["first", "last-started", "menu"];

/// Letters of an id that is made from a title.
const MAX_SLUG: usize = 30;

/// An entry's id, by which people and other programs name it.
#[derive(Clone, Debug, Default, PartialEq, Eq, PartialOrd, Ord)]
#[cfg_attr(feature = "serde", derive(serde::Serialize, serde::Deserialize), serde(transparent))]
pub struct EntryId(String);

impl EntryId {
    /// As it is written.
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

impl Deref for EntryId {
    type Target = str;

    fn deref(&self) -> &str {
        &self.0
    }
}

impl From<&str> for EntryId {
    fn from(id: &str) -> Self {
        Self(id.to_string())
    }
}

impl From<String> for EntryId {
    fn from(id: String) -> Self {
        Self(id)
    }
}

impl From<EntryId> for String {
    fn from(id: EntryId) -> Self {
        id.0
    }
}

impl PartialEq<str> for EntryId {
    fn eq(&self, other: &str) -> bool {
        self.0 == other
    }
}

impl PartialEq<&str> for EntryId {
    fn eq(&self, other: &&str) -> bool {
        self.0 == *other
    }
}

impl PartialEq<String> for EntryId {
    fn eq(&self, other: &String) -> bool {
        self.0 == *other
    }
}

impl PartialEq<EntryId> for String {
    fn eq(&self, other: &EntryId) -> bool {
        *self == other.0
    }
}

impl Borrow<str> for EntryId {
    fn borrow(&self) -> &str {
        &self.0
    }
}

impl fmt::Display for EntryId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&self.0)
    }
}

/// A short name, fit for an id: lower-case letters, digits, dashes; `otherwise` where a title has none of these.
pub fn slug(title: &str, otherwise: &str) -> String {
    let mut slug = String::new();
    for c in title.to_lowercase().chars() {
        match c {
            'a'..='z' | '0'..='9' => slug.push(c),
            _ if !slug.is_empty() && !slug.ends_with('-') => slug.push('-'),
            _ => {}
        }
    }
    slug.truncate(MAX_SLUG);
    let slug = slug.trim_end_matches('-');
    if slug.is_empty() { otherwise.to_string() } else { slug.to_string() }
}

fn is_reserved(id: &str) -> bool {
    RESERVED_IDS.contains(&id)
}

/// The first id that is free and means nothing else: this one, or `short` with a number behind it.
pub fn first_free(id: &str, short: &str, is_taken: impl Fn(&str) -> bool) -> String {
    let is_free = |id: &String| !id.is_empty() && !is_taken(id) && !is_reserved(id);
    let numbered = (2u32..).map(|number| format!("{short}-{number}"));
    core::iter::once(id.to_string()).chain(numbered).find(is_free).unwrap_or_default()
}

/// Ids that are given one after the other, none of them twice.
#[derive(Default)]
pub struct Given {
    taken: BTreeSet<String>,
    /// For what ids begin with, the number behind the last that was given.
    tried: BTreeMap<String, u32>,
}

impl Given {
    /// Gives the first id that is free: this one, or it with a number behind it.
    pub fn give(&mut self, id: &str) -> String {
        let is_taken = |id: &str| id.is_empty() || self.taken.contains(id) || is_reserved(id);
        let tried = self.tried.entry(id.to_string()).or_insert(1);
        let given = match *tried {
            1 if !is_taken(id) => id.to_string(),
            _ => loop {
                *tried = tried.saturating_add(1);
                let numbered = format!("{id}-{tried}");
                if !is_taken(&numbered) || *tried == u32::MAX {
                    break numbered;
                }
            },
        };
        self.taken.insert(given.clone());
        given
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_taken_or_means_something_else_gets_a_number() {
        assert_eq!(slug("☂", "composed"), "composed");
        assert_eq!(first_free("a", "a", |id| matches!(id, "a" | "a-2")), "a-3");
        assert_eq!(first_free("first", "first", |_| false), "first-2");
        let mut given = Given::default();
        let ids = ["a", "a-2", "a", "a", "first", "a-2"].map(|id| given.give(id));
        assert_eq!(ids, ["a", "a-2", "a-3", "a-4", "first-2", "a-2-2"]);
    }
}
