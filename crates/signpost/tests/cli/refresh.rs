//! Refreshing a menu: three sides, of which the hand that changed the file always wins.

use signpost_demo::program::{Kernel, Program};
use signpost_demo::{BenchSpec, StoreKind};

use crate::harness::{TestMachine, file, lark_disk, meridian_disk, meridian_files, small};

/// A Linux system whose root the firmware reads, with these kernels.
pub fn tidewater(release: &str, kernels: &[&str], options: &str) -> Vec<(String, Vec<u8>)> {
    let mut files =
        vec![file("/etc/os-release", release.into()), file("/etc/kernel/cmdline", options.into())];
    for version in kernels {
        files.push(file(&format!("/boot/vmlinuz-{version}"), Kernel::new(version).build("Tidewater")));
        files.push(file(&format!("/boot/initrd-{version}"), b"initrd".to_vec()));
    }
    files
}

const RELEASE: &str = "ID=tidewater\nPRETTY_NAME=\"Tidewater RT 5\"\n";

fn spec(files: Vec<(String, Vec<u8>)>) -> BenchSpec {
    BenchSpec { disks: vec![lark_disk(files), meridian_disk(meridian_files())], ..small(StoreKind::Folder) }
}

fn drafted(kernels: &[&str]) -> TestMachine {
    let machine = TestMachine::new(&spec(tidewater(RELEASE, kernels, "root=LABEL=TIDE quiet")));
    machine.ok(&["draft", "--host", "signpost"]);
    machine
}

fn ids(machine: &TestMachine) -> Vec<String> {
    let entries = machine.json(&["menu"])["entries"].clone();
    entries.as_array().unwrap().iter().map(|entry| entry["id"].as_str().unwrap().to_string()).collect()
}

#[test]
fn older_kernels_and_single_user_starts_stand_in_groups() {
    let machine = drafted(&["5.4", "5.10", "5.9"]);
    assert_eq!(
        ids(&machine),
        [
            "tidewater",
            "meridian",
            "tidewater-older",
            "tidewater-5.9",
            "tidewater-5.4",
            "tidewater-single",
            "tidewater-single-newest",
            "tidewater-single-5.9",
            "tidewater-single-5.4",
        ]
    );
    let text = machine.read("menu.toml");
    assert!(text.contains("title   = \"Tidewater, older kernels\""), "{text}");
    assert!(text.contains("args    = \"root=LABEL=TIDE quiet single\""), "{text}");
}

#[test]
fn a_new_kernel_comes_in_its_place_and_an_old_one_goes_unless_somebody_changed_it() {
    let machine = drafted(&["5.4", "5.9", "5.10"]);
    machine.ok(&["entry", "rename", "tidewater-5.4", "The one that works"]);
    machine.ok(&["entry", "edit", "tidewater-5.4", "args=root=LABEL=TIDE debug"]);
    spec(tidewater(RELEASE, &["5.10", "5.11"], "root=LABEL=TIDE quiet")).write(machine.folder()).unwrap();
    let draft = machine.json(&["draft"]);
    let gone: Vec<&str> =
        draft["changed"].as_array().unwrap().iter().map(|line| line["id"].as_str().unwrap()).collect();
    assert_eq!(gone, ["tidewater-single-5.9", "tidewater-single-5.4", "tidewater-5.9"]);
    assert_eq!(draft["gone"][0]["id"], "tidewater-5.4", "{draft}");
    assert_eq!(
        ids(&machine),
        [
            "tidewater",
            "meridian",
            "tidewater-older",
            "tidewater-5.10",
            "tidewater-5.4",
            "tidewater-single",
            "tidewater-single-newest",
            "tidewater-single-5.10",
        ]
    );
    let text = machine.read("menu.toml");
    assert!(text.contains("# gone: d1p1 has no file /boot/vmlinuz-5.4"), "{text}");
    assert!(machine.ok(&["draft"]).contains("nothing new"));
    assert_eq!(machine.read("menu.toml"), text, "a second refresh changes nothing");
    spec(tidewater(RELEASE, &["5.4", "5.11"], "root=LABEL=TIDE quiet")).write(machine.folder()).unwrap();
    machine.ok(&["draft"]);
    assert!(!machine.read("menu.toml").contains("# gone:"), "the mark goes when the kernel is back");
}

