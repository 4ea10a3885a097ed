//! The rehearsal held against real firmware: a bench's disks and variables started in a virtual machine.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

mod agreement;
mod attacks;
mod bios;
mod debian;
mod faults;
#[path = "../cli/fsck.rs"]
mod fsck;
#[path = "../cli/harness.rs"]
#[allow(dead_code, reason = "shared with the other tests, which use all of it")]
mod harness;
mod homes;
mod layouts;
mod live;
mod look;
mod menu;
mod names;
mod pointer;
mod power_cuts;
mod prompt;
mod secure_boot;
mod strange;
mod vm;

use harness::{LARK, MERIDIAN, TestMachine, file, lark_disk, menu, meridian_disk, meridian_files, small};
use signpost_demo::program::{Ending, Program};
use signpost_demo::{BenchSpec, StoreKind};
use signpost_firmware::boot_variables::{BootOption, boot_next, boot_option, boot_order};
use signpost_firmware::device_path::View;
use signpost_firmware::load_option::LoadOption;
use signpost_firmware::store::fd;
use signpost_vm::{Spec, VARIABLES};
use vm::{Tried, start};

/// Two disks; Larkspur's loader gives up, so that the firmware goes on to the next entry.
fn two_systems() -> BenchSpec {
    let gives_up = Program::new("Larkspur").ending(Ending::GiveUp).build();
    let mut spec = small(StoreKind::Fd);
    spec.disks =
        vec![lark_disk(vec![file("/EFI/larkspur/lkload.efi", gives_up)]), meridian_disk(meridian_files())];
    spec.variables.clear();
    spec
}

fn active(spec: &BenchSpec) -> TestMachine {
    let machine = TestMachine::new(spec);
    machine.write("menu.toml", &menu("timeout = 1", &[LARK, MERIDIAN]));
    machine.ok(&["apply", "--yes"]);
    machine
}

/// What the firmware put beside our entries: for a device that it found, or of its own inside.
fn is_firmwares_own(option: &BootOption) -> bool {
    let Ok(option) = &option.decoded else { return false };
    option.is_made_by_firmware() || option.path.views().any(|view| matches!(view, View::FirmwareFile(_)))
}

#[test]
fn the_firmware_tries_our_entries_first_and_leaves_them_as_they_are() {
    let machine = active(&two_systems());
    let ours = machine.boot();
    let start = start(machine.folder(), &["lark.img", "meridian.img"]);
    let tried: Vec<u16> = start.tried.iter().map(|tried| tried.number).collect();
    assert_eq!(tried, ours.order, "{}", start.serial);
    assert_eq!(start.started, ["Larkspur", "Meridian"], "{}", start.serial);
    let now = machine.boot();
    for (number, option) in &ours.options {
        assert_eq!(now.options[number].raw, option.raw, "our entry {number:04X}, byte for byte");
    }
    assert_eq!(now.order[..ours.order.len()], ours.order, "our numbers first and in our order");
    let added: Vec<u16> = now.order[ours.order.len()..].to_vec();
    assert!(!added.is_empty());
    for number in added {
        let option = &now.options[&number];
        let label = option.decoded.as_ref().map(|option: &LoadOption| option.description.to_string());
        println!("the firmware added {number:04X} {label:?}");
        assert!(is_firmwares_own(option), "{number:04X} {label:?}");
    }
}

#[test]
fn a_disk_that_is_missing_is_passed_as_rehearsed() {
    let machine = active(&two_systems());
    let description = machine.read("machine.toml");
    let without: Vec<&str> =
        description.split("\n[[disk]]").filter(|part| !part.contains("lark.img")).collect();
    machine.write("machine.toml", &without.join("\n[[disk]]"));
    let rehearsed = machine.json(&["rehearse"]);
    let steps: Vec<(String, bool)> = rehearsed["steps"]
        .as_array()
        .unwrap()
        .iter()
        .map(|step| (step["entry"].as_str().unwrap().to_string(), step["verdict"] == "starts"))
        .collect();
    let start = start(machine.folder(), &["meridian.img"]);
    let seen: Vec<(String, bool)> =
        start.tried.iter().map(|Tried { number, started }| (format!("{number:04X}"), *started)).collect();
    assert_eq!(seen, steps, "{}", start.serial);
    assert_eq!(start.started, ["Meridian"]);
}

#[test]
fn a_next_boot_is_used_up_and_starts_an_entry_that_is_not_in_use() {
    let mut spec = two_systems();
    let mut unused =
        LoadOption::new("Once", meridian_disk(vec![]).path_to(1, "\\EFI\\BOOT\\BOOTX64.EFI"), vec![]);
    unused.attributes = signpost_firmware::load_option::LoadOptionAttributes::empty();
    spec.variables = vec![boot_option(9, &unused), boot_next(9)];
    let machine = active(&spec);
    let rehearsed = machine.json(&["rehearse"]);
    assert_eq!(rehearsed["outcome"]["entry"], "0009");
    let start = start(machine.folder(), &["lark.img", "meridian.img"]);
    assert_eq!(start.tried.first(), Some(&Tried { number: 9, started: true }), "{}", start.serial);
    assert_eq!(machine.boot().next, None);
}

