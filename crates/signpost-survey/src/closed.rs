//! Logical volumes and arrays that are closed to us, so that nothing but the running system says that they are there.

use signpost_disk::array::Level;
use signpost_disk::volumes::{Disk, Origin, Volume};
use signpost_machine::Machine;
use signpost_machine::live::Numbers;
use signpost_machine::live::made::{Made, MadeNode};

/// Adds logical volumes and mirrors to those found; `of_machine` has the index of the machine's disk for each that was
/// looked at.
pub(crate) fn add(machine: &Machine, looked: &[Disk], of_machine: &[usize], found: &mut Vec<Volume>) {
    let Some(devices) = &machine.devices else { return };
    // One that is open has told what it is a part of.
    let is_closed = |volume: &&Volume| volume.device.is_none() && volume.fault.is_none();
    let numbers_of = |volume: &Volume| {
        let (disk, partition) = match &volume.origin {
            Origin::Disk(disk) => (disk, None),
            Origin::Partition(disk, entry) => (disk, Some(looked[*disk].table.partitions[*entry].number)),
            Origin::Array { .. } | Origin::Logical { .. } => return None,
        };
        machine.disks[of_machine[*disk]].device(partition)
    };
    let mut closed: Vec<Option<Numbers>> =
        found.iter().map(|volume| Some(volume).filter(is_closed).and_then(numbers_of)).collect();
    for node in devices.made() {
        let member = |member: &Numbers| closed.iter().position(|numbers| *numbers == Some(*member));
        let members = node.members.iter().map(member).collect::<Option<Vec<usize>>>();
        if let Some(members) = members.filter(|members| !members.is_empty()) {
            found.push(volume(node, members));
            closed.push(Some(node.numbers));
        }
    }
}

fn volume(node: &MadeNode, mut members: Vec<usize>) -> Volume {
    members.sort_unstable();
    let origin = match node.made.clone() {
        Made::Mirror { uuid, name } => {
            Origin::Array { level: Level::Raid(1), uuid, name, members, partition: None }
        }
        Made::Logical { group, name } => Origin::Logical { group, name, members },
    };
    Volume { origin, device: None, identity: node.identity.clone(), fault: None, beneath_raid: None }
}
