//! Our menu on the open-source BIOS with real things: Debian's kernel and its memory test, the buses and sizes that old PCs have, hurt
//! copies, the prompt, and what is kept at boot.

use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};
use std::time::Duration;

use signpost_demo::boot_sector::said;
use signpost_demo::plain_disk::with_root;
use signpost_demo::{bios_kernel, fat};
use signpost_disk::gpt::{Layout, NewPartition, encode};
use signpost_disk::{Guid, partition_type};
use signpost_firmware::bios::SECTOR;
use signpost_firmware::bios::area::Area;
use signpost_vm::{Bus, Disk, Spec, Vm, write_log};

use super::{type_line, wait_shown};
use crate::debian::{UUID, logical_volume, run, sized, tree};
use crate::harness::{result_of, run_bare};
use crate::power_cuts::{cuts, replay};

/// What stands under every menu.
const STANDS: &str = "? help";
const PATIENCE: Duration = Duration::from_secs(60);
const STAND_IN: &str = "[[entry]]\nid = \"stand-in\"\ntitle = \"The stand-in\"\nstarts = \"sector\"\nvolume = \"partuuid:51573000-01\"\n";

/// A bench of one disk: a stand-in, and this root volume; its menu is applied.
struct Machine {
    folder: tempfile::TempDir,
}

impl Machine {
    fn new(root: &[u8], settings: &str, entries: &str) -> Self {
        let folder = tempfile::tempdir().unwrap();
        std::fs::write(folder.path().join("disk.img"), with_root(root)).unwrap();
        Self::with_disk(folder, settings, entries)
    }

    /// The same with the disk that lies in a folder.
    fn with_disk(folder: tempfile::TempDir, settings: &str, entries: &str) -> Self {
        let text = "format = 1\nname = \"Real\"\nfirmware = \"bios\"\n\n[[disk]]\nimage = \"disk.img\"\nserial = \"S-1\"\n";
        std::fs::write(folder.path().join("machine.toml"), text).unwrap();
        let menu = format!("format = 1\n[menu]\nhost = \"signpost\"\n{settings}\n\n{entries}");
        std::fs::write(folder.path().join("menu.toml"), menu).unwrap();
        let made = Self { folder };
        made.ok(&["apply", "--yes"]);
        made
    }

    fn image(&self) -> PathBuf {
        self.folder.path().join("disk.img")
    }

    fn run(&self, words: &[&str]) -> crate::harness::Run {
        run_bare(&[&["--machine", self.folder.path().to_str().unwrap()], words].concat())
    }

    fn ok(&self, words: &[&str]) -> String {
        let run = self.run(words);
        assert_eq!(run.code, 0, "{words:?}: {}{}", run.stdout, run.stderr);
        run.stdout
    }

    fn outcome(&self) -> serde_json::Value {
        result_of(&self.run(&["--json", "rehearse"]).stdout)["outcome"].clone()
    }

    /// Started as it is, on a bus, with so many MiB of memory.
    fn started(&self, bus: Bus, memory: u32, devices: &[&str]) -> Vm {
        let disk = Disk { bus, ..Disk::plain(self.image()) };
        let devices = devices.iter().map(ToString::to_string).collect();
        let spec = Spec { disks: vec![disk], memory, devices, ..Spec::of_bios([]) };
        let mut vm = Vm::start(&spec, None).unwrap().with_patience(PATIENCE);
        vm.wait_for("Booting from Hard Disk").unwrap();
        vm
    }

    fn hurt(&self, at: usize) {
        let mut disk = std::fs::read(self.image()).unwrap();
        disk[at..at + 4].copy_from_slice(b"hurt");
        std::fs::write(self.image(), disk).unwrap();
    }

    fn area(&self) -> Area {
        let disk = std::fs::read(self.image()).unwrap();
        Area::of_first(disk[..SECTOR].try_into().unwrap()).unwrap()
    }
}

