//! A machine from a seed.

use std::process::Command;

use signpost_demo::program::{Kernel, made_up};
use signpost_demo::{BenchSpec, Content, DiskSpec, PartitionSpec, StoreKind};
use signpost_disk::{Guid, partition_type};
use signpost_firmware::boot_variables::{boot_next, boot_option, boot_order};
use signpost_firmware::load_option::{LoadOption, LoadOptionAttributes};
use signpost_firmware::variable::{Attributes, Variable, VariableName};
use signpost_menu::slot::{HOME_FOLDER, SLOT_NAMES, Slot, Writer};

use crate::vm;

/// A machine, with what lies where.
pub struct Made {
    pub spec: BenchSpec,
    pub text: String,
    pub slots: [Vec<u8>; 2],
    /// Changes to the firmware's entries, as they are typed behind `firmware`.
    pub changes: Vec<Vec<String>>,
    /// Initrds: place and contents.
    initrds: Vec<(String, Vec<u8>)>,
}

impl Made {
    /// The title of the program at a place of the rehearsal: the place by the disk's number as it was made.
    pub fn title_at(&self, place: &str) -> String {
        let (disk, rest) = place.strip_prefix("disk ").and_then(|rest| rest.split_once(' ')).unwrap();
        let index: usize = disk.parse().unwrap();
        let image = self.spec.disks[index - 1].image;
        let made = IMAGES.iter().position(|name| *name == image).unwrap() + 1;
        format!("disk {made} {rest}")
    }

    /// What a made-up system says of these initrds of the volume of a place, joined as the boot program does.
    pub fn joined_initrd(&self, place: &str, paths: &[&str]) -> String {
        if paths.is_empty() {
            return "none".into();
        }
        let made = self.title_at(place);
        let volume = made.split(", ").next().unwrap();
        let mut joined = Vec::new();
        for path in paths {
            let wanted = format!("{volume}, {path}");
            let found = self.initrds.iter().find(|(place, _)| *place == wanted);
            joined.resize(joined.len().next_multiple_of(4), 0);
            joined.extend(&found.unwrap_or_else(|| panic!("no initrd {wanted}")).1);
        }
        format!("{} {:08x}", joined.len(), crc32fast::hash(&joined))
    }
}

/// Numbers from a seed (splitmix64).
struct Dice(u64);

impl Dice {
    fn next(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut z = self.0;
        z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        z ^ (z >> 31)
    }

    fn below(&mut self, bound: usize) -> usize {
        (self.next() % bound as u64) as usize
    }

    /// Whether one in so many comes up.
    fn one_in(&mut self, bound: usize) -> bool {
        self.below(bound) == 0
    }
}

const IMAGES: [&str; 4] = ["a.img", "b.img", "c.img", "d.img"];

fn disk_guid(disk: usize) -> Guid {
    Guid::from_random_bytes([disk as u8 + 1; 16])
}

fn partition_guid(disk: usize, number: usize) -> Guid {
    Guid::from_random_bytes([(disk as u8 + 1) * 16 + number as u8; 16])
}

/// A machine under way.
struct Maker {
    dice: Dice,
    system: Vec<u8>,
    /// Files of each disk's ESP and root volume.
    esp: Vec<Vec<(String, Vec<u8>)>>,
    root: Vec<Vec<(String, Vec<u8>)>>,
    initrds: Vec<(String, Vec<u8>)>,
    entries: Vec<(String, String)>,
}

