//! Disks that are plugged in, copied or taken along decide nothing, whatever the files on them are called.

use signpost_demo::program::{Kernel, Program};
use signpost_demo::{BenchSpec, Content, DiskSpec, PartitionSpec, StoreKind};
use signpost_disk::{Guid, guid, partition_type};
use signpost_firmware::boot_variables::{boot_option, boot_order};
use signpost_firmware::load_option::LoadOption;

use crate::harness::{
    LARK, MERIDIAN, TestMachine, file, flat, lark_disk, lark_files, menu, meridian_disk, meridian_files,
    small,
};

type Files = Vec<(String, Vec<u8>)>;

const STICK_ESP: Guid = guid!("cccccccc-0001-4000-8000-000000000001");
/// The newest kernel that Larkspur's root has modules of.
const VERSION: &str = "6.9.4-2-larkspur";

/// A disk with one FAT, which can be taken along or not.
fn stick(bus: &'static str, files: Files) -> DiskSpec {
    DiskSpec {
        image: "stick.img",
        bus,
        model: "Sandpiper",
        serial: "SND-1",
        guid: guid!("cccccccc-0000-4000-8000-000000000000"),
        partitions: vec![PartitionSpec::esp(STICK_ESP, "STICK", 0x0c0c_0001, 8, files)],
    }
}

/// Larkspur with its root, kernels and an ESP with these files, and another disk that stands before it.
fn larkspur_beside(other: Option<DiskSpec>, esp: Files) -> BenchSpec {
    let mut spec = small(StoreKind::Folder);
    let mut own = lark_disk(esp);
    own.partitions[1].content = Content::Bytes(signpost_demo::tide::larkspur_root());
    own.partitions[1].mebibytes = 96;
    let path = own.path_to(1, "\\EFI\\larkspur\\lkload.efi");
    spec.variables = vec![boot_option(1, &LoadOption::new("Larkspur", path, vec![])), boot_order(&[1])];
    spec.more.push_str(&format!("\n[running]\nroot = \"uuid:{}\"\n", signpost_demo::tide::LARKSPUR_UUID));
    spec.disks = other.into_iter().chain([own]).collect();
    spec
}

fn draft_of(spec: &BenchSpec, host: &str) -> (TestMachine, String, String) {
    let machine = TestMachine::new(spec);
    let said = machine.ok(&["draft", "--host", host]);
    let file = machine.read("menu.toml");
    (machine, said, file)
}

/// Names of the stick's own volume, and of anything that lies on it.
fn names_the_stick(text: &str) -> bool {
    ["0C0C-0001", "STICK", "cccccccc", "aaa.efi"].iter().any(|name| text.contains(name))
}

#[test]
fn a_loader_on_a_stick_is_nobodys_whatever_its_folder_is_called() {
    let evil = Program::new("Larkspur Linux 14").string("ProductName", "Larkspur Linux 14").build();
    let files = vec![file("/EFI/larkspur/aaa.efi", evil.clone()), file("/EFI/BOOT/BOOTX64.EFI", evil)];
    for host in ["firmware", "signpost"] {
        let (machine, _, menu) =
            draft_of(&larkspur_beside(Some(stick("usb", files.clone())), lark_files()), host);
        assert!(!names_the_stick(&menu), "{menu}");
        let survey = machine.ok(&["survey"]);
        assert!(survey.contains("not Larkspur Linux 14's: it lies on a removable disk"), "{survey}");
        let survey = machine.json(&["survey"]);
        let systems = survey["systems"].as_array().unwrap();
        assert_eq!(systems.len(), 1, "{systems:?}");
        assert!(!names_the_stick(&systems[0].to_string()), "{systems:?}");
        if host == "firmware" {
            machine.ok(&["apply", "--yes"]);
            let starts = machine.ok(&["rehearse"]);
            assert!(starts.contains("d2p1:/EFI/larkspur/lkload.efi"), "{starts}");
        }
    }
}