#[test]
fn undo_after_a_start_takes_back_ours_and_keeps_what_the_firmware_added() {
    let machine = active(&two_systems());
    let ours = machine.boot().order;
    start(machine.folder(), &["lark.img", "meridian.img"]);
    let added: Vec<u16> = machine.boot().order[ours.len()..].to_vec();
    machine.ok(&["undo", "--yes", "--despite", "nothing-starts"]);
    let now = machine.boot();
    assert_eq!(now.order, added);
    assert!(ours.iter().all(|number| !now.options.contains_key(number)));
}

#[test]
fn the_fallback_path_starts_where_no_entry_does() {
    let machine = TestMachine::new(&two_systems());
    let rehearsed = machine.json(&["rehearse"]);
    let target = rehearsed["outcome"]["text"].as_str().unwrap();
    assert_eq!(target, "Meridian Desktop 4, from d2p1:/EFI/BOOT/BOOTX64.EFI");
    let start = start(machine.folder(), &["lark.img", "meridian.img"]);
    assert_eq!(start.started, ["Meridian"], "{}", start.serial);
}

#[test]
fn an_empty_store_is_that_of_the_firmwares_own_package() {
    let packaged = vm::read(VARIABLES);
    assert!(fd::blank() == packaged, "the empty store is not byte for byte {VARIABLES}");
}

/// What the firmware writes at its first start, with one device of each kind attached.
#[test]
fn entries_of_the_firmwares_own_making_are_read_listed_and_written_back_byte_for_byte() {
    let spec = BenchSpec { variables: Vec::new(), ..two_systems() };
    let machine = TestMachine::new(&spec);
    let medium = machine.path("medium.iso");
    std::fs::write(machine.path("readme.txt"), "a medium without a system").unwrap();
    let (from, to) = (machine.path("readme.txt"), medium.to_str().unwrap());
    debian::run("genisoimage", &["-quiet", "-o", to, from.to_str().unwrap()]);
    let empty = machine.path("empty.img");
    std::fs::write(&empty, vec![0; 1 << 20]).unwrap();
    let drive = |id: &str, path: &str| format!("if=none,id={id},format=raw,file={path}");
    let empty = empty.to_str().unwrap();
    let shared = |id: &str| format!("{},readonly=on", drive(id, empty));
    let devices = [
        "-netdev",
        "user,id=n0,restrict=on",
        "-device",
        "virtio-net-pci,netdev=n0",
        "-drive",
        &format!("{},media=cdrom", drive("cd", to)),
        "-device",
        "ide-cd,drive=cd,bus=ide.0",
        "-drive",
        &shared("nvme"),
        "-device",
        "nvme,drive=nvme,serial=KSTRL-1",
        "-device",
        "qemu-xhci",
        "-drive",
        &shared("usb"),
        "-device",
        "usb-storage,drive=usb",
        "-device",
        "virtio-scsi-pci",
        "-drive",
        &shared("scsi"),
        "-device",
        "scsi-hd,drive=scsi",
    ]
    .map(str::to_string);
    let spec =
        Spec { devices: devices.into(), ..Spec::of_bench(machine.folder(), &["lark.img", "meridian.img"]) };
    vm::start_spec(&spec);
    let boot = machine.boot();
    for (number, option) in &boot.options {
        let decoded = option.decoded.as_ref().unwrap_or_else(|fault| panic!("{number:04X}: {fault}"));
        assert_eq!(decoded.encode(), option.raw, "{number:04X}");
    }
    let list = machine.json(&["firmware", "list"]);
    let paths: Vec<&str> =
        list["entries"].as_array().unwrap().iter().map(|entry| entry["path"].as_str().unwrap()).collect();
    for kind in ["NVMe(0x1,", "USB(0x", "Scsi(0x0,0x0)", "Sata(0x0,0xffff,0x0)", "MAC(525400", "Fv("] {
        assert!(paths.iter().any(|path| path.contains(kind)), "{kind}: {paths:#?}");
    }
    let makers = list["entries"].to_string();
    assert!(
        makers.contains("\"made_by\":\"the network\"") && makers.contains("\"made_by\":\"the firmware\""),
        "{makers}"
    );
    let tidy = machine.json(&["firmware", "tidy", "--dry-run"]);
    assert_eq!(tidy["goes"], serde_json::json!([]), "what the firmware makes is left: {tidy}");
}

/// A made-up system's installer puts itself first; `hold` puts it right, and the firmware agrees each time.
#[test]
fn what_hold_corrects_is_what_the_firmware_starts() {
    let machine = active(&two_systems());
    let images = ["lark.img", "meridian.img"];
    let first = start(machine.folder(), &images).started;
    let path = machine.path("variables.fd");
    let mut store = fd::FdImage::decode(vm::read(path.to_str().unwrap())).unwrap();
    let mut order = machine.boot().order;
    order.swap(0, 1);
    store.write(&boot_order(&order)).unwrap();
    std::fs::write(&path, store.bytes()).unwrap();
    assert_ne!(start(machine.folder(), &images).started, first, "the installer's own system");
    machine.ok(&["hold"]);
    let rehearsed = machine.json(&["rehearse"])["outcome"]["text"].to_string();
    let started = start(machine.folder(), &images).started;
    assert_eq!(started, first, "{rehearsed}");
}
