//! The finer work on a menu: noise, images and recipes, an editor, what a shell offers.

use signpost_demo::{StoreKind, tide};

use crate::harness::{LARK, MERIDIAN, TestMachine, file, lark_files, menu, program};

const SPARE: &str = "id = \"spare\"\nstarts = \"efi\"\nprogram = \"uuid:0b0b-0001/EFI/BOOT/BOOTX64.EFI\"";

fn tide_bench() -> TestMachine {
    let machine = TestMachine::new(&tide::bench(StoreKind::Fd));
    machine.ok(&["draft", "--host", "signpost"]);
    machine
}

#[test]
fn noise_is_listed_with_reasons_and_never_holds_the_last_way() {
    let mut files = lark_files();
    let loader = files[0].1.clone();
    files.push(file("/EFI/larkspur/rescue.efi", signpost_demo::program::Program::new("R").build()));
    files.push(file("/EFI/larkspur/fbx64.efi", signpost_demo::program::Program::new("F").build()));
    files.push(file("/EFI/copy/lkload.efi", loader));
    let mut spec = crate::harness::small(StoreKind::Folder);
    spec.disks[0] = crate::harness::lark_disk(files);
    let machine = TestMachine::new(&spec);
    let lark =
        |id: &str, path: &str| format!("id = \"{id}\"\nstarts = \"efi\"\nprogram = \"uuid:0a0a-0001{path}\"");
    let entries = [
        SPARE,
        LARK,
        MERIDIAN,
        &lark("again", "/EFI/LARKSPUR/LKLOAD.EFI"),
        &lark("copy", "/EFI/copy/lkload.efi"),
        &lark("old", "/EFI/larkspur12/lkload.efi"),
        &lark("rescue", "/EFI/larkspur/rescue.efi"),
        &lark("fallback", "/EFI/larkspur/fbx64.efi"),
        "id = \"kernel\"\nstarts = \"linux\"\nvolume = \"uuid:0a0a-0001\"\nkernel = \"/EFI/larkspur/vmlinuz-6.9.1\"",
        "id = \"empty\"\nstarts = \"group\"",
        "id = \"off\"\nstarts = \"power-off\"",
    ];
    machine.write("menu.toml", &menu("default = \"lark\"", &entries));
    let before = machine.read("menu.toml");
    insta::assert_snapshot!(machine.ok(&["entry", "noise"]));
    machine.fails(3, &["entry", "noise", "--remove"]);
    machine.ok(&["entry", "noise", "--hide", "--dry-run"]);
    assert_eq!(machine.read("menu.toml"), before, "nothing goes without a yes");
    machine.ok(&["entry", "noise", "--hide", "--yes"]);
    let text = machine.read("menu.toml");
    assert!(
        text.contains("[[hide]]\nentry = \"again\"\nwhy = \"a second way to the same loader as lark\"\n"),
        "{text}"
    );
    assert_eq!(machine.ok(&["entry", "noise"]), "No entry is only noise.\n");
    // The fallback path alone is a last way, and so no noise.
    machine.write("menu.toml", &menu("", &[LARK, SPARE]));
    assert_eq!(machine.ok(&["entry", "noise"]), "No entry is only noise.\n");
}

#[test]
fn a_system_in_an_image_is_added_by_a_recipe_and_rehearsed() {
    let machine = tide_bench();
    let said = machine.ok(&["entry", "add", "image", "d3p2:/systems/lantern.img"]);
    assert!(said.contains("\"Lantern Live 3\": the image on d3p2, by recipe lantern-live"), "{said}");
    let text = machine.read("menu.toml");
    let args = format!(
        "args    = \"lantern.volume=UUID={} lantern.image=/systems/lantern.img ro\"",
        tide::STORE_UUID
    );
    assert!(text.contains(&args) && text.contains("image   = \"uuid:41f0d8e6"), "{text}");
    std::fs::write(
        machine.path("program.efi"),
        signpost_demo::program::Program::new("Signpost").boot_program().build(),
    )
    .unwrap();
    let program = machine.path("program.efi");
    machine.ok(&["apply", "--yes", "--boot-program", program.to_str().unwrap()]);
    let outcome = machine.json(&["rehearse", "--choose", "lantern-live-3"])["outcome"].clone();
    assert_eq!(outcome["system"], "lantern", "{outcome}");
    assert_eq!(outcome["notes"][0], "initrd: /boot/initrd-6.8.2-lantern");
    let draft = machine.ok(&["draft"]);
    assert!(
        draft.contains("nothing new") && !draft.contains("Lantern"),
        "what is in the menu needs no line: {draft}"
    );
}

