//! A change and its undoing, killed before each of their writes in turn: the same command again finishes it, and undo brings
//! back what was there.

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

/// What a step would write, and what it is.
fn planned(machine: &Machine, folder: &TestMachine, is_undo: bool) -> (Records, Action, Vec<Change>) {
    let look = look(machine, &Catalogue::built_in());
    let records = Records::of(machine, &look).unwrap();
    let history = records.history();
    if is_undo {
        let undo = undo(&look, history, None).unwrap();
        pass(&undo.refusals, |_| false).unwrap();
        return (records, Action::Undo { of: undo.of }, undo.writes);
    }
    let menu = menu_file::load(&folder.path("menu.toml")).unwrap();
    let program = BootProgram::new(std::fs::read(folder.path("program.efi")).unwrap());
    let plan = plan(&look, &menu, history, &Wishes { boot_program: Some(program), home: None }).unwrap();
    pass(&plan.refusals, |_| false).unwrap();
    (records, Action::Apply, plan.writes)
}

/// Carries out a step, and is killed before the write of this number; whether it came to its end.
fn carried_out(folder: &TestMachine, is_undo: bool, killed_before: Option<usize>) -> bool {
    let mut machine = Machine::open_bench(folder.folder()).unwrap();
    let (mut records, action, writes) = planned(&machine, folder, is_undo);
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

/// A menu that lies ready, and the boot program that comes with it.
fn with_menu(folder: &TestMachine, head: &str, host: &str) {
    std::fs::write(folder.path("program.efi"), Program::new(head).boot_program().build()).unwrap();
    folder.write("menu.toml", &menu(head, &[LARK, MERIDIAN]).replace("\"firmware\"", host));
}

/// A machine on which nothing was done yet, or one menu was applied, and what it then is; the next menu lies ready.
fn machine(host: &str, is_second: bool) -> (TestMachine, State) {
    let folder = TestMachine::new(&small(StoreKind::Folder));
    if is_second {
        with_menu(&folder, "timeout = 3", host);
        assert!(carried_out(&folder, false, None));
    }
    let before = state(&folder);
    with_menu(&folder, "timeout = 9\ndefault = \"meridian\"", host);
    (folder, before)
}

/// Every place where a step can be cut.
fn cuts(folder: &TestMachine, is_undo: bool) -> std::ops::Range<usize> {
    let machine = Machine::open_bench(folder.folder()).unwrap();
    0..planned(&machine, folder, is_undo).2.len()
}

#[test]
fn an_apply_that_is_killed_anywhere_is_finished_or_undone_as_a_whole() {
    for (host, is_second) in
        [("\"signpost\"", false), ("\"signpost\"", true), ("\"firmware\"", false), ("\"firmware\"", true)]
    {
        let all = cuts(&machine(host, is_second).0, false);
        assert!(all.len() >= 2, "{all:?}");
        for cut in all {
            for is_finished in [false, true] {
                let (folder, before) = machine(host, is_second);
                assert!(!carried_out(&folder, false, Some(cut)));
                if is_finished {
                    assert!(carried_out(&folder, false, None));
                }
                assert!(carried_out(&folder, true, None));
                let what = format!("{host}, second {is_second}, cut {cut}, finished {is_finished}");
                assert_eq!(state(&folder), before, "{what}");
            }
        }
    }
}

#[test]
fn an_undoing_that_is_killed_anywhere_is_finished_by_the_next_one() {
    for (host, is_second) in
        [("\"signpost\"", false), ("\"signpost\"", true), ("\"firmware\"", false), ("\"firmware\"", true)]
    {
        let applied = || {
            let (folder, before) = machine(host, is_second);
            assert!(carried_out(&folder, false, None));
            (folder, before)
        };
        for cut in cuts(&applied().0, true) {
            let (folder, before) = applied();
            assert!(!carried_out(&folder, true, Some(cut)));
            assert!(carried_out(&folder, true, None));
            assert_eq!(state(&folder), before, "{host}, second {is_second}, cut {cut}");
        }
    }
}

/// Larkspur's ESP in its image, in bytes.
const ESP: std::ops::Range<usize> = 1 << 20..5 << 20;

/// The sectors that a write puts into the image as it is now, in their order; none, where it writes no file.
fn sectors(folder: &TestMachine, write: &Change) -> Vec<(u64, Vec<u8>)> {
    let Change::File(write) = write else { return Vec::new() };
    let image = std::fs::read(folder.path("lark.img")).unwrap();
    let volume = FatVolume::open(Arc::new(image[ESP].to_vec())).unwrap();
    let change = write.after.as_deref().map_or(fat::Change::Remove, fat::Change::Put);
    volume.change(&write.path, change, fat::Stamp::default()).unwrap()
}

/// Carries out a step as far as a write and this many sectors of it, and is killed there; how many sectors the write has.
fn killed_within(folder: &TestMachine, is_undo: bool, number: usize, done: usize) -> usize {
    let write =
        planned(&Machine::open_bench(folder.folder()).unwrap(), folder, is_undo).2.swap_remove(number);
    assert!(!carried_out(folder, is_undo, Some(number)));
    let sectors = sectors(folder, &write);
    let image = std::fs::File::options().write(true).open(folder.path("lark.img")).unwrap();
    for (offset, bytes) in sectors.iter().take(done) {
        image.write_all_at(bytes, ESP.start as u64 + offset).unwrap();
    }
    sectors.len()
}

/// Kills a step within its writes of files, each time so many sectors later, or at every sector where the environment says
/// so; how often.
fn kill_points(is_undo: bool, stride: usize) -> usize {
    let stride = std::env::var("SIGNPOST_EVERY_CUT").map_or(stride, |_| 1);
    let mut count = 0;
    for is_second in [false, true] {
        let prepared = || {
            let (folder, before) = machine("\"signpost\"", is_second);
            if is_undo {
                assert!(carried_out(&folder, false, None));
            }
            (folder, before)
        };
        for number in cuts(&prepared().0, is_undo) {
            let mut done = 1;
            loop {
                let (folder, before) = prepared();
                if done >= killed_within(&folder, is_undo, number, done) {
                    break;
                }
                assert!(carried_out(&folder, is_undo, None));
                if !is_undo {
                    assert!(carried_out(&folder, true, None));
                }
                let what = format!("undo {is_undo}, second {is_second}, write {number}, sector {done}");
                assert_eq!(state(&folder), before, "{what}");
                (done, count) = (done + stride, count + 1);
            }
        }
    }
    count
}

#[test]
fn an_apply_that_is_killed_within_a_file_is_finished_and_can_be_undone() {
    let count = kill_points(false, 29);
    assert!(count >= 10, "{count}");
}

#[test]
fn an_undoing_that_is_killed_within_a_file_is_finished_by_the_next_one() {
    let count = kill_points(true, 1);
    assert!(count >= 5, "{count}");
}
