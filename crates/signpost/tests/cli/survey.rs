//! What is recognised from what lies on the disks.

use signpost_demo::program::{Kernel, Program};
use signpost_demo::{BenchSpec, Content, StoreKind};

use crate::harness::{TestMachine, file, flat, lark_disk, small};

fn machine_with(files: Vec<(String, Vec<u8>)>) -> TestMachine {
    let mut spec = small(StoreKind::Folder);
    spec.disks = vec![lark_disk(files)];
    spec.variables.clear();
    TestMachine::new(&spec)
}

#[test]
fn every_kind_of_boot_file_is_told() {
    let unified = Program::new("x")
        .section(".linux", b"kernel")
        .section(".osrel", b"ID=tern\nPRETTY_NAME=\"Tern OS 3\"\n\0\0")
        .section(".uname", b"7.1.0-tern\0");
    let described = |words: &str| Program::new("x").string("FileDescription", words).build();
    let machine = machine_with(vec![
        file("/EFI/Linux/tern-7.1.0.efi", unified.build()),
        file("/EFI/kestrel/memory.efi", described("Kestrel Memory Test")),
        file("/EFI/harbour/pilot.efi", described("Harbour boot menu")),
        file("/EFI/avocet/load.efi", Program::new("x").build()),
        file("/EFI/petrel/start.efi", Program::new("x").string("ProductName", "Petrel Desk 9").build()),
        file("/EFI/debian/loadx64.efi", Program::new("x").machine(0xaa64).build()),
        file("/EFI/BOOT/BOOTX64.EFI", Program::new("y").build()),
        file("/EFI/broken/text.efi", b"not a program".to_vec()),
        file("/EFI/broken/empty.efi", vec![]),
        file("/vmlinuz-8.0", Kernel::new("8.0-dunlin").build("x")),
    ]);
    let survey = machine.json(&["survey"]);
    let files = survey["boot_files"].as_array().unwrap();
    let told: Vec<String> = files
        .iter()
        .map(|file| {
            let text = |key: &str| file[key].as_str().unwrap_or("-").to_string();
            format!("{} | {} | {} | {}", text("path"), text("role"), text("system"), text("description"))
        })
        .collect();
    insta::assert_snapshot!(told.join("\n"));
    let systems: Vec<&str> = survey["systems"]
        .as_array()
        .unwrap()
        .iter()
        .map(|system| system["title"].as_str().unwrap())
        .collect();
    assert_eq!(systems, ["Tern OS 3", "Debian", "Avocet", "Petrel Desk 9"]);
    let text = machine.ok(&["survey"]);
    assert!(text.contains("Debian's own loader, for aarch64"), "{text}");
    assert!(text.contains("/vmlinuz-8.0"), "a kernel of no known system is shown too:\n{text}");
}

/// Larkspur's root volume beside an ESP with these files.
fn with_root(files: Vec<(String, Vec<u8>)>) -> BenchSpec {
    let mut spec = small(StoreKind::Folder);
    let mut disk = lark_disk(files);
    disk.partitions[1].content = Content::Bytes(signpost_demo::tide::larkspur_root());
    disk.partitions[1].mebibytes = 96;
    spec.disks = vec![disk];
    spec
}

#[test]
fn a_kernel_on_the_esp_belongs_to_the_system_that_has_its_modules() {
    let files = vec![
        file("/vmlinuz-6.9.4-2-larkspur", Kernel::new("6.9.4-2-larkspur").build("x")),
        file("/initramfs-6.9.4-2-larkspur.img", b"initrd".to_vec()),
        file("/vmlinuz-9.9", Kernel::new("9.9-other").build("x")),
    ];
    let machine = TestMachine::new(&with_root(files));
    let survey = machine.json(&["survey"]);
    let kernels = survey["systems"][0]["kernels"].as_array().unwrap();
    let on_esp: Vec<&str> = kernels
        .iter()
        .filter(|kernel| kernel["volume"] == 1)
        .map(|kernel| kernel["path"].as_str().unwrap())
        .collect();
    assert_eq!(on_esp, ["/vmlinuz-6.9.4-2-larkspur"]);
    assert_eq!(kernels[0]["version"], "6.9.4-2-larkspur", "the newest first");
    machine.ok(&["draft"]);
    let text = machine.read("menu.toml");
    assert!(text.contains("kernel  = \"newest:/vmlinuz-*\""), "{text}");
    assert!(text.contains("root=UUID=7c0e4b1a-52d3-4f86-9a1e-0d3b6c8f2e14 ro"), "{text}");
    machine.ok(&["apply", "--yes"]);
    let rehearsed = machine.ok(&["rehearse"]);
    assert!(rehearsed.ends_with("Larkspur Linux 14, from d1p1:/vmlinuz-6.9.4-2-larkspur\n"), "{rehearsed}");
}

#[test]
fn a_system_whose_kernel_no_loader_starts_is_named_with_what_would_help() {
    let machine = TestMachine::new(&with_root(vec![]));
    let said = flat(&machine.ok(&["draft"]));
    assert!(
        said.contains(
            "Larkspur Linux 14: its kernel lies on ext4, which the firmware does not read, and no loader of it was \
             found on an ESP; the boot program starts it: `signpost tune host=signpost`, then `signpost draft`"
        ),
        "{said}"
    );
}

#[test]
fn two_systems_of_one_name_stay_apart() {
    let mut spec = with_root(vec![]);
    let mut second = spec.disks[0].clone();
    second.image = "second.img";
    second.serial = "PTR-2";
    spec.disks.push(second);
    let machine = TestMachine::new(&spec);
    let survey = machine.json(&["survey"]);
    let ids: Vec<&str> =
        survey["systems"].as_array().unwrap().iter().map(|system| system["id"].as_str().unwrap()).collect();
    assert_eq!(ids, ["larkspur", "larkspur-2"]);
}

/// What counts tries renames the file: the entry, the draft and the forecast go along.
#[test]
fn a_unified_image_is_followed_whatever_its_counter_says() {
    let image = Program::new("Tern")
        .section(".linux", b"kernel")
        .section(".osrel", b"ID=tern\nPRETTY_NAME=\"Tern OS 3\"\n")
        .section(".uname", b"7.1.0-tern\0");
    let named = |counter: &str| vec![file(&format!("/EFI/Linux/tern-7.1.0{counter}.efi"), image.build())];
    let machine = machine_with(named("+3"));
    machine.ok(&["draft"]);
    let drafted = machine.read("menu.toml");
    assert!(drafted.contains("program = \"uuid:0A0A-0001/EFI/Linux/tern-7.1.0.efi\""), "{drafted}");
    for counter in ["+3", "+2-1", ""] {
        let now = machine_with(named(counter));
        std::fs::copy(now.path("lark.img"), machine.path("lark.img")).unwrap();
        let entry = machine.json(&["menu"])["entries"][0].clone();
        let starts = format!("/EFI/Linux/tern-7.1.0{counter}.efi");
        assert!(entry["starts"].as_str().unwrap().contains(&starts), "{entry}");
        machine.ok(&["draft"]);
        assert_eq!(machine.read("menu.toml"), drafted, "{counter}");
    }
}
