//! The running system, read from a made-up one.

mod made_up;

use std::os::unix::fs::MetadataExt;

use super::*;
use made_up::Made;

fn opened(made: &Made) -> Machine {
    open(made.folder.path())
}

/// Each tool sets other marks between the digits of an array's identity.
#[test]
fn logical_volumes_and_arrays_go_by_their_names_and_identities() {
    let made = Made::new();
    made.put("sys/block/dm-0/dev", "253:0\n")
        .put("sys/block/dm-0/size", "8\n")
        .put("sys/block/dm-0/dm/name", "tide--bench-root\n")
        .put("sys/block/md127/dev", "9:127\n")
        .put("sys/block/md127/size", "8\n")
        .put("sys/block/md127/md127p1/dev", "259:5\n")
        .put("sys/block/md127/md127p1/size", "4\n")
        .put("sys/block/md127/md127p1/start", "2\n")
        .put("sys/block/md127/md127p1/partition", "1\n")
        .put("sys/block/md127/slaves/sda/dev", "8:0\n")
        .put("run/udev/data/b9:127", "E:MD_UUID=5eed0000:00004000:80000000:0000CAFE\n");
    let devices = opened(&made).devices.unwrap();
    assert_eq!(devices.mapped("tide--bench-root"), Some(Numbers { major: 253, minor: 0 }));
    let array = devices.array("5eed0000-0000-4000-8000-00000000cafe", None).unwrap();
    let within = Some(Numbers { major: 259, minor: 5 });
    assert_eq!(devices.array("5eed0000-0000-4000-8000-00000000cafe", Some(1)), within);
    // Firmware's arrays are known by the disks beneath them.
    assert_eq!(devices.array_over(Numbers { major: 8, minor: 0 }, Some(1)), within);
    assert_eq!(devices.file_of(array), Some(made.folder.path().join("dev/md127").as_path()));
}

#[test]
fn a_system_in_another_one_is_told_by_its_marks_and_changes_nothing() {
    let kind = |path: &str, text: &str, refusal: &str| {
        let made = Made::new();
        made.put(path, text).mounts(&["1 0 0:30 / / rw - overlay overlay rw".to_string()]);
        let machine = opened(&made);
        let error = machine.need_uefi().unwrap_err().to_string();
        assert!(error.contains(refusal), "{error}");
        machine.host.map(|host| host.kind)
    };
    assert_eq!(kind("run/systemd/container", "some\n", "container"), Some(HostKind::Container));
    let release = "6.6.0-microsoft-standard\n";
    assert_eq!(kind("proc/sys/kernel/osrelease", release, "within another one"), Some(HostKind::Guest));
    assert_eq!(kind("proc/cmdline", "quiet\n", "BIOS mode"), Some(HostKind::Rescue));
}

#[test]
fn disks_that_can_be_taken_along_are_told_by_their_drive_or_by_how_they_were_plugged_in() {
    let removable = |file: &str, said: &str| {
        let made = Made::new();
        made.with_disk("sda", 8).put(file, said);
        block::read(&Root(made.folder.path().to_path_buf()))[0].is_removable
    };
    assert!(removable("sys/block/sda/removable", "1\n"));
    assert!(!removable("sys/block/sda/removable", "0\n"));
    assert!(removable("sys/block/sda/device/type", "SD\n"), "a card in a slot");
    assert!(removable("sys/block/sda/device/removable", "removable\n"), "plugged in from outside");
    assert!(!removable("sys/block/sda/device/removable", "fixed\n"));
}

#[test]
fn a_package_manager_at_work_is_told_by_what_it_locks() {
    let made = Made::new();
    made.put("var/lib/dpkg/lock", "").put("proc/locks", "1: POSIX  ADVISORY  WRITE 812 fe:01:77 0 EOF\n");
    let root = || Root(made.folder.path().to_path_buf());
    assert_eq!(packages::look(&root()), None);
    let inode = std::fs::metadata(made.folder.path().join("var/lib/dpkg/lock")).unwrap().ino();
    let lines = format!(
        "1: FLOCK  ADVISORY  WRITE 812 fe:01:77 0 EOF\n2: POSIX  ADVISORY  WRITE 4711 fe:01:{inode} 0 EOF\n\
         2: -> POSIX  ADVISORY  WRITE 900 fe:01:{inode} 0 EOF\n"
    );
    made.put("proc/locks", &lines);
    let at_work = packages::look(&root()).unwrap().to_string();
    assert_eq!(at_work, "a package manager is at work (/var/lib/dpkg/lock, process 4711)");
    made.put("proc/locks", "").put("var/lib/pacman/db.lck", "");
    assert_eq!(packages::look(&root()).unwrap().file, "var/lib/pacman/db.lck");
}
