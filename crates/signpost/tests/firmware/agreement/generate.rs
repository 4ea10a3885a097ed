//! A machine from a seed.

use signpost_demo::program::{Kernel, made_up};
use signpost_demo::{BenchSpec, Content, DiskSpec, PartitionSpec, StoreKind};
use signpost_disk::{Guid, partition_type};
use signpost_firmware::boot_variables::{boot_next, boot_option, boot_order};
use signpost_firmware::device_path::{DevicePath, Node, PartitionSignature};
use signpost_firmware::load_option::{LoadOption, LoadOptionAttributes};
use signpost_firmware::variable::{Attributes, Variable, VariableName};
use signpost_menu::slot::{HOME_FOLDER, SLOT_NAMES, Slot, Writer};

use super::roots::{self, Root};
use crate::vm;

/// A machine, with what lies where.
pub struct Made {
    pub spec: BenchSpec,
    pub text: String,
    pub slots: [Vec<u8>; 2],
    /// Changes to the firmware's entries, as they are typed behind `firmware`.
    pub changes: Vec<Vec<String>>,
    /// Whether the menu is made and applied by the program itself; else it lies there.
    pub is_drafted: bool,
    /// Disks that have an MBR: their images and signatures.
    pub mbr: Vec<(&'static str, u32)>,
    /// What the roots are.
    pub roots: Vec<Root>,
    /// Files of each disk's root.
    files: Vec<Vec<(String, Vec<u8>)>>,
    /// The image of which another one is a copy.
    clone_of: Option<&'static str>,
    /// Initrds: place and contents.
    initrds: Vec<(String, Vec<u8>)>,
}

impl Made {
    /// The title of the program at a place of the rehearsal: the place by the disk's number as it was made.
    pub fn title_at(&self, place: &str) -> String {
        // Logical volumes and mirrors are called by their own names.
        let Some((disk, rest)) = place.strip_prefix("disk ").and_then(|rest| rest.split_once(' ')) else {
            return place.to_string();
        };
        let index: usize = disk.parse().unwrap();
        let image = self.original(self.spec.disks[index - 1].image);
        let made = IMAGES.iter().position(|name| *name == image).unwrap() + 1;
        format!("disk {made} {rest}")
    }

    /// The machine with its roots in it.
    pub fn complete(&self) -> BenchSpec {
        let mut spec = self.spec.clone();
        let originals: Vec<&str> = self.spec.disks.iter().map(|disk| self.original(disk.image)).collect();
        for (disk, original) in spec.disks.iter_mut().zip(originals) {
            let index = IMAGES.iter().position(|name| *name == original).unwrap();
            let kind = self.roots[index];
            let name = if kind == Root::Lvm { format!("tide{index}") } else { format!("kestrel{index}") };
            let root = roots::made(kind, &name, &root_uuid(index), &self.files[index]);
            disk.partitions[1].content = Content::Bytes(root);
        }
        spec
    }

    /// The image that one is a copy of, or itself.
    fn original<'i>(&'i self, image: &'i str) -> &'i str {
        if image == CLONE { self.clone_of.unwrap() } else { image }
    }