#[test]
fn a_kernel_and_initrd_on_a_stick_are_nobodys_whatever_version_they_have() {
    let files = vec![
        file(&format!("/vmlinuz-{VERSION}"), Kernel::new(VERSION).build("x")),
        file(&format!("/initrd-{VERSION}"), b"another initrd".to_vec()),
    ];
    let (machine, _, menu) =
        draft_of(&larkspur_beside(Some(stick("usb", files.clone())), lark_files()), "signpost");
    assert!(!names_the_stick(&menu), "{menu}");
    let kernels = machine.json(&["survey"])["systems"][0]["kernels"].clone();
    assert!(kernels.as_array().unwrap().iter().all(|kernel| kernel["volume"] != 1), "{kernels}");
    // Nor on another fixed disk, while the system has kernels of its own.
    let (_, _, menu) = draft_of(&larkspur_beside(Some(stick("sata", files)), lark_files()), "signpost");
    assert!(!names_the_stick(&menu), "{menu}");
}

#[test]
fn an_entry_file_on_another_disk_gives_no_arguments() {
    let text = format!(
        "title Larkspur Linux 14\nversion {VERSION}\nlinux /vmlinuz-{VERSION}\noptions init=/evil root=x\n"
    );
    let files = vec![file("/loader/entries/larkspur.conf", text.into_bytes())];
    for bus in ["usb", "sata"] {
        let (machine, _, menu) =
            draft_of(&larkspur_beside(Some(stick(bus, files.clone())), lark_files()), "signpost");
        assert!(!menu.contains("evil"), "{menu}");
        assert_eq!(machine.json(&["survey"])["entry_files"][0]["system"], serde_json::Value::Null);
    }
}

#[test]
fn arguments_do_not_outlive_their_source_unseen() {
    let text = "title Larkspur Linux 14\noptions root=LABEL=larkspur quiet splash\n";
    let mut files = lark_files();
    files.push(file("/loader/entries/larkspur.conf", text.as_bytes().to_vec()));
    let (machine, _, menu) = draft_of(&larkspur_beside(None, files), "signpost");
    assert!(menu.contains("quiet splash"), "{menu}");
    let image = machine.path("lark.img");
    signpost_demo::change_fat(&image, 1 << 20..5 << 20, &[], &["/loader/entries/larkspur.conf"]).unwrap();
    let said = machine.ok(&["draft"]);
    let line = said.lines().collect::<Vec<_>>().join(" ").split_whitespace().collect::<Vec<_>>().join(" ");
    assert!(line.contains("d1p1:/loader/entries/larkspur.conf"), "where they came from: {said}");
    assert!(!machine.read("menu.toml").contains("quiet splash"));
}

#[test]
fn a_copy_of_a_system_on_a_stick_takes_neither_its_id_nor_its_place() {
    let mut copy = lark_disk(vec![file("/EFI/larkspur/lkload.efi", Program::new("Larkspur").build())]);
    copy.partitions[1].content = Content::Bytes(signpost_demo::tide::larkspur_root());
    copy.partitions[1].mebibytes = 96;
    // Its file system has another UUID, as one that was installed by hand.
    if let Content::Bytes(bytes) = &mut copy.partitions[1].content {
        bytes[1024 + 0x68] ^= 0xff;
        // No checksum stands over the superblock of a copy made so.
        bytes[1024 + 0x64 + 1] &= !0x04;
    }
    (copy.image, copy.serial, copy.bus) = ("stick.img", "SND-1", "usb");
    copy.guid = guid!("cccccccc-0000-4000-8000-000000000000");
    copy.partitions[0] =
        PartitionSpec::esp(STICK_ESP, "STICK", 0x0c0c_0001, 4, copy.partitions[0].content.files().to_vec());
    copy.partitions[1].guid = guid!("cccccccc-0002-4000-8000-000000000002");
    let (machine, said, menu) = draft_of(&larkspur_beside(Some(copy), lark_files()), "signpost");
    let survey = machine.json(&["survey"]);
    let systems = survey["systems"].as_array().unwrap();
    let told: Vec<_> =
        systems.iter().map(|system| (system["id"].as_str().unwrap(), &system["root"])).collect();
    assert_eq!(told[0].0, "larkspur", "{told:?}");
    assert_eq!((told[1].0, told[1].1.as_u64()), ("larkspur-2", Some(2)), "{told:?}");
    assert!(!names_the_stick(&menu) && !menu.contains("larkspur-2"), "{menu}");
    assert!(said.contains("it lies on disk 1, which can be taken along"), "{said}");
    machine.ok(&["entry", "add", "linux", "--on", "d1p2", "--title", "From the stick"]);
}

