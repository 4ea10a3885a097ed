//! A machine from a seed.

use signpost_demo::program::{Kernel, made_up};
use signpost_demo::{BenchSpec, Content, DiskSpec, PartitionSpec, StoreKind};
use signpost_disk::{Guid, partition_type};
use signpost_firmware::boot_variables::{boot_next, boot_option, boot_order};
use signpost_firmware::device_path::{DevicePath, Node, PartitionSignature};
use signpost_firmware::load_option::{LoadOption, LoadOptionAttributes};
use signpost_firmware::variable::{Attributes, Variable};
use signpost_menu::slot::{HOME_FOLDER, SLOT_NAMES, Slot};

mod made;
mod variables;

pub use made::Made;

use super::roots::{self, Root};
use crate::menu::slot;
use crate::vm;

/// Numbers from a seed (splitmix64).
pub struct Dice(u64);

impl Dice {
    pub fn new(seed: u64) -> Self {
        Self(seed)
    }

    fn next(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut z = self.0;
        z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        z ^ (z >> 31)
    }

    pub fn below(&mut self, bound: usize) -> usize {
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
    made(seed, false)
}

/// The same, with a menu that the program itself drafts and applies.
pub fn generate_drafted(seed: u64) -> Made {
    made(seed, true)
}

fn made(seed: u64, has_to_be_drafted: bool) -> Made {
    let mut dice = Dice(seed);
    let disks = 2 + dice.below(3);
    let built = std::path::Path::new(env!("CARGO_BIN_EXE_signpost")).parent().unwrap().join("../boot");
    let is_drafted = dice.one_in(5) | has_to_be_drafted;
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
    maker.strange_entries();
    let text = maker.menu();
    let slots = maker.slots(&text);
    let home = maker.dice.below(disks);
    let program = vm::read(built.join("signpost-x64.efi").to_str().unwrap());
    if !is_drafted {
        maker.home(home, &slots, &program);
        // A home from before, on another disk, with a newer menu of its own.
        if maker.dice.one_in(4) {
            let older = slot(90, "format = 1\n");
            maker.home((home + 1) % disks, &[older, vec![b'\n'; 64 * 1024]], &program);
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
            Root::Lvm if partition == 2 => format!("tide{disk}/root"),
            Root::Mirror if partition == 2 => format!("array/kestrel{disk}"),
            _ => format!("d{}p{partition}", disk + 1),
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
        let title = format!("{}:{path}", self.place(disk, partition));
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
        self.initrds.push((format!("{}:{path}", self.place(disk, partition)), contents.clone()));
        self.files(disk, partition).push((path.into(), contents));
    }

    fn files(&mut self, disk: usize, partition: usize) -> &mut Vec<(String, Vec<u8>)> {
        if partition == 1 { &mut self.esp[disk] } else { &mut self.root[disk] }
    }

    fn entry(&mut self, id: &str, body: String) {
        self.entries.push((id.into(), format!("id = \"{id}\"\ntitle = \"{id}\"\n{body}")));
    }

    fn strange_entries(&mut self) {
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
            // It may lead round, to a group, or to what is gone: at boot a menu is read as far as it holds.
            if self.dice.one_in(3) {
                let fallback = &ids[self.dice.below(ids.len())];
                text.push_str(&format!("tries = {}\nfallback = \"{fallback}\"\n", 1 + self.dice.below(2)));
            }
        }
        text
    }

    /// The menu in one slot; in the other an older one, nothing, or something broken.
    fn slots(&mut self, text: &str) -> [Vec<u8>; 2] {
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
}

fn boot_program_name(program: &[u8]) -> String {
    let digest = <sha2::Sha256 as sha2::Digest>::digest(program);
    let hex: String = digest.iter().take(4).map(|byte| format!("{byte:02X}")).collect();
    format!("{hex}.EFI")
}

fn root_uuid(disk: usize) -> String {
    format!("0000000{disk}-0000-4000-8000-000000000000")
}