    /// Gives the disks that have one their MBR in place of the GPT.
    pub fn finish(&self, folder: &std::path::Path) {
        for (image, signature) in &self.mbr {
            let path = folder.join(image);
            let mut disk = std::fs::read(&path).unwrap();
            let entries: Vec<(u8, u32, u32)> = (0..2)
                .map(|number| {
                    let entry = 1024 + number * 128;
                    let lba =
                        |at: usize| u32::from_le_bytes(disk[entry + at..entry + at + 4].try_into().unwrap());
                    let kind = if number == 0 { 0xef } else { 0x83 };
                    (kind, lba(32), lba(40) - lba(32) + 1)
                })
                .collect();
            let length = disk.len();
            disk[..34 * 512].fill(0);
            disk[length - 33 * 512..].fill(0);
            disk[440..444].copy_from_slice(&signature.to_le_bytes());
            for (number, (kind, first, sectors)) in entries.into_iter().enumerate() {
                let at = 446 + number * 16;
                disk[at + 4] = kind;
                disk[at + 8..at + 12].copy_from_slice(&first.to_le_bytes());
                disk[at + 12..at + 16].copy_from_slice(&sectors.to_le_bytes());
            }
            disk[510..512].copy_from_slice(&[0x55, 0xaa]);
            std::fs::write(path, disk).unwrap();
        }
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
/// A copy of one of these.
const CLONE: &str = "e.img";

/// The signature of a disk with an MBR.
fn mbr_signature(disk: usize) -> u32 {
    0x5100_0000 + disk as u32
}

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
    /// The kind of each disk's root.
    kinds: Vec<Root>,
    /// Which disks have an MBR.
    has_mbr: Vec<bool>,
    is_drafted: bool,
}

/// Makes the machine of a seed.
pub fn generate(seed: u64) -> Made {
    let mut dice = Dice(seed);
    let disks = 2 + dice.below(3);
    let built = std::path::Path::new(env!("CARGO_BIN_EXE_signpost")).parent().unwrap().join("../boot");
    let is_drafted = dice.one_in(5);
    // A draft needs the folders of a system, which one of these tools does not make.
    let kinds = [Root::Ext4, Root::Ext4, Root::Xfs, Root::Lvm, Root::Mirror, Root::Ntfs];
    let kinds: Vec<Root> = (0..disks).map(|_| kinds[dice.below(if is_drafted { 5 } else { 6 })]).collect();
    let has_mbr = (0..disks).map(|_| dice.one_in(4)).collect();
    let mut maker = Maker {
        dice,
        system: vm::read(built.join("made-up-system-x64.efi").to_str().unwrap()),
        esp: vec![Vec::new(); disks],
        root: vec![Vec::new(); disks],
        initrds: Vec::new(),
        entries: Vec::new(),
        kinds,
        has_mbr,
        is_drafted,
    };
    for disk in 0..disks {
        maker.systems(disk);
    }
    maker.odd_entries();
    let text = maker.menu();
    let slots = maker.slots(&text);
    let home = maker.dice.below(disks);
    let program = vm::read(built.join("signpost-x64.efi").to_str().unwrap());
    if !is_drafted {
        maker.home(home, &slots, &program);
        // A home from before, on another disk, with a newer menu of its own.
        if maker.dice.one_in(4) {
            let older = Slot {
                serial: 90,
                writer: Writer::Desk,
                machine: String::new(),
                text: "format = 1\n".into(),
            };
            maker.home((home + 1) % disks, &[older.encode().unwrap(), vec![b'\n'; 64 * 1024]], &program);
        }
    }
    let specs: Vec<DiskSpec> = (0..disks).map(|disk| maker.disk(disk)).collect();
    let variables = if is_drafted { maker.installed(&specs) } else { maker.variables(&specs, home) };
    // At times a disk is gone by the time of the start, though never the one that is home; or there is a copy of one.
    let mut present = specs;
    let other = (home + 1) % disks;
    let mut clone_of = None;
    match maker.dice.below(10) {
        0 | 1 => drop(present.remove(other)),
        2 if !is_drafted => {
            clone_of = Some(present[other].image);
            present.push(DiskSpec { image: CLONE, serial: "V5", ..present[other].clone() });
        }
        _ => {}
    }
    let changes = maker.changes(&present);
    let with_mbr = present.iter().filter_map(|disk| {
        let image = if disk.image == CLONE { clone_of? } else { disk.image };
        let index = IMAGES.iter().position(|name| *name == image)?;
        maker.has_mbr[index].then(|| (disk.image, mbr_signature(index)))
    });
    let mbr = with_mbr.collect();
    let spec = BenchSpec {
        catalogue: "",
        recipes: "",
        name: format!("Seed {seed}"),
        disks: present,
        variables,
        store: StoreKind::Fd,
        more: "secure-boot = false\n".into(),
    };
    Made {
        spec,
        text,
        slots,
        changes,
        is_drafted,
        mbr,
        roots: maker.kinds,
        files: maker.root,
        clone_of,
        initrds: maker.initrds,
    }
}

impl Maker {
    /// Where a volume of a disk is, in the words of a rehearsal.
    fn place(&self, disk: usize, partition: usize) -> String {
        match self.kinds[disk] {
            Root::Lvm if partition == 2 => format!("volume tide{disk}/root"),
            Root::Mirror if partition == 2 => format!("mirror kestrel{disk}"),
            _ => format!("disk {} partition {partition}", disk + 1),
        }
    }

