//! Sorting with little code: the standard library's sorting is compiled again for each type, three kilobytes a time, and a boot
//! program has to be small.

use alloc::vec::Vec;
use core::cmp::Ordering;

/// Items in order; those that are equal stay as they stood.
pub fn sorted<T>(items: Vec<T>, compare: impl Fn(&T, &T) -> Ordering) -> Vec<T> {
    let mut order: Vec<usize> = (0..items.len()).collect();
    by_index(&mut order, &|left, right| match (items.get(left), items.get(right)) {
        (Some(left), Some(right)) => compare(left, right),
        _ => Ordering::Equal,
    });
    let mut items: Vec<Option<T>> = items.into_iter().map(Some).collect();
    order.into_iter().filter_map(|index| items.get_mut(index)?.take()).collect()
}

fn by_index(order: &mut [usize], compare: &dyn Fn(usize, usize) -> Ordering) {
    order.sort_unstable_by(|left, right| compare(*left, *right).then(left.cmp(right)));
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_equal_stays_as_it_stood() {
        let by_letter = |left: &&str, right: &&str| left.chars().next().cmp(&right.chars().next());
        assert_eq!(sorted(["b2", "a1", "b1", "a2"].into(), by_letter), ["a1", "a2", "b2", "b1"]);
        assert_eq!(sorted(Vec::<&str>::new(), by_letter), Vec::<&str>::new());
    }
}
