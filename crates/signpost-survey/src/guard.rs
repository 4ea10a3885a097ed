//! Calls of the crates that read disks, kept from taking the program down.

use std::cell::Cell;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::Once;

thread_local! {
    static IN_GUARD: Cell<bool> = const { Cell::new(false) };
}

/// The same for a reader that is kept.
pub(crate) fn guard(call: &mut dyn FnMut()) -> Result<(), String> {
    guarded(call)
}

/// Runs a reader; a panic in it comes back as words, and is not printed.
pub(crate) fn guarded<T>(call: impl FnOnce() -> T) -> Result<T, String> {
    static QUIET: Once = Once::new();
    QUIET.call_once(|| {
        let loud = std::panic::take_hook();
        std::panic::set_hook(Box::new(move |info| {
            if !IN_GUARD.get() {
                loud(info);
            }
        }));
    });
    let before = IN_GUARD.replace(true);
    let result = catch_unwind(AssertUnwindSafe(call));
    IN_GUARD.set(before);
    result.map_err(|panic| {
        let text = panic.downcast_ref::<&str>().map(ToString::to_string);
        let text = text.or_else(|| panic.downcast_ref::<String>().cloned());
        format!("the reader of this file system gave up ({})", text.unwrap_or_else(|| "no reason".into()))
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_panic_comes_back_as_words() {
        let result: Result<(), _> = guarded(|| panic!("sector {} lies", 7));
        assert_eq!(result, Err("the reader of this file system gave up (sector 7 lies)".to_string()));
        assert_eq!(guarded(|| 3), Ok(3));
    }
}