/// Makes the machine of a seed.
pub fn generate(seed: u64) -> Made {
    let mut dice = Dice(seed);
    let disks = 2 + dice.below(3);
    let built = std::path::Path::new(env!("CARGO_BIN_EXE_signpost")).parent().unwrap().join("../boot");
    let mut maker = Maker {
        dice,
        system: vm::read(built.join("made-up-system-x64.efi").to_str().unwrap()),
        esp: vec![Vec::new(); disks],
        root: vec![Vec::new(); disks],
        initrds: Vec::new(),
        entries: Vec::new(),
    };
    for disk in 0..disks {
        maker.systems(disk);
    }
    maker.odd_entries();
    let text = maker.menu();
    let slots = maker.slots(&text);
    let home = maker.dice.below(disks);
    maker.home(home, &slots, &vm::read(built.join("signpost-x64.efi").to_str().unwrap()));
    let specs: Vec<DiskSpec> = (0..disks).map(|disk| maker.disk(disk)).collect();
    let variables = maker.variables(&specs, home);
    // At times a disk is gone by the time of the start, though never the one that is home.
    let mut present = specs;
    if maker.dice.one_in(5) {
        present.remove((home + 1) % disks);
    }
    let changes = maker.changes(&present);
    let spec = BenchSpec {
        catalogue: "",
        recipes: "",
        name: format!("Seed {seed}"),
        disks: present,
        variables,
        store: StoreKind::Fd,
        more: "secure-boot = false\n".into(),
    };
    Made { spec, text, slots, changes, initrds: maker.initrds }
}

impl Maker {
    fn program(&self, disk: usize, partition: usize, path: &str, kernel: Option<&str>) -> Vec<u8> {
        let title = format!("disk {} partition {partition}, {path}", disk + 1);
        made_up(&self.system, &title, kernel.map(Kernel::new).as_ref()).unwrap()
    }

    /// A loader on the ESP, and kernels with initrds on ESP or root volume.
    fn systems(&mut self, disk: usize) {
        if self.dice.one_in(2) {
            let path = "/EFI/sys/load.efi";
            let program = self.program(disk, 1, path, None);
            self.esp[disk].push((path.into(), program));
            let args = if self.dice.one_in(2) { "\nargs = \"tide=high\"" } else { "" };
            self.entry(
                &format!("loader{disk}"),
                format!("starts = \"efi\"\nprogram = \"partuuid:{}{path}\"{args}", partition_guid(disk, 1)),
            );
        }
        let on_root = self.dice.one_in(2);
        let (partition, folder) = if on_root { (2, "/boot") } else { (1, "/EFI/linux") };
        for version in 0..1 + self.dice.below(3) {
            self.kernel(disk, partition, folder, &format!("6.{}.{version}", 8 + self.dice.0 % 4));
        }
        let volume = partition_guid(disk, partition);
        let initrd = if self.dice.one_in(3) {
            format!("[\"{folder}/initrd-{{version}}\", \"{folder}/extra.img\"]")
        } else {
            format!("\"{folder}/initrd-{{version}}\"")
        };
        self.initrd(disk, partition, &format!("{folder}/extra.img"));
        self.entry(
            &format!("linux{disk}"),
            format!("starts = \"linux\"\nvolume = \"partuuid:{volume}\"\nkernel = \"newest:{folder}/vmlinuz-*\"\ninitrd = {initrd}\nargs = \"root=/dev/none disk{disk}\""),
        );
    }

    fn kernel(&mut self, disk: usize, partition: usize, folder: &str, version: &str) {
        let path = format!("{folder}/vmlinuz-{version}");
        if self.files(disk, partition).iter().any(|(known, _)| *known == path) {
            return;
        }
        let program = self.program(disk, partition, &path, Some(version));
        self.files(disk, partition).push((path, program));
        // A half-done update leaves a kernel without its initrd.
        if !self.dice.one_in(4) {
            self.initrd(disk, partition, &format!("{folder}/initrd-{version}"));
        }
    }

    fn initrd(&mut self, disk: usize, partition: usize, path: &str) {
        let length = 1000 + self.dice.below(9000);
        let byte = self.dice.below(200) as u8;
        let contents: Vec<u8> = (0..length).map(|index| byte.wrapping_add((index % 7) as u8)).collect();
        self.initrds.push((format!("disk {} partition {partition}, {path}", disk + 1), contents.clone()));
        self.files(disk, partition).push((path.into(), contents));
    }

    fn files(&mut self, disk: usize, partition: usize) -> &mut Vec<(String, Vec<u8>)> {
        if partition == 1 { &mut self.esp[disk] } else { &mut self.root[disk] }
    }

    fn entry(&mut self, id: &str, body: String) {
        self.entries.push((id.into(), format!("id = \"{id}\"\ntitle = \"{id}\"\n{body}")));
    }

