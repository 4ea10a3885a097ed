//! The prompt at the desk, driven by scripts.

use signpost_demo::{StoreKind, tide};

use crate::harness::TestMachine;

fn tide_bench() -> TestMachine {
    let machine = TestMachine::new(&tide::bench(StoreKind::Fd));
    machine.ok(&["draft", "--host", "signpost"]);
    machine
}

#[test]
fn four_lines_put_a_start_together_and_say_where_each_part_comes_from() {
    let machine = tide_bench();
    let before = machine.everything();
    let lines = ["volumes", "compose linux on kestrel/tidewater", "args +single -ro", "start"];
    let args: Vec<&str> =
        ["prompt"].into_iter().chain(lines.iter().flat_map(|line| ["--do", line])).collect();
    insta::assert_snapshot!(machine.ok(&args));
    assert_eq!(machine.everything(), before);
}

#[test]
fn what_is_saved_stands_in_the_menu_file_and_can_be_the_default() {
    let machine = tide_bench();
    let lines = [
        "compose linux d1p2:/boot/vmlinuz-6.9.1-1-larkspur",
        "save --default The old kernel",
        "compose entry the-old-kernel",
    ];
    machine.write("script", &lines.join("\n"));
    let said = machine.ok(&["prompt", "--script", machine.path("script").to_str().unwrap()]);
    assert!(said.contains("the-old-kernel is in the menu, and the default"), "{said}");
    assert!(said.contains("the menu's entry the-old-kernel"), "{said}");
    let text = machine.read("menu.toml");
    assert!(
        text.contains("default = \"the-old-kernel\"") && text.contains("# composed at the prompt\n[[entry]]"),
        "{text}"
    );
    let error = machine.fails(2, &["once", "the-old-kernel"]);
    assert!(error.contains("no entry in the firmware's list yet; `signpost apply` makes one"), "{error}");
    assert!(machine.ok(&["draft"]).contains("nothing new"));
}

#[test]
fn a_mistake_ends_with_a_code_and_firmware_entries_are_reached() {
    let machine = tide_bench();
    let run = machine.run(&[
        "prompt",
        "--yes",
        "--do",
        "look d1p2:/boot/grob",
        "--do",
        "firmware next 0003",
        "--do",
        "leave",
        "--do",
        "volumes",
    ]);
    assert_eq!(run.code, 1);
    assert!(
        run.stdout.contains("d1p2 has no /boot/grob; in /boot there is initrd-6.9.1-1-larkspur"),
        "{}",
        run.stdout
    );
    assert!(!run.stdout.contains("what is on it"), "leave ends a script: {}", run.stdout);
    assert_eq!(machine.boot().next, Some(3));
    for line in ["firmware first 4", "once meridian"] {
        let before = machine.everything();
        assert!(machine.fails(3, &["prompt", "--do", line]).contains("unconfirmed"), "{line}");
        assert!(machine.everything() == before, "{line}: nothing was written");
    }
    machine.ok(&["prompt", "--yes", "--do", "firmware first 4"]);
    assert_eq!(machine.boot().order[0], 4);
}
