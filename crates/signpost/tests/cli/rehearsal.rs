//! Rehearsing.

use signpost_demo::StoreKind;
use signpost_demo::program::Program;
use signpost_firmware::boot_variables::{boot_next, boot_option, boot_order};
use signpost_firmware::device_path::{DevicePath, Node};
use signpost_firmware::load_option::{LoadOption, LoadOptionAttributes};

use crate::harness::{TestMachine, file, lark_disk, lark_files, meridian_disk, small};

fn option(label: &str, path: DevicePath) -> LoadOption {
    LoadOption::new(label, path, vec![])
}

/// A machine whose firmware tries these in this order.
fn trying(options: &[LoadOption]) -> TestMachine {
    let mut spec = small(StoreKind::Folder);
    let mut files = lark_files();
    files.push(file("/EFI/other.efi", Program::new("x").machine(0x014c).build()));
    files.push(file("/EFI/text.efi", b"#!/bin/sh\n".to_vec()));
    files.push(file("/EFI/empty.efi", vec![]));
    spec.disks[0] = lark_disk(files);
    spec.variables = (0..).zip(options).map(|(number, option)| boot_option(number, option)).collect();
    let order: Vec<u16> = (0..options.len() as u16).collect();
    spec.variables.push(boot_order(&order));
    TestMachine::new(&spec)
}

#[test]
fn every_reason_to_go_on_is_told() {
    let (lark, meridian) = (lark_disk(vec![]), meridian_disk(vec![]));
    let mut unused = option("unused", lark.path_to(1, "\\EFI\\larkspur\\lkload.efi"));
    unused.attributes = LoadOptionAttributes::empty();
    let mut gone = meridian.clone();
    gone.partitions[0].guid = signpost_disk::guid!("cccccccc-0001-4000-8000-000000000001");
    let direct = LoadOption::new(
        "no initrd",
        lark.path_to(1, "\\EFI\\larkspur\\vmlinuz-6.9.1"),
        signpost_firmware::ucs2::Ucs2::from("quiet initrd=\\EFI\\larkspur\\initrd-9").to_bytes_terminated(),
    );
    let machine = trying(&[
        unused,
        option("gone", gone.path_to(1, "\\EFI\\x.efi")),
        option("no file", lark.path_to(1, "\\EFI\\larkspur\\nothing.efi")),
        option("slashes", lark.path_to(1, "/EFI/larkspur/lkload.efi")),
        option("on XFS", lark.path_to(2, "\\EFI\\x.efi")),
        option("32 bits", lark.path_to(1, "\\EFI\\other.efi")),
        option("a script", lark.path_to(1, "\\EFI\\text.efi")),
        option("empty", lark.path_to(1, "\\EFI\\empty.efi")),
        direct,
        option("any volume", DevicePath::new(vec![Node::file_path("\\EFI\\MERIDIAN\\start.efi")])),
    ]);
    insta::assert_snapshot!(machine.ok(&["rehearse"]));
}

#[test]
fn nothing_that_starts_is_exit_1() {
    let machine = trying(&[option("no file", lark_disk(vec![]).path_to(1, "\\EFI\\nothing.efi"))]);
    std::fs::remove_file(machine.path("meridian.img")).unwrap();
    let run = machine.run(&["rehearse"]);
    assert_eq!(run.code, 1);
    assert_eq!(run.stdout.lines().last(), Some("Ends with  nothing: the firmware opens firmware setup"));
}

#[test]
fn the_fallback_path_is_what_is_left() {
    let machine = trying(&[]);
    let text = machine.ok(&["rehearse"]);
    let last = text.lines().last().unwrap();
    assert_eq!(last, "Ends with  Meridian Desktop 4, from d2p1:/EFI/BOOT/BOOTX64.EFI");
}

#[test]
fn the_next_boot_comes_first_and_survey_says_so() {
    let machine = TestMachine::small();
    machine.put(&boot_option(
        5,
        &option("Larkspur once", lark_disk(vec![]).path_to(1, "\\EFI\\larkspur\\lkload.efi")),
    ));
    machine.put(&boot_next(5));
    let rehearsed = machine.json(&["rehearse"]);
    assert_eq!(rehearsed["steps"][0]["reason"], "next boot");
    assert_eq!(rehearsed["outcome"]["entry"], "0005");
    let text = machine.ok(&["survey"]);
    assert!(text.contains("next-boot-set") && text.contains("entry-unordered"), "{text}");
}

#[test]
fn with_secure_boot_on_it_does_not_claim_to_know() {
    let mut spec = small(StoreKind::Folder);
    spec.more = "secure-boot = true\n".into();
    let machine = TestMachine::new(&spec);
    let rehearsed = machine.json(&["rehearse"]);
    assert_eq!(rehearsed["outcome"]["kind"], "may-start");
    let text = rehearsed["outcome"]["text"].as_str().unwrap();
    assert!(text.ends_with("if Secure Boot accepts it; if not, nothing"), "{text}");
}
