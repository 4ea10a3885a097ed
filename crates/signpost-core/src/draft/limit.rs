//! A menu that would not fit into a slot of the home volume: the oldest of its groups are left out.

use signpost_menu::document::Host;
use signpost_menu::slot::SLOT_SIZE;

use super::offered::{Offer, Place};
use super::text::section;

/// Bytes of a slot that are left for its first line, and for what people add.
const MARGIN: usize = 4096;

/// How many bytes a menu's text has too many.
pub(super) fn excess(text: &str, host: Host) -> usize {
    match host {
        Host::Signpost => text.len().saturating_sub(SLOT_SIZE - MARGIN),
        // No slot is written.
        Host::Firmware => 0,
    }
}

/// Leaves out the last of the longest groups, until so many bytes are saved or no group has a member; how many were left
/// out.
pub(super) fn leave_out(offers: &mut Vec<Offer>, excess: usize) -> usize {
    let (mut saved, mut count) = (0, 0);
    while saved < excess {
        let Some(last) = last_of_the_longest(offers) else { break };
        let offer = offers.remove(last);
        saved += section(&offer.id, &offer).len();
        count += 1;
    }
    let keys: Vec<String> = offers.iter().filter_map(|offer| group_of(offer).cloned()).collect();
    offers.retain(|offer| offer.place != Place::Heading || keys.contains(&offer.key));
    count
}

fn last_of_the_longest(offers: &[Offer]) -> Option<usize> {
    let members = |group: &String| offers.iter().filter(|offer| group_of(offer) == Some(group)).count();
    let longest = offers.iter().filter_map(group_of).max_by_key(|group| members(group))?;
    offers.iter().rposition(|offer| group_of(offer) == Some(longest))
}

fn group_of(offer: &Offer) -> Option<&String> {
    match &offer.place {
        Place::In(group) => Some(group),
        Place::Plain | Place::Heading => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn offers(groups: &[(&str, usize)]) -> Vec<Offer> {
        let of = |(key, members): &(&str, usize)| {
            let plain = || Offer::by_hand((*key).to_string(), (Vec::new(), String::new()));
            let heading = Offer { key: (*key).to_string(), place: Place::Heading, ..plain() };
            let member = |index| Offer {
                id: format!("{key}{index}"),
                place: Place::In((*key).to_string()),
                ..plain()
            };
            core::iter::once(heading).chain((0..*members).map(member)).collect::<Vec<_>>()
        };
        groups.iter().flat_map(of).collect()
    }

    #[test]
    fn the_oldest_of_the_longest_group_go_first_and_no_group_stays_empty() {
        let mut held = offers(&[("a", 2), ("b", 4)]);
        assert_eq!(leave_out(&mut held, 1), 1);
        assert!(!held.iter().any(|offer| offer.id == "b3") && held.iter().any(|offer| offer.id == "b2"));
        assert_eq!(leave_out(&mut held, usize::MAX), 5);
        assert!(held.is_empty());
        assert_eq!(excess(&"#".repeat(SLOT_SIZE), Host::Signpost), MARGIN);
        assert_eq!(excess(&"#".repeat(SLOT_SIZE), Host::Firmware), 0);
    }
}