    /// A name of it that holds.
    fn volume(&self, disk: usize, partition: usize) -> String {
        match (self.kinds[disk], partition) {
            (Root::Lvm, 2) => format!("lv:tide{disk}/root"),
            (Root::Mirror, 2) => format!("uuid:{}", root_uuid(disk)),
            _ if self.has_mbr[disk] => format!("partuuid:{:08x}-{partition:02x}", mbr_signature(disk)),
            _ => format!("partuuid:{}", partition_guid(disk, partition)),
        }
    }

    fn program(&self, disk: usize, partition: usize, path: &str, kernel: Option<&str>) -> Vec<u8> {
        let title = format!("{}, {path}", self.place(disk, partition));
        made_up(&self.system, &title, kernel.map(Kernel::new).as_ref()).unwrap()
    }

    /// A loader on the ESP, and kernels with initrds on ESP or root volume.
    fn systems(&mut self, disk: usize) {
        let loader = if self.is_drafted { "/EFI/larkspur/load.efi" } else { "/EFI/sys/load.efi" };
        if self.dice.one_in(2) {
            let program = self.program(disk, 1, loader, None);
            self.esp[disk].push((loader.into(), program));
            let args = if self.dice.one_in(2) { "\nargs = \"tide=high\"" } else { "" };
            let body = format!("starts = \"efi\"\nprogram = \"{}{loader}\"{args}", self.volume(disk, 1));
            self.entry(&format!("loader{disk}"), body);
        }
        if self.dice.one_in(3) {
            let path = "/EFI/BOOT/BOOTX64.EFI";
            let program = self.program(disk, 1, path, None);
            self.esp[disk].push((path.into(), program));
        }
        let on_root = self.is_drafted || self.dice.one_in(2);
        let (partition, folder) = match (on_root, self.kinds[disk]) {
            (false, _) => (1, "/EFI/linux"),
            (true, Root::Ntfs) => (2, ""),
            (true, _) => (2, "/boot"),
        };
        if self.is_drafted {
            // Two installs of one distribution.
            let release = b"ID=larkspur\nPRETTY_NAME=\"Larkspur Linux 14\"\n";
            self.root[disk].push(("/etc/os-release".into(), release.to_vec()));
        }
        if self.dice.one_in(4) {
            // Two flavours, whose names say nothing of which is newer.
            for (flavour, version) in [("linux", "6.9.4"), ("linux-lts", "6.6.31")] {
                self.kernel(disk, partition, folder, flavour, version);
            }
        } else {
            for number in 0..1 + self.dice.below(3) {
                let version = format!("6.{}.{number}", 8 + self.dice.0 % 4);
                self.kernel(disk, partition, folder, &version, &version);
            }
        }
        let initrd = if self.dice.one_in(3) {
            format!("[\"{folder}/initrd-{{version}}\", \"{folder}/extra.img\"]")
        } else {
            format!("\"{folder}/initrd-{{version}}\"")
        };
        self.initrd(disk, partition, &format!("{folder}/extra.img"));
        let body = format!(
            "starts = \"linux\"\nvolume = \"{}\"\nkernel = \"newest:{folder}/vmlinuz-*\"\ninitrd = {initrd}\nargs = \"root=/dev/none disk{disk}\"",
            self.volume(disk, partition)
        );
        self.entry(&format!("linux{disk}"), body);
    }

    /// A kernel whose file is named by this, and whose header says that it is of this version.
    fn kernel(&mut self, disk: usize, partition: usize, folder: &str, name: &str, version: &str) {
        let path = format!("{folder}/vmlinuz-{name}");
        if self.files(disk, partition).iter().any(|(known, _)| *known == path) {
            return;
        }
        let program = self.program(disk, partition, &path, Some(version));
        self.files(disk, partition).push((path, program));
        // A half-done update leaves a kernel without its initrd.
        if !self.dice.one_in(4) {
            self.initrd(disk, partition, &format!("{folder}/initrd-{name}"));
        }
    }