#[test]
fn what_can_be_taken_along_is_told_by_the_bus_or_by_the_bench() {
    let spec = larkspur_beside(Some(stick("sata", vec![])), lark_files());
    let machine = TestMachine::new(&spec);
    let disk = |machine: &TestMachine| machine.json(&["survey"])["disks"][0].clone();
    assert_eq!(disk(&machine)["is_removable"], false);
    let text = machine.read("machine.toml").replacen("bus = \"sata\"", "bus = \"sata\"\nremovable = true", 1);
    machine.write("machine.toml", &text);
    assert_eq!(
        (&disk(&machine)["is_removable"], &disk(&machine)["takes_part"]),
        (&true.into(), &false.into())
    );
    // It is never home, though its ESP comes first.
    machine.ok(&["draft", "--host", "signpost"]);
    let plan = machine.ok(&["apply", "--dry-run", "--boot-program", &boot_program(&machine)]);
    assert!(plan.contains("Home  d2p1, "), "{plan}");
    assert!(!names_the_stick(&plan), "{plan}");
}

/// A program that says of itself that it is our boot program.
fn boot_program(machine: &TestMachine) -> String {
    let path = machine.path("boot-program.efi");
    std::fs::write(&path, Program::new("Early Signpost").boot_program().build()).unwrap();
    path.display().to_string()
}

#[test]
fn a_closed_system_whose_esp_lies_on_another_fixed_disk_is_offered_with_a_note() {
    let mut spec = small(StoreKind::Folder);
    let mut esp = meridian_disk(meridian_files());
    (esp.image, esp.serial) = ("lark.img", "PTR-1");
    let mut system = lark_disk(vec![]);
    system.partitions[1] = PartitionSpec {
        guid: guid!("bbbbbbbb-0003-4000-8000-000000000003"),
        type_guid: partition_type::BASIC_DATA,
        name: "Meridian",
        mebibytes: 64,
        content: signpost_demo::tide::bench(StoreKind::Folder).disks[1].partitions[2].content.clone(),
    };
    system.image = "meridian.img";
    spec.disks = vec![esp.clone(), system];
    spec.catalogue = signpost_demo::tide::bench(StoreKind::Folder).catalogue;
    spec.variables = vec![];
    let (machine, _, menu) = draft_of(&spec, "firmware");
    assert!(menu.contains("uuid:0B0B-0001/EFI/meridian/start.efi"), "{menu}");
    let survey = machine.ok(&["survey"]);
    assert!(survey.contains("own loader, on disk 1 and not on its own"), "{survey}");
    assert_eq!(machine.json(&["survey"])["systems"].as_array().unwrap().len(), 1, "{survey}");
    // On a stick it is not offered.
    let text = machine.read("machine.toml").replacen("bus = \"sata\"", "bus = \"usb\"", 1);
    machine.write("machine.toml", &text);
    std::fs::remove_file(machine.path("menu.toml")).unwrap();
    machine.ok(&["draft", "--host", "firmware"]);
    assert!(!machine.read("menu.toml").contains("0B0B-0001"), "{}", machine.read("menu.toml"));
}

/// Number and serial of each disk, in the order of the survey.
fn numbers(machine: &TestMachine) -> Vec<(u64, String)> {
    let survey = machine.json(&["survey"]);
    let disks = survey["disks"].as_array().unwrap();
    disks
        .iter()
        .map(|disk| (disk["number"].as_u64().unwrap(), disk["serial"].as_str().unwrap().to_string()))
        .collect()
}

