//! A menu on two disks of a machine with BIOS firmware: with one of them lost, or with its menu damaged.

use std::path::PathBuf;
use std::time::Duration;

use signpost_demo::boot_sector::{said, stand_in};
use signpost_firmware::bios::area::Area;
use signpost_firmware::bios::{SECTOR, plain};
use signpost_vm::{Spec, Vm};

use super::wait_shown;
use crate::harness::{result_of, run_bare};

const FIRST: usize = 2048;
const DISK: usize = 4 << 20;

/// Two disks with a system each, and a menu that starts the first one's.
fn bench() -> tempfile::TempDir {
    let folder = tempfile::tempdir().unwrap();
    for (index, title) in ["One", "Two"].into_iter().enumerate() {
        let mut disk = vec![0; DISK];
        disk[..plain::CODE.len()].copy_from_slice(&plain::CODE);
        disk[440..444].copy_from_slice(&(0x5157_3000 + index as u32).to_le_bytes());
        (disk[446], disk[450]) = (0x80, 0x06);
        disk[454..458].copy_from_slice(&(FIRST as u32).to_le_bytes());
        disk[458..462].copy_from_slice(&2048u32.to_le_bytes());
        disk[510..512].copy_from_slice(&[0x55, 0xaa]);
        stand_in((&mut disk[FIRST * SECTOR..(FIRST + 1) * SECTOR]).try_into().unwrap(), title);
        std::fs::write(folder.path().join(format!("{index}.img")), disk).unwrap();
    }
    let entry = |id: &str, disk: usize, more: &str| {
        format!(
            "[[entry]]\nid = \"{id}\"\ntitle = \"{id}\"\nstarts = \"sector\"\nvolume = \"partuuid:5157300{disk}-01\"\n{more}\n"
        )
    };
    let menu = format!(
        "format = 1\n[menu]\nheading = \"On both\"\nhost = \"signpost\"\ntimeout = 1\nhomes = 2\n\n{}{}",
        entry("one", 0, "fallback = \"two\""),
        entry("two", 1, "")
    );
    std::fs::write(folder.path().join("menu.toml"), menu).unwrap();
    attach(&folder, &[0, 1]);
    folder
}

/// Describes the machine with these disks.
fn attach(folder: &tempfile::TempDir, disks: &[usize]) {
    let mut text = String::from("format = 1\nname = \"Two disks\"\nfirmware = \"bios\"\n");
    for disk in disks {
        text.push_str(&format!("\n[[disk]]\nimage = \"{disk}.img\"\nserial = \"S-{disk}\"\n"));
    }
    std::fs::write(folder.path().join("machine.toml"), text).unwrap();
}

fn started(folder: &tempfile::TempDir, disks: &[usize]) -> Vm {
    let images: Vec<PathBuf> = disks.iter().map(|disk| folder.path().join(format!("{disk}.img"))).collect();
    let vm = Vm::start(&Spec { memory: 64, ..Spec::of_bios(images) }, None).unwrap();
    vm.with_patience(Duration::from_secs(40))
}

#[test]
fn a_menu_on_two_disks_survives_the_loss_of_either() {
    let folder = bench();
    let at = folder.path().to_str().unwrap().to_string();
    let typed = |words: &[&str]| {
        let run = run_bare(&[&["--machine", &at], words].concat());
        assert!(run.code < 2, "{words:?}: {}{}", run.stdout, run.stderr);
        run.stdout
    };
    let ends = || result_of(&typed(&["--json", "rehearse"]))["outcome"]["text"].to_string();
    typed(&["apply", "--yes"]);
    assert!(ends().contains("one, from the boot sector of d1p1"), "{}", ends());
    started(&folder, &[0, 1]).wait_for(&said("One", 0x80, 0x06)).unwrap();

    // The first disk is lost.
    attach(&folder, &[1]);
    assert!(ends().contains("two, from the boot sector of d2p1"), "{}", ends());
    started(&folder, &[1]).wait_for(&said("Two", 0x80, 0x06)).unwrap();

    // It is back, and both of its slots are spoiled.
    attach(&folder, &[0, 1]);
    let path = folder.path().join("0.img");
    let mut disk = std::fs::read(&path).unwrap();
    let area = Area::of_first(disk[..SECTOR].try_into().unwrap()).unwrap();
    for index in 0..2 {
        let slot = area.slot(index) as usize * SECTOR;
        disk[slot..slot + 40].fill(b'x');
    }
    std::fs::write(&path, disk).unwrap();
    assert!(ends().contains("one, from the boot sector of d1p1"), "{}", ends());
    let mut vm = started(&folder, &[0, 1]);
    wait_shown(&mut vm, "the menu on d2 counts: none here can be read").unwrap();
    vm.wait_for(&said("One", 0x80, 0x06)).unwrap();
    // The disks are locked while it runs.
    drop(vm);
    typed(&["hold", "--yes"]);
    let mut vm = started(&folder, &[0, 1]);
    wait_shown(&mut vm, "On both").unwrap();
    vm.wait_for(&said("One", 0x80, 0x06)).unwrap();
}
