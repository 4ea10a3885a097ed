//! Our menu on the open-source BIOS, against the rehearsal: machines from seeds, with kernels on several file systems, boot sectors of
//! this and other disks, changed places of disks, and what is remembered from start to start.

use std::path::PathBuf;
use std::time::Duration;

use signpost_demo::bios_kernel;
use signpost_demo::boot_sector::{said, stand_in};
use signpost_firmware::bios::area::Area;
use signpost_firmware::bios::{SECTOR, plain};
use signpost_menu::ours;
use signpost_menu::state::State;
use signpost_menu::tries::Unconfirmed;
use signpost_vm::{Spec, Vm};

use super::wait_shown;
use crate::agreement::generate::Dice;
use crate::agreement::roots::{self, Root};
use crate::agreement::seeds;
use crate::harness::{result_of, run_bare};

/// What stands under every menu.
const STANDS: &str = "? help";
const PATIENCE: Duration = Duration::from_secs(40);
/// First sectors and types of the partitions: two with boot sectors, one with a system's root between them, and a logical one.
const PARTITIONS: [(u32, u32, u8); 4] =
    [(2048, 2048, 0x06), (4096, 49_152, 0x83), (53_248, 2048, 0x0c), (55_296, 4096, 0x05)];
const LOGICAL: u32 = 55_296 + 64;
const DISK: usize = 60_000 * SECTOR;

struct Entry {
    id: String,
    body: String,
    /// What the firmware's serial line shows once it is started.
    says: String,
}

struct Machine {
    folder: tempfile::TempDir,
    images: Vec<PathBuf>,
    entries: Vec<Entry>,
}

fn title(disk: usize, partition: usize) -> String {
    format!("Stand-in {}-{partition}", disk + 1)
}

fn name(disk: usize, partition: u32) -> String {
    format!("partuuid:{:08x}-{partition:02}", 0x5157_1000 + disk)
}

/// A disk with everything but its root's volume: plain code that starts the first or the third partition, and stand-ins.
fn disk(port: usize, active: usize) -> Vec<u8> {
    let mut disk = vec![0; DISK];
    disk[..plain::CODE.len()].copy_from_slice(&plain::CODE);
    disk[440..444].copy_from_slice(&(0x5157_1000 + port as u32).to_le_bytes());
    for (index, (first, sectors, kind)) in PARTITIONS.into_iter().enumerate() {
        let entry = &mut disk[446 + index * 16..462 + index * 16];
        entry[0] = if index == active { 0x80 } else { 0 };
        entry[4] = kind;
        entry[8..12].copy_from_slice(&first.to_le_bytes());
        entry[12..16].copy_from_slice(&sectors.to_le_bytes());
    }
    disk[510..512].copy_from_slice(&[0x55, 0xaa]);
    let extended = PARTITIONS[3].0 as usize * SECTOR;
    disk[extended + 450] = 0x83;
    disk[extended + 454..extended + 458].copy_from_slice(&64u32.to_le_bytes());
    disk[extended + 458..extended + 462].copy_from_slice(&1024u32.to_le_bytes());
    disk[extended + 510..extended + 512].copy_from_slice(&[0x55, 0xaa]);
    for (partition, first) in [(1, PARTITIONS[0].0), (3, PARTITIONS[2].0), (5, LOGICAL)] {
        let at = first as usize * SECTOR;
        stand_in((&mut disk[at..at + SECTOR]).try_into().unwrap(), &title(port, partition));
    }
    disk
}

