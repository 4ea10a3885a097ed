//! Every kind of change, killed before each of its writes and within them: the machine still starts, the same command again
//! finishes it, and undo brings back what was there.

use std::cell::Cell;
use std::os::unix::fs::FileExt;
use std::panic::{AssertUnwindSafe, catch_unwind, resume_unwind};
use std::sync::Arc;

use signpost_core::check::{Case, check};
use signpost_core::firmware;
use signpost_core::history::Action;
use signpost_core::hold::hold;
use signpost_core::mend::{Asked, mend};
use signpost_core::once::once;
use signpost_core::plan::{Wishes, pass, plan, remove};
use signpost_core::undo::undo;
use signpost_demo::StoreKind;
use signpost_demo::program::Program;
use signpost_disk::fat::{self, FatVolume};
use signpost_facts::Code;
use signpost_facts::change::Change;
use signpost_firmware::variable::Contents;
use signpost_machine::Machine;
use signpost_place::boot_program::BootProgram;
use signpost_survey::catalogue::Catalogue;
use signpost_upkeep::{Records, carry_out, kept, look, menu_file};

use crate::harness::{LARK, MERIDIAN, TestMachine, menu, small};
use crate::promises::ours;

/// A kind of change.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Step {
    Apply,
    Undo,
    Hold,
    Mend,
    Remove,
    Once,
    /// Meridian's own entry is put first.
    First,
}

/// What a step would write, and what it is.
fn planned(machine: &Machine, folder: &TestMachine, step: Step) -> (Records, Action, Vec<Change>) {
    let look = look(machine, &Catalogue::built_in());
    let records = Records::of(machine, &look).unwrap();
    let history = records.history();
    let bytes = std::fs::read(folder.path("program.efi")).unwrap();
    let program = || Some(BootProgram::new(bytes.clone()));
    let held = || kept::held(machine, history).unwrap();
    let (action, writes, refusals) = match step {
        Step::Apply => {
            let menu = menu_file::load(&folder.path("menu.toml")).unwrap();
            let plan = plan(&look, &menu, history, &Wishes { boot_program: program(), home: None }).unwrap();
            (Action::Apply, plan.writes, plan.refusals)
        }
        Step::Undo => {
            let undo = undo(&look, history, None).unwrap();
            (Action::Undo { of: undo.of }, undo.writes, undo.refusals)
        }
        Step::Hold => {
            let plan = hold(&look, history, held().as_ref(), Some(bytes.clone())).unwrap();
            (Action::Hold, plan.writes, plan.refusals)
        }
        Step::Mend => {
            let held = held();
            let menu_path = folder.path("menu.toml");
            let menu = menu_file::load(&menu_path).unwrap();
            let case = Case {
                look: &look,
                history,
                held: held.as_ref(),
                menu_path: &menu_path,
                menu: Some(Ok(&menu)),
                base: kept::base(machine, &menu_path),
                program: program(),
            };
            let plan = mend(&case, &check(&case), &Asked::default()).unwrap();
            (Action::Mend, plan.writes, plan.refusals)
        }
        Step::Remove => {
            let plan = remove(&look, history).unwrap();
            (Action::Remove, plan.writes, plan.refusals)
        }
        Step::Once => {
            let menu = menu_file::load(&folder.path("menu.toml")).unwrap();
            let plan = once(&look, history, Some(&menu.document), Some("meridian")).unwrap();
            (Action::Once, plan.writes, Vec::new())
        }
        Step::First => {
            let change = firmware::change(&look, history, &firmware::Wish::Order(vec![1])).unwrap();
            (Action::Firmware, change.writes, change.refusals)
        }
    };
    // What ours alone starts is given up with it: somebody says so.
    pass(&refusals, |refusal| step == Step::Remove && refusal.code == Code::LastWay).unwrap();
    (records, action, writes)
}

/// Carries out a step, and is killed before the write of this number; whether it came to its end.
fn carried_out(folder: &TestMachine, step: Step, killed_before: Option<usize>) -> bool {
    let mut machine = Machine::open_bench(folder.folder()).unwrap();
    let (mut records, action, writes) = planned(&machine, folder, step);
    let done = Cell::new(0);
    let kill = || {
        // A kill leaves no time to note anything.
        if killed_before == Some(done.get()) {
            resume_unwind(Box::new("killed"));
        }
        done.set(done.get() + 1);
        false
    };
    let run = || carry_out(&mut machine, &mut records, action, &writes, &kill).unwrap();
    catch_unwind(AssertUnwindSafe(run)).is_ok()
}

type State = (Contents, Vec<Vec<u8>>, String);

fn state(folder: &TestMachine) -> State {
    let mut variables = folder.variables();
    variables.variables.sort_by(|a, b| a.name.cmp(&b.name));
    let starts = folder.json(&["rehearse"])["outcome"]["text"].as_str().unwrap().to_string();
    (variables, ours(folder), starts)
}

/// A machine that a step is tried on.
#[derive(Clone, Copy, Debug)]
struct Bench {
    host: &'static str,
    /// Whether a menu was applied before.
    is_second: bool,
    /// How large Larkspur's ESP is: of these sizes one is FAT12, one FAT16, one FAT32.
    esp_mebibytes: u64,
}

