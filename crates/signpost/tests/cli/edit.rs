//! Changes to the menu by command: what they do, and what they leave alone.

use crate::harness::{LARK, MERIDIAN, TestMachine, menu, run_bare};

/// A file that somebody has made his own: comments everywhere, uneven blanks, keys in another order.
const OWN: &str = r#"# Tide bench, kept by Anna
format = 1

[menu] # the policy
timeout   = 9   # the disk is slow
heading = "Tide"

# first, since it measures
[[entry]] # L
title = "Larkspur"   # as on the label
id = "lark"
starts = "efi"
program = "uuid:0A0A-0001/EFI/larkspur/lkload.efi"

# the plotter's
[[entry]]
id = "meridian"
title = "Meridian"
starts = "efi"
program = "uuid:0b0b-0001/EFI/meridian/start.efi"

[[entry]]
id = "more"
title = "More"
starts = "group"

[[hide]] # old
system = "Larkspur 12"
# the end
"#;

fn machine() -> TestMachine {
    let machine = TestMachine::small();
    machine.write("menu.toml", OWN);
    machine
}

/// Lines of the file, sorted: what is moved stays the same.
fn lines(text: &str) -> Vec<&str> {
    let mut lines: Vec<&str> = text.lines().filter(|line| !line.is_empty()).collect();
    lines.sort_unstable();
    lines
}

/// A command, the lines that it takes away, the lines that it adds.
type Case = (&'static [&'static str], &'static [&'static str], &'static [&'static str]);

