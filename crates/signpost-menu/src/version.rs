//! The order of versions (the UAPI Group's "Version Format Specification").

use core::cmp::Ordering;

/// Compares two versions: `6.9.4` is newer than `6.9~rc2`, and older than `6.10`.
pub fn compare(left: &str, right: &str) -> Ordering {
    let (mut left, mut right) = (left, right);
    loop {
        left = left.trim_start_matches(is_separator);
        right = right.trim_start_matches(is_separator);
        // A tilde sorts before everything, the end of the version too.
        match by_mark(&mut left, &mut right, '~') {
            Some(Ordering::Equal) => continue,
            Some(order) => return order,
            None => {}
        }
        if left.is_empty() || right.is_empty() {
            return right.is_empty().cmp(&left.is_empty());
        }
        let marked = ['-', '^', '.'].into_iter().find_map(|mark| by_mark(&mut left, &mut right, mark));
        match marked {
            Some(Ordering::Equal) => continue,
            Some(order) => return order,
            None => {}
        }
        let numeric =
            left.starts_with(|c: char| c.is_ascii_digit()) || right.starts_with(|c: char| c.is_ascii_digit());
        let order = if numeric {
            let (a, b) = (take(&mut left, |c| c.is_ascii_digit()), take(&mut right, |c| c.is_ascii_digit()));
            // Digits sort after letters, so that no number is less than a number.
            b.is_empty().cmp(&a.is_empty()).then_with(|| compare_numbers(a, b))
        } else {
            take(&mut left, |c| c.is_ascii_alphabetic()).cmp(take(&mut right, |c| c.is_ascii_alphabetic()))
        };
        if order != Ordering::Equal {
            return order;
        }
    }
}

fn is_separator(c: char) -> bool {
    !(c.is_ascii_alphanumeric() || matches!(c, '-' | '.' | '~' | '^'))
}

/// Where one of the two starts with the mark, it is the older; where both do, the mark is dropped.
fn by_mark(left: &mut &str, right: &mut &str, mark: char) -> Option<Ordering> {
    match (left.strip_prefix(mark), right.strip_prefix(mark)) {
        (Some(after_left), Some(after_right)) => {
            (*left, *right) = (after_left, after_right);
            Some(Ordering::Equal)
        }
        (Some(_), None) => Some(Ordering::Less),
        (None, Some(_)) => Some(Ordering::Greater),
        (None, None) => None,
    }
}

fn take<'a>(text: &mut &'a str, belongs: impl Fn(char) -> bool) -> &'a str {
    let end = text.find(|c| !belongs(c)).unwrap_or(text.len());
    let (taken, rest) = text.split_at_checked(end).unwrap_or((text, ""));
    *text = rest;
    taken
}

/// Numbers of any length.
fn compare_numbers(left: &str, right: &str) -> Ordering {
    let (left, right) = (left.trim_start_matches('0'), right.trim_start_matches('0'));
    left.len().cmp(&right.len()).then_with(|| left.cmp(right))
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn examples_of_the_specification_in_rising_order() {
        let rising = [
            "~1",
            "",
            "ab",
            "abb",
            "abc",
            "0001",
            "002",
            "12",
            "122",
            "122.9",
            "123~rc1",
            "123",
            "123-a",
            "123-a.1",
            "123-a1",
            "123-a1.1",
            "123-3",
            "123-3.1",
            "123^patch1",
            "123^1",
            "123.a-1",
            "123.1-1",
            "123a-1",
            "124",
        ];
        for pair in rising.windows(2) {
            assert_eq!(compare(pair[0], pair[1]), Ordering::Less, "{pair:?}");
            assert_eq!(compare(pair[1], pair[0]), Ordering::Greater, "{pair:?}");
        }
        assert_eq!(compare("6.9_4", "6.9+4"), Ordering::Equal);
    }

    proptest! {
        #[test]
        fn an_order_it_is(a in "[0-9a-c.~^_-]{0,8}", b in "[0-9a-c.~^_-]{0,8}", c in "[0-9a-c.~^_-]{0,8}") {
            prop_assert_eq!(compare(&a, &a), Ordering::Equal);
            prop_assert_eq!(compare(&a, &b), compare(&b, &a).reverse());
            if compare(&a, &b) != Ordering::Greater && compare(&b, &c) != Ordering::Greater {
                prop_assert_ne!(compare(&a, &c), Ordering::Greater);
            }
        }
    }
}
