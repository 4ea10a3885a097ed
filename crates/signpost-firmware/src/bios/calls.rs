//! The program's calls, made alike before it is packed: every call of a function says how far it is, which is another number at
//! each place; where it lies is the same number everywhere, and packs better.

/// `CALL` with a distance of 32 bits (Intel's manual, volume 2A).
const CALL: u8 = 0xe8;
/// Bytes of the instruction.
const LENGTH: usize = 5;

/// Has calls say where they go instead of how far that is.
pub fn by_place(code: &mut [u8]) {
    change(code, |at, size, distance| match distance.checked_add(at)? {
        place if (0..size).contains(&place) => Some(place),
        // What would be taken for a place that is not told apart stays where no distance is.
        _ if (size.checked_sub(at)?..size).contains(&distance) => distance.checked_sub(size),
        _ => None,
    });
}

/// The other way round.
pub fn by_distance(code: &mut [u8]) {
    change(code, |at, size, place| match place {
        place if (0..size).contains(&place) => place.checked_sub(at),
        place if (at.checked_neg()?..0).contains(&place) => place.checked_add(size),
        _ => None,
    });
}

/// Changes the number of each call, by its place, the code's size and what it says.
fn change(code: &mut [u8], new: impl Fn(i32, i32, i32) -> Option<i32>) {
    let Ok(size) = i32::try_from(code.len()) else { return };
    let mut at = 0_usize;
    while let Some([first, number @ ..]) =
        code.get_mut(at..).and_then(|rest| rest.first_chunk_mut::<LENGTH>())
    {
        if *first != CALL {
            at = at.saturating_add(1);
            continue;
        }
        let place = i32::try_from(at).ok();
        if let Some(changed) = place.and_then(|place| new(place, size, i32::from_le_bytes(*number))) {
            *number = changed.to_le_bytes();
        }
        at = at.saturating_add(LENGTH);
    }
}

#[cfg(test)]
mod tests {
    use alloc::vec::Vec;

    use proptest::prelude::*;

    use super::*;

    #[test]
    fn calls_of_one_function_become_alike() {
        // Two calls of what lies at 16.
        let mut code = [0_u8; 24];
        code[..5].copy_from_slice(&[CALL, 16, 0, 0, 0]);
        code[8..13].copy_from_slice(&[CALL, 8, 0, 0, 0]);
        by_place(&mut code);
        assert_eq!(code[..5], code[8..13]);
    }

    proptest! {
        #[test]
        fn what_was_changed_comes_back(mut code in proptest::collection::vec(prop_oneof![Just(CALL), Just(0), Just(0xff), any::<u8>()], 0..600)) {
            let before: Vec<u8> = code.clone();
            by_place(&mut code);
            by_distance(&mut code);
            prop_assert_eq!(code, before);
        }
    }
}