const CASES: [Case; 10] = [
    (
        &["tune", "timeout=3"],
        &["timeout   = 9   # the disk is slow"],
        &["timeout   = 3   # the disk is slow"],
    ),
    (&["tune", "show=on-key"], &[], &[r#"show = "on-key""#]),
    (&["tune", "kernel.args=quiet"], &[], &["[kernel]", r#"args = "quiet""#]),
    (&["tune", "--reset", "heading"], &[r#"heading = "Tide""#], &[]),
    (
        &["entry", "rename", "lark", "The \"good\" one"],
        &[r#"title = "Larkspur"   # as on the label"#],
        &[r#"title = 'The "good" one'   # as on the label"#],
    ),
    (
        &["entry", "edit", "lark", "args=single  quiet", "title=Lark"],
        &[r#"title = "Larkspur"   # as on the label"#],
        &[r#"title = "Lark"   # as on the label"#, r#"args = "single  quiet""#],
    ),
    (&["entry", "edit", "lark", "--drop", "title"], &[r#"title = "Larkspur"   # as on the label"#], &[]),
    (&["entry", "move", "meridian", "top"], &[], &[]),
    (&["entry", "move", "Meridian", "into", "more"], &[], &[r#"in = "more""#]),
    (&["entry", "reveal", "Larkspur 12"], &["[[hide]] # old", r#"system = "Larkspur 12""#], &[]),
];

/// Each command on the commented file, with line ends of either kind and a byte order mark.
#[test]
fn every_command_leaves_all_other_lines_as_they_are() {
    for (args, gone, new) in CASES {
        for (mark, end) in [("", "\n"), ("\u{feff}", "\r\n")] {
            let machine = machine();
            machine.write("menu.toml", &format!("{mark}{}", OWN.replace('\n', end)));
            machine.ok(args);
            let after = machine.read("menu.toml");
            assert!(after.starts_with(mark), "{args:?}");
            assert_eq!(
                after.replace("\r\n", "").contains('\n'),
                end == "\n",
                "{args:?}: line ends of one kind"
            );
            let after = after.trim_start_matches('\u{feff}').replace("\r\n", "\n");
            let mut expected: Vec<&str> =
                lines(OWN).into_iter().filter(|line| !gone.contains(line)).collect();
            expected.extend(new);
            expected.sort_unstable();
            assert_eq!(lines(&after), expected, "{args:?}\n{after}");
        }
    }
}

#[test]
fn entries_go_where_they_are_sent_with_their_comments() {
    let machine = machine();
    for (args, expected) in [
        (&["meridian", "top"][..], ["meridian", "lark", "more"]),
        (&["meridian", "bottom"], ["lark", "more", "meridian"]),
        (&["lark", "after", "more"], ["more", "lark", "meridian"]),
        (&["meridian", "before", "lark"], ["more", "meridian", "lark"]),
        (&["lark", "into", "more"], ["more", "lark", "meridian"]),
        (&["lark", "out"], ["more", "lark", "meridian"]),
    ] {
        machine.ok(&[&["entry", "move"], args].concat());
        let text = machine.read("menu.toml");
        let ids = text.lines().filter_map(|line| line.strip_prefix("id = "));
        let order: Vec<&str> = ids.map(|id| id.trim_matches('"')).collect();
        assert_eq!(order, expected, "{args:?}");
    }
    let text = machine.read("menu.toml");
    assert!(text.contains("# the plotter's\n[[entry]]\nid = \"meridian\""), "{text}");
    assert!(text.contains("# first, since it measures\n[[entry]] # L\ntitle = \"Larkspur\""), "{text}");
}

#[test]
fn several_values_are_set_at_once_or_none() {
    let machine = machine();
    let error =
        machine.fails(2, &["tune", "timeout=3", "show=onkey", "colour=red", "heading", "default=lurk"]);
    insta::assert_snapshot!(error);
    assert_eq!(machine.read("menu.toml"), OWN);
    let done = machine.ok(&["tune", "default=meri", "timeout=never", "show=on-key"]);
    assert!(done.contains("default = meridian, it was first"), "{done}");
    let warned = machine.ok(&["tune", "show=never", "timeout=4"]);
    assert!(warned.contains("nobody sees this menu") && warned.contains("show=on-key"), "{warned}");
    insta::assert_snapshot!(machine.ok(&["tune"]));
}

#[test]
fn a_file_is_checked_without_a_machine() {
    let machine = machine();
    let path = machine.path("menu.toml");
    let check = || run_bare(&["menu", "--check", path.to_str().unwrap()]);
    let run = check();
    assert_eq!(
        (run.code, run.stdout.ends_with("menu.toml is valid: 3 entries.\n")),
        (0, true),
        "{}",
        run.stdout
    );
    machine.write("menu.toml", &OWN.replace("timeout ", "timeuot ").replace("\"efi\"", "\"exe\""));
    let run = check();
    assert_eq!((run.code, run.stderr.lines().count()), (1, 3), "{}", run.stderr);
    assert!(run.stderr.contains("timeuot") && run.stderr.contains("exe"), "{}", run.stderr);
}

#[test]
fn the_last_way_to_a_system_stays_unless_it_is_said_twice() {
    let machine = machine();
    let error = machine.fails(3, &["entry", "remove", "lark"]);
    assert!(error.contains("last-way") && error.contains("Larkspur"), "{error}");
    assert_eq!(machine.read("menu.toml"), OWN);
    machine.ok(&["entry", "remove", "lark", "--despite", "last-way"]);
    assert!(!machine.read("menu.toml").contains("lkload"));
    machine.write("menu.toml", &menu("default = \"lark\"", &[LARK, MERIDIAN]));
    let error = machine.fails(2, &["entry", "remove", "lark"]);
    assert!(error.contains("tune default="), "{error}");
}

/// By every kind of name; draft obeys.
#[test]
fn what_is_hidden_is_not_offered_again_until_it_is_revealed() {
    for what in ["larkspur", "d1p1", "uuid:0A0A-0001"] {
        let machine = TestMachine::small();
        machine.ok(&["draft"]);
        machine.ok(&["tune", "default=meridian"]);
        machine.ok(&["entry", "hide", what, "--why", "not today", "--despite", "last-way"]);
        if what != "larkspur" {
            machine.ok(&["entry", "remove", "larkspur", "--despite", "last-way"]);
        }
        let again = machine.json(&["draft"]);
        assert_eq!(again["added"], serde_json::json!([]), "{what}: {again}");
        let list = machine.ok(&["entry", "reveal", "--list"]);
        assert!(list.contains("not today"), "{list}");
        let name = list.lines().last().unwrap().split("not today").next().unwrap().trim().to_string();
        machine.ok(&["entry", "reveal", &name]);
        assert_eq!(machine.json(&["draft"])["added"][0]["id"], "larkspur", "{what}");
    }
}

#[test]
fn names_that_fit_nothing_or_too_much_are_answered_with_what_there_is() {
    let machine = machine();
    let mut all = String::new();
    for args in [
        &["rename", "larkk", "x"][..],
        &["rename", "m", "x"],
        &["rename", "zzz", "x"],
        &["edit", "lark", "kernel=/boot/vmlinuz", "program=nowhere"],
        &["edit", "lark", "args"],
        &["edit", "lark", "--drop", "args"],
        &["edit", "lark", "id=meridian"],
        &["move", "lark", "before"],
        &["move", "lark", "top", "meridian"],
        &["move", "lark", "into", "meridian"],
        &["move", "lark", "out"],
        &["hide", "d9p1"],
        &["hide", "uuid:dead-beef"],
        &["reveal", "Larkspur 13"],
    ] {
        let error = machine.fails(2, &[&["entry"], args].concat());
        all.push_str(&format!("{}\n  {error}", args.join(" ")));
    }
    insta::assert_snapshot!(all);
    assert_eq!(machine.read("menu.toml"), OWN);
}

/// Numbers become stable names, titles and arguments come from the machine; the result is a menu that is valid.
#[test]
fn entries_are_added_with_what_the_machine_tells() {
    let machine = machine();
    machine.write("menu.toml", &menu("", &[]));
    for args in [
        &["efi", "d2p1:/EFI/meridian/start.efi"][..],
        &[
            "efi",
            "d1p1:/EFI/none.efi",
            "--unchecked",
            "--title",
            "A name that is far longer than any id may ever become",
        ],
        &["firmware-entry", "0001", "--title", "By its entry"],
        &["group", "Larkspur, older kernels"],
        &["setup-screen"],
        &["restart"],
    ] {
        machine.ok(&[&["entry", "add"], args].concat());
    }
    let text = machine.read("menu.toml");
    assert!(text.contains("program = \"uuid:0B0B-0001/EFI/meridian/start.efi\""), "{text}");
    assert!(
        text.contains("title   = \"Meridian Desktop 4\"") && text.contains("label   = \"Meridian\""),
        "{text}"
    );
    let rows = machine.json(&["menu"])["entries"].clone();
    let there: Vec<bool> = rows.as_array().unwrap().iter().map(|row| row["is_there"] == true).collect();
    assert_eq!(there, [true, false, true, true, true, true], "{rows}");
}

#[test]
fn what_cannot_be_added_is_answered_with_what_there_is() {
    let machine = machine();
    let mut all = String::new();
    for args in [
        &["efi", "d2p1:/EFI/meridan/start.efi"][..],
        &["efi", "d9p1:/EFI/x.efi"],
        &["efi", "d1p1:/EFI/larkspur/initrd-6.9.1"],
        &["linux", "--on", "d2p1"],
        &["linux", "--on", "third"],
        &["firmware-entry", "Larkspur"],
    ] {
        let error = machine.fails(2, &[&["entry", "add"], args].concat());
        all.push_str(&format!("{}\n  {error}", args.join(" ")));
    }
    insta::assert_snapshot!(all);
    assert_eq!(machine.read("menu.toml"), OWN);
}

#[test]
fn an_edit_after_which_nothing_starts_a_system_is_refused() {
    let machine = TestMachine::small();
    machine.write("menu.toml", &menu("", &[LARK, MERIDIAN]));
    let words = ["entry", "edit", "meridian", "program=uuid:0A0A-0001/EFI/larkspur/lkload.efi"];
    let before = machine.read("menu.toml");
    let said = machine.fails(3, &words);
    assert!(said.contains("last-way") && said.contains("Meridian Desktop 4"), "{said}");
    assert_eq!(machine.read("menu.toml"), before);
    machine.ok(&[&words[..], &["--despite", "last-way"]].concat());
    assert!(!machine.read("menu.toml").contains("EFI/meridian"));
}