    fn odd_entries(&mut self) {
        if self.dice.one_in(3) {
            let gone =
                format!("starts = \"efi\"\nprogram = \"partuuid:{}/EFI/gone.efi\"", partition_guid(0, 1));
            self.entry("gone", gone);
        }
        if self.dice.one_in(3) {
            self.entry("stale", "starts = \"efi\"\nprogram = \"uuid:0000-0000/EFI/x.efi\"".into());
        }
        if self.dice.one_in(4) {
            self.entry("later", "starts = \"orbit\"\nheight = 3".into());
        }
    }

    fn menu(&mut self) -> String {
        let ids: Vec<String> = self.entries.iter().map(|(id, _)| id.clone()).collect();
        let default = match self.dice.below(6) {
            0 => "first".to_string(),
            1 => "last-started".to_string(),
            2 if self.dice.one_in(2) => "nowhere".to_string(),
            _ => ids[self.dice.below(ids.len())].clone(),
        };
        let timeout = ["0", "1", "1", "\"never\""][self.dice.below(4)];
        let show = ["always", "always", "on-key", "never"]
            [self.dice.below(if timeout == "\"never\"" { 3 } else { 4 })];
        let mut text = format!(
            "format = 1\n[menu]\nhost = \"signpost\"\ndefault = \"{default}\"\ntimeout = {timeout}\nshow = \"{show}\"\n"
        );
        if self.dice.one_in(3) {
            text.push_str("\n[kernel]\nargs = \"quiet\"\n");
        }
        for (_, entry) in &self.entries {
            text.push_str(&format!("\n[[entry]]\n{entry}\n"));
        }
        text
    }

    /// The menu in one slot; in the other an older one, nothing, or something broken.
    fn slots(&mut self, text: &str) -> [Vec<u8>; 2] {
        let slot = |serial, text: &str| {
            Slot { serial, writer: Writer::Desk, machine: String::new(), text: text.into() }.encode().unwrap()
        };
        let good = slot(5, text);
        let mut other = match self.dice.below(4) {
            0 => vec![b'\n'; good.len()],
            1 => b"no slot at all".to_vec(),
            2 => slot(9, &text.replace("timeout", "timeuot")),
            _ => slot(4, "format = 1\n"),
        };
        // A newer slot that was altered must not count.
        if Slot::decode(&other).is_ok_and(|slot| slot.serial > 5) {
            other[200] ^= 4;
        }
        if self.dice.one_in(2) { [good, other] } else { [other, good] }
    }

    fn home(&mut self, home: usize, slots: &[Vec<u8>; 2], program: &[u8]) {
        let name = boot_program_name(program);
        self.esp[home].push((format!("{HOME_FOLDER}/{name}"), program.to_vec()));
        for (slot, name) in slots.iter().zip(SLOT_NAMES) {
            self.esp[home].push((format!("{HOME_FOLDER}/{name}"), slot.clone()));
        }
    }

    /// What somebody does to the firmware's entries before the start, in half of the machines.
    fn changes(&mut self, present: &[DiskSpec]) -> Vec<Vec<String>> {
        let loader = "/EFI/sys/load.efi";
        let has_loader =
            |disk: &&DiskSpec| disk.partitions[0].content.files().iter().any(|(path, _)| path == loader);
        let esps: Vec<Guid> = present.iter().filter(has_loader).map(|disk| disk.partitions[0].guid).collect();
        let mut changes = Vec::new();
        for _ in 0..self.dice.below(3) {
            let number = self.dice.below(4).to_string();
            let change = match (self.dice.below(6), esps.first()) {
                (0, Some(esp)) => {
                    let place = ["--first", "--last", "--unused"][self.dice.below(3)];
                    vec![
                        "add".into(),
                        "Added".into(),
                        format!("partuuid:{esp}{loader}"),
                        "--args=from a seed".into(),
                        place.into(),
                    ]
                }
                (0 | 1, _) => vec!["order".into(), number],
                (2, _) => vec!["next".into(), number],
                (3, _) => vec!["use".into(), number, ["on", "off"][self.dice.below(2)].into()],
                (4, _) => vec!["remove".into(), number],
                _ => vec!["tidy".into()],
            };
            changes.push(change);
        }
        changes
    }

