//! Putting a active menu, and taking it back.

use signpost_demo::StoreKind;
use signpost_firmware::boot_variables::{boot_next, boot_option, boot_order, timeout};
use signpost_firmware::load_option::{LoadOption, LoadOptionAttributes};
use signpost_firmware::ucs2::Ucs2;
use signpost_firmware::variable::{Attributes, Variable, VariableName};

use crate::harness::{LARK, MERIDIAN, TestMachine, lark_disk, menu, meridian_disk, small};

fn with_menu(head: &str, entries: &[&str]) -> TestMachine {
    let machine = TestMachine::small();
    machine.write("menu.toml", &menu(head, entries));
    machine
}

fn lark_option() -> LoadOption {
    LoadOption::new("Larkspur", lark_disk(vec![]).path_to(1, "\\EFI\\larkspur\\lkload.efi"), vec![])
}

fn meridian_option() -> LoadOption {
    LoadOption::new("Meridian", meridian_disk(vec![]).path_to(1, "\\EFI\\meridian\\start.efi"), vec![])
}

#[test]
fn entries_become_load_options_and_a_second_apply_writes_nothing() {
    let machine = with_menu("default = \"meridian\"\ntimeout = \"never\"", &[LARK, MERIDIAN]);
    machine.ok(&["apply", "--yes"]);
    let boot = machine.boot();
    assert_eq!(boot.order, [1, 0], "the default first of all");
    assert_eq!(boot.timeout, Some(0xffff));
    assert_eq!(boot.options[&0].decoded, Ok(lark_option()));
    assert_eq!(boot.options[&0].attributes, Attributes::BOOT);
    assert_eq!(boot.options[&1].decoded, Ok(meridian_option()), "adopted as it was");
    let before = machine.everything();
    let said = machine.ok(&["apply", "--yes"]);
    assert!(said.starts_with("The machine is as the menu says; nothing was written."), "{said}");
    assert_eq!(machine.everything(), before);
}

#[test]
fn a_kernel_gets_its_arguments_and_initrds_in_the_optional_data() {
    let linux = "id = \"direct\"\ntitle = \"Larkspur, newest\"\nstarts = \"linux\"\nvolume = \"uuid:0a0a-0001\"\n\
                 kernel = \"newest:/EFI/larkspur/vmlinuz-*\"\ninitrd = \"/EFI/larkspur/initrd-{version}\"\n\
                 root = \"partuuid:aaaaaaaa-0002-4000-8000-000000000002\"\nargs = \"root={root} ro\"";
    let machine = with_menu("", &[linux]);
    machine.write("menu.toml", &format!("{}\n[kernel]\nargs = \"quiet\"\n", machine.read("menu.toml")));
    machine.ok(&["apply", "--yes"]);
    let option = machine.boot().options[&0].decoded.clone().unwrap();
    assert_eq!(option.path.file().as_deref(), Some("\\EFI\\larkspur\\vmlinuz-6.10.2"));
    assert!(option.optional_data.ends_with(&[0, 0]));
    assert_eq!(
        Ucs2::decode_lenient(&option.optional_data).to_string(),
        "root=PARTUUID=aaaaaaaa-0002-4000-8000-000000000002 ro quiet initrd=\\EFI\\larkspur\\initrd-6.10.2"
    );
    let rehearsed = machine.ok(&["rehearse"]);
    assert!(rehearsed.contains("arguments: root=PARTUUID=aaaaaaaa"), "{rehearsed}");
}

#[test]
fn what_the_firmwares_list_cannot_hold_is_left_out_with_a_reason_and_a_way() {
    let xfs = "id = \"xfs\"\nstarts = \"linux\"\nvolume = \"diskid:aaaaaaaa-0000-4000-8000-000000000000#2\"\nkernel = \"/vmlinuz\"";
    let entries = [LARK, xfs, "id = \"off\"\nstarts = \"power-off\"", "id = \"more\"\nstarts = \"group\""];
    let machine = with_menu("show = \"on-key\"", &entries);
    insta::assert_snapshot!(machine.ok(&["plan"]));
}

#[test]
fn ours_change_in_place_and_go_when_the_menu_drops_them() {
    let machine = with_menu("", &[LARK, MERIDIAN]);
    machine.ok(&["apply", "--yes"]);
    machine.write("menu.toml", &menu("", &[&LARK.replace("\"Larkspur\"", "\"Larkspur Linux\""), MERIDIAN]));
    let said = machine.ok(&["apply", "--yes"]);
    assert!(said.contains("change entry 0000 \"Larkspur Linux\"") && said.contains("1 write,"), "{said}");
    machine.write("menu.toml", &menu("", &[MERIDIAN]));
    let error = machine.fails(3, &["apply", "--yes"]);
    assert!(error.contains("refused (last-way): no active entry would start Larkspur any more"), "{error}");
    machine.ok(&["apply", "--yes", "--despite", "last-way"]);
    assert_eq!(machine.boot().order, [1]);
    assert!(!machine.boot().options.contains_key(&0));
    // Meridian was only adopted: without it in the menu it stays.
    machine.write("menu.toml", &menu("", &[LARK]));
    machine.ok(&["apply", "--yes"]);
    assert_eq!(machine.boot().order, [0, 1]);
}

