//! What every changing command promises, on made machines: what it prints as the next start is what a rehearsal then says;
//! no system loses its last way without a refusal; the same command again writes nothing; undo brings back every byte that
//! is ours.

use std::cell::Cell;
use std::collections::BTreeSet;

use proptest::prelude::*;
use proptest::test_runner::{Config, TestRunner};
use signpost_demo::program::{Kernel, Program};
use signpost_demo::{BenchSpec, Content, StoreKind};
use signpost_firmware::boot_variables::{boot_next, boot_option, boot_order};
use signpost_firmware::load_option::{LoadOption, LoadOptionAttributes};
use signpost_firmware::variable::Contents;

use crate::harness::{TestMachine, file, lark_disk, lark_files, meridian_disk, meridian_files, small};

/// What a machine is made of.
#[derive(Clone, Debug)]
struct Shape {
    is_fd: bool,
    has_root: bool,
    has_loader: bool,
    /// Load options: what each leads to, and whether it is enabled.
    options: Vec<(u8, bool)>,
    next: bool,
    host: &'static str,
    timeout: &'static str,
    default: u8,
    /// What is done, one after the other.
    commands: Vec<u8>,
}

fn shapes() -> impl Strategy<Value = Shape> {
    let options = prop::collection::vec((0u8..6, prop::bool::weighted(0.8)), 1..5);
    let settings = (
        prop::sample::select(vec!["signpost", "firmware"]),
        prop::sample::select(vec!["0", "3", "\"never\""]),
    );
    (
        any::<bool>(),
        any::<bool>(),
        prop::bool::weighted(0.8),
        options,
        prop::bool::weighted(0.2),
        settings,
        0u8..4,
        prop::collection::vec(0u8..16, 1..5),
    )
        .prop_map(|(is_fd, has_root, has_loader, options, next, (host, timeout), default, commands)| {
            Shape { is_fd, has_root, has_loader, options, next, host, timeout, default, commands }
        })
}

fn spec(shape: &Shape) -> BenchSpec {
    let mut files = lark_files();
    if !shape.has_loader {
        files.retain(|(path, _)| !path.ends_with("lkload.efi"));
    }
    let (mut lark, meridian) = (lark_disk(files), meridian_disk(meridian_files()));
    if shape.has_root {
        let files = vec![
            file("/etc/os-release", b"ID=larkspur\nPRETTY_NAME=\"Larkspur Linux 14\"\n".to_vec()),
            file("/boot/vmlinuz-6.9.4", Kernel::new("6.9.4").build("Larkspur")),
            file("/boot/initrd-6.9.4", b"initrd".to_vec()),
        ];
        lark.partitions[1].content = Content::Fat { label: "ROOT", serial: 0x0f0f_0001, files };
    }
    let mut stale = meridian.clone();
    stale.partitions[0].guid = signpost_disk::guid!("dddddddd-0001-4000-8000-000000000001");
    let path = |which: u8| match which {
        0 => lark.path_to(1, "\\EFI\\larkspur\\lkload.efi"),
        1 => meridian.path_to(1, "\\EFI\\meridian\\start.efi"),
        2 => meridian.path_to(1, "\\EFI\\BOOT\\BOOTX64.EFI"),
        3 => lark.path_to(1, "\\EFI\\gone\\gone.efi"),
        4 => stale.path_to(1, "\\EFI\\meridian\\start.efi"),
        _ => meridian.path_to(1, "\\EFI\\MERIDIAN\\START.EFI"),
    };
    let mut variables = Vec::new();
    for (number, (which, is_enabled)) in (0u16..).zip(&shape.options) {
        let mut option = LoadOption::new(&format!("Entry {number}"), path(*which), vec![]);
        if !is_enabled {
            option.attributes = LoadOptionAttributes::empty();
        }
        variables.push(boot_option(number, &option));
    }
    variables.push(boot_order(&(0..shape.options.len() as u16).collect::<Vec<_>>()));
    if shape.next {
        variables.push(boot_next(0));
    }
    let store = if shape.is_fd { StoreKind::Fd } else { StoreKind::Folder };
    BenchSpec { disks: vec![lark, meridian], variables, ..small(store) }
}

/// The words of a command.
fn words(machine: &TestMachine, which: u8) -> Vec<String> {
    let program = machine.path("program.efi").display().to_string();
    let apply = ["apply".to_string(), "--boot-program".into(), program.clone()];
    let line: Vec<String> = match which {
        0..=2 => return [&apply[..], &["--yes".into()]].concat(),
        3 => return [&apply[..], &["--yes".into(), "--home".into(), "label:MERIDIAN".into()]].concat(),
        4 => "apply --remove --yes".split(' ').map(String::from).collect(),
        5 => "firmware tidy --yes".split(' ').map(String::from).collect(),
        6 => "firmware remove 0 --yes".split(' ').map(String::from).collect(),
        7 => "firmware remove 1 --yes".split(' ').map(String::from).collect(),
        8 => "firmware order 1".split(' ').map(String::from).collect(),
        9 => "firmware next 1".split(' ').map(String::from).collect(),
        10 => "firmware use 0 off".split(' ').map(String::from).collect(),
        11 => "firmware use 1 on".split(' ').map(String::from).collect(),
        12 => "firmware rename 1 Another".split(' ').map(String::from).collect(),
        13 => "once meridian".split(' ').map(String::from).collect(),
        14 => "once --clear".split(' ').map(String::from).collect(),
        _ => "hold".split(' ').map(String::from).collect(),
    };
    line
}

fn systems_with_a_way(machine: &TestMachine) -> BTreeSet<String> {
    let survey = machine.json(&["survey"]);
    let systems = survey["systems"].as_array().unwrap().clone();
    let has_way = |system: &&serde_json::Value| !system["ways"].as_array().unwrap().is_empty();
    systems.iter().filter(has_way).map(|system| system["id"].as_str().unwrap().to_string()).collect()
}