    fn disk(&self, disk: usize) -> DiskSpec {
        let serial = 0x1000_0000 * (disk as u32 + 1);
        DiskSpec {
            image: IMAGES[disk],
            bus: "virtio",
            model: "Petrel V",
            serial: ["V1", "V2", "V3", "V4"][disk],
            guid: disk_guid(disk),
            partitions: vec![
                PartitionSpec::esp(partition_guid(disk, 1), "ESP", serial, 8, self.esp[disk].clone()),
                PartitionSpec {
                    guid: partition_guid(disk, 2),
                    type_guid: partition_type::LINUX_DATA,
                    name: "root",
                    mebibytes: 8,
                    content: Content::Bytes(ext4(disk, &self.root[disk])),
                },
            ],
        }
    }

    fn variables(&mut self, disks: &[DiskSpec], home: usize) -> Vec<Variable> {
        let program =
            disks[home].partitions[0].content.files().iter().find(|(path, _)| path.ends_with(".EFI"));
        let path = program.unwrap().0.replace('/', "\\");
        let mut options = vec![LoadOption::new("Signpost", disks[home].path_to(1, &path), vec![])];
        if self.dice.one_in(3) {
            let mut gone = disks[home].clone();
            gone.partitions[0].guid = Guid::from_random_bytes([0xee; 16]);
            options.insert(0, LoadOption::new("Stale", gone.path_to(1, "\\EFI\\x.efi"), vec![]));
        }
        if self.dice.one_in(4) {
            let mut unused = LoadOption::new("Unused", disks[0].path_to(1, "\\EFI\\sys\\load.efi"), vec![]);
            unused.attributes = LoadOptionAttributes::empty();
            options.insert(0, unused);
        }
        let numbers: Vec<u16> = (0..options.len() as u16).collect();
        let mut variables: Vec<Variable> =
            numbers.iter().zip(&options).map(|(number, option)| boot_option(*number, option)).collect();
        variables.push(boot_order(&numbers));
        if self.dice.one_in(6) {
            variables.push(boot_next(if self.dice.one_in(2) { 0x77 } else { 0 }));
        }
        for (name, odds) in [("SignpostOnce", 5), ("SignpostDefault", 5), ("SignpostLast", 3)] {
            if self.dice.one_in(odds) {
                let at = self.dice.below(self.entries.len());
                let id =
                    if name == "SignpostOnce" && self.dice.one_in(3) { "menu" } else { &self.entries[at].0 };
                let vendor = Guid::from_bytes(signpost_menu::ours::VENDOR);
                let name = VariableName { name: name.into(), vendor };
                variables.push(Variable { name, attributes: Attributes::BOOT, data: id.as_bytes().to_vec() });
            }
        }
        variables
    }
}

fn boot_program_name(program: &[u8]) -> String {
    let digest = <sha2::Sha256 as sha2::Digest>::digest(program);
    let hex: String = digest.iter().take(4).map(|byte| format!("{byte:02X}")).collect();
    format!("{hex}.EFI")
}

/// An ext4 volume with these files, made by the real tool.
fn ext4(disk: usize, files: &[(String, Vec<u8>)]) -> Vec<u8> {
    let work = tempfile::tempdir().unwrap();
    let tree = work.path().join("tree");
    std::fs::create_dir(&tree).unwrap();
    for (path, contents) in files {
        let path = tree.join(path.trim_start_matches('/'));
        std::fs::create_dir_all(path.parent().unwrap()).unwrap();
        std::fs::write(path, contents).unwrap();
    }
    let image = work.path().join("root.img");
    let status = Command::new("/sbin/mke2fs")
        .args(["-q", "-t", "ext4", "-U", &format!("0000000{disk}-0000-4000-8000-000000000000"), "-d"])
        .arg(&tree)
        .arg(&image)
        .arg("8M")
        .stdout(std::process::Stdio::null())
        .status()
        .unwrap_or_else(|error| panic!("mke2fs: {error}; `cargo xtask test` installs it"));
    assert!(status.success());
    std::fs::read(image).unwrap()
}