#[test]
fn a_number_that_anything_names_is_not_taken() {
    let machine = with_menu("", &[LARK]);
    machine.put(&boot_order(&[1, 0]));
    machine.put(&boot_next(2));
    machine.put(&Variable { name: VariableName::global("BootCurrent"), ..boot_next(3) });
    machine.ok(&["apply", "--yes"]);
    assert_eq!(machine.boot().order, [4, 1, 0], "numbers without an entry keep their place");
}

#[test]
fn what_others_wrote_over_ours_is_theirs() {
    let machine = with_menu("", &[LARK]);
    machine.ok(&["apply", "--yes"]);
    let theirs =
        LoadOption::new("Update", meridian_disk(vec![]).path_to(1, "\\EFI\\BOOT\\BOOTX64.EFI"), vec![7]);
    machine.put(&boot_option(0, &theirs));
    machine.ok(&["apply", "--yes"]);
    let boot = machine.boot();
    assert_eq!(boot.options[&0].decoded, Ok(theirs));
    assert_eq!((boot.options[&2].decoded.clone(), boot.order), (Ok(lark_option()), vec![2, 0, 1]));
}

#[test]
fn guards_refuse_and_one_can_be_overridden() {
    let unused = "id = \"fw\"\nstarts = \"firmware-entry\"\nlabel = \"Meridian\"";
    let machine = with_menu("", &[unused]);
    let mut inactive = meridian_option();
    inactive.attributes = LoadOptionAttributes::empty();
    machine.put(&boot_option(1, &inactive));
    let before = machine.everything();
    let error = machine.fails(3, &["apply", "--yes"]);
    assert!(
        error.contains("refused (foreign-entry)") && error.contains("--despite foreign-entry"),
        "{error}"
    );
    assert_eq!(machine.run(&["plan"]).code, 3);
    assert_eq!(machine.everything(), before);
    machine.ok(&["apply", "--yes", "--despite", "foreign-entry"]);
    assert_eq!(machine.boot().options[&1].decoded, Ok(meridian_option()));

    let gone = "id = \"gone\"\nstarts = \"efi\"\nprogram = \"uuid:0a0a-0001/EFI/gone.efi\"";
    let machine = with_menu("default = \"gone\"", &[LARK, gone]);
    let error = machine.fails(3, &["apply", "--yes"]);
    assert!(error.contains("refused (default-gone)"), "{error}");
    let error = machine.fails(3, &["apply", "--yes", "--despite", "nothing-starts"]);
    assert!(error.contains("refused (default-gone)"), "only the named guard is overridden: {error}");

    let machine = with_menu("", &["id = \"off\"\nstarts = \"power-off\""]);
    let mut broken = meridian_option();
    broken.path = meridian_disk(vec![]).path_to(1, "\\EFI\\none.efi");
    machine.put(&boot_option(1, &broken));
    let error = machine.fails(3, &["apply", "--yes"]);
    assert!(error.contains("refused (nothing-starts)"), "{error}");
}

#[test]
fn the_entry_that_the_machine_was_started_from_is_not_removed() {
    let machine = with_menu("", &[LARK, MERIDIAN]);
    machine.ok(&["apply", "--yes"]);
    machine.put(&Variable { name: VariableName::global("BootCurrent"), ..boot_next(0) });
    for command in [&["undo", "--yes"][..], &["undo", "--dry-run"]] {
        let error = machine.fails(3, command);
        assert!(error.contains("refused (started-from)"), "{error}");
    }
    machine.write("menu.toml", &menu("", &[MERIDIAN]));
    let error = machine.fails(3, &["apply", "--yes"]);
    assert!(error.contains("refused (started-from)"), "{error}");
}

#[test]
fn nobody_to_ask_is_a_refusal_and_a_dry_run_asks_nothing() {
    let machine = with_menu("", &[LARK]);
    let before = machine.everything();
    let error = machine.fails(3, &["apply"]);
    assert!(error.contains("refused (unconfirmed)") && error.contains("--yes"), "{error}");
    assert!(machine.ok(&["apply", "--dry-run"]).contains("make entry 0000 \"Larkspur\""));
    assert_eq!(machine.everything(), before);
}

