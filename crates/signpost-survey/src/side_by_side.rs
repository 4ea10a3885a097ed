//! Work on several disks at once.

use std::num::NonZero;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Mutex, PoisonError};

/// Does `work` on each item, on as many threads as there are processors; what came of it in the items' order.
/// Nothing is lost: `work` does not panic.
pub(crate) fn side_by_side<T: Sync, R: Send>(items: &[T], work: impl Fn(&T) -> R + Sync) -> Vec<R> {
    let workers = std::thread::available_parallelism().map_or(1, NonZero::get).min(items.len());
    if workers < 2 {
        return items.iter().map(work).collect();
    }
    let next = AtomicUsize::new(0);
    let done: Mutex<Vec<(usize, R)>> = Mutex::new(Vec::with_capacity(items.len()));
    let take_all = || {
        while let Some((index, item)) = {
            let index = next.fetch_add(1, Ordering::Relaxed);
            items.get(index).map(|item| (index, item))
        } {
            let one = work(item);
            done.lock().unwrap_or_else(PoisonError::into_inner).push((index, one));
        }
    };
    std::thread::scope(|scope| {
        for _ in 1..workers {
            scope.spawn(take_all);
        }
        take_all();
    });
    let mut done = done.into_inner().unwrap_or_else(PoisonError::into_inner);
    done.sort_by_key(|(index, _)| *index);
    done.into_iter().map(|(_, one)| one).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn results_stand_in_the_order_of_the_items() {
        let items: Vec<u64> = (0..200).collect();
        let squares = side_by_side(&items, |item| item * item);
        assert_eq!(squares, items.iter().map(|item| item * item).collect::<Vec<_>>());
        assert_eq!(side_by_side(&Vec::<u64>::new(), |item| *item), Vec::<u64>::new());
    }
}
