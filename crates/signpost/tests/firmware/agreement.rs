//! Benches made from a seed: each rehearsed, each started, what started compared.
//!
//! `SIGNPOST_SEEDS=FROM..TO` chooses the seeds; 10 of them without it.

pub mod generate;
pub mod roots;

use generate::generate;
pub use generate::{Dice, Made, generate_drafted};
use signpost_menu::slot::{SLOT_NAMES, Slot};

use crate::harness::TestMachine;
use crate::vm::Vm;

/// What a start came to: the title that ran, the options it was handed, size and checksum of its initrd; or
/// that the menu waits; or that the firmware comes to its own screen.
#[derive(Debug, PartialEq, Eq)]
pub enum Came {
    Started { title: String, options: String, initrd: String },
    Waits,
    Nothing,
}

/// The seeds that a variable of the environment names, else these.
pub fn seeds(variable: &str, else_these: &str) -> Vec<u64> {
    let range = std::env::var(variable).unwrap_or_else(|_| else_these.into());
    let (from, to) = range.split_once("..").unwrap_or_else(|| panic!("{variable}=FROM..TO"));
    let seeds: Vec<u64> = (from.parse().unwrap()..to.parse().unwrap()).collect();
    assert!(!seeds.is_empty(), "{variable} names none");
    seeds
}

#[test]
fn rehearsal_and_firmware_agree() {
    let seeds = seeds("SIGNPOST_SEEDS", "0..10");
    // Two machines at a time: they wait for each other's processor more than they gain.
    let halves: Vec<Vec<u64>> =
        vec![seeds.iter().step_by(2).copied().collect(), seeds.iter().skip(1).step_by(2).copied().collect()];
    let wrong: Vec<String> = std::thread::scope(|scope| {
        let runs: Vec<_> = halves
            .into_iter()
            .map(|seeds| {
                scope.spawn(move || {
                    seeds.into_iter().filter_map(|seed| compare(seed).err()).collect::<Vec<_>>()
                })
            })
            .collect();
        runs.into_iter().flat_map(|run| run.join().unwrap()).collect()
    });
    println!("agreement: {} of {}", seeds.len() - wrong.len(), seeds.len());
    assert!(wrong.is_empty(), "{}", wrong.join("\n\n"));
}

#[expect(clippy::print_stdout, reason = "whoever runs many seeds sees each disagreement when it is found")]
fn compare(seed: u64) -> Result<(), String> {
    let made = generate(seed);
    let machine = TestMachine::new(&made.complete());
    made.finish(machine.folder());
    if made.is_drafted {
        apply_a_draft(&machine);
    }
    for change in &made.changes {
        let words: Vec<&str> =
            ["firmware", "--yes"].into_iter().chain(change.iter().map(String::as_str)).collect();
        let run = machine.run(&words);
        // What names no entry, or a guard refuses, changes nothing.
        if !matches!(run.code, 0 | 2 | 3) {
            return Err(format!("seed {seed}, {change:?}: {}", run.stderr));
        }
    }
    let rehearsed = machine.json(&["rehearse"]);
    let expected = expected(&made, &rehearsed["outcome"]);
    let images: Vec<&str> = made.spec.disks.iter().map(|disk| disk.image).collect();
    let (came, serial) = really(&machine, &images, &expected);
    if came == expected {
        return Ok(());
    }
    // Its bench is kept, for whoever looks for the cause.
    let kept = std::env::temp_dir().join(format!("signpost-seed-{seed}"));
    let _ = std::fs::remove_dir_all(&kept);
    copy(machine.folder(), &kept);
    println!(
        "seed {seed}, {:?}: rehearsed {expected:?}, came {came:?}; its bench is kept in {}",
        made.roots,
        kept.display()
    );
    let menu = std::fs::read(machine.path("menu.txt")).unwrap_or_default();
    Err(format!(
        "seed {seed}, {:?}: rehearsed {expected:?}, came {came:?}\n{rehearsed:#}\n{}\n{serial}",
        made.changes,
        String::from_utf8_lossy(&menu)
    ))
}

/// Each command that changes a machine says before what starts after it, and looks afterwards.
#[test]
fn what_is_forecast_is_what_comes() {
    let seeds = seeds("SIGNPOST_SEEDS", "6..12");
    let (mut wrong, mut done) = (Vec::new(), 0);
    for seed in &seeds {
        let made = generate(*seed);
        let machine = TestMachine::new(&made.complete());
        made.finish(machine.folder());
        if made.is_drafted {
            apply_a_draft(&machine);
        }
        let changes =
            made.changes.iter().map(|change| [&["firmware".to_string()], change.as_slice()].concat());
        let others = ["mend", "firmware tidy", "undo", "hold", "undo", "once menu", "draft", "apply", "undo"];
        let others = others.map(|words| words.split(' ').map(str::to_string).collect());
        for words in changes.chain(others) {
            let words: Vec<&str> = words.iter().map(String::as_str).chain(["--yes", "--json"]).collect();
            let run = machine.run(&words);
            let said: serde_json::Value = serde_json::from_str(&run.stdout).unwrap_or_default();
            done += usize::from(run.code == 0);
            if said["error"]["code"] == "not-read-back" {
                wrong.push(format!("seed {seed}, {words:?}: {}", run.stderr));
            }
        }
    }
    assert!(done > 4 * seeds.len(), "{done} commands did something");
    assert!(wrong.is_empty(), "{}", wrong.join("\n\n"));
}

