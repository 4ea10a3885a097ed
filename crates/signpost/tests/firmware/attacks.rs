//! What a stick that somebody has plugged in can do to the next start: nothing, on real firmware too.

use signpost_demo::program::{Kernel, Program};
use signpost_demo::{BenchSpec, Content, DiskSpec, PartitionSpec, StoreKind};
use signpost_disk::guid;
use signpost_firmware::boot_variables::{boot_option, boot_order};
use signpost_firmware::load_option::LoadOption;
use signpost_menu::slot::SLOT_NAMES;

use crate::harness::{TestMachine, file, lark_disk, menu, small};
use crate::menu::{boot_program, slot};
use crate::vm::Vm;

const IMAGES: [&str; 2] = ["stick.img", "lark.img"];
const NEWEST: &str = "6.9.4-2-larkspur";
const EVIL: &str = "STARTED Evil";

fn evil() -> Vec<u8> {
    Program::new("Evil").string("ProductName", "Larkspur Linux 14").build()
}

/// A stick that stands before the machine's own disk, with these files, and Larkspur with its root and its loader.
fn with_stick(files: Vec<(String, Vec<u8>)>) -> TestMachine {
    let stick = DiskSpec {
        image: IMAGES[0],
        bus: "usb",
        model: "Sandpiper",
        serial: "SND-1",
        guid: guid!("cccccccc-0000-4000-8000-000000000000"),
        partitions: vec![PartitionSpec::esp(
            guid!("cccccccc-0001-4000-8000-000000000001"),
            "STICK",
            0x0c0c_0001,
            8,
            files,
        )],
    };
    let mut own = lark_disk(vec![file("/EFI/larkspur/lkload.efi", Program::new("Larkspur loader").build())]);
    own.partitions[0].mebibytes = 8;
    own.partitions[1].content = Content::Bytes(signpost_demo::tide::larkspur_root());
    own.partitions[1].mebibytes = 96;
    let path = own.path_to(1, "\\EFI\\larkspur\\lkload.efi");
    let spec = BenchSpec {
        disks: vec![stick, own],
        variables: vec![boot_option(1, &LoadOption::new("Larkspur", path, vec![])), boot_order(&[1])],
        more: format!(
            "secure-boot = false\n\n[running]\nroot = \"uuid:{}\"\n",
            signpost_demo::tide::LARKSPUR_UUID
        ),
        ..small(StoreKind::Fd)
    };
    TestMachine::new(&spec)
}

/// Drafts, applies, rehearses and starts; what came on the console.
fn started(machine: &TestMachine, host: &str) -> String {
    machine.ok(&["draft", "--host", host]);
    machine.ok(&["apply", "--yes"]);
    let foretold = machine.ok(&["rehearse"]);
    assert!(foretold.contains("d2p"), "{foretold}");
    let mut vm = Vm::start(machine.folder(), &IMAGES);
    if host == "signpost" {
        vm.wait_for("Starts in");
        vm.type_keys("\r");
    }
    vm.until_it_ends()
}

#[test]
fn a_loader_of_the_systems_name_on_a_stick_is_not_started() {
    let machine =
        with_stick(vec![file("/EFI/larkspur/aaa.efi", evil()), file("/EFI/BOOT/BOOTX64.EFI", evil())]);
    let serial = started(&machine, "firmware");
    assert!(serial.contains("STARTED Larkspur loader") && !serial.contains(EVIL), "{serial}");
}

#[test]
fn a_kernel_of_the_systems_version_on_a_stick_is_not_started() {
    let machine = with_stick(vec![
        file(&format!("/vmlinuz-{NEWEST}"), Kernel::new(NEWEST).build("Evil")),
        file(&format!("/initrd-{NEWEST}"), b"evil".to_vec()),
        file("/boot/vmlinuz-9.9.9-larkspur", Kernel::new("9.9.9-larkspur").build("Evil")),
        file("/boot/initrd-9.9.9-larkspur", b"evil".to_vec()),
    ]);
    let serial = started(&machine, "signpost");
    assert!(serial.contains(&format!("STARTED Larkspur Linux 14, kernel {NEWEST}")), "{serial}");
    assert!(!serial.contains(EVIL), "{serial}");
}

#[test]
fn a_menu_on_a_stick_is_not_shown() {
    let entry = "id = \"evil\"\ntitle = \"Evil\"\nstarts = \"efi\"\nprogram = \"uuid:0C0C-0001/evil.efi\"";
    let text = menu("default = \"evil\"\ntimeout = 0", &[entry]);
    let machine = with_stick(vec![
        file("/evil.efi", evil()),
        file("/EFI/BOOT/BOOTX64.EFI", boot_program()),
        file(&format!("/EFI/signpost/{}", SLOT_NAMES[0]), slot(99, &text)),
    ]);
    let serial = started(&machine, "signpost");
    assert!(serial.contains("STARTED Larkspur Linux 14") && !serial.contains(EVIL), "{serial}");
}

#[test]
fn an_entry_file_on_a_stick_is_not_in_the_menu() {
    let conf = "title Larkspur Linux 14\nversion 99\nefi /evil.efi\noptions init=/evil\n";
    let machine = with_stick(vec![
        file("/evil.efi", evil()),
        file("/loader/entries/zzz.conf", conf.as_bytes().to_vec()),
    ]);
    machine.ok(&["draft", "--host", "signpost"]);
    let text = machine.read("menu.toml").replace("[menu]", "[include]\nbls = true\n\n[menu]");
    machine.write("menu.toml", &text);
    let serial = started(&machine, "signpost");
    assert!(serial.contains("STARTED Larkspur Linux 14"), "{serial}");
    assert!(!serial.contains(EVIL) && !serial.contains("init=/evil"), "{serial}");
}