const RECIPES: &str = r#"format = 1
[[recipe]]
id = "gauges"
title = "Larkspur with its gauges"
for = "linux"
volumes = { gauges = "label:LARK-ES" }
args = "root={root} gauges={gauges.uuid} part={volume.partition}"

[[recipe]]
id = "ghost"
title = "x"
for = "image"
kernel = ["/boot/ghost"]
args = "{image.lable}"
"#;

#[test]
fn a_recipe_that_cannot_be_filled_says_what_was_looked_for_and_what_is_there() {
    let machine = tide_bench();
    machine.write("recipes/more.toml", RECIPES);
    let image = "d3p2:/systems/lantern.img";
    let mut said = String::new();
    for args in [
        &["linux", "--on", "d1p2", "--recipe", "gauges"][..],
        &["linux", "--on", "d1p2", "--recipe", "gouges"],
        &["image", image, "--recipe", "ghost"],
        &["image", image, "--recipe", "image-by-iso-scan"],
        &["image", "d3p2:/systems/lantern.iso"],
        &["image", "d3p2:/tides/2026.csv"],
        &["image", "d1p2:/etc/os-release"],
    ] {
        said.push_str(&machine.fails(2, &[&["entry", "add"], args].concat()));
    }
    insta::assert_snapshot!(said);
    machine.write("recipes/more.toml", &RECIPES.replace("LARK-ES\"", "LARK-ESP\""));
    machine.ok(&["entry", "add", "linux", "--on", "d1p2", "--recipe", "gauges", "--title", "With gauges"]);
    let text = machine.read("menu.toml");
    assert!(text.contains("args    = \"root={root} gauges=4F2A-11C9 part=2\""), "{text}");
    machine.write("recipes/more.toml", "format = 1\n[[recipe]]\nid = \"x\"\n");
    let error = machine.fails(4, &["entry", "recipes"]);
    assert!(error.contains("recipes/more.toml") && error.contains("line 2"), "{error}");
}

#[test]
fn places_by_number_become_places_that_hold() {
    let machine = TestMachine::small();
    machine.write("menu.toml", &menu("", &[LARK, MERIDIAN]));
    machine.ok(&["entry", "edit", "meridian", "program=d2p1:/EFI/BOOT/BOOTX64.EFI"]);
    assert!(machine.read("menu.toml").contains("program = \"uuid:0B0B-0001/EFI/BOOT/BOOTX64.EFI\""));
    let error = machine.fails(2, &["entry", "edit", "meridian", "program=d9p1:/x"]);
    assert!(error.contains("there are d1p1, d1p2, d2p1"), "{error}");
}

/// Runs the program with a script for an editor; its standard error and code.
fn edited(machine: &TestMachine, script: &str) -> (String, i32) {
    let mut command = program();
    let editor = format!("sh -c '{script}' editor");
    command.env("PATH", "/usr/bin:/bin").env("EDITOR", editor).arg("--machine").arg(machine.folder());
    let output = command.args(["entry", "edit", "lark", "--editor"]).output().unwrap();
    (String::from_utf8(output.stderr).unwrap(), output.status.code().unwrap())
}