/// The menu as the program itself makes it of what is there.
pub fn apply_a_draft(machine: &TestMachine) {
    let built = std::path::Path::new(env!("CARGO_BIN_EXE_signpost"))
        .parent()
        .unwrap()
        .join("../boot/signpost-x64.efi");
    machine.ok(&["draft", "--host", "signpost"]);
    machine.ok(&["tune", "timeout=1"]);
    let run = machine.run(&["apply", "--yes", "--boot-program", built.to_str().unwrap()]);
    // Where no system can be started, no menu is applied.
    assert!(matches!(run.code, 0 | 3), "{}", run.stderr);
}

fn copy(from: &std::path::Path, to: &std::path::Path) {
    std::fs::create_dir_all(to).unwrap();
    for entry in std::fs::read_dir(from).unwrap() {
        let path = entry.unwrap().path();
        let target = to.join(path.file_name().unwrap());
        if path.is_dir() {
            copy(&path, &target);
        } else {
            std::fs::copy(&path, target).unwrap();
        }
    }
}

/// What the rehearsal said, in the words that a made-up system uses.
pub fn expected(made: &Made, outcome: &serde_json::Value) -> Came {
    let text = outcome["text"].as_str().unwrap();
    match outcome["kind"].as_str().unwrap() {
        "starts" => {
            // Of clones either may start; what they say is the same.
            let place = text.split(", from ").nth(1).unwrap().split(", or ").next().unwrap();
            let notes: Vec<&str> =
                outcome["notes"].as_array().unwrap().iter().map(|note| note.as_str().unwrap()).collect();
            let noted =
                |key: &str| notes.iter().filter_map(|note| note.strip_prefix(key)).collect::<Vec<_>>();
            Came::Started {
                title: made.title_at(place),
                options: noted("arguments: ").concat(),
                initrd: made.joined_initrd(place, &noted("initrd: ")),
            }
        }
        "waits" | "waits-as-asked" => Came::Waits,
        "nothing" | "built-in" => Came::Nothing,
        other => panic!("{other}: {text}"),
    }
}

pub fn really(machine: &TestMachine, images: &[&str], expected: &Came) -> (Came, String) {
    let mut vm = Vm::start(machine.folder(), images);
    if *expected == Came::Waits {
        // The keys' line stands under every menu; a menu that counts says so.
        vm.wait_for("? help");
        vm.type_keys("p\r");
    }
    if *expected == Came::Nothing {
        // Firmware setup, or its built-in shell, which end nothing by themselves.
        vm.wait_until(|serial| {
            let text = String::from_utf8_lossy(serial);
            text.contains("Boot Manager")
                || text.contains("Shell>")
                || text.contains("UEFI Interactive Shell")
                || text.contains("STARTED")
        });
        return (Came::Nothing, String::new());
    }
    let serial = vm.until_it_ends();
    let line = |key: &str| serial.lines().filter_map(|line| line.trim().strip_prefix(key)).next_back();
    let came = match line("STARTED ") {
        Some(title) => Came::Started {
            title: title.to_string(),
            options: line("OPTIONS").unwrap_or_default().trim().to_string(),
            initrd: line("INITRD ").unwrap_or_default().to_string(),
        },
        None => Came::Waits,
    };
    (came, serial)
}

#[test]
fn seeds_cover_what_they_are_meant_to() {
    let all: Vec<Made> = (0..200).map(generate).collect();
    let count = |has: &dyn Fn(&Made) -> bool| all.iter().filter(|made| has(made)).count();
    let disks = |number: usize| count(&|made| made.spec.disks.len() == number);
    assert!(disks(2) > 20 && disks(3) > 20 && disks(4) > 20);
    let variable =
        |name: &str| count(&|made| made.spec.variables.iter().any(|variable| variable.name.name == name));
    for name in ["BootNext", "SignpostOnce", "SignpostDefault", "SignpostLast", "SignpostTries"] {
        assert!(variable(name) > 10, "{name}: {}", variable(name));
    }
    let broken =
        |made: &Made| SLOT_NAMES.iter().zip(&made.slots).any(|(_, bytes)| Slot::decode(bytes).is_err());
    assert!(count(&broken) > 20);
    for kind in [roots::Root::Xfs, roots::Root::Ntfs, roots::Root::Lvm, roots::Root::Mirror] {
        assert!(count(&|made| made.roots.contains(&kind)) > 20, "{kind:?}");
    }
    assert!(count(&|made| !made.mbr.is_empty()) > 60 && count(&|made| made.is_drafted) > 20);
    assert!(count(&|made| made.spec.disks.iter().any(|disk| disk.image == "e.img")) > 8);
    for part in
        ["tries = ", "starts = \"group\"", "label = \"Short\"", "starts = \"restart\"", "last-started"]
    {
        assert!(count(&|made| made.text.contains(part)) > 8, "{part}");
    }
    for change in ["add", "order", "next", "enable", "disable", "remove", "tidy"] {
        let made = count(&|made| made.changes.iter().any(|words| words[0] == change));
        assert!(made > 8, "{change}: {made}");
    }
    assert!(count(&|made| made.text.contains("newest:")) > 100);
    assert!(count(&|made| made.text.contains("timeout = 0")) > 20);
    assert!(count(&|made| made.text.contains("nowhere")) > 10);
}