const BENCHES: [Bench; 4] = [
    Bench { host: "signpost", is_second: false, esp_mebibytes: 4 },
    Bench { host: "signpost", is_second: true, esp_mebibytes: 4 },
    Bench { host: "firmware", is_second: false, esp_mebibytes: 4 },
    Bench { host: "firmware", is_second: true, esp_mebibytes: 4 },
];

/// Where a step is killed: before its write of this number, or so many sectors into it.
type Cut = (usize, usize);

impl Bench {
    /// A menu that lies ready, and the boot program that comes with it.
    fn put_menu(self, folder: &TestMachine, head: &str) {
        std::fs::write(folder.path("program.efi"), Program::new(head).boot_program().build()).unwrap();
        let host = format!("host = \"{}\"", self.host);
        folder.write("menu.toml", &menu(head, &[LARK, MERIDIAN]).replace("host = \"firmware\"", &host));
    }

    /// The machine with the next menu ready, and what it is before that is applied.
    fn make(self) -> (TestMachine, State) {
        let mut spec = small(StoreKind::Folder);
        spec.disks[0].partitions[0].mebibytes = self.esp_mebibytes;
        let folder = TestMachine::new(&spec);
        if self.is_second {
            self.put_menu(&folder, "timeout = 3");
            assert!(carried_out(&folder, Step::Apply, None));
        }
        let before = state(&folder);
        self.put_menu(&folder, "timeout = 9\ndefault = \"meridian\"");
        (folder, before)
    }

    /// Larkspur's ESP in its image, in bytes.
    fn esp(self) -> std::ops::Range<usize> {
        1 << 20..(1 + self.esp_mebibytes as usize) << 20
    }

    /// The sectors that a write puts into the image as it is now, in their order; none, where it writes no file.
    fn sectors(self, folder: &TestMachine, write: &Change) -> Vec<(u64, Vec<u8>)> {
        let Change::File(write) = write else { return Vec::new() };
        let image = std::fs::read(folder.path("lark.img")).unwrap();
        let volume = FatVolume::open(Arc::new(image[self.esp()].to_vec())).unwrap();
        let change = write.after.as_deref().map_or(fat::Change::Remove, fat::Change::Put);
        volume.change(&write.path, change, fat::Stamp::default()).unwrap()
    }

    /// Every place where a step can be cut that was not begun yet, or every so many sectors of them.
    fn cuts(self, folder: &TestMachine, step: Step, stride: usize) -> Vec<Cut> {
        let folder = folder.copy();
        let writes = planned(&Machine::open_bench(folder.folder()).unwrap(), &folder, step).2;
        let mut cuts = Vec::new();
        for (number, write) in writes.iter().enumerate() {
            let sectors = self.sectors(&folder, write).len().max(1);
            cuts.extend((0..sectors).step_by(stride).map(|sector| (number, sector)));
            // What the next write finds, and so what it writes, is what this one left.
            let machine = Machine::open_bench(folder.folder()).unwrap();
            if let Change::File(file) = write {
                machine.write_file(file.location.unwrap(), &file.path, file.after.as_deref()).unwrap();
            }
        }
        cuts
    }

    /// Carries out a step as far as a cut, and is killed there.
    fn kill(self, folder: &TestMachine, step: Step, (number, sector): Cut) {
        let machine = Machine::open_bench(folder.folder()).unwrap();
        let write = planned(&machine, folder, step).2.swap_remove(number);
        drop(machine);
        assert!(!carried_out(folder, step, Some(number)));
        let sectors = self.sectors(folder, &write);
        let image = std::fs::File::options().write(true).open(folder.path("lark.img")).unwrap();
        for (offset, bytes) in sectors.iter().take(sector) {
            image.write_all_at(bytes, self.esp().start as u64 + offset).unwrap();
        }
    }
}

#[test]
fn an_apply_that_is_killed_anywhere_is_finished_or_undone_as_a_whole() {
    for bench in BENCHES {
        let (made, before) = bench.make();
        let cuts = bench.cuts(&made, Step::Apply, usize::MAX);
        assert!(cuts.len() >= 2, "{cuts:?}");
        for cut in cuts {
            for is_finished in [false, true] {
                let folder = made.copy();
                bench.kill(&folder, Step::Apply, cut);
                if is_finished {
                    assert!(carried_out(&folder, Step::Apply, None));
                }
                assert!(carried_out(&folder, Step::Undo, None));
                assert_eq!(state(&folder), before, "{bench:?}, cut {cut:?}, finished {is_finished}");
            }
        }
    }
}

/// Every so many sectors, or every one where the environment says so.
fn stride(stride: usize) -> usize {
    std::env::var("SIGNPOST_EVERY_CUT").map_or(stride, |_| 1)
}

/// Every kind of FAT, at the first apply and at a later one.
fn every_fat() -> impl Iterator<Item = Bench> {
    [4, 16, 40].into_iter().flat_map(|esp_mebibytes| BENCHES.map(|bench| Bench { esp_mebibytes, ..bench }))
}

