//! Machines in their breadth: tables, families of systems, much on many disks, and what changed.

use signpost_demo::{BenchSpec, Content, DiskSpec, PartitionSpec, StoreKind, gauge, tide};
use signpost_disk::{Guid, guid, partition_type};

use crate::harness::{
    TestMachine, file, lark_disk, lark_files, meridian_disk, meridian_files, program, small,
};

fn fat(number: u16, label: &'static str, files: &[(&str, &str)]) -> PartitionSpec {
    let mut bytes = [0xfa; 16];
    bytes[14..].copy_from_slice(&number.to_be_bytes());
    let files = files.iter().map(|(path, text)| file(path, text.as_bytes().to_vec())).collect();
    PartitionSpec {
        guid: Guid::from_bytes(bytes),
        type_guid: partition_type::LINUX_DATA,
        name: "",
        mebibytes: 4,
        content: Content::Fat { label, serial: 0x00fa_0000 + u32::from(number), files },
    }
}

fn with_partitions(partitions: Vec<PartitionSpec>) -> BenchSpec {
    let mut disk = lark_disk(lark_files());
    disk.partitions.truncate(1);
    disk.partitions.extend(partitions);
    BenchSpec { disks: vec![disk, meridian_disk(meridian_files())], ..small(StoreKind::Folder) }
}

fn findings(machine: &TestMachine, code: &str) -> Vec<String> {
    let survey = machine.json(&["survey"]);
    let all = survey["findings"].as_array().unwrap();
    let of_code = all.iter().filter(|finding| finding["code"] == code);
    of_code.map(|finding| finding["message"].as_str().unwrap().to_string()).collect()
}

fn gauge_bench() -> TestMachine {
    let machine = TestMachine::small();
    std::fs::remove_dir_all(machine.path("variables")).unwrap();
    gauge::write(machine.folder()).unwrap();
    machine
}

#[test]
fn a_machine_of_before_uefi_is_surveyed_in_full() {
    let machine = gauge_bench();
    insta::assert_snapshot!("gauge_survey", machine.ok(&["survey"]));
    insta::assert_snapshot!("gauge_disk", machine.ok(&["survey", "d1"]));
    let survey = machine.json(&["survey"]);
    let larkspur = &survey["systems"][0];
    assert_eq!(
        (larkspur["id"].as_str(), larkspur["boot"].as_u64()),
        (Some("larkspur"), Some(5)),
        "its /boot by fstab"
    );
    assert_eq!(larkspur["kernels"][0]["initrds"][0], "/initrd-4.19.8-larkspur");
    let numbers: Vec<u64> = survey["disks"][0]["partitions"]
        .as_array()
        .unwrap()
        .iter()
        .map(|p| p["number"].as_u64().unwrap())
        .collect();
    assert_eq!(numbers, [1, 2, 3, 5, 6, 7, 8, 9], "as Linux counts them");
    let error = machine.fails(4, &["firmware", "list"]);
    assert!(error.contains("Gauge logger: BIOS firmware has no boot entries"), "{error}");
    assert!(machine.ok(&["hold"]).contains("no menu is active"));
}

#[test]
fn loose_images_make_a_machine() {
    let machine = gauge_bench();
    let image = machine.path("gauge.img");
    let run = |args: &[&str]| {
        let output = program().arg("--disk").arg(&image).args(args).output().unwrap();
        (
            output.status.code(),
            String::from_utf8_lossy(&output.stdout).into_owned() + &String::from_utf8_lossy(&output.stderr),
        )
    };
    let (code, text) = run(&["survey"]);
    assert_eq!(code, Some(0), "{text}");
    assert!(text.starts_with("Loose disks  disk images, without firmware\n"), "{text}");
    // Without the observatory's own rows each goes by what it tells of itself.
    assert!(
        text.contains("Larkspur Linux 10") && text.contains("GAUGEDOS 7  ") && text.contains("FreeBSD"),
        "{text}"
    );
    let rows = machine.path("catalogue");
    let (_, text) = run(&["survey", "--catalogue", rows.to_str().unwrap()]);
    assert!(text.contains("GaugeDOS 7") && text.contains("Skerry BSD 9   "), "{text}");
    assert!(!machine.path("last-survey.json").exists() && !std::path::Path::new("last-survey.json").exists());
    let (code, text) = run(&["rehearse"]);
    assert!(code == Some(4) && text.contains("loose disk images have no firmware"), "{text}");
    let (code, text) = run(&["--disk", machine.folder().to_str().unwrap(), "survey"]);
    assert!(code == Some(0) && text.contains("it is a folder, and an image or a disk is needed"), "{text}");
    let (code, text) = run(&["--disk", "/none.img", "survey"]);
    assert!(
        code == Some(0) && text.contains("disk-unreadable") && text.contains("Larkspur Linux 10"),
        "{text}"
    );
}

