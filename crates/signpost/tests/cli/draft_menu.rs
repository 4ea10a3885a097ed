//! Drafting, and the menu file by hand.

use signpost_demo::program::{Kernel, Program};
use signpost_demo::{BenchSpec, StoreKind};

use crate::harness::{
    LARK, MERIDIAN, TestMachine, file, lark_disk, lark_files, menu, meridian_disk, meridian_files, small,
};

#[test]
fn a_second_draft_adds_what_is_new_and_touches_nothing_else() {
    let spec = small(StoreKind::Folder);
    let without_meridian = BenchSpec { disks: vec![lark_disk(lark_files())], ..spec.clone() };
    let machine = TestMachine::new(&without_meridian);
    machine.ok(&["draft"]);
    let mine = format!(
        "# a note of mine\n{}# and another",
        machine.read("menu.toml").replace("timeout = 5", "timeout = 7")
    );
    machine.write("menu.toml", &mine);
    assert_eq!(machine.ok(&["draft"]), "[BENCH]/menu.toml: nothing new\n");
    assert_eq!(machine.read("menu.toml"), mine);
    spec.write(machine.folder()).unwrap();
    let said = machine.ok(&["draft"]);
    assert!(said.contains("meridian  Meridian Desktop 4"), "{said}");
    let now = machine.read("menu.toml");
    assert!(now.starts_with(&mine), "what stood there stays to the byte:\n{now}");
    assert!(now[mine.len()..].contains("id      = \"meridian\""), "{now}");
    assert!(machine.ok(&["draft"]).contains("nothing new"));
}

#[test]
fn what_is_gone_is_named_and_stays() {
    let machine = TestMachine::small();
    let text = menu("", &[&LARK.replace("lkload", "lkload2"), MERIDIAN]);
    machine.write("menu.toml", &text);
    let draft = machine.json(&["draft", "--dry-run"]);
    assert_eq!(draft["gone"][0]["id"], "lark");
    assert_eq!(draft["gone"][0]["why"], "d1p1 has no file /EFI/larkspur/lkload2.efi; there is lkload.efi");
    assert_eq!(draft["added"][0]["id"], "larkspur");
    assert_eq!(machine.read("menu.toml"), text);
}

#[test]
fn hidden_systems_are_not_offered_again() {
    let hides = ["system = \"Meridian Desktop 4\"", "volume = \"uuid:0B0B-0001\"", "entry = \"meridian\""];
    for hide in hides {
        let machine = TestMachine::small();
        machine.write("menu.toml", &format!("{}\n[[hide]]\n{hide}\nwhy = \"not mine\"\n", menu("", &[LARK])));
        let said = machine.ok(&["draft"]);
        assert!(said.contains("Meridian Desktop 4: hidden in the menu file"), "{hide}: {said}");
        assert!(!machine.read("menu.toml").contains("id      = \"meridian\""));
    }
}

#[test]
fn a_kernel_that_the_firmware_reads_is_started_directly_unless_secure_boot_is_on() {
    let release = b"ID=tidewater\nPRETTY_NAME=\"Tidewater RT 5\"\n".to_vec();
    let files = vec![
        file("/etc/os-release", release),
        file("/boot/vmlinuz-5.4", Kernel::new("5.4").build("Tidewater")),
        file("/boot/initrd-5.4.img", b"initrd".to_vec()),
        file("/etc/kernel/cmdline", b"root=LABEL=TIDE  quiet\n".to_vec()),
        file("/EFI/tidewater/load.efi", Program::new("Tidewater").build()),
    ];
    let mut spec = small(StoreKind::Folder);
    spec.disks = vec![lark_disk(files)];
    let machine = TestMachine::new(&spec);
    machine.ok(&["draft"]);
    let text = machine.read("menu.toml");
    for line in [
        "kernel  = \"newest:/boot/vmlinuz-*\"",
        "initrd  = [\"/boot/initrd-{version}.img\"]",
        "args    = \"root=LABEL=TIDE quiet\"",
        "arguments d1p1:/etc/kernel/cmdline",
    ] {
        assert!(text.contains(line), "{line}\n{text}");
    }
    spec.more = "secure-boot = true\n".into();
    let machine = TestMachine::new(&spec);
    machine.ok(&["draft"]);
    assert!(machine.read("menu.toml").contains("program = \"uuid:0A0A-0001/EFI/tidewater/load.efi\""));
}

