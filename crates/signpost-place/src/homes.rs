//! Which menu counts where it was put on several homes: the newest whole one, wherever it stands.

use alloc::vec::Vec;

use signpost_menu::slot::{Slot, Slots, newest};

/// A home: its volume or disk by index, and the identity that slots call it by.
pub type Named<'n> = (usize, &'n str);

/// The menu that counts at a home.
#[derive(Clone, Debug)]
pub struct InForce {
    /// The home on which it stands.
    pub home: usize,
    /// Both slots there.
    pub slots: Slots,
    /// Which of them it is.
    pub index: usize,
    /// It.
    pub slot: Slot,
}

impl InForce {
    fn on(home: usize, slots: Slots) -> Option<Self> {
        let (index, slot) = newest(&slots).map(|(index, slot)| (index, slot.clone()))?;
        Some(Self { home, slots, index, slot })
    }
}

/// The menu that counts for who starts from a home with these slots; `others` are volumes or disks on which there may be another
/// one. They are read where the home's own slots name them, and all of them where it has no whole slot.
pub fn in_force(
    (own, name): Named<'_>,
    slots: Slots,
    others: &[Named<'_>],
    read: impl Fn(usize) -> Slots,
) -> Option<InForce> {
    let here = InForce::on(own, slots);
    let asked = others.iter().filter(|(_, other)| *other != name && is_asked(here.as_ref(), other));
    // Of disks that are copies of each other nobody can say which is the machine's.
    let is_single = |other: &str| others.iter().filter(|(_, name)| *name == other).count() == 1;
    let asked = asked.filter(|(_, other)| is_single(other));
    let elsewhere: Vec<InForce> = asked.filter_map(|(at, _)| InForce::on(*at, read(*at))).collect();
    let belongs = |there: &InForce| {
        there.slot.homes.iter().any(|home| home == name)
            && here.as_ref().is_none_or(|here| here.slot.machine == there.slot.machine)
    };
    let mut best = here.clone();
    for there in elsewhere.into_iter().filter(|there| belongs(there)) {
        if best.as_ref().is_none_or(|best| best.slot.serial < there.slot.serial) {
            best = Some(there);
        }
    }
    best
}

fn is_asked(here: Option<&InForce>, other: &str) -> bool {
    here.is_none_or(|here| here.slot.homes.iter().any(|home| home == other))
}

#[cfg(test)]
mod tests {
    use alloc::string::ToString;

    use signpost_menu::disk_number::DiskNumbers;
    use signpost_menu::slot::{SlotFault, Writer};

    use super::*;

    fn slots(serial: u64, homes: &[&str]) -> Slots {
        let homes = homes.iter().map(ToString::to_string).collect();
        let (machine, text) = ("4be0".to_string(), "format = 1\n".to_string());
        let disks = DiskNumbers::default();
        let slot = Slot { serial, writer: Writer::Desk, machine, disks, homes, picture: None, text };
        [Ok(slot), Err(SlotFault::Empty)]
    }

    const DAMAGED: Slots = [Err(SlotFault::Header), Err(SlotFault::Empty)];
    const OTHERS: [Named<'_>; 2] = [(1, "b"), (2, "c")];

    fn serial(read: impl Fn(usize) -> Slots) -> Option<(usize, u64)> {
        in_force((0, "a"), read(0), &OTHERS, read).map(|found| (found.home, found.slot.serial))
    }

    #[test]
    fn the_newest_of_all_homes_counts_and_ones_own_of_two_alike() {
        let read = |first, second| {
            move |home| match home {
                0 => slots(first, &["a", "b"]),
                1 => slots(second, &["a", "b"]),
                _ => slots(99, &["a", "c"]),
            }
        };
        assert_eq!(serial(read(7, 7)), Some((0, 7)));
        assert_eq!(serial(read(7, 8)), Some((1, 8)), "c is not named here, however new its menu is");
    }

    #[test]
    fn a_home_whose_slots_are_damaged_finds_the_one_that_names_it() {
        let read = |home| match home {
            0 => DAMAGED,
            1 => slots(9, &[]),
            _ => slots(3, &["a", "c"]),
        };
        assert_eq!(serial(read), Some((2, 3)), "the menu on b was put there alone");
        assert_eq!(serial(|_| DAMAGED), None);
    }

    #[test]
    fn a_home_that_stands_alone_asks_nobody() {
        let read = |home| {
            assert_eq!(home, 0, "no other one is read");
            slots(7, &[])
        };
        assert_eq!(serial(read), Some((0, 7)));
    }

    #[test]
    fn a_copy_of_a_disk_a_menu_of_another_system_and_one_that_left_do_not_count() {
        let copies = [(1, "b"), (2, "b")];
        let read = |home| slots(if home == 0 { 7 } else { 9 }, &["a", "b"]);
        assert_eq!(in_force((0, "a"), read(0), &copies, read).unwrap().home, 0);
        let others = |home| match home {
            0 => slots(7, &["a", "b"]),
            _ => slots(9, &["a", "b"]).map(|slot| slot.map(|slot| Slot { machine: "77".into(), ..slot })),
        };
        assert_eq!(serial(others), Some((0, 7)));
        let left = |home| if home == 0 { slots(7, &["a", "b"]) } else { slots(9, &["b", "c"]) };
        assert_eq!(serial(left), Some((0, 7)));
    }
}
