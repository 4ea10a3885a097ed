//! Where a write could hit what is not the volume's own, nothing is written, whatever is asked.

use std::os::unix::fs::FileExt;

use signpost_demo::program::Program;
use signpost_demo::{Content, StoreKind, change_fat};
use signpost_disk::gpt::{Layout, NewPartition, encode};
use signpost_disk::partition_type;

use crate::harness::{LARK, MERIDIAN, TestMachine, lark_disk, menu, sealed, small};

const ESP: std::ops::Range<usize> = 1 << 20..5 << 20;

fn bench() -> TestMachine {
    let machine = TestMachine::new(&small(StoreKind::Fd));
    prepare(&machine);
    machine
}

fn prepare(machine: &TestMachine) {
    std::fs::write(machine.path("program.efi"), Program::new("Signpost").boot_program().build()).unwrap();
    let text = menu("timeout = 3", &[LARK, MERIDIAN]).replace("\"firmware\"", "\"signpost\"");
    machine.write("menu.toml", &text);
}

/// Applies, with this beside it; every word of what refuses.
fn refused(machine: &TestMachine, code: &str) -> String {
    let program = machine.path("program.efi").display().to_string();
    let before = machine.everything();
    let said = machine.fails(3, &["apply", "--yes", "--boot-program", &program, "--home", "uuid:0A0A-0001"]);
    assert!(said.contains(&format!("refused ({code})")), "{code}: {said}");
    let wrong = machine.fails(2, &["apply", "--yes", "--boot-program", &program, "--despite", code]);
    assert!(wrong.contains(code), "nobody overrides it: {wrong}");
    assert!(machine.everything() == before, "nothing was written");
    said
}

/// Writes Larkspur's table anew, its partitions at these sectors.
fn put_table(machine: &TestMachine, places: &[(u64, u64)]) {
    let disk = lark_disk(vec![]);
    let partitions: Vec<NewPartition> = places
        .iter()
        .zip(&disk.partitions)
        .map(|((first_lba, last_lba), spec)| NewPartition {
            type_guid: spec.type_guid,
            guid: spec.guid,
            first_lba: *first_lba,
            last_lba: *last_lba,
            name: spec.name,
        })
        .collect();
    let image = std::fs::OpenOptions::new().write(true).open(machine.path("lark.img")).unwrap();
    let sectors = image.metadata().unwrap().len() / 512;
    for (offset, bytes) in encode(&Layout { disk_guid: disk.guid, sectors, partitions }) {
        image.write_all_at(&bytes, offset).unwrap();
    }
}

#[test]
fn a_home_that_overlaps_another_partition_is_never_written_to() {
    let machine = bench();
    put_table(&machine, &[(2048, 10239), (6000, 18431)]);
    let said = refused(&machine, "partition-unsafe");
    assert!(said.contains("it overlaps partition 2"), "{said}");
}

#[test]
fn a_home_on_a_disk_whose_table_was_read_from_its_backup_is_never_written_to() {
    let machine = bench();
    let image = std::fs::OpenOptions::new().write(true).open(machine.path("lark.img")).unwrap();
    image.write_all_at(&[0; 512], 512).unwrap();
    assert!(refused(&machine, "partition-unsafe").contains("its backup at the disk's end was read instead"));
}

#[test]
fn a_fat_that_does_not_hold_together_is_never_written_to() {
    let machine = bench();
    let image = std::fs::OpenOptions::new().write(true).open(machine.path("lark.img")).unwrap();
    image.write_all_at(&[0, 0], ESP.start as u64 + 510).unwrap();
    assert!(refused(&machine, "volume-broken").contains("55AA"));
    // Two files that share a cluster: a write to one of them would be one to the other.
    let machine = bench();
    let image = std::fs::OpenOptions::new().read(true).write(true).open(machine.path("lark.img")).unwrap();
    let mut esp = vec![0; ESP.len()];
    image.read_exact_at(&mut esp, ESP.start as u64).unwrap();
    let at = esp.windows(11).position(|name| name == b"LKLOAD  EFI").unwrap();
    esp[at + 26] += 3;
    image.write_all_at(&esp, ESP.start as u64).unwrap();
    assert!(refused(&machine, "volume-broken").contains("another file's"));
}