/// Variables and files of the home volumes; what is only noted beside them is not part of how the machine starts.
fn state(machine: &TestMachine) -> (Vec<String>, Vec<Vec<u8>>) {
    let Contents { mut variables, .. } = machine.variables();
    variables.sort_by(|a, b| a.name.cmp(&b.name));
    let variables = variables.iter().map(|variable| format!("{variable:?}")).collect();
    (variables, ours(machine))
}

/// Every file of ours on the two ESPs.
pub fn ours(machine: &TestMachine) -> Vec<Vec<u8>> {
    use signpost_disk::block::SharedDevice;
    use signpost_disk::fat::FatVolume;
    use signpost_disk::file_system::FileSystem;
    let mut files = Vec::new();
    for image in ["lark.img", "meridian.img"] {
        let bytes = std::fs::read(machine.path(image)).unwrap();
        let esp: SharedDevice = std::sync::Arc::new(bytes[1 << 20..].to_vec());
        let volume = FatVolume::open(esp).unwrap();
        let mut names: Vec<String> =
            volume.list("/EFI/signpost").unwrap_or_default().into_iter().map(|item| item.name).collect();
        names.sort();
        for name in names.iter().filter(|name| !name.starts_with('.')) {
            let bytes = volume.read(&format!("/EFI/signpost/{name}"), 8 << 20).unwrap();
            // The copies of steps tell of every one; that they are there is what counts.
            let bytes = if name == "STEPS.JSN" { Vec::new() } else { bytes };
            files.push([name.as_bytes(), &bytes].concat());
        }
    }
    files
}

/// How many commands went which way, so that the promises are known to have been put to the test.
#[derive(Default)]
struct Seen {
    carried_out: Cell<usize>,
    refused: Cell<usize>,
    undone: Cell<usize>,
    told: Cell<usize>,
}

/// The promises, held on one machine.
fn held(shape: &Shape, seen: &Seen) -> Result<(), TestCaseError> {
    let machine = TestMachine::new(&spec(shape));
    std::fs::write(machine.path("program.efi"), Program::new("Signpost").boot_program().build()).unwrap();
    machine.ok(&["draft", "--host", shape.host]);
    machine.ok(&["tune", &format!("timeout={}", shape.timeout.trim_matches('"'))]);
    let ids: Vec<String> = machine.json(&["menu"])["entries"]
        .as_array()
        .unwrap()
        .iter()
        .map(|entry| entry["id"].as_str().unwrap().to_string())
        .collect();
    if let Some(id) = ids.get(usize::from(shape.default)) {
        let _ = machine.run(&["tune", &format!("default={id}")]);
    }
    for which in &shape.commands {
        let words = words(&machine, *which);
        let words: Vec<&str> = words.iter().map(String::as_str).collect();
        let (before, ways) = (state(&machine), systems_with_a_way(&machine));
        let steps = steps(&machine);
        let run = machine.run(&words);
        if run.code != 0 {
            prop_assert!(matches!(run.code, 2..=4), "{words:?}: {}{}", run.stdout, run.stderr);
            seen.refused.set(seen.refused.get() + 1);
            prop_assert_eq!(
                state(&machine),
                before,
                "{:?} was refused and changed something: {}",
                words,
                run.stderr
            );
            continue;
        }
        seen.carried_out.set(seen.carried_out.get() + 1);
        let rehearsed = machine.json(&["rehearse"])["outcome"]["text"].as_str().unwrap().to_string();
        let next = run.stdout.lines().find_map(|line| line.strip_prefix("Next start  "));
        if let Some(next) = next {
            seen.told.set(seen.told.get() + 1);
            prop_assert_eq!(next, rehearsed.as_str(), "{:?}: {}", words, run.stdout);
        }
        let lost: Vec<String> = ways.difference(&systems_with_a_way(&machine)).cloned().collect();
        prop_assert!(lost.is_empty(), "{words:?} lost {lost:?}: {}", run.stdout);
        let after = state(&machine);
        let _ = machine.run(&words);
        prop_assert_eq!(state(&machine), after.clone(), "{:?} again wrote something", words);
        // What counts once, and what hold corrects, is not a step that is undone by itself.
        if steps == self::steps(&machine) || matches!(words[0], "once" | "hold") {
            continue;
        }
        let undone = machine.run(&["undo", "--yes"]);
        if undone.code == 0 {
            prop_assert_eq!(state(&machine), before, "undo of {:?}: {}", words, undone.stdout);
            let rehearsed = machine.json(&["rehearse"])["outcome"]["text"].as_str().unwrap().to_string();
            prop_assert_eq!(undone.stdout.lines().last().unwrap(), format!("Next start  {rehearsed}"));
            seen.undone.set(seen.undone.get() + 1);
            let _ = machine.run(&words);
        } else {
            prop_assert_eq!(undone.code, 3, "{}", undone.stderr);
        }
    }
    Ok(())
}

/// Records that are there.
fn steps(machine: &TestMachine) -> usize {
    machine.json(&["history"])["records"].as_array().unwrap().len()
}

#[test]
fn every_changing_command_keeps_its_promises() {
    let seen = Seen::default();
    let mut runner = TestRunner::new_with_rng(
        Config { cases: 40, ..Config::default() },
        proptest::test_runner::TestRng::deterministic_rng(proptest::test_runner::RngAlgorithm::ChaCha),
    );
    runner.run(&shapes(), |shape| held(&shape, &seen)).unwrap();
    let counts = [&seen.carried_out, &seen.told, &seen.refused, &seen.undone].map(Cell::get);
    assert!(counts.iter().all(|count| *count >= 10), "{counts:?}");
}