/// The prompt, once the menu stands.
fn at_the_prompt(vm: &mut Vm) {
    wait_shown(vm, STANDS).unwrap();
    vm.type_keys(":").unwrap();
    wait_shown(vm, "Enter runs the line").unwrap();
}

fn plain_machine(settings: &str) -> Machine {
    Machine::new(&[0; 1 << 20], settings, STAND_IN)
}

/// Debian's kernel, an initrd of 30 MB, from a volume; what the rehearsal hands over arrives.
fn reaches_its_init(root: &[u8], volume: &str) {
    let entry = format!(
        "[[entry]]\nid = \"debian\"\nstarts = \"linux\"\nvolume = \"{volume}\"\nkernel = \"newest:/boot/vmlinuz-*\"\n\
         initrd = \"/boot/initrd-{{version}}\"\nargs = \"console=ttyS0 tide=high\"\n"
    );
    let machine = Machine::new(root, "default = \"debian\"\ntimeout = 0", &entry);
    let outcome = machine.outcome();
    assert_eq!(outcome["kind"], "starts", "{outcome}");
    let mut vm = machine.started(Bus::Sata, 512, &[]);
    vm.wait_for("INIT RUNS WITH console=ttyS0 tide=high").unwrap();
    vm.until_it_ends().unwrap();
}

/// A tree with Debian's kernel, and so much more behind its initrd that both together are some 40 MB.
fn large_tree(work: &Path) -> PathBuf {
    let (tree, version) = tree(work);
    let initrd = tree.join(format!("boot/initrd-{version}"));
    let mut bytes = std::fs::read(&initrd).unwrap();
    // Zeros between archives the kernel skips.
    bytes.resize(30_000_000, 0);
    std::fs::write(initrd, bytes).unwrap();
    tree
}

#[test]
fn debians_kernel_reaches_its_init_from_ext4_on_a_logical_volume() {
    let work = tempfile::tempdir().unwrap();
    let tree = large_tree(work.path());
    let (image, group) = logical_volume(work.path(), &tree);
    reaches_its_init(&std::fs::read(image).unwrap(), &format!("lv:{group}/root"));
}

/// It cannot be moved: what starts it copies it over the boot program.
#[test]
fn the_memory_test_starts_by_the_same_protocol() {
    let work = tempfile::tempdir().unwrap();
    let tree = work.path().join("tree");
    std::fs::create_dir_all(tree.join("boot")).unwrap();
    let program = "/boot/memtest86+x64.bin";
    let copied = std::fs::copy(program, tree.join("boot/memory-test"));
    copied.unwrap_or_else(|error| panic!("{program}: {error}; `cargo xtask test` installs memtest86+"));
    let image = sized(work.path(), 16);
    run("mke2fs", &["-q", "-t", "ext4", "-U", UUID, "-d", tree.to_str().unwrap(), &image]);
    let entry = format!(
        "[[entry]]\nid = \"memory\"\nstarts = \"linux\"\nvolume = \"uuid:{UUID}\"\nkernel = \"/boot/memory-test\"\n\
         args = \"console=ttyS0,115200\"\n"
    );
    let machine = Machine::new(&std::fs::read(image).unwrap(), "default = \"memory\"\ntimeout = 0", &entry);
    let mut vm = machine.started(Bus::Sata, 64, &[]);
    vm.wait_for("Memtest86+").unwrap();
}

