//! What volumes are called where people read and type them.

use alloc::collections::BTreeSet;
use alloc::string::String;
use alloc::vec::Vec;

use crate::volumes::{Disk, Origin, Volume};

/// The names of all volumes, in their order. Of several that would be called alike (logical volumes of two groups of one name,
/// since a disk was copied) the second has `#2` behind its name, and so on.
pub fn names<N: core::fmt::Display>(
    volumes: &[Volume],
    disks: &[Disk],
    number: impl Fn(usize) -> N,
) -> Vec<String> {
    let mut taken = BTreeSet::new();
    let mut name = |volume: &Volume| {
        let own = volume.origin.name(disks, &number);
        let others = (2..=volumes.len().saturating_add(1)).map(|count| alloc::format!("{own}#{count}"));
        let free = core::iter::once(own.clone()).chain(others).find(|name| taken.insert(name.clone()));
        free.unwrap_or(own)
    };
    volumes.iter().map(&mut name).collect()
}

impl Origin {
    /// A volume's name as people read and type it: `d1p2`, `d1` for a disk without partitions, `d1p2a` in a slice,
    /// `kestrel/tidewater` for a logical volume; `number` is that of the disk of this index.
    pub fn name<N: core::fmt::Display>(&self, disks: &[Disk], number: impl Fn(usize) -> N) -> String {
        match self {
            Self::Disk(disk) => alloc::format!("d{}", number(*disk)),
            Self::Partition(disk, entry) => {
                let entry = disks.get(*disk).and_then(|disk| disk.table.partitions.get(*entry));
                let disk = number(*disk);
                match entry.map(|entry| (entry.number, entry.slice.as_deref())) {
                    Some((_, Some(slice))) => alloc::format!("d{disk}p{slice}"),
                    Some((number, None)) => alloc::format!("d{disk}p{number}"),
                    None => alloc::format!("d{disk}"),
                }
            }
            Self::Array { name, uuid, partition, .. } => {
                let within = partition.map_or_else(String::new, |number| alloc::format!("p{number}"));
                alloc::format!("array/{}{within}", name.as_ref().unwrap_or(uuid))
            }
            Self::Logical { group, name, .. } => alloc::format!("{group}/{name}"),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn logical_volumes_of_one_name_are_told_apart() {
        let logical = |group: &str, name: &str| {
            let origin = Origin::Logical { group: group.into(), name: name.into(), members: Vec::new() };
            Volume::unread(origin, "a test reads nothing".into())
        };
        let volumes = [logical("kestrel", "root"), logical("kestrel", "root"), logical("tern", "root")];
        assert_eq!(names(&volumes, &[], |disk| disk), ["kestrel/root", "kestrel/root#2", "tern/root"]);
    }
}
