//! Names from disks, firmware and files of others are shown and written as what they are, and do nothing.

use signpost_demo::program::{Kernel, Program};
use signpost_demo::{Content, StoreKind};
use signpost_firmware::boot_variables::{boot_option, boot_order};
use signpost_firmware::load_option::LoadOption;
use signpost_menu::text::acts;

use crate::harness::{LARK, TestMachine, file, lark_disk, lark_files, menu, meridian_disk, small};

/// Clears a screen, turns letters around, starts a line of its own.
const EVIL: &str = "\u{1b}[2J\u{202e}\u{9b}3m\n[[entry]] \u{2028}";

/// Puts other characters in place of each `Q` in the long names on a FAT.
fn spoil_names(image: &std::path::Path) {
    let mut bytes = std::fs::read(image).unwrap();
    let mut with = [0x0au16, 0x1b, 0x202e, 0x5b].into_iter().cycle();
    for entry in bytes.chunks_exact_mut(32).filter(|entry| entry[11] == 0x0f && entry[26..28] == [0, 0]) {
        for at in (1..11).chain(14..26).chain(28..32).filter(|at| at % 2 == 1 || *at >= 14) {
            if at + 1 < 32 && entry[at] == b'Q' && entry[at + 1] == 0 {
                entry[at..at + 2].copy_from_slice(&with.next().unwrap().to_le_bytes());
            }
        }
    }
    std::fs::write(image, bytes).unwrap();
}

fn bench() -> TestMachine {
    let mut spec = small(StoreKind::Folder);
    let mut files = lark_files();
    files.push(file("/EFI/larkspur/vmlinuz-9.9QQQQ", Kernel::new("9.9").build("Evil")));
    files.push(file("/EFI/larkspur/initrd-9.9QQQQ", b"initrd".to_vec()));
    files.push(file("/EFI/EvilQQQQQQQ/loader.efi", Program::new("Evil").build()));
    files.push(file(
        "/loader/entries/evil.conf",
        format!(
            "title Larkspur {}\nlinux /x\noptions a{}\n",
            EVIL.replace('\n', "\r"),
            EVIL.replace('\n', "\r")
        )
        .into_bytes(),
    ));
    let mut lark = lark_disk(files);
    lark.partitions[0].name = "ESP\u{1b}[2J\n\u{202e}";
    let release = format!("ID=larkspur\nPRETTY_NAME=\"Larkspur {}\"\n", EVIL.replace('\n', "\u{85}"));
    lark.partitions[1].content = Content::Fat {
        label: "ROOT",
        serial: 0x0f0f_0001,
        files: vec![
            file("/etc/os-release", release.into_bytes()),
            file("/etc/fstab", b"UUID=\x1b[2J /boot vfat\nLABEL=\xe2\x80\xae /usr ext4\n".to_vec()),
        ],
    };
    let evil = Program::new("Evil").string("ProductName", EVIL).string("FileDescription", EVIL).build();
    let meridian = meridian_disk(vec![file("/EFI/meridian/start.efi", evil)]);
    let path = |file: &str| meridian.path_to(1, file);
    spec.variables = vec![
        boot_option(1, &LoadOption::new(EVIL, path("\\EFI\\meridian\\start.efi"), vec![])),
        boot_option(2, &LoadOption::new("Gone", path("\\EFI\\a\u{1b}[2J\n\\b.efi"), vec![])),
        boot_order(&[1, 2]),
    ];
    spec.disks = vec![lark, meridian];
    let machine = TestMachine::new(&spec);
    spoil_names(&machine.path("lark.img"));
    let text = machine.read("machine.toml");
    let text = text.replace("name = \"Small bench\"", "name = \"Small\\u001b[2J\\nbench\\u202e\"");
    machine.write(
        "machine.toml",
        &text.replacen("model = \"Petrel N512\"", "model = \"P\\u001b[2J\\n\\u009b\"", 1),
    );
    machine
}

