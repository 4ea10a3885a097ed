//! What is not seen now is gone only where it was looked for, on disks that were read whole; and nothing loses its last way.

use signpost_demo::program::{Kernel, Program};
use signpost_demo::{BenchSpec, Content, DiskSpec, PartitionSpec, StoreKind, change_fat};
use signpost_disk::{Guid, guid, partition_type};
use signpost_firmware::boot_variables::{boot_option, boot_order};
use signpost_firmware::load_option::LoadOption;
use signpost_menu::disk_number::DiskNumbers;
use signpost_menu::slot::{SLOT_NAMES, Slot, Writer};

use crate::harness::{
    LARK, MERIDIAN, TestMachine, file, lark_disk, menu, meridian_disk, meridian_files, small,
};

/// The first partition of Larkspur's disk, in bytes.
const LARK_ESP: std::ops::Range<usize> = 1 << 20..5 << 20;

fn two_entries() -> TestMachine {
    let mut spec = small(StoreKind::Folder);
    let (lark, meridian) = (lark_disk(vec![]), meridian_disk(meridian_files()));
    spec.variables = vec![
        boot_option(0, &LoadOption::new("Larkspur", lark.path_to(1, "\\EFI\\larkspur\\lkload.efi"), vec![])),
        boot_option(
            1,
            &LoadOption::new("Meridian", meridian.path_to(1, "\\EFI\\meridian\\start.efi"), vec![]),
        ),
        boot_option(2, &LoadOption::new("Spare", meridian.path_to(1, "\\EFI\\BOOT\\BOOTX64.EFI"), vec![])),
        boot_order(&[0, 1, 2]),
    ];
    TestMachine::new(&spec)
}

#[test]
fn nothing_of_a_disk_that_cannot_be_read_is_tidied_away() {
    let machine = two_entries();
    std::fs::rename(machine.path("meridian.img"), machine.path("elsewhere.img")).unwrap();
    let tidy = machine.ok(&["firmware", "tidy", "--dry-run"]);
    assert!(!tidy.contains("Can be removed") && tidy.contains("There is nothing to tidy."), "{tidy}");
    let survey = machine.ok(&["survey"]);
    assert!(!survey.contains("tidy` removes it") && survey.contains("it stays"), "{survey}");
}

#[test]
fn nothing_of_a_disk_that_was_there_is_called_gone() {
    let machine = two_entries();
    machine.ok(&["survey"]);
    let text = machine.read("machine.toml");
    let second = text.rfind("[[disk]]").unwrap();
    machine.write("machine.toml", &text[..second]);
    machine.write("menu.toml", &menu("default = \"lark\"", &[LARK, MERIDIAN]));
    assert!(!machine.ok(&["firmware", "tidy", "--dry-run"]).contains("Can be removed"));
    assert_eq!(machine.ok(&["entry", "noise"]), "No entry is only noise.\n");
    assert!(machine.ok(&["draft"]).contains("Out of reach now (left as they are)\n  meridian"));
    assert!(!machine.read("menu.toml").contains("# gone"), "{}", machine.read("menu.toml"));
    // Of a machine that never had that disk, its entries lead nowhere.
    std::fs::remove_file(machine.path("known-disks.json")).unwrap();
    let tidy = machine.ok(&["firmware", "tidy", "--dry-run"]);
    assert!(tidy.contains("0001 \"Meridian\"") && tidy.contains("Can be removed"), "{tidy}");
}

#[test]
fn an_entry_whose_file_is_gone_from_a_volume_that_was_read_can_be_removed_unless_its_system_has_no_other_way()
{
    let machine = two_entries();
    let lark = machine.path("lark.img");
    change_fat(&lark, LARK_ESP, &[file("/EFI/other/x.efi", Program::new("X").build())], &[]).unwrap();
    machine.ok(&["firmware", "add", "Other", "d1p1:/EFI/other/x.efi"]);
    change_fat(&lark, LARK_ESP, &[], &["/EFI/other/x.efi"]).unwrap();
    let tidy = machine.ok(&["firmware", "tidy", "--dry-run"]);
    assert!(tidy.contains("Can be removed\n  0003 \"Other\""), "{tidy}");
}

