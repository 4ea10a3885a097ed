//! Apply and undo, killed between their writes and within them, and the run that follows killed once more: the one after finishes
//! it as a whole.

use std::cell::Cell;
use std::os::unix::fs::FileExt;
use std::panic::{AssertUnwindSafe, catch_unwind, resume_unwind};
use std::sync::Arc;

use signpost_core::history::Action;
use signpost_core::plan::{Wishes, pass, plan};
use signpost_core::undo::undo;
use signpost_demo::StoreKind;
use signpost_demo::program::Program;
use signpost_disk::fat::{self, FatVolume};
use signpost_facts::change::Change;
use signpost_firmware::variable::Contents;
use signpost_machine::Machine;
use signpost_place::boot_program::BootProgram;
use signpost_survey::catalogue::Catalogue;
use signpost_upkeep::{Records, carry_out, look, menu_file};

use crate::harness::{LARK, MERIDIAN, TestMachine, menu, small};
use crate::promises::ours;

/// A kind of change.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Step {
    Apply,
    Undo,
}

/// What a step would write, and what it is.
fn planned(machine: &Machine, folder: &TestMachine, step: Step) -> (Records, Action, Vec<Change>) {
    let look = look(machine, &Catalogue::built_in());
    let records = Records::of(machine, &look).unwrap();
    let history = records.history();
    let bytes = std::fs::read(folder.path("program.efi")).unwrap();
    let program = || Some(BootProgram::new(bytes.clone()));
    let (action, writes, refusals) = match step {
        Step::Apply => {
            let menu = menu_file::load(&folder.path("menu.toml")).unwrap();
            let plan = plan(&look, &menu, history, &Wishes { boot_program: program(), ..Wishes::default() })
                .unwrap();
            (Action::Apply, plan.writes, plan.refusals)
        }
        Step::Undo => {
            let undo = undo(&look, history, None).unwrap();
            (Action::Undo { of: undo.of }, undo.writes, undo.refusals)
        }
    };
    pass(&refusals, |_| false).unwrap();
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

pub type State = (Contents, Vec<Vec<u8>>, String);

pub fn state(folder: &TestMachine) -> State {
    let mut variables = folder.variables();
    variables.variables.sort_by(|a, b| a.name.cmp(&b.name));
    let starts = folder.json(&["rehearse"])["outcome"]["text"].as_str().unwrap().to_string();
    (variables, ours(folder), starts)
}

/// A machine that a step is tried on.
#[derive(Clone, Copy, Debug)]
pub struct Bench {
    pub host: &'static str,
    /// Whether a menu was applied before.
    pub is_second: bool,
    /// How large Larkspur's ESP is: of these sizes one is FAT12, one FAT16, one FAT32.
    pub esp_mebibytes: u64,
}

pub const BENCHES: [Bench; 4] = [
    Bench { host: "signpost", is_second: false, esp_mebibytes: 4 },
    Bench { host: "signpost", is_second: true, esp_mebibytes: 4 },
    Bench { host: "firmware", is_second: false, esp_mebibytes: 4 },
    Bench { host: "firmware", is_second: true, esp_mebibytes: 4 },
];

/// Where a step is killed: before its write of this number, or so many sectors into it.
type Cut = (usize, usize);

impl Bench {
    /// A menu that lies ready, and the boot program that comes with it.
    pub fn put_menu(self, folder: &TestMachine, head: &str) {
        std::fs::write(folder.path("program.efi"), Program::new(head).boot_program().build()).unwrap();
        let host = format!("host = \"{}\"", self.host);
        folder.write("menu.toml", &menu(head, &[LARK, MERIDIAN]).replace("host = \"firmware\"", &host));
    }

    /// The machine with the next menu ready, and what it is before that is applied.
    pub fn make(self) -> (TestMachine, State) {
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
    pub fn esp(self) -> std::ops::Range<usize> {
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

/// Every kind of FAT, at the first apply and at a later one.
fn every_fat() -> impl Iterator<Item = Bench> {
    [4, 16, 40].into_iter().flat_map(|esp_mebibytes| BENCHES.map(|bench| Bench { esp_mebibytes, ..bench }))
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