#[test]
fn a_home_that_a_sleeping_system_mounts_is_never_written_to() {
    let mut spec = small(StoreKind::Fd);
    spec.disks[0].partitions[1].content = Content::Fat {
        label: "ROOT",
        serial: 0x0f0f_0001,
        files: vec![
            ("/etc/os-release".into(), b"ID=larkspur\nPRETTY_NAME=\"Larkspur Linux 14\"\n".to_vec()),
            ("/etc/fstab".into(), b"UUID=0A0A-0001 /boot/efi vfat\nPARTLABEL=swap none swap\n".to_vec()),
        ],
    };
    let mut swap = vec![0; 4096];
    swap[4086..].copy_from_slice(b"S1SUSPEND\0");
    swap[1024] = 1;
    let mut partition = spec.disks[0].partitions[1].clone();
    partition.guid = signpost_disk::guid!("aaaaaaaa-0003-4000-8000-000000000003");
    (partition.name, partition.content) = ("swap", Content::Bytes(swap));
    partition.type_guid = partition_type::LINUX_DATA;
    spec.disks[0].partitions.push(partition);
    let machine = TestMachine::new(&spec);
    prepare(&machine);
    assert!(refused(&machine, "hibernated").contains("Larkspur Linux 14 sleeps and has it in use"));
}

#[test]
fn undo_and_hold_write_to_no_broken_home_either() {
    let machine = bench();
    let program = machine.path("program.efi").display().to_string();
    machine.ok(&["apply", "--yes", "--boot-program", &program]);
    change_fat(&machine.path("lark.img"), ESP, &[], &["/EFI/signpost/MENU-A.TML"]).unwrap();
    put_table(&machine, &[(2048, 10239), (6000, 18431)]);
    assert!(machine.fails(3, &["undo", "--yes"]).contains("partition-unsafe"));
    assert!(machine.fails(3, &["hold"]).contains("partition-unsafe"));
}

#[test]
fn a_record_that_was_altered_or_made_by_somebody_is_not_undone_unasked() {
    let machine = TestMachine::small();
    machine.write("menu.toml", &menu("", &[LARK, MERIDIAN]));
    machine.ok(&["apply", "--yes"]);
    let record = machine.path("history/0001.json");
    let text = std::fs::read_to_string(&record).unwrap();
    std::fs::write(&record, text.replacen("Larkspur", "Larkspun", 1)).unwrap();
    let said = machine.fails(4, &["undo", "--yes"]);
    assert!(said.contains("its checksum is not that of what it says"), "{said}");
    // One whose checksum is right, and that says it had written a key of Secure Boot.
    let mut value: serde_json::Value = serde_json::from_str(&text).unwrap();
    let mut write = value["writes"].as_array().unwrap().last().unwrap().clone();
    (write["name"], write["what"]) = ("PK".into(), "write the key".into());
    value["writes"].as_array_mut().unwrap().push(write);
    std::fs::write(&record, sealed(value)).unwrap();
    let before = machine.variables();
    let said = machine.fails(3, &["undo", "--yes"]);
    assert!(said.contains("record-foreign") && said.contains("write the key"), "{said}");
    assert_eq!(machine.variables(), before);
}

/// A library that packs or spells otherwise must not make all that was done before unreadable.
#[test]
fn a_record_that_says_the_same_in_other_words_is_what_its_checksum_says_it_is() {
    let machine = TestMachine::small();
    machine.write("menu.toml", &menu("", &[LARK, MERIDIAN]));
    let before = machine.variables();
    machine.ok(&["apply", "--yes"]);
    let mut record: serde_json::Value = serde_json::from_str(&machine.read("history/0001.json")).unwrap();
    let writes = record["writes"].as_array_mut().unwrap();
    let bytes = writes.iter_mut().map(|write| &mut write["after"]).find(|bytes| bytes.is_string()).unwrap();
    let spelled = bytes.as_str().unwrap().to_uppercase();
    assert_ne!(*bytes, spelled);
    *bytes = spelled.into();
    machine.write("history/0001.json", &sealed(record));
    machine.ok(&["undo", "--yes"]);
    assert_eq!(machine.variables(), before);
}