#[test]
fn rows_that_are_wrong_are_named_with_their_file_and_line() {
    let machine = TestMachine::small();
    std::fs::create_dir(machine.path("rows")).unwrap();
    machine.write("rows/a.toml", "format = 1\n[[system]]\nid = \"x\"\ntitel = \"y\"\n");
    let rows = machine.path("rows");
    let error = machine.fails(4, &["survey", "--catalogue", rows.to_str().unwrap()]);
    assert!(error.contains("rows/a.toml") && error.contains("line 4") && error.contains("titel"), "{error}");
    let error = machine.fails(4, &["survey", "--catalogue", "/none"]);
    assert!(error.contains("/none: No such file"), "{error}");
}

#[test]
fn the_whole_observatory_pc_is_told() {
    let machine = TestMachine::new(&tide::bench(StoreKind::Folder));
    let survey = machine.json(&["survey"]);
    let system = |id: &str| {
        let systems = survey["systems"].as_array().unwrap();
        systems.iter().find(|system| system["id"] == id).unwrap().clone()
    };
    let tidewater = system("tidewater");
    assert_eq!(tidewater["arguments"]["text"], "root=/dev/mapper/kestrel-tidewater ro");
    let root = &survey["volumes"][tidewater["root"].as_u64().unwrap() as usize - 1];
    assert_eq!((&root["kind"], &root["name"]), (&"XFS".into(), &"kestrel/tidewater".into()));
    assert_eq!(root["members"][0], 7);
    let lantern = system("lantern");
    assert_eq!(lantern["image"]["path"], "/systems/lantern.img");
    assert_eq!(lantern["title_from"], "os-release inside of d3p2:/systems/lantern.img");
    let meridian = system("meridian");
    assert_eq!((meridian["root"].as_u64(), meridian["family"].as_str()), (Some(6), Some("desktop")));
    // The logical volume is named by its own name, and its kernel is started from it.
    machine.ok(&["draft", "--host", "signpost"]);
    let drafted = machine.read("menu.toml");
    assert!(
        drafted.contains("args    = \"root=/dev/mapper/kestrel-tidewater ro\"")
            && drafted.contains("uuid:e2b7c9a4"),
        "{drafted}"
    );
    assert!(machine.json(&["menu"]).to_string().contains("vmlinuz-6.6.21-rt26-tidewater"));
    insta::assert_snapshot!("tide_volume", machine.ok(&["survey", "kestrel/tidewater"]));
}

#[test]
fn what_is_asked_for_and_not_there_is_named() {
    let machine = TestMachine::small();
    for what in ["d9p1", "sda", "d1p9"] {
        let error = machine.fails(2, &["survey", what]);
        assert!(error.contains(&format!("{what}; there are d1p1, d1p2, d2p1")), "{error}");
    }
    assert_eq!(machine.json(&["survey", "d2"])["serial"], "CRM-1");
    assert!(machine.ok(&["survey", "CRM-1"]).contains("meridian.img"));
}

