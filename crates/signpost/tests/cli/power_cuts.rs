//! The power goes at every sector of every run that changes a machine. What the built program wrote is recorded as the kernel
//! was asked for it; each beginning of that, its last write torn too, is put on the machine as it was before, and lived with.

mod recording;

use self::recording::{Change, Cut, cuts, record, replay};
use crate::bios::{gauge_bench, hurt};
use crate::bios_menu::lathe_bench;
use crate::cuts::{BENCHES, Bench, State, state};
use crate::fsck;
use crate::harness::TestMachine;
use crate::homes::with_sectors;

/// A run that changes a machine.
struct Trial<'a> {
    name: String,
    /// The machine as it is before.
    made: &'a TestMachine,
    args: Vec<&'a str>,
    /// ESPs to be checked: images, and where the volume lies in them, in bytes.
    esps: Vec<(&'a str, std::ops::Range<usize>)>,
    undone: Undone,
}

/// What `undo` brings back.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Undone {
    /// All that was before.
    Whole,
    /// What started before: a boot program that an entry names stays.
    Starts,
    /// It would undo an earlier step.
    Nothing,
}

/// Whether the last step is an undoing that came to its end: another one would undo the step before.
fn is_undone_whole(machine: &TestMachine) -> bool {
    let records = machine.json(&["history"])["records"].clone();
    let last = records.as_array().unwrap().last().cloned().unwrap_or_default();
    last["action"].to_string().contains("undo") && last["progress"] == "done"
}

/// What starts by itself, by rehearsal; whether anything does, and in words.
fn starts(machine: &TestMachine) -> (bool, String) {
    let outcome = machine.json(&["rehearse"])["outcome"].clone();
    (outcome["kind"] == "starts", outcome["text"].as_str().unwrap().to_string())
}

impl Trial<'_> {
    /// Tries every cut, or every so many of them; how many it were.
    #[expect(clippy::print_stdout, reason = "the figures are asked for with --nocapture")]
    fn run(&self, stride: usize) -> usize {
        let place = self.made.copy();
        let before = starts(&place);
        let state_before = (self.undone == Undone::Whole).then(|| state(&place));
        let changes = record(place.folder(), &self.args);
        let wrote = changes.iter().any(|change| matches!(change, Change::Wrote { .. }));
        assert!(wrote, "{}: nothing was written", self.name);
        let after = starts(&place);
        let whole = place.everything();
        // The recording is what happened: the whole of it makes what the run made.
        place.become_like(self.made);
        replay(&changes, place.folder(), Cut { changes: changes.len(), bytes: 0 });
        assert!(place.everything() == whole, "{}: the recording is not the run", self.name);
        let all = cuts(&changes);
        let tried: Vec<Cut> = all.iter().copied().step_by(stride).collect();
        for cut in &tried {
            let what = format!("{}, {cut:?} of {}", self.name, changes.len());
            place.become_like(self.made);
            replay(&changes, place.folder(), *cut);
            place.ok(&["survey"]);
            assert_ne!(place.run(&["check"]).code, 4, "{what}: it can be looked at");
            let now = starts(&place);
            assert!(now == before || now == after, "{what}: {now:?}; {before:?} or {after:?}");
            for (image, range) in &self.esps {
                fsck::finds_nothing_worse(&place.path(image), range.clone(), &what);
            }
            if self.args[0] != "undo" || !is_undone_whole(&place) {
                place.ok(&self.args);
            }
            assert_eq!(starts(&place), after, "{what}: the same command goes on to the end");
            if self.undone != Undone::Nothing {
                place.ok(&["undo", "--yes"]);
                assert_eq!(starts(&place), before, "{what}: undone");
            }
            if let Some(state_before) = &state_before {
                assert_same(&state(&place), state_before, &format!("{what}: undone"));
            }
        }
        println!("{}: {} cuts of {} tried, all survived", self.name, tried.len(), all.len());
        tried.len()
    }
}

