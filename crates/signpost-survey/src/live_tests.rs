//! A survey of a made-up running system, whose disks are closed to us.

#[path = "../../signpost-machine/src/live/tests/made_up.rs"]
mod made_up;

use std::path::Path;

use made_up::Made;
use signpost_facts::{Code, DiskNumber, KernelUse, Volume};
use signpost_machine::HostKind;

use super::*;
use crate::catalogue::Catalogue;

fn opened(made: &Made) -> Machine {
    Machine::live_below(made.folder.path())
}

fn mount(id: u32, device: &str, point: &Path, kind: &str) -> String {
    let parent = u32::from(id > 1);
    format!("{id} {parent} {device} / {} rw - {kind} /dev/none rw", point.display())
}

fn nothing_is_called_broken(survey: &Survey) {
    let faults: Vec<_> = survey.volumes.iter().filter_map(|volume| volume.fault.as_ref()).collect();
    assert!(faults.is_empty(), "{faults:?}");
    let codes: Vec<Code> = survey.findings.iter().map(|finding| finding.code).collect();
    assert!(!codes.contains(&Code::VolumeBroken) && !codes.contains(&Code::VolumeUnread), "{codes:?}");
}

#[test]
fn what_is_mounted_shows_where_disks_are_closed_to_us() {
    let made = Made::new();
    let root = made.folder.path().join("mounted");
    made.with_disk("vda", 254)
        .put("mounted/etc/os-release", "ID=larkspur\nPRETTY_NAME=\"Larkspur Linux 14\"\n")
        .put("proc/sys/kernel/hostname", "kp-pc2\n")
        .mounts(&[mount(1, "254:2", &root, "xfs")]);
    let machine = opened(&made);
    let look = survey(&machine, &Catalogue::built_in());
    let survey = &look.survey;
    assert_eq!(survey.machine.name, "kp-pc2");
    let volumes: Vec<_> = survey.volumes.iter().map(|volume| (volume.kind.name(), volume.is_esp)).collect();
    assert_eq!(volumes, [("FAT32", true), ("XFS", false)]);
    assert_eq!(survey.volumes[1].label.as_deref(), Some("tide bench"));
    assert!(survey.volumes[1].device.as_ref().unwrap().ends_with("dev/vda2"));
    assert_eq!(survey.volumes[1].mounted, [root.display().to_string()]);
    assert_eq!(
        survey.systems.iter().map(|system| system.title.as_str()).collect::<Vec<_>>(),
        ["Larkspur Linux 14"]
    );
    nothing_is_called_broken(survey);
}

#[test]
fn what_the_kernel_uses_otherwise_than_mounted_is_told() {
    let made = Made::new();
    made.with_disk("vda", 254)
        .put("proc/swaps", "Filename Type Size Used Priority\n/dev/vda2 partition 4096 0 -2\n")
        .put("sys/block/vda/vda1/holders/md127/dev", "9:127\n");
    let survey = survey(&opened(&made), &Catalogue::built_in()).survey;
    let held: Vec<_> = survey.volumes.iter().map(|volume| volume.kernel_use.clone()).collect();
    assert_eq!(held, [Some(KernelUse::PartOf("md127".into())), Some(KernelUse::Swap)]);
    let words: Vec<_> = survey.volumes.iter().filter_map(Volume::use_in_words).collect();
    assert_eq!(words, ["is part of md127", "is being swapped to"]);
}