#[test]
fn noise_acts_on_what_is_gone_alone_and_never_on_a_last_way() {
    // The first record of the store is spoiled: the firmware's entries cannot be read, which is not their end.
    let mut spec = small(StoreKind::Fd);
    let meridian = meridian_disk(meridian_files());
    let path = meridian.path_to(1, "\\EFI\\meridian\\start.efi");
    spec.variables = vec![boot_option(1, &LoadOption::new("Meridian", path, vec![])), boot_order(&[1])];
    let machine = TestMachine::new(&spec);
    let by_firmware = "id = \"meridian\"\nstarts = \"firmware-entry\"\nlabel = \"Meridian\"";
    machine.write("menu.toml", &menu("default = \"lark\"", &[LARK, by_firmware]));
    let mut store = std::fs::read(machine.path("variables.fd")).unwrap();
    let first = 0x48 + 0x1c;
    store[first..first + 64].fill(0x5a);
    std::fs::write(machine.path("variables.fd"), store).unwrap();
    assert_eq!(machine.ok(&["entry", "noise"]), "No entry is only noise.\n");

    // A system that is there, and whose loader is missing: its only entry is not noise.
    let mut spec = two_installs();
    spec.disks[1].partitions[0].content = esp_files(2, vec![]);
    let machine = TestMachine::new(&spec);
    let lark = |number: usize, id: &str| {
        format!(
            "id = \"{id}\"\nstarts = \"efi\"\nprogram = \"uuid:0E0E-000{number}/EFI/larkspur/lkload.efi\""
        )
    };
    machine.write("menu.toml", &menu("default = \"one\"", &[&lark(1, "one"), &lark(2, "two")]));
    assert_eq!(machine.ok(&["entry", "noise"]), "No entry is only noise.\n");
    assert_eq!(machine.run(&["entry", "noise", "--remove", "--yes"]).code, 0);
    assert!(machine.read("menu.toml").contains("\"two\""));
}

fn esp_files(number: u32, files: Vec<(String, Vec<u8>)>) -> Content {
    Content::Fat {
        label: if number == 1 { "ESP-ONE" } else { "ESP-TWO" },
        serial: 0x0e0e_0000 + number,
        files,
    }
}

fn install(number: u32, disk: Guid, guids: [Guid; 2]) -> DiskSpec {
    let loader = vec![file("/EFI/larkspur/lkload.efi", Program::new("Larkspur").build())];
    let version = "6.9.4";
    let files = vec![
        file("/etc/os-release", b"ID=larkspur\nPRETTY_NAME=\"Larkspur Linux 14\"\n".to_vec()),
        file(&format!("/boot/vmlinuz-{version}"), Kernel::new(version).build("Larkspur")),
        file(&format!("/boot/initrd-{version}"), b"initrd".to_vec()),
    ];
    let label = if number == 1 { "ROOT-ONE" } else { "ROOT-TWO" };
    DiskSpec {
        image: if number == 1 { "one.img" } else { "two.img" },
        bus: "nvme",
        model: "Petrel",
        serial: if number == 1 { "PTR-1" } else { "PTR-2" },
        guid: disk,
        partitions: vec![
            PartitionSpec {
                guid: guids[0],
                type_guid: partition_type::EFI_SYSTEM,
                name: "ESP",
                mebibytes: 4,
                content: esp_files(number, loader),
            },
            PartitionSpec {
                guid: guids[1],
                type_guid: partition_type::LINUX_DATA,
                name: "root",
                mebibytes: 4,
                content: Content::Fat { label, serial: 0x0f0f_0000 + number, files },
            },
        ],
    }
}

/// Two installs of one distribution on two disks.
fn two_installs() -> BenchSpec {
    let one = install(
        1,
        guid!("11111111-0000-4000-8000-000000000000"),
        [guid!("11111111-0001-4000-8000-000000000001"), guid!("11111111-0002-4000-8000-000000000002")],
    );
    let two = install(
        2,
        guid!("22222222-0000-4000-8000-000000000000"),
        [guid!("22222222-0001-4000-8000-000000000001"), guid!("22222222-0002-4000-8000-000000000002")],
    );
    let path = |disk: &DiskSpec| disk.path_to(1, "\\EFI\\larkspur\\lkload.efi");
    let variables = vec![
        boot_option(0, &LoadOption::new("Larkspur", path(&one), vec![])),
        boot_option(1, &LoadOption::new("Larkspur", path(&two), vec![])),
        boot_order(&[0, 1]),
    ];
    BenchSpec { disks: vec![one, two], variables, ..small(StoreKind::Folder) }
}

#[test]
fn two_installs_of_one_distribution_are_two_systems_with_a_way_each() {
    let machine = TestMachine::new(&two_installs());
    let survey = machine.json(&["survey"]);
    let systems = survey["systems"].as_array().unwrap();
    let of = |index: usize| {
        (systems[index]["title"].as_str().unwrap(), systems[index]["entries"][0].as_str().unwrap())
    };
    assert_eq!(of(0), ("Larkspur Linux 14, disk 1", "0000"));
    assert_eq!(of(1), ("Larkspur Linux 14, disk 2", "0001"));
    machine.ok(&["draft", "--host", "signpost"]);
    let text = machine.read("menu.toml");
    assert!(
        text.contains("title   = \"Larkspur Linux 14, disk 1\"")
            && text.contains("title   = \"Larkspur Linux 14, disk 2\""),
        "{text}"
    );
    // The loaders are alike to the byte, and none is a copy of the other's.
    let lark = |number: usize| {
        format!(
            "id = \"lark-{number}\"\nstarts = \"efi\"\nprogram = \"uuid:0E0E-000{number}/EFI/larkspur/lkload.efi\""
        )
    };
    machine.write("menu.toml", &menu("", &[&lark(1), &lark(2)]));
    assert_eq!(machine.ok(&["entry", "noise"]), "No entry is only noise.\n");
    let error = machine.fails(3, &["entry", "remove", "lark-2"]);
    assert!(error.contains("last-way") && error.contains("Larkspur Linux 14, disk 2"), "{error}");
    let error = machine.fails(3, &["firmware", "remove", "0001", "--yes"]);
    assert!(error.contains("last-way") && error.contains("Larkspur Linux 14, disk 2"), "{error}");
    assert!(!machine.ok(&["firmware", "list"]).contains("two names of one loader"));
}