/// Two states, compared piece by piece, since whole they are too long to be shown.
fn assert_same(now: &State, before: &State, what: &str) {
    assert_eq!(now.0, before.0, "{what}");
    let names = |state: &State| -> Vec<String> {
        state.1.iter().map(|file| String::from_utf8_lossy(&file[..12.min(file.len())]).into_owned()).collect()
    };
    assert_eq!(names(now), names(before), "{what}");
    assert!(now.1 == before.1, "{what}: a file of ours holds something else");
    assert_eq!(now.2, before.2, "{what}");
}

/// Whether the environment asks for every cut; else it is a part of them.
fn is_every() -> bool {
    std::env::var("SIGNPOST_EVERY_CUT").is_ok()
}

fn stride(stride: usize) -> usize {
    if is_every() { 1 } else { stride }
}

/// A bench with a menu that lies ready; where another is active already, the program itself has applied that.
fn made(bench: Bench) -> TestMachine {
    let (made, _) = Bench { is_second: false, ..bench }.make();
    if bench.is_second {
        made.ok(&apply(bench, &made).iter().map(String::as_str).collect::<Vec<_>>());
        bench.put_menu(&made, "timeout = 3");
    }
    made
}

/// How the menu of a bench is applied.
fn apply(bench: Bench, machine: &TestMachine) -> Vec<String> {
    let program = machine.path("program.efi").display().to_string();
    let more: &[&str] = match bench.host {
        "signpost" => &["--boot-program", &program, "--home", "uuid:0A0A-0001"],
        _ => &[],
    };
    ["apply", "--yes"].iter().chain(more).map(ToString::to_string).collect()
}

/// The small bench's ESPs.
fn esps(bench: Bench) -> Vec<(&'static str, std::ops::Range<usize>)> {
    vec![("lark.img", bench.esp()), ("meridian.img", 1 << 20..5 << 20)]
}

#[test]
fn an_apply_and_its_undo_survive_a_cut_anywhere() {
    let mut count = 0;
    for esp_mebibytes in if is_every() { vec![4, 16, 40] } else { vec![4] } {
        for bench in BENCHES.map(|bench| Bench { esp_mebibytes, ..bench }) {
            let made = made(bench);
            let args = apply(bench, &made);
            let args: Vec<&str> = args.iter().map(String::as_str).collect();
            let name = format!("apply, {bench:?}");
            let trial = Trial { name, made: &made, args, esps: esps(bench), undone: Undone::Whole };
            count += trial.run(stride(97));
            let applied = made.copy();
            applied.ok(&trial.args);
            let name = format!("undo, {bench:?}");
            let args = vec!["undo", "--yes"];
            let undo = Trial { name, made: &applied, args, esps: esps(bench), undone: Undone::Nothing };
            count += undo.run(stride(97));
        }
    }
    println!("{count} cuts");
}

/// A machine on which a menu of ours is active.
fn applied() -> TestMachine {
    let made = made(BENCHES[1]);
    made.ok(&apply(BENCHES[1], &made).iter().map(String::as_str).collect::<Vec<_>>());
    made.ok(&["survey"]);
    made
}

/// Both slots are written over, another system is first, and the boot program is gone where that is wanted.
fn hurt_menu(machine: &TestMachine, is_program_gone: bool) {
    let program = signpost_place::boot_program::sha256(&std::fs::read(machine.path("program.efi")).unwrap());
    let program = format!("/EFI/signpost/{}.EFI", program[..8].to_uppercase());
    let slots = ["A", "B"].map(|slot| (format!("/EFI/signpost/MENU-{slot}.TML"), vec![0x5a; 65536]));
    let gone: &[&str] = if is_program_gone { &[&program] } else { &[] };
    signpost_demo::change_fat(&machine.path("lark.img"), BENCHES[0].esp(), &slots, gone).unwrap();
    let mut order = machine.boot().order;
    order.reverse();
    machine.put(&signpost_firmware::boot_variables::boot_order(&order));
}