#[test]
fn a_root_folder_that_is_full_is_no_room() {
    let mut spec = small(StoreKind::Fd);
    let files = (0..511).map(|number| (format!("/F{number}"), Vec::new())).collect();
    let mut full = crate::harness::meridian_disk(files);
    (full.image, full.serial) = ("full.img", "FUL-1");
    full.guid = signpost_disk::guid!("eeeeeeee-0000-4000-8000-000000000000");
    full.partitions[0].guid = signpost_disk::guid!("eeeeeeee-0001-4000-8000-000000000001");
    if let Content::Fat { label, serial, .. } = &mut full.partitions[0].content {
        (*label, *serial) = ("FULL", 0x0e0e_0001);
    }
    spec.disks.push(full);
    let machine = TestMachine::new(&spec);
    prepare(&machine);
    let program = machine.path("program.efi").display().to_string();
    let before = machine.everything();
    let words = ["apply", "--yes", "--boot-program", &program, "--home", "uuid:0E0E-0001"];
    let said = machine.fails(3, &words);
    assert!(said.contains("no-room") && said.contains("root folder of the home volume is full"), "{said}");
    assert!(machine.everything() == before);
}

/// Metadata of an array that firmware makes, in a disk's last sector but one (`imsm_super`).
fn add_array(machine: &TestMachine, image: &str, sectors: u32, level: u32) {
    let mut bytes = vec![0u8; 512];
    bytes[..24].copy_from_slice(b"Intel Raid ISM Cfg Sig. ");
    let array = 0xd8 + 2 * 48;
    bytes[array..array + 4].copy_from_slice(b"Ebbe");
    for (at, value) in [
        (0x24, 512),
        (0x28, 0x71de),
        (0x38, 0x0102),
        (array + 116, sectors),
        (array + 124, level << 24),
        (array + 128, 2),
    ] {
        bytes[at..at + 4].copy_from_slice(&u32::to_le_bytes(value));
    }
    let words = bytes.chunks(4).map(|word| u32::from_le_bytes(word.try_into().unwrap()));
    let sum = words.fold(0, u32::wrapping_add);
    bytes[0x20..0x24].copy_from_slice(&sum.to_le_bytes());
    let image = std::fs::OpenOptions::new().write(true).open(machine.path(image)).unwrap();
    image.set_len((u64::from(sectors) + 2048) * 512).unwrap();
    image.write_all_at(&bytes, (u64::from(sectors) + 2046) * 512).unwrap();
}

#[test]
fn disks_that_firmware_mirrors_are_one_and_never_written_to_alone() {
    let mut spec = small(StoreKind::Fd);
    let mut second = lark_disk(crate::harness::lark_files());
    (second.image, second.serial) = ("second.img", "PTR-2");
    spec.disks.push(second);
    let machine = TestMachine::new(&spec);
    prepare(&machine);
    let sectors = std::fs::metadata(machine.path("lark.img")).unwrap().len() / 512;
    for image in ["lark.img", "second.img"] {
        add_array(&machine, image, sectors.try_into().unwrap(), 1);
    }
    let survey = machine.json(&["survey"]);
    let codes: Vec<&str> = survey["findings"]
        .as_array()
        .unwrap()
        .iter()
        .map(|finding| finding["code"].as_str().unwrap())
        .collect();
    assert!(!codes.contains(&"clone") && !codes.contains(&"backup-misplaced"), "{codes:?}");
    assert_eq!(survey["volumes"].as_array().unwrap().len(), 3, "two of both disks, and Meridian's");
    let shown = machine.ok(&["survey", "--all"]);
    assert!(shown.contains("in the mirror Ebbe of the firmware, the same as d1"), "{shown}");
    let said = refused(&machine, "partition-unsafe");
    assert!(said.contains("disk 1 is in the mirror Ebbe, whose disks have to be written together"), "{said}");
    // Stripes are not put together here: that is noted, and nothing is called broken.
    for image in ["lark.img", "second.img"] {
        // The table speaks of more than one of them holds.
        add_array(&machine, image, (6 << 20) / 512, 0);
    }
    let findings = machine.json(&["survey"])["findings"].to_string();
    let why = "a RAID 0 is not put together here";
    assert!(findings.contains("volume-unread") && findings.contains(why), "{findings}");
    assert!(!findings.contains("volume-broken"), "{findings}");
}