#[test]
fn only_what_is_active_counts_as_a_way() {
    let machine = TestMachine::small();
    machine.write("menu.toml", &menu("", &[MERIDIAN, LARK]));
    let error = machine.fails(3, &["firmware", "remove", "1", "--yes"]);
    assert!(error.contains("last-way") && error.contains("Meridian Desktop 4"), "{error}");
}

#[test]
fn where_no_entry_starts_the_fallback_path_is_a_way_and_a_menu_does_not_take_it_in_silence() {
    let mut spec = small(StoreKind::Folder);
    spec.variables.clear();
    let machine = TestMachine::new(&spec);
    let ways = |id: &str| {
        let systems = machine.json(&["survey"])["systems"].as_array().unwrap().clone();
        systems.iter().find(|system| system["id"] == id).unwrap()["ways"].clone()
    };
    assert_eq!(ways("meridian"), serde_json::json!([{ "fallback-path": 2 }]));
    assert_eq!(ways("larkspur"), serde_json::json!([]));
    machine.write("menu.toml", &menu("", &[LARK]));
    let refused = machine.fails(3, &["apply", "--yes"]);
    assert!(refused.contains("last-way") && refused.contains("Meridian Desktop 4"), "{refused}");
    machine.write("menu.toml", &menu("", &[LARK, MERIDIAN]));
    machine.ok(&["apply", "--yes"]);
    assert_eq!(ways("meridian").as_array().unwrap().len(), 1, "what starts by an entry is reached by that");
}

#[test]
fn what_was_saved_at_boot_is_news_once() {
    let machine = TestMachine::new(&small(StoreKind::Fd));
    let program = machine.path("program.efi");
    std::fs::write(&program, Program::new("Signpost").boot_program().build()).unwrap();
    let apply = ["apply", "--yes", "--boot-program", program.to_str().unwrap()];
    machine
        .write("menu.toml", &menu("timeout = 3", &[LARK, MERIDIAN]).replace("\"firmware\"", "\"signpost\""));
    machine.ok(&apply);
    let applied = machine.read("menu.toml");
    let saved = format!(
        "{applied}\n[[entry]]\nid = \"by-hand\"\nstarts = \"efi\"\nprogram = \"uuid:0a0a-0001/EFI/larkspur/lkload.efi\"\n"
    );
    let put = |name: &str, serial: u64, text: &str| {
        let slot = Slot {
            serial,
            writer: Writer::Boot,
            machine: String::new(),
            disks: DiskNumbers::default(),
            homes: Vec::new(),
            picture: None,
            text: text.into(),
        };
        let bytes = slot.encode().unwrap();
        let path = format!("/EFI/signpost/{name}");
        change_fat(&machine.path("lark.img"), LARK_ESP, &[], &[&path]).unwrap();
        change_fat(&machine.path("lark.img"), LARK_ESP, &[(path, bytes)], &[]).unwrap();
    };
    put(SLOT_NAMES[1], 2, &saved);
    assert!(machine.fails(3, &apply).contains("by-hand was saved at boot"));
    let shown = machine.ok(&["draft", "--yes"]);
    assert!(shown.contains("by-hand is new\n    [[entry]]\n    id = \"by-hand\""), "{shown}");
    assert!(shown.contains("program = \"uuid:0a0a-0001/EFI/larkspur/lkload.efi\""), "shown in full: {shown}");
    assert!(!machine.read("menu.toml").contains("by-hand"), "--yes alone does not take it in");
    assert!(machine.ok(&["draft"]).contains("by-hand is new"), "and it stays news");
    machine.ok(&["draft", "--take-saved"]);
    machine.ok(&["entry", "remove", "by-hand"]);
    assert!(!machine.ok(&["draft"]).contains("by-hand was"), "it is news no more");
    machine.ok(&apply);
    assert!(!machine.read("menu.toml").contains("by-hand"));

    // A field that was changed at boot under the same id is news too, and taken in.
    let changed = machine.read("menu.toml").replace("title = \"Meridian\"", "title = \"Meridian, by night\"");
    put(SLOT_NAMES[1], 9, &changed);
    assert!(machine.fails(3, &apply).contains("meridian was changed at boot"));
    assert!(machine.ok(&["draft", "--take-saved"]).contains("is as it was changed at boot"));
    assert!(machine.read("menu.toml").contains("Meridian, by night"));
}