#[test]
fn clones_are_named_by_what_tells_them_apart() {
    let mut clone = meridian_disk(meridian_files());
    (clone.image, clone.serial) = ("clone.img", "CRM-2");
    let mut spec = small(StoreKind::Folder);
    spec.disks = vec![meridian_disk(meridian_files()), clone];
    let machine = TestMachine::new(&spec);
    machine.write("menu.toml", &menu("", &[MERIDIAN]));
    let shown = machine.json(&["menu"]);
    assert_eq!(
        shown["entries"][0]["starts"],
        "uuid:0b0b-0001 is ambiguous: it fits 2 volumes, d1p1 (disk:CRM-1#1), d2p1 (disk:CRM-2#1)"
    );
    let codes = machine.json(&["survey"])["findings"].to_string();
    assert!(
        codes.contains("d1p1 (disk:CRM-1#1) and d2p1 (disk:CRM-2#1) share the UUID 0B0B-0001"),
        "{codes}"
    );
    std::fs::remove_file(machine.path("menu.toml")).unwrap();
    machine.ok(&["draft"]);
    assert!(machine.read("menu.toml").contains("program = \"disk:CRM-1#1/EFI/meridian/start.efi\""));
}

#[test]
fn the_menu_shows_what_is_not_there_and_why() {
    let machine = TestMachine::small();
    let linux = "id = \"direct\"\nstarts = \"linux\"\nvolume = \"uuid:0a0a-0001\"\n\
                 kernel = \"newest:/EFI/larkspur/vmlinuz-*\"\ninitrd = \"/EFI/larkspur/initrd-{version}\"";
    let entries = [
        LARK,
        &MERIDIAN.replace("0b0b-0001", "0b0b-0002"),
        linux,
        &linux
            .replace("direct", "older")
            .replace("newest:/EFI/larkspur/vmlinuz-*", "/EFI/larkspur/vmlinuz-6.9.9"),
        "id = \"fw\"\nstarts = \"firmware-entry\"\nlabel = \"Meridien\"",
        "id = \"tools\"\ntitle = \"Tools\"\nstarts = \"group\"",
        "id = \"off\"\ntitle = \"Off\"\nstarts = \"power-off\"\nin = \"tools\"",
        "id = \"image\"\nstarts = \"image\"\nimage = \"uuid:0a0a-0001/lantern.img\"\nkernel = \"/k\"",
    ];
    machine.write("menu.toml", &menu("default = \"direct\"", &entries));
    insta::assert_snapshot!(machine.ok(&["menu"]));
}

#[test]
fn all_errors_of_a_menu_file_come_at_once_and_nothing_is_written() {
    let machine = TestMachine::small();
    let text = "format = 1\n[menu]\ntimeout = \"soon\"\ndefault = \"larkspur\"\nhots = \"firmware\"\n\n\
                [[entry]]\nid = \"lark\"\nstarts = \"efi\"\nprogram = \"v1:/x\"\n\n[[entry]]\nid = \"lark\"\nstarts = \"group\"\n\n\
                [[entry]]\nid = \"lark\"\nstarts = \"restart\"\n";
    machine.write("menu.toml", text);
    let before = machine.everything();
    for command in [&["menu"][..], &["draft"], &["plan"], &["apply", "--yes"]] {
        assert_eq!(machine.run(command).code, 1, "{command:?}");
    }
    assert_eq!(machine.everything(), before);
    insta::assert_snapshot!(machine.fails(1, &["menu"]));
    assert_eq!(machine.error(&["menu"])["errors"][0]["line"], 3);
}

#[test]
fn a_menu_file_elsewhere_is_used_when_it_is_named() {
    let machine = TestMachine::small();
    machine.write("other.toml", &menu("", &[LARK]));
    let other = machine.path("other.toml");
    let shown = machine.json(&["menu", "--menu", other.to_str().unwrap()]);
    assert_eq!(shown["entries"][0]["id"], "lark");
    let error = machine.fails(4, &["menu"]);
    assert!(error.contains("there is no menu file; `signpost draft` makes one"), "{error}");
}
