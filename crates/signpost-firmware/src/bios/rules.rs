//! What a machine with BIOS firmware starts, from power-on: the first disk of its order by its first sector, plain code by the
//! active partition. Seen on the open-source BIOS for virtual machines, 1.16; a real one may try further disks where the first is
//! not marked.

use alloc::vec::Vec;

use super::code::{FirstCode, SectorCode};

/// A disk as BIOS sees it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Disk {
    /// Its first sector's code; nothing where it cannot be read.
    pub code: Option<FirstCode>,
    /// Whether a copy of our boot program is whole, where that code is ours and goes to one.
    pub has_program: bool,
    /// The partitions of the table's four entries that are active, with their boot sectors; nothing for one that cannot be read.
    pub active: Vec<(usize, Option<SectorCode>)>,
}

/// How a start ends.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum End {
    /// The boot sector of this partition, by its index in the table, is run.
    Partition(usize),
    /// The disk as a whole is a volume, and its boot sector is run.
    Volume,
    /// Our boot program, which shows the menu.
    OurMenu,
    /// Code that cannot be followed.
    Unknown,
    /// Nothing: why.
    Nothing(Why),
    /// The processor runs into zeros, or in a circle, and hangs.
    Hangs(Where),
}

/// Why nothing starts.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Why {
    /// There is no disk.
    NoDisk,
    /// The first disk cannot be read.
    Unread,
    /// The first disk's sector lacks its mark.
    Unmarked,
    /// No partition is active.
    NoneActive,
    /// Several are active, which plain code of others refuses.
    SeveralActive,
    /// The active partition's boot sector cannot be read.
    PartitionUnread(usize),
    /// It lacks its mark.
    PartitionUnmarked(usize),
    /// It only says that it starts nothing.
    SaysNothing(usize),
    /// Code here goes back to the firmware.
    Returns(Where),
}

/// Where code is that goes no further.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Where {
    /// In the first sector.
    First,
    /// In the boot sector of this partition.
    Partition(usize),
}

/// Follows a start from the first disk of the order.
pub fn follow(first: Option<&Disk>) -> End {
    let Some(disk) = first else { return End::Nothing(Why::NoDisk) };
    match disk.code {
        None => End::Nothing(Why::Unread),
        Some(FirstCode::Unmarked) => End::Nothing(Why::Unmarked),
        Some(FirstCode::Empty | FirstCode::Loops) => End::Hangs(Where::First),
        Some(FirstCode::Returns) => End::Nothing(Why::Returns(Where::First)),
        Some(FirstCode::Volume) => End::Volume,
        Some(FirstCode::Other) => End::Unknown,
        Some(FirstCode::Plain) if disk.active.len() > 1 => End::Nothing(Why::SeveralActive),
        Some(FirstCode::OurMenu) if disk.has_program => End::OurMenu,
        Some(FirstCode::OurPlain | FirstCode::Plain | FirstCode::OurMenu) => by_active(disk),
    }
}

fn by_active(disk: &Disk) -> End {
    match disk.active.first() {
        Some((partition, code)) => by_sector(*partition, *code),
        None => End::Nothing(Why::NoneActive),
    }
}

/// Follows a start by a partition's boot sector.
pub fn by_sector(partition: usize, code: Option<SectorCode>) -> End {
    match code {
        None => End::Nothing(Why::PartitionUnread(partition)),
        Some(SectorCode::Unmarked) => End::Nothing(Why::PartitionUnmarked(partition)),
        Some(SectorCode::SaysNothing) => End::Nothing(Why::SaysNothing(partition)),
        Some(SectorCode::Empty | SectorCode::Loops) => End::Hangs(Where::Partition(partition)),
        Some(SectorCode::Returns) => End::Nothing(Why::Returns(Where::Partition(partition))),
        Some(SectorCode::Starts) => End::Partition(partition),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_end_has_its_cause() {
        let disk = |code, active: &[(usize, Option<SectorCode>)]| Disk {
            code,
            has_program: false,
            active: active.to_vec(),
        };
        let starts = (1, Some(SectorCode::Starts));
        let end = |code, active: &[(usize, Option<SectorCode>)]| follow(Some(&disk(Some(code), active)));
        assert_eq!(follow(None), End::Nothing(Why::NoDisk));
        assert_eq!(follow(Some(&disk(None, &[starts]))), End::Nothing(Why::Unread));
        assert_eq!(end(FirstCode::Unmarked, &[starts]), End::Nothing(Why::Unmarked));
        assert_eq!(end(FirstCode::Empty, &[starts]), End::Hangs(Where::First));
        assert_eq!(end(FirstCode::Other, &[starts]), End::Unknown);
        assert_eq!(end(FirstCode::Plain, &[starts]), End::Partition(1));
        assert_eq!(end(FirstCode::Plain, &[starts, starts]), End::Nothing(Why::SeveralActive));
        assert_eq!(end(FirstCode::OurPlain, &[starts, starts]), End::Partition(1), "ours takes the first");
        assert_eq!(end(FirstCode::OurPlain, &[]), End::Nothing(Why::NoneActive));
        let ours = Disk { has_program: true, ..disk(Some(FirstCode::OurMenu), &[starts]) };
        assert_eq!(follow(Some(&ours)), End::OurMenu);
        assert_eq!(end(FirstCode::OurMenu, &[starts]), End::Partition(1), "no copy counts");
        for (code, expected) in [
            (None, End::Nothing(Why::PartitionUnread(3))),
            (Some(SectorCode::Unmarked), End::Nothing(Why::PartitionUnmarked(3))),
            (Some(SectorCode::SaysNothing), End::Nothing(Why::SaysNothing(3))),
            (Some(SectorCode::Empty), End::Hangs(Where::Partition(3))),
        ] {
            assert_eq!(end(FirstCode::OurPlain, &[(3, code)]), expected);
        }
    }
}