    fn initrd(&mut self, disk: usize, partition: usize, path: &str) {
        let length = 1000 + self.dice.below(9000);
        let byte = self.dice.below(200) as u8;
        let contents: Vec<u8> = (0..length).map(|index| byte.wrapping_add((index % 7) as u8)).collect();
        self.initrds.push((format!("{}, {path}", self.place(disk, partition)), contents.clone()));
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
            let gone = format!("starts = \"efi\"\nprogram = \"{}/EFI/gone.efi\"", self.volume(0, 1));
            self.entry("gone", gone);
        }
        if self.dice.one_in(4) {
            self.entry("group", "starts = \"group\"".into());
        }
        if self.dice.one_in(6) {
            self.entry("again", "starts = \"restart\"".into());
        }
        // An entry of the firmware's: by a file, by a partition alone, or of a number that leads nowhere.
        for label in ["Unused", "Short", "Stale"] {
            if self.dice.one_in(5) {
                let body = format!("starts = \"firmware-entry\"\nlabel = \"{label}\"\nhandover = true");
                self.entry(&format!("fw-{}", label.to_lowercase()), body);
            }
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
        let with_gpt = |disk: &&DiskSpec| {
            let index = IMAGES.iter().position(|name| *name == disk.image);
            index.is_some_and(|index| !self.has_mbr[index])
        };
        let esps: Vec<Guid> =
            present.iter().filter(has_loader).filter(with_gpt).map(|disk| disk.partitions[0].guid).collect();
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
                    mebibytes: roots::MEBIBYTES,
                    // Made when the machine is: that takes the real tools.
                    content: Content::Bytes(Vec::new()),
                },
            ],
        }
    }

    /// The device path of a file of a disk's ESP, or of the partition alone.
    fn path_to(&self, disk: &DiskSpec, index: usize, file: Option<&str>) -> DevicePath {
        let path = disk.path_to(1, file.unwrap_or_default());
        let mut drive = path.hard_drive().unwrap();
        if self.has_mbr[index] {
            drive.signature = PartitionSignature::Mbr(mbr_signature(index));
        }
        let mut nodes = vec![Node::hard_drive(&drive)];
        nodes.extend(file.map(Node::file_path));
        DevicePath::new(nodes)
    }

    /// What the installers of the systems left in the firmware.
    fn installed(&self, disks: &[DiskSpec]) -> Vec<Variable> {
        let with_loader = (0..disks.len())
            .filter(|index| self.esp[*index].iter().any(|(path, _)| path.ends_with("load.efi")));
        let options = with_loader.map(|index| {
            LoadOption::new(
                "Larkspur",
                self.path_to(&disks[index], index, Some("\\EFI\\larkspur\\load.efi")),
                vec![],
            )
        });
        let mut variables: Vec<Variable> =
            (0..).zip(options).map(|(number, option)| boot_option(number, &option)).collect();
        let numbers: Vec<u16> = (0..variables.len() as u16).collect();
        variables.push(boot_order(&numbers));
        variables
    }

    fn variables(&mut self, disks: &[DiskSpec], home: usize) -> Vec<Variable> {
        let program =
            disks[home].partitions[0].content.files().iter().find(|(path, _)| path.ends_with(".EFI"));
        let path = program.unwrap().0.replace('/', "\\");
        let own = self.path_to(&disks[home], home, Some(&path));
        let mut options = vec![LoadOption::new("Signpost", own, vec![])];
        if self.dice.one_in(3) {
            let mut gone = disks[home].clone();
            gone.partitions[0].guid = Guid::from_random_bytes([0xee; 16]);
            options.insert(0, LoadOption::new("Stale", gone.path_to(1, "\\EFI\\x.efi"), vec![]));
        }
        if self.dice.one_in(4) {
            let path = self.path_to(&disks[0], 0, Some("\\EFI\\sys\\load.efi"));
            let mut unused = LoadOption::new("Unused", path, vec![]);
            unused.attributes = LoadOptionAttributes::empty();
            options.insert(0, unused);
        }
        if self.dice.one_in(3) {
            let index = self.dice.below(disks.len());
            options.push(LoadOption::new("Short", self.path_to(&disks[index], index, None), vec![]));
        }
        if self.dice.one_in(6) {
            // Of a category that the boot order passes over.
            let mut tool = LoadOption::new("Tool", self.path_to(&disks[home], home, Some(&path)), vec![]);
            tool.attributes |= LoadOptionAttributes::from_bits_retain(0x0200);
            options.insert(0, tool);
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

fn root_uuid(disk: usize) -> String {
    format!("0000000{disk}-0000-4000-8000-000000000000")
}