fn machine(seed: u64) -> Machine {
    let mut dice = Dice::new(seed);
    let folder = tempfile::tempdir().unwrap();
    let count = 1 + dice.below(3);
    let (mut images, mut entries) = (Vec::new(), Vec::new());
    let mut text = String::from("format = 1\nname = \"From a seed\"\nfirmware = \"bios\"\norder = [");
    text.push_str(&(1..=count).map(|number| number.to_string()).collect::<Vec<_>>().join(", "));
    text.push_str("]\n");
    for port in 0..count {
        let active = [0, 2][dice.below(2)];
        let mut bytes = disk(port, active);
        let root = [Root::Ext4, Root::Xfs, Root::Lvm, Root::Mirror][dice.below(4)];
        let initrd: Vec<u8> =
            (0..1000 + dice.below(200_000)).map(|at| (at * (port + 3) % 251) as u8).collect();
        let kernel = bios_kernel::kernel("6.9.1-larkspur", dice.below(4) > 0);
        let group = format!("group{port}");
        let uuid = format!("0f0b7a3e-0000-4000-8000-{port:012}");
        let files = [
            ("/boot/vmlinuz-6.9.1-larkspur".to_string(), kernel),
            ("/boot/initrd-6.9.1-larkspur".to_string(), initrd.clone()),
        ];
        let volume = roots::made(root, &group, &uuid, &files);
        let at = PARTITIONS[1].0 as usize * SECTOR;
        bytes[at..at + volume.len()].copy_from_slice(&volume);
        let named = match root {
            Root::Ext4 | Root::Mirror => format!("uuid:{uuid}"),
            Root::Lvm => format!("lv:{group}/root"),
            _ => name(port, 2),
        };
        let args = format!("disk{port} seed{seed}");
        entries.push(Entry {
            id: format!("linux{port}"),
            body: format!(
                "starts = \"linux\"\nvolume = \"{named}\"\nkernel = \"newest:/boot/vmlinuz-*\"\ninitrd = [\"/boot/initrd-{{version}}\"]\n\
                 args = \"{args}\""
            ),
            says: bios_kernel::said(&args, &initrd),
        });
        let drive = 0x80 + port as u8;
        for (partition, kind) in [(1u32, 0x06), (3, 0x0c), (5, 0x83)] {
            let takes_first = dice.below(3) == 0;
            let activates = partition < 5 && dice.below(3) == 0;
            let mut body = format!("starts = \"sector\"\nvolume = \"{}\"", name(port, partition));
            if takes_first {
                body.push_str("\nas-first-disk = true");
            }
            if activates {
                body.push_str("\nactive = true");
            }
            entries.push(Entry {
                id: format!("sector{port}-{partition}"),
                body,
                says: said(&title(port, partition as usize), if takes_first { 0x80 } else { drive }, kind),
            });
        }
        if port > 0 {
            let (partition, kind) = if active == 0 { (1, 0x06) } else { (3, 0x0c) };
            entries.push(Entry {
                id: format!("disk{port}"),
                body: format!("starts = \"sector\"\nvolume = \"{}\"\nfirst-sector = true", name(port, 1)),
                says: said(&title(port, partition), drive, kind),
            });
        }
        let image = folder.path().join(format!("d{port}.img"));
        std::fs::write(&image, bytes).unwrap();
        images.push(image);
        text.push_str(&format!("\n[[disk]]\nimage = \"d{port}.img\"\nserial = \"S-{port}\"\n"));
    }
    entries.push(Entry {
        id: "gone".into(),
        body: "starts = \"sector\"\nvolume = \"partuuid:00000000-01\"".into(),
        says: String::new(),
    });
    std::fs::write(folder.path().join("machine.toml"), text).unwrap();
    let made = Machine { folder, images, entries };
    made.write_menu(&mut dice);
    made
}

impl Machine {
    fn bench(&self) -> &str {
        self.folder.path().to_str().unwrap()
    }