#[test]
fn what_both_sides_changed_stays_as_the_person_wrote_it() {
    let machine = drafted(&["5.4"]);
    machine.ok(&["entry", "edit", "tidewater", "args=root=LABEL=TIDE quiet nosmt"]);
    machine.ok(&["entry", "edit", "tidewater-single-newest", "title=Repair"]);
    let newer = RELEASE.replace("RT 5", "RT 6");
    spec(tidewater(&newer, &["5.4"], "root=LABEL=TIDE loud")).write(machine.folder()).unwrap();
    let said = machine.ok(&["draft"]);
    insta::assert_snapshot!(said);
    let text = machine.read("menu.toml");
    for line in
        ["title   = \"Tidewater RT 6\"", "args    = \"root=LABEL=TIDE quiet nosmt\"", "title   = \"Repair\""]
    {
        assert!(text.contains(line), "{line}\n{text}");
    }
    assert!(
        text.contains("args    = \"root=LABEL=TIDE loud single\""),
        "what nobody touched is refreshed: {text}"
    );
    assert!(machine.ok(&["draft"]).contains("nothing new"), "and comes once");
}

#[test]
fn removed_fields_and_entries_stay_removed_until_they_are_asked_for() {
    let machine = drafted(&["5.4", "5.9"]);
    let error = machine.fails(2, &["entry", "remove", "tidewater-older"]);
    assert!(
        error.contains(
            "tidewater-older is a group with tidewater-5.4 in it; `signpost entry move tidewater-5.4 out`"
        ),
        "{error}"
    );
    machine.ok(&["entry", "edit", "tidewater", "--drop", "initrd"]);
    machine.ok(&["entry", "remove", "tidewater-5.4"]);
    machine.ok(&["entry", "remove", "meridian", "--despite", "last-way"]);
    let before = machine.read("menu.toml");
    let said = machine.ok(&["draft"]);
    assert!(said.contains("Meridian Desktop 4: taken out of the menu by hand"), "{said}");
    assert_eq!(machine.read("menu.toml"), before);
    machine.ok(&["draft", "--offer-removed"]);
    assert_eq!(ids(&machine)[..4], ["tidewater", "meridian", "tidewater-older", "tidewater-5.4"]);
    assert!(
        machine.read("menu.toml").matches("initrd  =").count() < 4,
        "a removed field is not a removed entry"
    );
}

#[test]
fn what_was_hidden_is_offered_again_once_it_is_revealed() {
    let machine = drafted(&["5.4"]);
    machine.ok(&["entry", "hide", "meridian", "--why", "not ours", "--despite", "last-way"]);
    assert!(machine.ok(&["draft"]).contains("Meridian Desktop 4: hidden in the menu file"));
    machine.ok(&["entry", "reveal", "meridian"]);
    assert!(machine.ok(&["draft"]).contains("meridian  Meridian Desktop 4"));
    machine.ok(&["entry", "hide", "uuid:0b0b-0001/EFI/*/*.efi"]);
    machine.ok(&["entry", "remove", "meridian", "--despite", "last-way"]);
    let said = machine.ok(&["draft"]);
    assert!(said.contains("Meridian Desktop 4: hidden"), "a pattern covers every loader of it: {said}");
}

#[test]
fn another_way_to_start_replaces_the_old_one_where_nobody_changed_it() {
    let machine = drafted(&["5.4"]);
    machine.ok(&["entry", "move", "tidewater", "bottom"]);
    let mut spec = spec(tidewater(RELEASE, &["5.4"], "root=LABEL=TIDE quiet"));
    spec.more = "secure-boot = true\n".into();
    spec.disks[0] = {
        let mut files = tidewater(RELEASE, &["5.4"], "root=LABEL=TIDE quiet");
        let loader = Program::new("Tidewater").build();
        files.push(file("/EFI/tidewater/load.efi", loader));
        lark_disk(files)
    };
    spec.write(machine.folder()).unwrap();
    let draft = machine.json(&["draft"]);
    let changed = draft["changed"].to_string();
    assert!(changed.contains("starts in another way now: its own loader"), "{changed}");
    assert_eq!(ids(&machine), ["meridian", "tidewater"], "groups need kernels that start directly");
    let text = machine.read("menu.toml");
    assert!(text.contains("program = \"uuid:0A0A-0001/EFI/tidewater/load.efi\""), "{text}");
}

