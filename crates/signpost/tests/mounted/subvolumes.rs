//! Two installs of one distribution in subvolumes of one btrfs: each has its own kernels, its own entries, and its own last way.

use signpost_demo::program::{Kernel, Program};
use signpost_demo::{Content, StoreKind};

use crate::harness::{TestMachine, lark_disk, lark_files, small};
use crate::{Mounted, run};

/// The machine: the ESP has the loader of neither.
fn machine() -> TestMachine {
    let volume = Mounted::new(&["mkfs.btrfs", "-q"], 160);
    for (name, version) in [("@a", "6.9.4"), ("@b", "6.8.1")] {
        let at = volume.point().join(name);
        run("btrfs", &["subvolume", "create", at.to_str().unwrap()]);
        volume.put(&format!("{name}/etc/os-release"), "ID=larkspur\nPRETTY_NAME=\"Larkspur Linux 14\"\n");
        volume.put(&format!("{name}/boot/initrd-{version}"), "initrd");
        let kernel = at.join("boot").join(format!("vmlinuz-{version}"));
        std::fs::write(kernel, Kernel::new(version).build("Larkspur")).unwrap();
    }
    run("umount", &[volume.point().to_str().unwrap()]);
    let mut spec = small(StoreKind::Folder);
    let mut disk =
        lark_disk(lark_files().into_iter().filter(|(path, _)| !path.contains("larkspur")).collect());
    disk.partitions[1].content = Content::Bytes(std::fs::read(volume.image()).unwrap());
    disk.partitions[1].mebibytes = 160;
    spec.disks[0] = disk;
    TestMachine::new(&spec)
}

#[test]
fn two_installs_in_subvolumes_have_a_way_each_and_neither_loses_its_last() {
    let machine = machine();
    std::fs::write(machine.path("program.efi"), Program::new("Signpost").boot_program().build()).unwrap();
    machine.ok(&["draft", "--host", "signpost"]);
    let program = machine.path("program.efi").display().to_string();
    let despite = "last-way,foreign-entry";
    machine.ok(&["apply", "--yes", "--boot-program", &program, "--despite", despite]);
    let survey = machine.json(&["survey"]);
    let larks: Vec<&serde_json::Value> =
        survey["systems"].as_array().unwrap().iter().filter(|system| system["family"] == "linux").collect();
    assert_eq!(larks.len(), 2, "{larks:?}");
    assert_ne!(larks[0]["title"], larks[1]["title"]);
    let entries = machine.json(&["menu", "--all"])["entries"].as_array().unwrap().clone();
    for (system, other) in [(larks[0], larks[1]), (larks[1], larks[0])] {
        let ways = system["ways"].as_array().unwrap();
        assert!(
            !ways.is_empty() && ways.iter().all(|way| !other["ways"].as_array().unwrap().contains(way)),
            "{ways:?}"
        );
        let folder = system["root_path"].as_str().unwrap();
        for id in ways.iter().map(|way| way["menu"].as_str().unwrap()) {
            let entry = entries.iter().find(|entry| entry["id"] == id).unwrap();
            assert!(entry["starts"].as_str().unwrap().contains(folder), "{id} is not of {folder}: {entry}");
        }
    }
    // All entries of the second but one can go, and the last one cannot.
    let mut ids: Vec<&str> =
        larks[1]["ways"].as_array().unwrap().iter().map(|way| way["menu"].as_str().unwrap()).collect();
    let last = ids.remove(0);
    for id in ids {
        machine.ok(&["entry", "remove", id]);
    }
    let refused = machine.fails(3, &["entry", "remove", last]);
    assert!(
        refused.contains("last-way") && refused.contains(larks[1]["title"].as_str().unwrap()),
        "{refused}"
    );
}