#[test]
fn changes_since_the_last_survey_are_told() {
    let spec = small(StoreKind::Folder);
    let machine = TestMachine::new(&spec);
    assert!(!machine.ok(&["survey"]).contains("last survey"));
    assert!(machine.ok(&["survey"]).contains("Nothing has changed since the last survey."));
    let mut changed = spec.clone();
    changed.disks[0] = lark_disk(vec![file("/EFI/larkspur/new.efi", b"MZ".to_vec())]);
    changed.disks.truncate(1);
    changed.write(machine.folder()).unwrap();
    let text = machine.ok(&["survey"]);
    for line in [
        "Changed since the last survey\n",
        "new      boot file /EFI/larkspur/new.efi on 0A0A-0001",
        "changed  firmware entry 0001: \"Meridian\"; it was \"Meridian\", to /EFI/meridian/start.efi on",
        "gone     disk CRM-1: 6291456 bytes, gpt",
        "gone     system Meridian Desktop 4",
    ] {
        assert!(text.contains(line), "{line}\n{text}");
    }
    // A record that is none is skipped.
    machine.write("last-survey.json", "{}");
    assert!(!machine.ok(&["survey"]).contains("last survey"));
}

#[test]
fn entry_files_fstab_and_rescue_kernels_are_read() {
    let release = "ID=larkspur\nPRETTY_NAME=\"Larkspur Linux 14\"\n";
    let mut root = fat(
        2,
        "LARKROOT",
        &[
            ("/etc/os-release", release),
            ("/etc/machine-id", "0123456789abcdef0123456789abcdef\n"),
            (
                "/etc/fstab",
                "UUID=00FA-0002 / vfat defaults 0 1\nUUID=DEAD-BEEF /boot/efi vfat defaults 0 2\nUUID=00FA-0003 /boot vfat defaults 0 2\nLABEL=LOST /usr ext4 nofail 0 0\n",
            ),
        ],
    );
    let mut boot = fat(
        3,
        "LARKBOOT",
        &[
            ("/initrd-6.9.4", "initrd"),
            (
                "/loader/entries/larkspur.conf",
                "title Larkspur Linux 14\nmachine-id 0123456789abcdef0123456789abcdef\nlinux /vmlinuz-6.9.4\ninitrd /initrd-6.9.4\noptions root=UUID=00FA-0002 tide=high\n",
            ),
            ("/loader/entries/old.conf", "title Larkspur Linux 12\nlinux /vmlinuz-5.0\noptions quiet\n"),
        ],
    );
    let put = |partition: &mut PartitionSpec, path: &str, version: &str| {
        let Content::Fat { files, .. } = &mut partition.content else { unreachable!() };
        files.push(file(path, signpost_demo::program::Kernel::new(version).build("Larkspur")));
    };
    put(&mut boot, "/vmlinuz-6.9.4", "6.9.4");
    put(&mut boot, "/vmlinuz-0-rescue-0123", "6.9.9");
    put(&mut root, "/boot/vmlinuz-6.1.0.old", "6.1.0");
    let machine = TestMachine::new(&with_partitions(vec![root, boot]));
    let survey = machine.json(&["survey"]);
    let larkspur =
        survey["systems"].as_array().unwrap().iter().find(|s| s["title"] == "Larkspur Linux 14").unwrap();
    let paths: Vec<&str> =
        larkspur["kernels"].as_array().unwrap().iter().map(|k| k["path"].as_str().unwrap()).collect();
    assert_eq!(
        paths,
        ["/vmlinuz-6.9.4", "/vmlinuz-0-rescue-0123"],
        "one for rescue comes last, and one that was set aside is none"
    );
    assert_eq!(larkspur["arguments"]["text"], "root=UUID=00FA-0002 tide=high");
    assert_eq!(larkspur["arguments"]["source"], "d1p3:/loader/entries/larkspur.conf");
    assert_eq!(findings(&machine, "fstab-wrong").len(), 1);
    assert!(
        findings(&machine, "fstab-wrong")[0]
            .contains("/etc/fstab line 2 mounts /boot/efi from UUID=DEAD-BEEF: no volume is")
    );
    assert_eq!(
        findings(&machine, "entry-file-broken"),
        ["entry file d1p3:/loader/entries/old.conf names /vmlinuz-5.0, which is not there"]
    );
}