/// The menu on each kind of bus, with little memory and much, an old processor, an empty drive for CDs: the menu comes, and starts.
#[test]
fn the_menu_comes_on_what_old_machines_have() {
    let machine = plain_machine("timeout = \"never\"");
    let pentium = ["-cpu", "pentium"];
    let empty = ["-device", "ide-cd,bus=ide.4"];
    for (bus, memory, devices) in [
        (Bus::Sata, 16, &[][..]),
        (Bus::Ide, 16, &pentium[..]),
        (Bus::Virtio, 256, &[]),
        (Bus::Scsi, 256, &[]),
        (Bus::Usb, 256, &[]),
        (Bus::Nvme, 256, &[]),
        (Bus::Sata, 4096, &empty),
    ] {
        let mut vm = machine.started(bus, memory, devices);
        wait_shown(&mut vm, STANDS).unwrap_or_else(|why| panic!("{bus:?}, {memory} MiB, {devices:?}: {why}"));
        vm.type_keys("1\r").unwrap();
        vm.wait_for(&said("Stand-in", 0x80, 0x06))
            .unwrap_or_else(|why| panic!("{bus:?}, {memory} MiB: {why}"));
    }
}

/// A disk of 5 TiB, which is mostly a hole: the menu in a BIOS boot partition at its start, the system 3 TiB further on.
#[test]
fn a_kernel_beyond_two_tebibytes_is_reached() {
    const FAR: u64 = (3 << 40) / SECTOR as u64;
    let (args, initrd) = ("far=yes", b"from far away".to_vec());
    let files = vec![
        ("/vmlinuz-1.0".to_string(), bios_kernel::kernel("1.0", true)),
        ("/initrd-1.0".to_string(), initrd.clone()),
    ];
    let volume = fat(16 << 20, "FAR", 0x0fa2_0001, &files).unwrap();
    let partition = |number: u8, type_guid, first_lba, sectors: u64| NewPartition {
        type_guid,
        guid: Guid::from_bytes([number; 16]),
        first_lba,
        last_lba: first_lba + sectors - 1,
        name: "far",
    };
    let bios_boot = "21686148-6449-6e6f-744e-656564454649".parse().unwrap();
    let root = partition(2, partition_type::LINUX_DATA, FAR, (volume.len() / SECTOR) as u64);
    let partitions = vec![partition(1, bios_boot, 2048, 2048), root];
    let layout =
        Layout { disk_guid: Guid::from_bytes([7; 16]), sectors: (5 << 40) / SECTOR as u64, partitions };
    let folder = tempfile::tempdir().unwrap();
    let disk = std::fs::File::create(folder.path().join("disk.img")).unwrap();
    disk.set_len(5 << 40).unwrap();
    for (offset, bytes) in encode(&layout).into_iter().chain([(FAR * SECTOR as u64, volume)]) {
        disk.write_all_at(&bytes, offset).unwrap();
    }
    let entry = format!(
        "[[entry]]\nid = \"far\"\nstarts = \"linux\"\nvolume = \"uuid:0FA2-0001\"\nkernel = \"newest:/vmlinuz-*\"\n\
         initrd = \"/initrd-{{version}}\"\nargs = \"{args}\"\n"
    );
    let machine = Machine::with_disk(folder, "default = \"far\"\ntimeout = 0", &entry);
    let mut vm = machine.started(Bus::Sata, 256, &[]);
    vm.wait_for(&bios_kernel::said(args, &initrd)).unwrap();
}

#[test]
fn a_hurt_copy_is_skipped_and_without_both_the_active_partition_starts() {
    let machine = plain_machine("timeout = \"never\"");
    let area = machine.area();
    machine.hurt(area.copy(0) as usize * SECTOR + 5000);
    let mut vm = machine.started(Bus::Sata, 64, &[]);
    wait_shown(&mut vm, "the first copy of the boot program on this disk is damaged").unwrap();
    drop(vm);
    // Read as it was written, and summed up otherwise: C, of both.
    machine.hurt(area.copy(1) as usize * SECTOR + 5000);
    assert!(machine.outcome()["text"].as_str().unwrap().contains("from d1p1, which is active"));
    let mut vm = machine.started(Bus::Sata, 64, &[]);
    vm.wait_for(&said("Stand-in", 0x80, 0x06)).unwrap();
    drop(vm);
    // Nor is any active: A, and the firmware is given back to behind a key.
    let mut disk = std::fs::read(machine.image()).unwrap();
    disk[446] = 0;
    std::fs::write(machine.image(), disk).unwrap();
    let mut vm = machine.started(Bus::Sata, 64, &[]);
    vm.wait_for("A").unwrap();
    vm.type_keys("x").unwrap();
    vm.wait_for("No bootable device").unwrap();
}

