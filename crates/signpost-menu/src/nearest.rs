//! The word that somebody may have meant.

use alloc::vec::Vec;

/// The candidate that differs least from `word`, if it differs in no more than a third of its letters.
pub fn nearest<'a>(word: &str, candidates: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    let word: Vec<char> = word.to_lowercase().chars().collect();
    let allowed = word.len().div_ceil(3).max(1);
    candidates
        .into_iter()
        .map(|candidate| (distance(&word, &candidate.to_lowercase().chars().collect::<Vec<_>>()), candidate))
        .filter(|(distance, _)| *distance <= allowed)
        .min_by_key(|(distance, _)| *distance)
        .map(|(_, candidate)| candidate)
}

/// Letters to add, drop or change to get from one word to the other.
fn distance(a: &[char], b: &[char]) -> usize {
    let mut row: Vec<usize> = (0..=b.len()).collect();
    for (i, from) in (1usize..).zip(a) {
        let mut next = Vec::from([i]);
        for ((to, above_left), above) in b.iter().zip(&row).zip(row.iter().skip(1)) {
            let changed = above_left.saturating_add(usize::from(from != to));
            let left = next.last().copied().unwrap_or_default();
            next.push(changed.min(above.saturating_add(1)).min(left.saturating_add(1)));
        }
        row = next;
    }
    row.last().copied().unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_a_near_word_is_offered() {
        let keys = ["default", "timeout", "heading", "host", "show"];
        assert_eq!(nearest("tiemout", keys), Some("timeout"));
        assert_eq!(nearest("Default", keys), Some("default"));
        assert_eq!(nearest("hots", keys), Some("host"));
        assert_eq!(nearest("colour", keys), None);
        assert_eq!(nearest("", []), None);
    }
}
