//! Layouts of systems, with Debian's real kernel in them: what the menu was drafted from reaches its init with the arguments
//! that the rehearsal told.

#[path = "../layouts/layout.rs"]
#[allow(dead_code, reason = "shared with the tests of all layouts")]
mod layout;
#[path = "../layouts/made.rs"]
#[allow(dead_code, reason = "shared with the tests of all layouts")]
mod made;

use layout::Layout;
use made::Real;
use signpost_demo::StoreKind;
use signpost_vm::Spec;

use crate::debian::{archive, kernel};
use crate::vm::awake;

const FILES: [&str; 4] = [
    include_str!("../layouts/data/kernels.txt"),
    include_str!("../layouts/data/names.txt"),
    include_str!("../layouts/data/arguments.txt"),
    include_str!("../layouts/data/subvolumes.txt"),
];

fn real() -> Real {
    let work = tempfile::tempdir().unwrap();
    let init = "#!/bin/busybox sh\n/bin/busybox mount -t proc proc /proc\n\
                echo \"INIT RUNS WITH $(/bin/busybox cat /proc/cmdline)\"\n/bin/busybox poweroff -f\n";
    let (_, kernel) = kernel();
    let initrd = archive(&work.path().join("initrd"), init);
    // What comes first is for other processors; the kernel skips it and goes on to the next archive.
    let microcode = archive(&work.path().join("microcode"), "of another processor\n");
    let mebibytes = (3 * (kernel.len() + initrd.len())) as u64 >> 20;
    Real { kernel, initrd, microcode, mebibytes }
}

/// What a layout starts by itself, or by choosing a title that has this in it.
fn reaches_its_init(real: &Real, layouts: &[Layout], name: &str, choice: Option<&str>) {
    let layout =
        layouts.iter().find(|layout| layout.name == name).unwrap_or_else(|| panic!("no layout {name}"));
    let machine = made::machine_with(layout, StoreKind::Fd, Some(real));
    machine.ok(&["draft", "--host", "signpost"]);
    machine.ok(&["tune", "timeout=0", "kernel.args=console=ttyS0"]);
    machine.ok(&["apply", "--yes"]);
    if let Some(title) = choice {
        let entries = machine.json(&["menu", "--all"])["entries"].clone();
        let is_it = |entry: &&serde_json::Value| {
            entry["kind"] == "linux" && entry["title"].as_str().unwrap().contains(title)
        };
        let id = entries.as_array().unwrap().iter().find(is_it).unwrap()["id"].as_str().unwrap().to_string();
        machine.ok(&["once", &id]);
    }
    let outcome = machine.json(&["rehearse"])["outcome"].clone();
    let notes = outcome["notes"].as_array().unwrap().iter().map(|note| note.as_str().unwrap());
    let arguments = notes.filter_map(|note| note.strip_prefix("arguments: ")).next().unwrap().to_string();
    let images: Vec<&str> =
        ["first.img", "second.img"].into_iter().filter(|name| machine.path(name).exists()).collect();
    let spec = Spec { memory: 512, ..Spec::of_bench(machine.folder(), &images) };
    let mut vm = awake(&spec, None);
    if outcome["notes"].to_string().contains("initrd: ") {
        vm.wait_for(&format!("INIT RUNS WITH {arguments}")).unwrap_or_else(|error| panic!("{name}: {error}"));
        vm.until_it_ends().unwrap();
    } else {
        // Debian's kernel has no driver of its own for this disk; that it looks for the partition is what shows.
        let part = arguments.split_whitespace().next().unwrap().trim_start_matches("root=");
        vm.wait_for(part).unwrap_or_else(|error| panic!("{name}: {error}"));
    }
}

/// The layouts, with what is chosen in each; the first of them are tried at every run, all of them where
/// `SIGNPOST_EVERY_LAYOUT` is set.
const TRIED: [(&str, Option<&str>); 12] = [
    ("a fallback initramfs is an entry of the older kernels", Some("with all drivers")),
    ("a /boot of its own on another disk", None),
    ("an encrypted root: its entry file shows it", None),
    ("a snapshot's kept arguments name its origin, and it is started as itself", Some("snapshot of")),
    ("microcode goes first", None),
    ("a rescue kernel stands last, with its rescue initrd", Some("spare kernel")),
    ("no initrd anywhere: the partition is the root", None),
    ("variables in an entry file, from the family's environment block", None),
    ("the ESP is mounted at /boot", None),
    ("versioned initramfs-V.img", None),
    ("absolute links in /boot", None),
    ("flavour without a version", None),
];
/// How many of them are tried at every run.
const ALWAYS: usize = 3;

#[test]
fn real_kernels_reach_their_init() {
    let layouts: Vec<Layout> = FILES.into_iter().flat_map(layout::parse).collect();
    let real = real();
    let count = if std::env::var_os("SIGNPOST_EVERY_LAYOUT").is_some() { TRIED.len() } else { ALWAYS };
    for (name, choice) in TRIED.into_iter().take(count) {
        reaches_its_init(&real, &layouts, name, choice);
    }
}