/// The same at every sector that the save writes, slot and state, as the emulator notes them.
#[test]
fn a_menu_saved_at_boot_survives_a_cut_at_every_sector() {
    let (made, booted) = (plain_machine("timeout = \"never\""), plain_machine("timeout = \"never\""));
    assert!(std::fs::read(made.image()).unwrap() == std::fs::read(booted.image()).unwrap(), "both are alike");
    let log = booted.folder.path().join("writes.log");
    std::fs::File::create(&log).unwrap();
    let disk = Disk { bus: Bus::Sata, log: Some(log.clone()), ..Disk::plain(booted.image()) };
    let mut vm = Vm::start(&Spec { disks: vec![disk], ..Spec::of_bios([]) }, None).unwrap();
    at_the_prompt(&mut vm);
    type_line(&mut vm, "compose sector d1p1");
    wait_shown(&mut vm, "The boot sector of d1p1").unwrap();
    type_line(&mut vm, "save --default Saved by hand");
    wait_shown(&mut vm, "saved-by-hand is in the menu").unwrap();
    type_line(&mut vm, "power-off");
    vm.until_it_ends().unwrap();
    let writes = write_log::read(&log).unwrap();
    let starts = |machine: &Machine| machine.outcome().to_string();
    let (before, after) = (starts(&made), starts(&booted));
    assert_ne!(before, after, "what is kept is the default");
    let place = plain_machine("timeout = \"never\"");
    let whole = std::fs::read(made.image()).unwrap();
    let mut count = 0;
    for cut in cuts(&writes) {
        std::fs::write(place.image(), &whole).unwrap();
        replay(&place.image(), &writes, cut);
        let now = starts(&place);
        assert!(
            now == before || now == after,
            "{cut:?} of {} writes: {now}; {before} or {after}",
            writes.len()
        );
        assert_ne!(place.run(&["check"]).code, 4, "{cut:?}: it can be looked at");
        count += 1;
    }
    replay(&place.image(), &writes, (writes.len(), 0));
    assert!(std::fs::read(place.image()).unwrap() == std::fs::read(booted.image()).unwrap(), "that was all");
    println!("save at boot on BIOS: {count} cuts, all survived");
    assert!(count >= 3, "{count}");
}

/// What is composed and kept at boot lies in the sectors, and the desk finds it.
#[test]
fn what_is_saved_at_the_prompt_is_there_at_the_next_start_and_is_news() {
    let machine = plain_machine("timeout = \"never\"");
    let mut vm = machine.started(Bus::Sata, 64, &[]);
    at_the_prompt(&mut vm);
    type_line(&mut vm, "compose sector d1p1");
    wait_shown(&mut vm, "The boot sector of d1p1").unwrap();
    type_line(&mut vm, "save --default Saved by hand");
    wait_shown(&mut vm, "saved-by-hand is in the menu").unwrap();
    drop(vm);
    let mut vm = machine.started(Bus::Sata, 64, &[]);
    wait_shown(&mut vm, "Saved by hand").unwrap();
    wait_shown(&mut vm, STANDS).unwrap();
    vm.type_keys("\r").unwrap();
    vm.wait_for(&said("Stand-in", 0x80, 0x06)).unwrap();
    drop(vm);
    let refused = machine.run(&["apply", "--yes"]);
    assert_eq!(refused.code, 3, "{}", refused.stderr);
    assert!(refused.stderr.contains("saved-by-hand was saved at boot"), "{}", refused.stderr);
    machine.ok(&["draft", "--take-saved"]);
    machine.ok(&["apply", "--yes"]);
    assert!(machine.outcome()["text"].as_str().unwrap().contains("Enter starts Saved by hand"));
}
