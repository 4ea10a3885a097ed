//! What the boot program writes, as the emulator notes it on the disk; the power goes at every sector of it.

use std::fs::File;
use std::os::unix::fs::FileExt;

use signpost_vm::{Spec, write_log};

use crate::fsck;
use crate::harness::{TestMachine, menu};
use crate::menu::{LOADER, slot, with_slots};
use crate::vm::Vm;

const SECTOR: usize = 512;

/// What starts, by rehearsal, and in words.
fn starts(machine: &TestMachine) -> String {
    machine.json(&["rehearse"])["outcome"].to_string()
}

/// The recorded writes as far as a cut: so many of them, and so many bytes of the next.
fn replay(machine: &TestMachine, writes: &[(u64, Vec<u8>)], (whole, bytes): (usize, usize)) {
    let image = File::options().write(true).open(machine.path("lark.img")).unwrap();
    let torn = writes.get(whole).map(|(offset, all)| (*offset, all[..bytes].to_vec()));
    for (offset, bytes) in writes[..whole].iter().cloned().chain(torn) {
        image.write_all_at(&bytes, offset).unwrap();
    }
}

#[test]
fn a_menu_saved_at_boot_survives_a_cut_at_every_sector() {
    let text = menu("timeout = \"never\"", &[LOADER]);
    let made = TestMachine::new(&with_slots([slot(2, &text), slot(1, &text)]));
    let booted = made.copy();
    let log = booted.path("writes.log");
    File::create(&log).unwrap();
    let mut spec = Spec::of_bench(booted.folder(), &["lark.img", "meridian.img"]);
    spec.disks[0].log = Some(log.clone());
    let mut vm = Vm::start_spec(&spec);
    vm.wait_for("? help");
    vm.type_keys(":");
    for (line, answer) in [("compose linux on d1p2", "Larkspur"), ("save Larkspur by hand", "is in the menu")]
    {
        vm.type_keys(&format!("{line}\r"));
        vm.wait_for(answer);
    }
    vm.type_keys("power-off\r");
    vm.until_it_ends();
    let writes = write_log::read(&log).unwrap();
    let (before, after) = (starts(&made), starts(&booted));
    let disk = |machine: &TestMachine| std::fs::read(machine.path("lark.img")).unwrap();
    let saved = b"\"Larkspur by hand\"";
    assert!(disk(&booted).windows(saved.len()).any(|bytes| bytes == saved), "it was saved");
    let place = made.copy();
    // Every sector where the environment asks for it; else a part of them.
    let step = if std::env::var("SIGNPOST_EVERY_CUT").is_ok() { SECTOR } else { 7 * SECTOR };
    let mut count = 0;
    for (index, (_, bytes)) in writes.iter().enumerate() {
        for torn in (0..bytes.len()).step_by(step) {
            let what = format!("write {index} of {}, {torn} bytes of it", writes.len());
            place.become_like(&made);
            replay(&place, &writes, (index, torn));
            place.ok(&["survey"]);
            let now = starts(&place);
            assert!(now == before || now == after, "{what}: {now}; {before} or {after}");
            fsck::finds_nothing_worse(&place.path("lark.img"), 1 << 20..5 << 20, &what);
            count += 1;
        }
    }
    replay(&place, &writes, (writes.len(), 0));
    assert!(disk(&place) == disk(&booted), "the recording is what happened");
    println!("save at boot: {count} cuts, all survived");
    assert!(count >= 2, "{count}");
}
