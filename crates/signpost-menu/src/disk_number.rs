//! The numbers of disks. A disk keeps the number that it was first seen under, and a new one gets the next: neither a disk
//! that is plugged in nor one that is taken out moves those of the others.

use alloc::string::{String, ToString};
use alloc::vec::Vec;
use core::fmt;

/// Disks of which a slot says the numbers, at most.
const MAX_KEPT: usize = 64;

/// A disk's number as people read it: 1 and on. It is not a place in a list, since numbers of disks that are away stay theirs.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
#[cfg_attr(feature = "serde", derive(serde::Serialize, serde::Deserialize), serde(transparent))]
pub struct DiskNumber(pub u32);

impl fmt::Display for DiskNumber {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Display::fmt(&self.0, f)
    }
}

impl core::str::FromStr for DiskNumber {
    type Err = core::num::ParseIntError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        text.parse().map(Self)
    }
}

/// Which number belongs to which disk, by what tells a disk from others; in the order of the numbers.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct DiskNumbers(Vec<(DiskNumber, String)>);

impl DiskNumbers {
    /// Whether no number is known.
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// The number that belongs to a disk.
    pub fn of(&self, identity: &str) -> Option<DiskNumber> {
        self.0.iter().find(|(_, known)| known == identity).map(|(number, _)| *number)
    }

    /// The numbers of these disks: their own where they have one; for others the next ones, in the order in which they come.
    /// Of disks with one identity, which are copies, the first has its number.
    pub fn for_disks(&self, disks: &[Option<&str>]) -> Vec<DiskNumber> {
        let mut last = self.0.last().map_or(0, |(number, _)| number.0);
        let mut numbers: Vec<DiskNumber> = Vec::with_capacity(disks.len());
        for identity in disks {
            let own = identity.and_then(|identity| self.of(identity));
            let own = own.filter(|own| !numbers.contains(own));
            last = if own.is_none() { last.saturating_add(1) } else { last };
            numbers.push(own.unwrap_or(DiskNumber(last)));
        }
        numbers
    }

    /// As a slot's first line says them: `1:IDENTITY,2:IDENTITY`.
    pub fn text(&self) -> String {
        let mut text = String::new();
        for (number, identity) in self.0.iter().take(MAX_KEPT) {
            let before = if text.is_empty() { "" } else { "," };
            text.extend([before, &number.to_string(), ":", identity]);
        }
        text
    }

    /// Reads that; what is not written so is left out.
    pub fn from_text(text: &str) -> Self {
        let word = |word: &str| {
            let (number, identity) = word.split_once(':')?;
            Some((identity.to_string(), number.parse().ok()?))
        };
        text.split(',').filter_map(word).take(MAX_KEPT).collect()
    }
}

impl FromIterator<(String, DiskNumber)> for DiskNumbers {
    /// Identities that could not stand in a slot's first line are left out; of numbers for one disk the lowest counts.
    fn from_iter<I: IntoIterator<Item = (String, DiskNumber)>>(numbers: I) -> Self {
        let is_plain = |text: &str| {
            (1..=64).contains(&text.len())
                && text.bytes().all(|byte| byte.is_ascii_alphanumeric() || byte == b'-')
        };
        let mut list: Vec<(DiskNumber, String)> = Vec::new();
        for (identity, number) in numbers.into_iter().filter(|(identity, _)| is_plain(identity)) {
            match list.iter().position(|(_, known)| *known == identity) {
                Some(known) if list.get(known).is_some_and(|(known, _)| *known <= number) => continue,
                Some(known) => drop(list.remove(known)),
                None => {}
            }
            list.insert(list.partition_point(|(known, _)| *known <= number), (number, identity));
        }
        Self(list)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn known(numbers: &[(&str, u32)]) -> DiskNumbers {
        numbers.iter().map(|(identity, number)| (identity.to_string(), DiskNumber(*number))).collect()
    }

    fn numbers(known: &DiskNumbers, disks: &[Option<&str>]) -> Vec<u32> {
        known.for_disks(disks).into_iter().map(|number| number.0).collect()
    }

    #[test]
    fn a_disk_keeps_its_number_and_a_new_one_gets_the_next() {
        assert_eq!(numbers(&DiskNumbers::default(), &[Some("a"), None, Some("b")]), [1, 2, 3]);
        let known = known(&[("a", 1), ("b", 2), ("c", 3)]);
        assert_eq!(numbers(&known, &[Some("stick"), Some("c"), Some("a")]), [4, 3, 1]);
        // Neither a copy nor one without identity takes another's number.
        assert_eq!(numbers(&known, &[Some("a"), Some("a"), None]), [1, 4, 5]);
    }

    #[test]
    fn a_slot_says_them_and_they_are_read_back() {
        let known = known(&[("b-1", 10), ("a", 2), ("with blank", 3), ("", 4)]);
        assert_eq!(known.text(), "2:a,10:b-1");
        assert_eq!(DiskNumbers::from_text(&known.text()), known);
        assert_eq!(DiskNumbers::from_text("x:a,,7,3:c").text(), "3:c");
        assert!(DiskNumbers::from_text("").is_empty());
    }
}