#[test]
fn every_other_run_survives_a_cut_anywhere() {
    let whole = applied();
    let (without_menu, without_program) = (whole.copy(), whole.copy());
    hurt_menu(&without_menu, false);
    hurt_menu(&without_program, true);
    let program = without_program.path("program.efi").display().to_string();
    let on_both = whole.copy();
    on_both.write("menu.toml", &on_both.read("menu.toml").replace("[menu]\n", "[menu]\nhomes = 2\n"));
    let apply = ["apply", "--yes", "--boot-program", &program];
    let mut count = 0;
    for (made, args, undone) in [
        (&on_both, &apply[..], Undone::Whole),
        (&without_menu, &["hold"][..], Undone::Nothing),
        (&without_program, &["mend", "--yes", "--boot-program", &program], Undone::Starts),
        (&whole, &["apply", "--remove", "--yes", "--despite", "last-way"], Undone::Whole),
        (&whole, &["once", "meridian"], Undone::Nothing),
        (&whole, &["firmware", "order", "0001", "--yes"], Undone::Whole),
    ] {
        let (name, args) = (args.join(" "), args.to_vec());
        count += Trial { name, made, args, esps: esps(BENCHES[0]), undone }.run(stride(61));
    }
    println!("{count} cuts");
}

#[test]
fn every_change_of_a_bios_machines_sectors_survives_a_cut_anywhere() {
    let whole = gauge_bench();
    let lost_code = gauge_bench();
    hurt(&lost_code, 0, &[0xfa; 440]);
    let none_active = gauge_bench();
    hurt(&none_active, 446, &[0]);
    let saved = tempfile::tempdir().unwrap();
    let file = saved.path().join("d1.bin").display().to_string();
    whole.ok(&["sector", "save", "d1", &file]);
    let applied = whole.copy();
    applied.ok(&["sector", "active", "d1p2", "--yes"]);
    for (name, made, args) in [
        ("standard code", &lost_code, vec!["sector", "standard", "d1", "--yes"]),
        ("first sector restored", &lost_code, vec!["sector", "restore", &file, "d1", "--yes"]),
        ("table restored", &none_active, vec!["sector", "restore", &file, "d1", "--table", "--yes"]),
        ("another active", &whole, vec!["sector", "active", "d1p2", "--yes"]),
        ("mend", &none_active, vec!["mend", "--yes"]),
        ("undo", &applied, vec!["undo", "--yes"]),
    ] {
        Trial { name: name.into(), made, args, esps: Vec::new(), undone: Undone::Nothing }.run(stride(11));
    }
}

/// Until the first sector is written, and that is one sector, what started before starts; then the menu does.
#[test]
fn a_menu_on_a_bios_machine_survives_a_cut_anywhere() {
    let whole = lathe_bench();
    let program = whole.path("program.img").display().to_string();
    let applied = whole.copy();
    let words = |words: &[&'static str]| -> Vec<String> {
        words.iter().map(ToString::to_string).chain(["--boot-program".into(), program.clone()]).collect()
    };
    let apply = words(&["apply", "--yes"]);
    applied.ok(&apply.iter().map(String::as_str).collect::<Vec<_>>());
    applied.ok(&["survey"]);
    let lost_code = applied.copy();
    hurt(&lost_code, 0, &[0xfa; 440]);
    let mend = words(&["mend", "--yes"]);
    let on_both = with_sectors();
    let plain = |words: &[&str]| words.iter().map(ToString::to_string).collect::<Vec<String>>();
    let mut count = 0;
    for (name, made, args, undone) in [
        ("apply on BIOS", &whole, apply.clone(), Undone::Starts),
        ("apply to two disks", &on_both, apply.clone(), Undone::Starts),
        ("undo on BIOS", &applied, plain(&["undo", "--yes"]), Undone::Nothing),
        ("mend of the first sector", &lost_code, mend, Undone::Starts),
        ("once on BIOS", &applied, plain(&["once", "one"]), Undone::Nothing),
        ("remove on BIOS", &applied, plain(&["apply", "--remove", "--yes"]), Undone::Starts),
    ] {
        let args = args.iter().map(String::as_str).collect();
        count += Trial { name: name.into(), made, args, esps: Vec::new(), undone }.run(stride(61));
    }
    println!("{count} cuts");
}