/// A logical volume with the running system on it, over a mirror; its members are only for root.
#[test]
fn what_is_made_of_closed_disks_is_shown_as_the_kernel_made_it() {
    let made = Made::new();
    let root = made.folder.path().join("mounted");
    let lvm = format!("LVM-{}", "k".repeat(64));
    for (disk, major) in [("vda", 253), ("vdb", 254)] {
        made.put(&format!("sys/block/{disk}/dev"), &format!("{major}:0\n"))
            .put(&format!("sys/block/{disk}/size"), "40960\n")
            .put(&format!("sys/block/md127/slaves/{disk}/dev"), &format!("{major}:0\n"))
            .put(&format!("run/udev/data/b{major}:0"), "E:ID_FS_TYPE=linux_raid_member\n");
    }
    made.put("sys/block/md127/dev", "9:127\n")
        .put("sys/block/md127/size", "36864\n")
        .put("sys/block/md127/md/level", "raid1\n")
        .put(
            "run/udev/data/b9:127",
            "E:MD_UUID=5eed0000:00004000:80000000:0000cafe\nE:MD_NAME=kp-pc2:pair\nE:ID_FS_TYPE=LVM2_member\n",
        )
        .put("sys/block/dm-0/dev", "252:0\n")
        .put("sys/block/dm-0/size", "8192\n")
        .put("sys/block/dm-0/dm/name", "tide--bench-root\n")
        .put("sys/block/dm-0/dm/uuid", &lvm)
        .put("sys/block/dm-0/slaves/md127/dev", "9:127\n")
        .put("run/udev/data/b252:0", "E:ID_FS_TYPE=xfs\nE:ID_FS_UUID=5eed\n")
        // Made for LVM2's own use.
        .put("sys/block/dm-1/dev", "252:1\n")
        .put("sys/block/dm-1/size", "8192\n")
        .put("sys/block/dm-1/dm/name", "tide--bench-pool_tdata\n")
        .put("sys/block/dm-1/dm/uuid", &format!("{lvm}-tdata"))
        .put("sys/block/dm-1/slaves/md127/dev", "9:127\n")
        .put("mounted/etc/os-release", "ID=larkspur\nPRETTY_NAME=\"Larkspur Linux 14\"\n")
        .mounts(&[mount(1, "252:0", &root, "xfs")]);
    let machine = opened(&made);
    let survey = survey(&machine, &Catalogue::built_in()).survey;
    let volumes: Vec<_> = survey
        .volumes
        .iter()
        .map(|volume| (volume.name.as_str(), volume.kind.name(), volume.size >> 20))
        .collect();
    let expected = [
        ("d1", "RAID", 20),
        ("d2", "RAID", 20),
        ("array/kp-pc2:pair", "LVM2 PV", 18),
        ("tide-bench/root", "XFS", 4),
    ];
    assert_eq!(volumes, expected);
    let members = |volume: &Volume| volume.members.iter().map(|member| member.index()).collect::<Vec<_>>();
    assert_eq!((members(&survey.volumes[2]), members(&survey.volumes[3])), (vec![0, 1], vec![2]));
    assert_eq!(survey.volumes[3].lv, Some(("tide-bench".into(), "root".into())));
    assert_eq!(survey.volumes[3].mounted, [root.display().to_string()]);
    assert_eq!(survey.systems.iter().map(|system| system.id.as_str()).collect::<Vec<_>>(), ["larkspur"]);
    let left_out = survey.machine.notes.last().unwrap();
    assert_eq!(left_out, "no disks of this machine: dm-1 (made of other devices: tide--bench-pool_tdata)");
    nothing_is_called_broken(&survey);
}

#[test]
fn the_medium_of_a_rescue_system_is_left_out_and_the_machine_is_not() {
    let made = Made::new();
    let (pc, medium) = (made.folder.path().join("pc"), made.folder.path().join("medium"));
    let squash = made.folder.path().join("squash");
    made.with_disk("vda", 254)
        .with_disk("vdb", 253)
        .put("sys/block/loop0/dev", "7:0\n")
        .put("sys/block/loop0/size", "8\n")
        .put("sys/block/loop0/loop/backing_file", &format!("{}/live/root.squashfs\n", medium.display()))
        .put("pc/etc/os-release", "ID=larkspur\nPRETTY_NAME=\"Larkspur Linux 14\"\n")
        .put("medium/etc/os-release", "ID=lantern\nPRETTY_NAME=\"Lantern Live\"\n")
        .mounts(&[
            "1 0 0:30 / / rw - overlay overlay rw".to_string(),
            mount(3, "253:2", &medium, "xfs"),
            mount(5, "7:0", &squash, "squashfs"),
            mount(7, "254:2", &pc, "xfs"),
        ]);
    let machine = opened(&made);
    assert_eq!(machine.host.as_ref().map(|host| host.kind), Some(HostKind::Rescue));
    let look = survey(&machine, &Catalogue::built_in());
    let survey = &look.survey;
    let media: Vec<(&str, bool)> =
        survey.disks.iter().map(|disk| (disk.serial.as_deref().unwrap(), disk.is_medium)).collect();
    assert_eq!(media, [("KP-254", false), ("KP-253", true)]);
    assert_eq!(survey.systems.iter().map(|system| system.id.as_str()).collect::<Vec<_>>(), ["larkspur"]);
    let own = look.fat_volumes().map(|index| survey.volumes[index].disk).collect::<Vec<_>>();
    assert_eq!(own, [DiskNumber(1)], "no home on the medium");
    assert!(survey.machine.notes[0].contains("it lies on disk 2"), "{:?}", survey.machine.notes);
    assert!(survey.machine.notes.iter().any(|note| note.contains("loop0 (the file ")));
}