/// The disks of a bench as `machine.toml` lists them, and what stands before them.
fn sections(machine: &TestMachine) -> (String, Vec<String>) {
    let text = machine.read("machine.toml");
    let mut parts = text.split("\n[[disk]]").map(String::from);
    (parts.next().unwrap(), parts.map(|section| format!("\n[[disk]]{section}")).collect())
}

#[test]
fn a_disk_keeps_its_number_whatever_is_plugged_in_or_taken_out() {
    let mut spec = small(StoreKind::Folder);
    spec.disks.push(stick("usb", Vec::new()));
    let machine = TestMachine::new(&spec);
    let (head, disks) = sections(&machine);
    let [lark, meridian, stick] = &disks[..] else { panic!("{disks:?}") };
    let attach = |disks: &[&String]| {
        machine.write("machine.toml", &disks.iter().fold(head.clone(), |text, disk| text + disk));
    };
    attach(&[lark, meridian]);
    let serial = |number, serial: &str| (number, serial.to_string());
    assert_eq!(numbers(&machine), [serial(1, "PTR-1"), serial(2, "CRM-1")]);
    // The firmware shows the new one first, and the others the other way round.
    attach(&[stick, meridian, lark]);
    assert_eq!(numbers(&machine), [serial(1, "PTR-1"), serial(2, "CRM-1"), serial(3, "SND-1")]);
    attach(&[stick, meridian]);
    assert_eq!(numbers(&machine), [serial(2, "CRM-1"), serial(3, "SND-1")]);
    assert!(machine.ok(&["survey", "d3"]).contains("SND-1"));
    let said = machine.fails(2, &["survey", "d1"]);
    assert!(said.contains("there are d2, d3"), "{said}");
    let said = machine.fails(4, &["rehearse", "--without", "1"]);
    assert!(said.contains("there is no disk 1; there are 2, 3"), "{said}");
}

#[test]
fn a_menu_that_is_active_says_the_numbers_and_a_disk_that_is_plugged_in_is_no_reason_to_write_it_anew() {
    let mut spec = small(StoreKind::Folder);
    spec.disks.push(stick("usb", Vec::new()));
    let machine = TestMachine::new(&spec);
    let (head, disks) = sections(&machine);
    machine.write("machine.toml", &format!("{head}{}{}", disks[0], disks[1]));
    let text = menu("timeout = 3", &[LARK, MERIDIAN]).replace("\"firmware\"", "\"signpost\"");
    machine.write("menu.toml", &text);
    std::fs::write(machine.path("program.efi"), Program::new("ours").boot_program().build()).unwrap();
    let program = machine.path("program.efi");
    let apply = ["apply", "--yes", "--boot-program", program.to_str().unwrap()];
    machine.ok(&apply);
    let slot = || {
        let image = std::fs::read(machine.path("lark.img")).unwrap();
        let esp: signpost_disk::block::SharedDevice = std::sync::Arc::new(image[1 << 20..].to_vec());
        let files = signpost_disk::fat::FatVolume::open(esp).unwrap();
        signpost_place::slots::read(&files)[0].clone().unwrap()
    };
    let own = "1:aaaaaaaa-0000-4000-8000-000000000000,2:bbbbbbbb-0000-4000-8000-000000000000";
    assert_eq!(slot().disks.text(), own);
    machine.write("machine.toml", &format!("{head}{}{}{}", disks[2], disks[1], disks[0]));
    machine.ok(&["survey"]);
    let plan = machine.json(&["plan", "--boot-program", program.to_str().unwrap()]);
    assert_eq!(plan["writes"], serde_json::json!([]));
    assert_eq!(slot().serial, 1);
}

/// Plugs in a copy of Larkspur's disk, as it is now.
fn plug_in_copy(machine: &TestMachine, bus: &str) {
    std::fs::copy(machine.path("lark.img"), machine.path("copy.img")).unwrap();
    let description = machine.read("machine.toml");
    let disks = description.split("\n[[disk]]").find(|part| part.contains("lark.img")).unwrap();
    let copy = disks.replace("lark.img", "copy.img").replace("PTR-1", "PTR-2");
    let copy = copy.replace("bus = \"nvme\"", &format!("bus = \"{bus}\""));
    machine.write("machine.toml", &format!("{description}\n[[disk]]{copy}"));
}