#[test]
fn an_apply_that_is_killed_within_a_file_is_finished_and_can_be_undone() {
    let mut count = 0;
    for bench in every_fat() {
        let (made, before) = bench.make();
        for cut in bench.cuts(&made, Step::Apply, stride(89)) {
            let folder = made.copy();
            bench.kill(&folder, Step::Apply, cut);
            assert!(carried_out(&folder, Step::Apply, None));
            assert!(carried_out(&folder, Step::Undo, None));
            assert_eq!(state(&folder), before, "{bench:?}, cut {cut:?}");
            count += 1;
        }
    }
    println!("{count} cuts");
    assert!(count >= 30, "{count}");
}

/// An undo is cut as it undoes an apply that was carried out, and one that was itself killed before each of its writes;
/// and the undo that finishes it is cut once more.
#[test]
fn an_undo_that_is_killed_anywhere_and_its_next_one_too_is_finished_by_the_one_after() {
    let mut count = 0;
    let is_every = std::env::var("SIGNPOST_EVERY_CUT").is_ok();
    for bench in every_fat().filter(|bench| is_every || bench.esp_mebibytes == 4) {
        let (made, before) = bench.make();
        let begun = bench.cuts(&made, Step::Apply, usize::MAX).into_iter().map(Some).chain([None]);
        for (index, applied) in begun.enumerate() {
            let begun = made.copy();
            match applied {
                Some(cut) => bench.kill(&begun, Step::Apply, cut),
                None => assert!(carried_out(&begun, Step::Apply, None)),
            }
            for first in bench.cuts(&begun, Step::Undo, 1) {
                let killed = begun.copy();
                bench.kill(&killed, Step::Undo, first);
                let again = bench.cuts(&killed, Step::Undo, 1);
                // Of the second cuts one is enough where not all are asked for, each time another.
                let second = again.get((index + first.0 + first.1) % again.len().max(1)).copied();
                for second in if is_every { again.into_iter().map(Some).collect() } else { vec![second] } {
                    let folder = killed.copy();
                    if let Some(second) = second {
                        bench.kill(&folder, Step::Undo, second);
                    }
                    assert!(carried_out(&folder, Step::Undo, None));
                    let what = format!("{bench:?}, applied {applied:?}, cuts {first:?} and {second:?}");
                    assert_eq!(state(&folder), before, "{what}");
                    count += 1;
                }
            }
        }
    }
    println!("{count} cuts");
    assert!(count >= 30, "{count}");
}

/// A machine on which a menu is applied, as this kind of change finds it.
fn ready_for(step: Step) -> TestMachine {
    let (folder, _) = BENCHES[0].make();
    let program = folder.path("program.efi").display().to_string();
    folder.ok(&["apply", "--yes", "--boot-program", &program, "--home", "uuid:0A0A-0001"]);
    folder.ok(&["survey"]);
    if matches!(step, Step::Hold | Step::Mend) {
        // The boot program is gone, both slots are written over, and another system is first.
        let esp = BENCHES[0].esp();
        let digest = signpost_place::boot_program::sha256(&std::fs::read(program).unwrap());
        let path = format!("/EFI/signpost/{}.EFI", digest[..8].to_uppercase());
        let slots = ["A", "B"].map(|slot| (format!("/EFI/signpost/MENU-{slot}.TML"), vec![0x5a; 65536]));
        signpost_demo::change_fat(&folder.path("lark.img"), esp, &slots, &[&path]).unwrap();
        let mut order = folder.boot().order;
        order.reverse();
        folder.put(&signpost_firmware::boot_variables::boot_order(&order));
    }
    folder
}

/// What starts, by rehearsal.
fn starts(folder: &TestMachine) -> String {
    let outcome = folder.json(&["rehearse"])["outcome"].clone();
    assert_eq!(outcome["kind"], "starts", "{outcome}");
    outcome["system"].to_string()
}

#[test]
fn every_kind_of_change_starts_wherever_it_is_cut_and_goes_on_to_its_end() {
    let mut count = 0;
    for step in [Step::Hold, Step::Mend, Step::Remove, Step::Once, Step::First] {
        let made = ready_for(step);
        let before = starts(&made);
        let whole = made.copy();
        assert!(carried_out(&whole, step, None));
        let after = starts(&whole);
        for cut in BENCHES[0].cuts(&made, step, stride(41)) {
            let folder = made.copy();
            BENCHES[0].kill(&folder, step, cut);
            let now = starts(&folder);
            assert!(now == before || now == after, "{step:?}, cut {cut:?}: {now}; {before} or {after}");
            assert_ne!(folder.run(&["check"]).code, 4, "{step:?}, cut {cut:?}: it can be looked at");
            // What a start that comes once was to do, a later one does no more.
            assert!(carried_out(&folder, step, None));
            assert_eq!(starts(&folder), after, "{step:?}, cut {cut:?}");
            if step != Step::Hold && step != Step::Once {
                assert!(carried_out(&folder, Step::Undo, None));
                assert_eq!(starts(&folder), before, "{step:?}, cut {cut:?}, undone");
            }
            count += 1;
        }
    }
    println!("{count} cuts");
    assert!(count >= 20, "{count}");
}
