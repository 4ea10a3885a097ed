//! Volumes made of others that are closed to us, so that nothing but the running system says that they are there.

use signpost_disk::volumes::{Disk, Origin, Volume};

use super::volumes::device_numbers;
use crate::machine::Machine;
use crate::machine::live::made::{Made, MadeNode};
use crate::machine::live::{Devices, Numbers};

/// Adds logical volumes and mirrors to those found; `of_machine` has the index of the machine's disk for each that was
/// looked at.
pub(super) fn add(machine: &Machine, looked: &[Disk], of_machine: &[usize], found: &mut Vec<Volume>) {
    let Some(devices) = &machine.devices else { return };
    for node in devices.made() {
        let members = node.members.iter().map(|member| {
            found.iter().position(|volume| {
                let is_closed = volume.device.is_none() && volume.fault.is_none();
                is_closed && numbers(machine, devices, looked, of_machine, volume) == Some(*member)
            })
        });
        // One that is open has told what it is a part of.
        if let Some(members) = members.collect::<Option<Vec<usize>>>().filter(|members| !members.is_empty()) {
            found.push(volume(node, members));
        }
    }
}

fn numbers(
    machine: &Machine,
    devices: &Devices,
    looked: &[Disk],
    of_machine: &[usize],
    volume: &Volume,
) -> Option<Numbers> {
    let place = match &volume.origin {
        Origin::Disk(disk) => (of_machine.get(*disk).copied(), None),
        Origin::Partition(disk, entry) => {
            let entry = looked.get(*disk)?.table.partitions.get(*entry)?;
            (of_machine.get(*disk).copied(), Some(entry.number))
        }
        Origin::Mirror { .. } | Origin::Logical { .. } => (None, None),
    };
    device_numbers(machine, devices, &volume.origin, place)
}

fn volume(node: &MadeNode, mut members: Vec<usize>) -> Volume {
    members.sort_unstable();
    let origin = match node.made.clone() {
        Made::Mirror { uuid, name } => Origin::Mirror { uuid, name, members },
        Made::Logical { group, name } => Origin::Logical { group, name, members },
    };
    Volume { origin, device: None, identity: node.identity.clone(), fault: None, beneath_raid: None }
}
