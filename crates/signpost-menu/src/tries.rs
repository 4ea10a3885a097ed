//! How often entries were started without coming up: what the boot program counts, and the system that came up clears.

use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec::Vec;

/// Starts that are counted at most; more are not told apart.
pub const MAX_TRIES: u8 = 9;

/// Starts that nobody has confirmed, by the entries' ids; written as `larkspur=2 meridian=1`.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Unconfirmed(Vec<(String, u8)>);

impl Unconfirmed {
    /// What a text says; what is none of it is left out.
    pub fn parse(text: &str) -> Self {
        let starts = text.split_ascii_whitespace().filter_map(|word| {
            let (id, starts) = word.split_once('=')?;
            Some((id.to_string(), starts.parse().ok()?))
        });
        starts.fold(Self::default(), |read, (id, starts)| match read.of(&id) {
            0 => Self(read.0.into_iter().chain([(id, starts)]).collect()),
            _ => read,
        })
    }

    /// Its text; empty where nothing is counted.
    pub fn text(&self) -> String {
        let words: Vec<String> = self.0.iter().map(|(id, starts)| format!("{id}={starts}")).collect();
        words.join(" ")
    }

    /// Starts of an entry since it came up last.
    pub fn of(&self, id: &str) -> u8 {
        self.0.iter().find(|(own, _)| own == id).map_or(0, |(_, starts)| *starts)
    }

    /// Every entry that has some, and how many.
    pub fn all(&self) -> impl Iterator<Item = (&str, u8)> {
        self.0.iter().map(|(id, starts)| (id.as_str(), *starts))
    }

    /// With one more start of an entry.
    #[must_use]
    pub fn with_one_more(&self, id: &str) -> Self {
        let starts = self.of(id).saturating_add(1).min(MAX_TRIES);
        let mut more = self.without(id);
        more.0.push((id.to_string(), starts));
        more
    }

    /// Without those of an entry, which came up.
    #[must_use]
    pub fn without(&self, id: &str) -> Self {
        Self(self.0.iter().filter(|(own, _)| own != id).cloned().collect())
    }

    /// Those of entries that are in the menu and count their starts; others are left from a menu that is no more.
    #[must_use]
    pub fn among(&self, has_tries: impl Fn(&str) -> bool) -> Self {
        Self(self.0.iter().filter(|(id, _)| has_tries(id)).cloned().collect())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn a_start_counts_until_the_system_has_come_up() {
        let two = Unconfirmed::default().with_one_more("larkspur").with_one_more("larkspur");
        let three = two.with_one_more("meridian");
        assert_eq!(three.text(), "larkspur=2 meridian=1");
        assert_eq!((three.of("larkspur"), three.of("meridian"), three.of("none")), (2, 1, 0));
        assert_eq!(three.without("larkspur").text(), "meridian=1");
        assert_eq!(three.among(|id| id == "larkspur"), two);
        let many = (0..20).fold(two, |many, _| many.with_one_more("larkspur"));
        assert_eq!(many.of("larkspur"), MAX_TRIES);
        assert_eq!(Unconfirmed::parse("larkspur=x =3 meridian b=999 tide=3").of("tide"), 3);
    }

    proptest! {
        #[test]
        fn what_was_counted_is_read_back(ids in prop::collection::vec("[a-z0-9._-]{1,40}", 0..8)) {
            let counted = ids.iter().fold(Unconfirmed::default(), |counted, id| counted.with_one_more(id));
            prop_assert_eq!(Unconfirmed::parse(&counted.text()), counted);
        }

        #[test]
        fn any_text_is_read_without_harm(text in "\\PC{0,80}") {
            let read = Unconfirmed::parse(&text);
            prop_assert!(read.all().all(|(id, starts)| read.with_one_more(id).of(id) >= starts.min(MAX_TRIES)));
        }
    }
}
