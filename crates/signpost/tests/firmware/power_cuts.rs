//! What the boot program writes, as the emulator notes it on the disk; the power goes at every sector of it.

use std::fs::File;
use std::os::unix::fs::FileExt;
use std::path::Path;

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

/// Recorded writes: offsets and bytes.
pub type Writes = [(u64, Vec<u8>)];

/// The recorded writes as far as a cut: so many of them, and so many bytes of the next.
pub fn replay(image: &Path, writes: &Writes, (whole, bytes): (usize, usize)) {
    let image = File::options().write(true).open(image).unwrap();
    let torn = writes.get(whole).map(|(offset, all)| (*offset, all[..bytes].to_vec()));
    for (offset, bytes) in writes[..whole].iter().cloned().chain(torn) {
        image.write_all_at(&bytes, offset).unwrap();
    }
}

/// The cuts before each sector of each write where the environment asks for it; else a part of them.
pub fn cuts(writes: &Writes) -> impl Iterator<Item = (usize, usize)> {
    let step = if std::env::var("SIGNPOST_EVERY_CUT").is_ok() { SECTOR } else { 13 * SECTOR };
    let of_write =
        move |(index, bytes): (usize, usize)| (0..bytes).step_by(step).map(move |torn| (index, torn));
    writes.iter().map(|(_, bytes)| bytes.len()).enumerate().flat_map(of_write)
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
    let image = place.path("lark.img");
    let mut count = 0;
    for cut in cuts(&writes) {
        let what = format!("{cut:?} of {} writes", writes.len());
        place.become_like(&made);
        replay(&image, &writes, cut);
        place.ok(&["survey"]);
        let now = starts(&place);
        assert!(now == before || now == after, "{what}: {now}; {before} or {after}");
        fsck::finds_nothing_worse(&image, 1 << 20..5 << 20, &what);
        count += 1;
    }
    replay(&image, &writes, (writes.len(), 0));
    assert!(disk(&place) == disk(&booted), "the recording is what happened");
    println!("save at boot: {count} cuts, all survived");
    assert!(count >= 2, "{count}");
}