#[test]
fn an_entrys_text_is_edited_and_checked_before_it_is_taken() {
    let machine = TestMachine::small();
    let own = format!("# the gauge's\n[[entry]]\n{LARK}\n");
    machine.write("menu.toml", &format!("format = 1\n\n{own}\n[[entry]]\n{MERIDIAN}\n# the end\n"));
    let (said, code) = edited(&machine, "cat $1 > $1.seen; sed -i \"s/Larkspur/Lark/; s/gauge/plotter/\" $1");
    assert_eq!((said.as_str(), code), ("", 0));
    let expected = own.replace("\"Larkspur\"", "\"Lark\"").replace("gauge", "plotter");
    let text = machine.read("menu.toml");
    assert_eq!(text, format!("format = 1\n\n{expected}\n[[entry]]\n{MERIDIAN}\n# the end\n"));
    for (script, message) in [
        ("sed -i s/efi/efy/ $1", "starts is \"efy\"; did you mean \"efi\"?"),
        ("echo [[entry]] >> $1", "the text is not one [[entry]] section"),
        ("echo [menu] >> $1", "the text is not one [[entry]] section"),
        ("echo = >> $1", "the entry does not read"),
        ("false", "the editor"),
        ("true", "Nothing was changed."),
    ] {
        let (said, _) = edited(&machine, script);
        assert!(said.contains(message), "{script}: {said}");
        assert_eq!(machine.read("menu.toml"), text, "{script}");
    }
}

#[test]
fn two_commands_at_once_lose_nothing() {
    let machine = TestMachine::small();
    machine.write("menu.toml", &menu("", &[LARK, MERIDIAN]));
    let titles = ["a", "b", "c", "d", "e", "f"];
    std::thread::scope(|scope| {
        for title in titles {
            let machine = &machine;
            scope.spawn(move || while machine.run(&["entry", "add", "group", title]).code != 0 {});
        }
    });
    let ids = machine.json(&["menu"])["entries"].to_string();
    for title in titles {
        assert!(ids.contains(&format!("\"id\":\"{title}\"")), "{title}: {ids}");
    }
}

/// What bash is offered for the last of these words.
pub fn offered(machine: &TestMachine, words: &[&str]) -> Vec<String> {
    let mut command = program();
    let bench = machine.folder().to_str().unwrap();
    let all = [&["signpost", "--machine", bench], words].concat();
    command.env("COMPLETE", "bash").env("_CLAP_COMPLETE_INDEX", (all.len() - 1).to_string());
    command.env("_CLAP_IFS", "\n").env("_CLAP_COMPLETE_COMP_TYPE", "9").env("_CLAP_COMPLETE_SPACE", "true");
    let output = command.arg("--").args(all).output().unwrap();
    String::from_utf8(output.stdout).unwrap().lines().map(str::to_string).collect()
}

#[test]
fn shells_are_offered_ids_and_keys_of_the_menu_file() {
    let machine = TestMachine::small();
    machine.write(
        "menu.toml",
        &(menu("timeout = \"wrong\"", &[LARK, MERIDIAN]) + "\n[[hide]]\nsystem = \"Larkspur 12\"\n"),
    );
    assert_eq!(offered(&machine, &["entry", "rename", "m"]), ["meridian"], "a file with errors helps too");
    assert_eq!(offered(&machine, &["once", "me"]), ["meridian", "menu"]);
    assert_eq!(offered(&machine, &["tune", "ti"]), ["timeout="]);
    assert_eq!(offered(&machine, &["tune", "default=l"]), ["default=lark"]);
    assert_eq!(offered(&machine, &["tune", "--reset", "show"]), ["show"]);
    assert!(offered(&machine, &["entry", "no"]).contains(&"noise".to_string()));
    machine.write("menu.toml", &machine.read("menu.toml").replace("\"wrong\"", "3"));
    assert_eq!(offered(&machine, &["entry", "reveal", "L"]), ["Larkspur 12"]);
    for shell in ["bash", "zsh", "fish"] {
        let script = machine.ok(&["completions", shell]);
        assert!(script.contains("COMPLETE") && script.contains("signpost"), "{shell}: {script}");
    }
}