/// A name that fits the menu's own disk and a copy of it means the menu's own; nothing is named anew for its sake.
#[test]
fn a_copy_of_the_whole_disk_changes_neither_menu_nor_start() {
    for bus in ["usb", "sata"] {
        let machine = TestMachine::new(&small(StoreKind::Fd));
        std::fs::write(machine.path("program.efi"), Program::new("Signpost").boot_program().build()).unwrap();
        machine.ok(&["draft", "--host", "signpost"]);
        let program = machine.path("program.efi").display().to_string();
        machine.ok(&["apply", "--yes", "--boot-program", &program, "--home", "uuid:0A0A-0001"]);
        let (menu, starts) = (machine.read("menu.toml"), machine.json(&["rehearse"]));
        plug_in_copy(&machine, bus);
        let again = machine.json(&["rehearse"]);
        assert_eq!(again["outcome"]["system"], starts["outcome"]["system"], "{bus}: {again:#}");
        machine.ok(&["draft"]);
        assert_eq!(machine.read("menu.toml"), menu, "{bus}");
        let shown = flat(&machine.ok(&["menu"]));
        let which = "the one on the menu's own disk is meant";
        assert!(shown.contains("uuid:0A0A-0001 fits 2 volumes") && shown.contains(which), "{bus}: {shown}");
    }
}

/// Before there is a menu, only serial and place tell two disks of the machine's own apart; whether the boot program sees serials is
/// not known at the desk.
#[test]
fn what_nothing_but_a_serial_tells_apart_is_left_out_of_a_menu_at_boot() {
    let machine = TestMachine::new(&small(StoreKind::Fd));
    plug_in_copy(&machine, "sata");
    let said = machine.ok(&["draft", "--host", "signpost"]);
    assert!(said.contains("the boot program may see no serials"), "{said}");
    let drafted = machine.read("menu.toml");
    assert!(!drafted.contains("disk:PTR") && drafted.contains("meridian"), "{drafted}");
    machine.write(
        "menu.toml",
        &menu("", &[&LARK.replace("uuid:0A0A-0001", "disk:PTR-1#1")]).replace("firmware", "signpost"),
    );
    let shown = machine.ok(&["menu"]);
    assert!(
        !shown.contains("cannot ask") && shown.contains("lkload.efi"),
        "firmware may ask this drive: {shown}"
    );
    machine.write("machine.toml", &machine.read("machine.toml").replace("\"nvme\"", "\"virtio\""));
    let shown = machine.json(&["menu"]).to_string();
    assert!(shown.contains("the boot program cannot ask for that one"), "{shown}");
}

/// Where a disk is plugged in tells it from its copy, at the desk and at boot.
#[test]
fn where_two_disks_are_plugged_in_tells_them_apart_in_a_menu_at_boot() {
    let machine = TestMachine::new(&small(StoreKind::Fd));
    plug_in_copy(&machine, "sata");
    let with_path = |text: &str, serial: &str, path: &str| {
        text.replace(&format!("serial = \"{serial}\""), &format!("serial = \"{serial}\"\npath = \"{path}\""))
    };
    let (own, copy) =
        ("PciRoot(0x0)/Pci(0x4,0x0)/NVMe(0x1,00-00-00-00-00-00-00-00)", "PciRoot(0x0)/Pci(0x5,0x0)");
    let text = with_path(&machine.read("machine.toml"), "PTR-1", own);
    machine.write("machine.toml", &with_path(&text, "PTR-2", copy));
    machine.ok(&["draft", "--host", "signpost"]);
    let drafted = machine.read("menu.toml");
    assert!(drafted.contains(&format!("\"path:{own}#1")), "{drafted}");
    let starts = machine.json(&["menu"]);
    let words = starts.to_string();
    assert!(!words.contains("fits 2 volumes"), "{words}");
}
