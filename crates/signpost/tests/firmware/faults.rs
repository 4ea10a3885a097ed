//! The fault laboratory: machines made from a seed, a menu drafted and applied, one to three faults injected. `check` has to name
//! each, and nothing on a machine that is whole; `mend` has to cure what can be cured; and the result has to start on real
//! firmware, as the rehearsal says.
//!
//! `SIGNPOST_FAULT_SEEDS=FROM..TO` chooses the seeds; 8 of them without it.

mod kinds;
mod table;

use std::sync::Mutex;

use kinds::{Fault, Lab};
use serde_json::Value;

use crate::agreement::{Came, apply_a_draft, expected, generate_drafted, really, seeds};
use crate::harness::TestMachine;

/// What came of all seeds.
#[derive(Default)]
struct Figures {
    machines: usize,
    false_alarms: Vec<String>,
    injected: usize,
    named: usize,
    mendable: usize,
    mended: usize,
    started: usize,
    kinds: std::collections::BTreeMap<&'static str, usize>,
    wrong: Vec<String>,
}

#[test]
fn what_is_injected_is_named_mended_and_starts() {
    let seeds = seeds("SIGNPOST_FAULT_SEEDS", "0..8");
    let figures = Mutex::new(Figures::default());
    let next = std::sync::atomic::AtomicUsize::new(0);
    std::thread::scope(|scope| {
        for _ in 0..2 {
            scope.spawn(|| {
                while let Some(seed) = seeds.get(next.fetch_add(1, std::sync::atomic::Ordering::Relaxed)) {
                    one(*seed, &figures);
                }
            });
        }
    });
    let figures = figures.into_inner().unwrap();
    println!(
        "faults: {} machines; named {} of {} injected, {} kinds; {} false alarms; mended {} of {}, started {} of {}",
        figures.machines,
        figures.named,
        figures.injected,
        figures.kinds.len(),
        figures.false_alarms.len(),
        figures.mended,
        figures.mendable,
        figures.started,
        figures.mendable
    );
    figures.kinds.iter().for_each(|(kind, count)| println!("  {count:>4}  {kind}"));
    assert!(figures.false_alarms.is_empty(), "{}", figures.false_alarms.join("\n"));
    assert!(figures.wrong.is_empty(), "{}", figures.wrong.join("\n\n"));
}

/// The codes of what is more than untidy.
fn problems(found: &Value) -> Vec<String> {
    let causes = found["causes"].as_array().unwrap();
    let more = causes.iter().filter(|cause| cause["effect"] != "untidy");
    more.map(|cause| cause["code"].as_str().unwrap().to_string()).collect()
}

fn check(machine: &TestMachine) -> Value {
    machine.json(&["check", "--boot-program", &program()])
}

fn program() -> String {
    let built = std::path::Path::new(env!("CARGO_BIN_EXE_signpost")).parent().unwrap();
    built.join("../boot/signpost-x64.efi").display().to_string()
}

fn one(seed: u64, figures: &Mutex<Figures>) {
    let made = generate_drafted(seed);
    let machine = TestMachine::new(&made.complete());
    made.finish(machine.folder());
    apply_a_draft(&machine);
    machine.ok(&["survey"]);
    let whole = check(&machine);
    if whole["starts"] == false {
        // Nothing of it can be started, so no menu was applied.
        return;
    }
    let alarms: Vec<String> =
        problems(&whole).into_iter().filter(|code| !made.may_have().contains(&code.as_str())).collect();
    let mut lab = Lab::new(seed, &machine, &made);
    let faults: Vec<Fault> = lab.inject();
    let hurt = check(&machine);
    let said: Vec<&str> =
        hurt["causes"].as_array().unwrap().iter().map(|cause| cause["code"].as_str().unwrap()).collect();
    let unnamed: Vec<&Fault> =
        faults.iter().filter(|fault| !fault.codes.iter().any(|code| said.contains(code))).collect();
    let felt = |found: &Value| {
        let causes = found["causes"].as_array().unwrap().clone();
        let effects = ["cannot-tell", "nothing-starts", "starts-other", "system-lost"];
        causes.into_iter().filter(move |cause| effects.contains(&cause["effect"].as_str().unwrap()))
    };
    let can_be = felt(&hurt).all(|cause| !cause["cures"].as_array().unwrap().is_empty());
    let run = machine.run(&["mend", "--yes", "--boot-program", &program()]);
    let left: Vec<String> = felt(&check(&machine))
        .filter(|cause| !cause["cures"].as_array().unwrap().is_empty())
        .map(|cause| cause["code"].as_str().unwrap().to_string())
        .collect();
    let rehearsed = machine.json(&["rehearse"]);
    let (images, expected) = (lab.images(), expected(&made, &rehearsed["outcome"]));
    let images: Vec<&str> = images.iter().map(String::as_str).collect();
    let (came, serial) = really(&machine, &images, &expected);
    let kinds: Vec<&str> = faults.iter().map(|fault| fault.kind).collect();
    let mut figures = figures.lock().unwrap();
    figures.machines += 1;
    figures.injected += faults.len();
    figures.named += faults.len() - unnamed.len();
    for fault in &faults {
        *figures.kinds.entry(fault.kind).or_default() += 1;
    }
    figures.false_alarms.extend(alarms.into_iter().map(|code| format!("seed {seed}: {code}: {whole:#}")));
    if !unnamed.is_empty() {
        let names: Vec<&str> = unnamed.iter().map(|fault| fault.kind).collect();
        figures.wrong.push(format!("seed {seed}: {names:?} of {kinds:?} not named; said {said:?}\n{hurt:#}"));
    }
    if can_be {
        figures.mendable += 1;
        let is_mended = run.code < 2 && left.is_empty();
        figures.mended += usize::from(is_mended);
        if !is_mended {
            figures.wrong.push(format!(
                "seed {seed}: {kinds:?} not mended ({}), left {left:?}: {}{}",
                run.code, run.stdout, run.stderr
            ));
        }
        let does_start = matches!(came, Came::Started { .. }) && came == expected;
        figures.started += usize::from(does_start);
        if !does_start {
            figures
                .wrong
                .push(format!("seed {seed}: {kinds:?}: rehearsed {expected:?}, came {came:?}\n{serial}"));
        }
    } else if came != expected {
        figures
            .wrong
            .push(format!("seed {seed}: {kinds:?}: rehearsed {expected:?}, came {came:?}\n{serial}"));
    }
}