fn is_plain(text: &str) -> bool {
    !text.chars().any(|c| acts(c) && c != '\n')
}

#[test]
fn every_command_shows_them_written_out() {
    let machine = bench();
    machine.write("menu.toml", &menu("", &[LARK]));
    let commands: [&[&str]; 16] = [
        &["survey"],
        &["survey", "d1p1"],
        &["survey", "--all"],
        &["draft", "--dry-run"],
        &["menu"],
        &["plan"],
        &["rehearse"],
        &["preview"],
        &["firmware"],
        &["firmware", "tidy", "--dry-run"],
        &["firmware", "add", "x", "d1p1:/EFI/\u{1b}[2J\u{202e}.efi"],
        &["entry", "noise"],
        &["entry", "remove", "no\u{9b}such"],
        &[
            "prompt",
            "--do",
            "volumes",
            "--do",
            "look d1p1:/EFI",
            "--do",
            "look d1p1:/EFI/larkspur",
            "--do",
            "find vmlinuz",
        ],
        &["prompt", "--do", "show d1p1:/loader/entries/evil.conf", "--do", "firmware", "--do", "who d1p1"],
        &["rehearse", "--menu", "/no\u{1b}[2Jsuch"],
    ];
    for command in commands {
        let run = machine.run(command);
        assert!(
            is_plain(&run.stdout) && is_plain(&run.stderr),
            "{command:?}: {:?} {:?}",
            run.stdout,
            run.stderr
        );
        let forged = |text: &str| text.lines().any(|line| line.starts_with("[[entry]]"));
        assert!(
            command[0] == "draft" || !forged(&run.stdout),
            "{command:?}: a name made a line: {}",
            run.stdout
        );
        let document = machine.run(&[&["--json"], command].concat()).stdout;
        assert!(is_plain(&document), "{command:?}: {document:?}");
    }
    let survey = machine.ok(&["survey"]);
    assert!(survey.contains(r"\u{1b}[2J\u{202e}"), "{survey}");
    assert!(survey.contains("names with control characters, which are left out"), "{survey}");
    let listed = machine.ok(&["prompt", "--do", "look d1p1:/EFI"]);
    assert!(listed.contains(r"Evil\u{a}\u{1b}\u{202e}["), "the prompt shows what is there: {listed}");
}

#[test]
fn one_strange_name_makes_no_entry_and_never_makes_draft_fail() {
    for host in ["firmware", "signpost"] {
        let machine = bench();
        machine.ok(&["draft", "--host", host]);
        let text = machine.read("menu.toml");
        assert!(is_plain(&text), "{text:?}");
        assert!(!text.contains("9.9") && (host == "firmware" || text.contains("larkspur")), "{text}");
        let ids: Vec<&str> = text.lines().filter(|line| line.starts_with("id ")).collect();
        assert_eq!(ids.len(), text.lines().filter(|line| *line == "[[entry]]").count(), "{text}");
        machine.ok(&["menu"]);
    }
}

#[test]
fn a_line_end_or_a_nul_in_the_menu_file_is_an_error_with_its_place() {
    let machine = TestMachine::small();
    for (key, value) in [("title", r"Lark\nspur"), ("args", r"ro\u0000quiet"), ("title", r"a\u202eb")] {
        let line = format!("{key} = \"{value}\"");
        machine.write(
            "menu.toml",
            &menu("", &[&format!("{}\n{line}", LARK.replace("title = \"Larkspur\"\n", ""))]),
        );
        let said = machine.fails(1, &["menu"]);
        assert!(said.contains(&format!("{key} holds the character U+")) && said.contains("line"), "{said}");
    }
    machine.write("menu.toml", &menu("", &[LARK]));
    let before = machine.read("menu.toml");
    assert!(machine.run(&["entry", "rename", "lark", "Lark\nspur"]).code != 0);
    assert!(machine.run(&["entry", "edit", "lark", "args=ro\nquiet"]).code != 0);
    assert_eq!(machine.read("menu.toml"), before);
}