#[test]
fn marks_of_sleep_lack_of_labels_and_copies_are_found() {
    let copied = fat(
        2,
        "TIDE",
        &[("/etc/os-release", "ID=a\n"), ("/etc/fstab", "UUID=00FA-0003 / vfat defaults 0 1\n")],
    );
    let other = fat(3, "TIDE", &[]);
    let mut asleep = fat(4, "", &[]);
    asleep.content = Content::Bytes([vec![0; 4086], b"S1SUSPEND\0".to_vec()].concat());
    let mut spec = with_partitions(vec![copied, other, asleep]);
    let nameless = |number: u16| PartitionSpec { mebibytes: 64, ..fat(number, "", &[]) };
    spec.disks[0].partitions.extend([nameless(5), nameless(6)]);
    let machine = TestMachine::new(&spec);
    assert!(
        findings(&machine, "fstab-wrong")[0].contains("mounts d1p3 as its root, and the system is on d1p2")
    );
    assert_eq!(findings(&machine, "hibernated"), ["a system sleeps on d1p4"]);
    assert!(findings(&machine, "no-label")[0].starts_with("d1p5 and d1p6 are all of"));
}

#[test]
fn much_on_many_disks_is_folded_and_unfolded() {
    let disk = |index: u16| {
        let mut partitions = vec![fat(index * 20, "DATA", &[])];
        for number in 1..9 {
            let mut partition = fat(index * 20 + number, "X", &[]);
            partition.mebibytes = 1;
            partition.content = Content::Bytes(if number % 2 == 0 {
                [vec![0; 0xff6], b"SWAPSPACE2".to_vec()].concat()
            } else {
                Vec::new()
            });
            if number == 8 {
                partition.type_guid = guid!("de94bba4-06d1-4d40-a16a-bfd50179d6ac");
            }
            partitions.push(partition);
        }
        DiskSpec {
            image: format!("many{index}.img").leak(),
            serial: format!("MANY-{index}").leak(),
            guid: Guid::from_bytes([index as u8; 16]),
            partitions,
            ..lark_disk(vec![])
        }
    };
    let mut spec = small(StoreKind::Folder);
    spec.disks.extend((1..=6).map(disk));
    let machine = TestMachine::new(&spec);
    let folded = machine.ok(&["survey"]);
    assert!(folded.contains("9 more: 1 FAT12, 1 recovery, 3 swap, 4 unknown; --all shows them"), "{folded}");
    assert!(folded.lines().count() < 60, "{folded}");
    let all = machine.ok(&["survey", "--all"]);
    assert!(all.lines().count() > 70 && !all.contains("more:"), "{all}");
    assert!(folded.lines().chain(all.lines()).all(|line| line.chars().count() <= 100));
}

#[test]
fn a_disk_that_has_grown_is_a_hint_and_keeps_nothing_from_being_written() {
    let machine = TestMachine::small();
    let image = std::fs::OpenOptions::new().write(true).open(machine.path("lark.img")).unwrap();
    image.set_len(image.metadata().unwrap().len() + (8 << 20)).unwrap();
    assert!(
        findings(&machine, "backup-misplaced")[0].contains("and not at the disk's end: the disk has grown")
    );
    assert!(!findings(&machine, "table-broken").iter().any(|finding| finding.contains("disk 1")));
    machine.ok(&["draft"]);
    machine.ok(&["apply", "--yes"]);
}

#[test]
fn a_virtual_machines_disk_in_a_container_is_named_for_what_it_is() {
    let work = tempfile::tempdir().unwrap();
    let image = work.path().join("disk.img");
    std::fs::write(&image, [&b"QFI\xfb\0\0\0\x03"[..], &[0; 1 << 20]].concat()).unwrap();
    let run = crate::harness::run_bare(&["--disk", image.to_str().unwrap(), "survey"]);
    let said = run.stdout.split_whitespace().collect::<Vec<_>>().join(" ");
    assert!(said.contains("d1 is a virtual machine's disk in a qcow2 container"), "{said}");
    assert!(said.contains("make a raw image of it, and give that"), "{said}");
}