/// After each of the writes, cut there, the machine still starts.
#[test]
fn every_prefix_of_the_writes_starts() {
    let machine = with_menu("timeout = 9", &[LARK, MERIDIAN]);
    machine.ok(&["apply", "--yes"]);
    let two = menu(
        "default = \"meridian\"\ntimeout = 3",
        &[MERIDIAN, "id = \"x\"\nstarts = \"efi\"\nprogram = \"uuid:0b0b-0001/EFI/BOOT/BOOTX64.EFI\""],
    );
    machine.write("menu.toml", &two);
    let writes = machine.json(&["plan"])["writes"].as_array().unwrap().clone();
    assert_eq!(writes.len(), 4, "one made, order, timeout, one removed: {writes:?}");
    for write in writes {
        let name = VariableName::global(write["name"].as_str().unwrap());
        match write["after"].as_str() {
            Some(hex) => {
                let data =
                    (0..hex.len()).step_by(2).map(|at| u8::from_str_radix(&hex[at..at + 2], 16).unwrap());
                machine.put(&Variable { name, attributes: Attributes::BOOT, data: data.collect() });
            }
            None => {
                let file = signpost_firmware::store::kernel_file::file_name(&name);
                std::fs::remove_file(machine.path("variables").join(file)).unwrap();
            }
        }
        let rehearsed = machine.json(&["rehearse"]);
        assert_eq!(rehearsed["outcome"]["kind"], "starts", "after {}", write["what"]);
        assert!(rehearsed["outcome"]["entry"].is_string());
    }
    assert_eq!(machine.boot().order, [1, 2]);
}

#[test]
fn undo_keeps_what_the_firmware_and_other_systems_wrote_since() {
    let machine = with_menu("timeout = 9", &[LARK, MERIDIAN]);
    machine.put(&timeout(2));
    machine.ok(&["apply", "--yes"]);
    let theirs =
        LoadOption::new("Update", meridian_disk(vec![]).path_to(1, "\\EFI\\BOOT\\BOOTX64.EFI"), vec![]);
    machine.put(&boot_option(7, &theirs));
    machine.put(&boot_order(&[7, 0, 1, 8]));
    machine.put(&timeout(0));
    let said = machine.ok(&["undo", "--yes"]);
    assert!(said.contains("the timeout was changed since by somebody else; it stays as it is"), "{said}");
    let boot = machine.boot();
    assert_eq!((boot.order.as_slice(), boot.timeout), (&[7, 1, 8][..], Some(0)));
    assert_eq!(boot.options.keys().copied().collect::<Vec<_>>(), [1, 7]);
    assert!(machine.fails(4, &["undo", "--yes"]).contains("there is nothing that could be undone"));
}

#[test]
fn a_record_on_disk_precedes_the_first_write_and_holds_everything() {
    let machine = with_menu("", &[LARK]);
    let before = machine.variables();
    machine.ok(&["apply", "--yes"]);
    let record: serde_json::Value = serde_json::from_str(&machine.read("history/0001.json")).unwrap();
    assert_eq!(record["snapshot"].as_array().unwrap().len(), before.variables.len());
    assert_eq!(record["writes"].as_array().unwrap().len(), 3);
    // Cut in the middle: only the first write was done. Undo undoes that and no more.
    machine.put(&boot_order(&[1]));
    std::fs::remove_file(machine.path("variables/Timeout-8be4df61-93ca-11d2-aa0d-00e098032b8c")).unwrap();
    machine.ok(&["undo", "--yes"]);
    let sorted = |mut contents: Vec<Variable>| {
        contents.sort_by(|a, b| a.name.cmp(&b.name));
        contents
    };
    assert_eq!(sorted(machine.variables().variables), sorted(before.variables));
}

#[test]
fn what_is_not_understood_is_kept_byte_for_byte() {
    for store in [StoreKind::Fd, StoreKind::Folder] {
        let mut spec = small(store);
        let vendor = signpost_disk::guid!("deadbeef-0000-4000-8000-00000000beef");
        let odd = Variable {
            name: VariableName { name: "Ödd".into(), vendor },
            attributes: Attributes::from_bits_retain(0x8000_0027),
            data: (0..=255).collect(),
        };
        let broken = Variable {
            name: VariableName::boot_option(9),
            attributes: Attributes::BOOT,
            data: vec![1, 2, 3],
        };
        spec.variables.extend([odd.clone(), broken.clone()]);
        let machine = TestMachine::new(&spec);
        machine.write("menu.toml", &menu("", &[LARK]));
        machine.ok(&["apply", "--yes"]);
        let now = machine.variables();
        assert_eq!(now.get(&odd.name), Some(&odd));
        assert_eq!(now.get(&broken.name), Some(&broken));
    }
}