/// Whatever a start adds to its arguments is for that start.
#[test]
fn a_draft_after_any_start_of_the_menu_changes_nothing() {
    let machine = TestMachine::new(&signpost_demo::tide::bench(StoreKind::Folder));
    let described = machine.read("machine.toml");
    let runs_with = |line: &str| {
        let running = format!("[running]\ncommand-line = \"{line}\"");
        machine.write("machine.toml", &described.replace("[running]", &running));
    };
    let root = "root=UUID=7c0e4b1a-52d3-4f86-9a1e-0d3b6c8f2e14";
    // Before there is a menu of ours, what the system runs with is what it needs.
    runs_with(&format!("BOOT_IMAGE=/boot/vmlinuz {root} ro splash"));
    machine.ok(&["draft", "--host", "signpost"]);
    machine.ok(&["tune", "kernel.args=panic=30"]);
    let drafted = machine.read("menu.toml");
    assert!(drafted.contains(&format!("args    = \"{root} ro splash\"")), "{drafted}");
    let program = machine.path("program.efi");
    let made = Program::new("Signpost").boot_program().build();
    std::fs::write(&program, made).unwrap();
    machine.ok(&["apply", "--yes", "--boot-program", program.to_str().unwrap()]);
    for more in ["", "single", "init=/bin/sh", "systemd.unit=rescue.target debug"] {
        runs_with(&format!("{root} ro splash {more} panic=30"));
        machine.ok(&["draft"]);
        assert_eq!(machine.read("menu.toml"), drafted, "started with {more}");
    }
    // Started by something else, without what the menu says: that is news.
    runs_with(&format!("{root} ro"));
    assert!(machine.ok(&["draft", "--dry-run"]).contains("args is"));
}

/// The moments between two good states: a kernel is there, its initrd is not yet, or only begun. Nothing is learned from them.
#[test]
fn an_update_that_is_half_done_changes_no_entry() {
    for (host, initrd) in
        [("signpost", None), ("signpost", Some(vec![])), ("firmware", None), ("firmware", Some(vec![]))]
    {
        let state = |versions: &[&str], more: Vec<(String, Vec<u8>)>| {
            let mut files = tidewater(RELEASE, versions, "root=LABEL=TIDE quiet");
            files.extend(more);
            TestMachine::new(&spec(files))
        };
        let machine = state(&["5.9", "5.10"], vec![]);
        machine.ok(&["draft", "--host", host]);
        let before = machine.read("menu.toml");
        let mut half = vec![file("/boot/vmlinuz-5.11", Kernel::new("5.11").build("Tidewater"))];
        half.extend(initrd.map(|bytes| file("/boot/initrd-5.11", bytes)));
        let now = state(&["5.9", "5.10"], half);
        std::fs::copy(now.path("lark.img"), machine.path("lark.img")).unwrap();
        let said = machine.ok(&["draft"]);
        assert_eq!(machine.read("menu.toml"), before, "{host}");
        assert!(said.contains("an update seems to be under way"), "{host}: {said}");
        // Once it is whole, it is the newest.
        let now = state(&["5.9", "5.10", "5.11"], vec![]);
        std::fs::copy(now.path("lark.img"), machine.path("lark.img")).unwrap();
        let said = machine.ok(&["draft"]);
        assert!(!said.contains("under way"), "{host}: {said}");
        let entry = machine.json(&["menu"])["entries"][0].clone();
        assert!(entry["starts"].as_str().unwrap().contains("/boot/vmlinuz-5.11"), "{host}: {entry}");
    }
}

/// A menu file that is begun from the menu that is active gets nothing twice, its groups no more than its systems.
#[test]
fn what_the_active_menu_has_is_not_offered_again_to_a_file_that_begins_with_it() {
    let machine = TestMachine::new(&signpost_demo::tide::bench(StoreKind::Folder));
    std::fs::write(machine.path("program.efi"), Program::new("Signpost").boot_program().build()).unwrap();
    machine.ok(&["draft", "--host", "signpost"]);
    machine.ok(&["apply", "--yes", "--boot-program", machine.path("program.efi").to_str().unwrap()]);
    let drafted = machine.read("menu.toml");
    assert!(drafted.contains("starts = \"group\"") || drafted.contains("\"group\""), "{drafted}");
    for file in ["menu.toml", "last-draft.json"] {
        std::fs::remove_file(machine.path(file)).unwrap();
    }
    let again = machine.json(&["draft"]);
    assert_eq!(again["added"], serde_json::json!([]), "{again:#}");
    assert_eq!(machine.read("menu.toml"), drafted);
}