    fn write_menu(&self, dice: &mut Dice) {
        let ids: Vec<&str> = self.entries.iter().map(|entry| entry.id.as_str()).collect();
        let default = match dice.below(5) {
            0 => "first".to_string(),
            1 => "last-started".to_string(),
            _ => ids[dice.below(ids.len())].to_string(),
        };
        let timeout = ["0", "1", "1", "\"never\""][dice.below(4)];
        let show = ["always", "on-key", "never"][dice.below(if timeout == "\"never\"" { 2 } else { 3 })];
        let mut menu = format!(
            "format = 1\n[menu]\nhost = \"signpost\"\ndefault = \"{default}\"\ntimeout = {timeout}\nshow = \"{show}\"\n"
        );
        let mut counted = Unconfirmed::default();
        for (index, Entry { id, body, .. }) in self.entries.iter().enumerate() {
            menu.push_str(&format!("\n[[entry]]\nid = \"{id}\"\ntitle = \"{id}\"\n{body}\n"));
            // A fallback stands behind, so that none leads back.
            let Some(fallback) = ids.get(index + 1).filter(|_| dice.below(2) == 0) else { continue };
            menu.push_str(&format!("tries = {}\nfallback = \"{fallback}\"\n", 1 + dice.below(2)));
            for _ in 0..dice.below(3) {
                counted = counted.with_one_more(id);
            }
        }
        std::fs::write(self.folder.path().join("menu.toml"), menu).unwrap();
        let typed = run_bare(&[
            "--machine",
            self.bench(),
            "apply",
            "--yes",
            "--despite",
            "default-gone,nothing-starts",
        ]);
        assert_eq!(typed.code, 0, "{}", typed.stderr);
        // What a start, or somebody at boot, has left to be remembered.
        let mut state = State::default();
        state = state.with(ours::TRIES, Some(&counted.text())).unwrap();
        for name in [ours::ONCE, ours::KEPT, ours::LAST] {
            if dice.below(4) == 0 {
                state = state.with(name, Some(ids[dice.below(ids.len())])).unwrap();
            }
        }
        let mut disk = std::fs::read(&self.images[0]).unwrap();
        let area = Area::of_first(disk[..SECTOR].try_into().unwrap()).unwrap();
        let at = area.state(dice.below(2) as u32) as usize * SECTOR;
        disk[at..at + SECTOR].copy_from_slice(&state.encode().unwrap());
        std::fs::write(&self.images[0], disk).unwrap();
    }

    fn started(&self) -> Vm {
        let spec = Spec { memory: 64, ..Spec::of_bios(self.images.clone()) };
        let mut vm = Vm::start(&spec, None).unwrap().with_patience(PATIENCE);
        vm.wait_for("Booting from Hard Disk").unwrap();
        vm
    }

    /// What the rehearsal says will be seen, and its words.
    fn expected(&self, choose: Option<&str>) -> (String, String) {
        let mut words = vec!["--machine", self.bench(), "--json", "rehearse"];
        words.extend(choose.iter().flat_map(|id| ["--choose", id]));
        let outcome = result_of(&run_bare(&words).stdout)["outcome"].clone();
        let (kind, text) = (outcome["kind"].as_str().unwrap(), outcome["text"].as_str().unwrap());
        let started = self.entries.iter().find(|entry| {
            text.split([',', ':']).next() == Some(&entry.id) && matches!(kind, "starts" | "may-start")
        });
        match (kind, started) {
            (_, Some(entry)) => (entry.says.clone(), text.into()),
            ("waits" | "waits-as-asked", _) => (STANDS.into(), text.into()),
            other => panic!("{other:?}: {text}", other = other.0),
        }
    }
}

/// Ends in what disagrees.
fn compare(seed: u64) -> Option<String> {
    let machine = machine(seed);
    let (says, text) = machine.expected(None);
    let waits = says == STANDS;
    let mut vm = machine.started();
    let seen = if waits { wait_shown(&mut vm, &says) } else { vm.wait_for(&says) };
    if let Err(why) = seen {
        return Some(format!("seed {seed}: rehearsed: {text}; expected {says:?}; {why}"));
    }
    if !waits {
        return None;
    }
    // A menu that waits: somebody chooses by its number.
    let mut dice = Dice::new(seed ^ 0x5157);
    let index = dice.below(machine.entries.len() - 1);
    let (says, text) = machine.expected(Some(&machine.entries[index].id));
    vm.type_keys(&format!("{}\r", index + 1)).unwrap();
    let seen = if says == STANDS { wait_shown(&mut vm, &says) } else { vm.wait_for(&says) };
    let why = seen.err()?;
    Some(format!("seed {seed}, chosen {}: rehearsed: {text}; expected {says:?}; {why}", index + 1))
}

#[test]
fn rehearsal_and_our_menu_agree() {
    let seeds = seeds("SIGNPOST_SEEDS", "0..12").into_iter();
    let faults: Vec<String> = seeds.filter_map(compare).collect();
    assert!(faults.is_empty(), "{} disagree:\n{}", faults.len(), faults.join("\n"));
}
