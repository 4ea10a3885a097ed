//! The kinds of faults, each injected as it comes about, with the codes of which one has to name it.

use std::path::PathBuf;

use signpost_demo::change_fat;
use signpost_disk::Guid;
use signpost_disk::block::{SharedDevice, Window};
use signpost_disk::fat::FatVolume;
use signpost_disk::file_system::FileSystem;
use signpost_firmware::boot_variables::{boot_next, boot_option, boot_order};
use signpost_firmware::device_path::{DevicePath, Node, PartitionSignature};
use signpost_firmware::load_option::{LoadOption, LoadOptionAttributes};
use signpost_firmware::store::fd::FdImage;
use signpost_firmware::variable::{Attributes, Variable, VariableName};
use signpost_menu::slot::SLOT_NAMES;

use super::table;
use crate::agreement::{Dice, Made};
use crate::harness::TestMachine;

/// Bytes of each disk's ESP.
const ESP: std::ops::Range<usize> = 1 << 20..9 << 20;

/// A fault that was injected.
pub struct Fault {
    pub kind: &'static str,
    /// One of these names it.
    pub codes: Vec<&'static str>,
}

/// A machine that is hurt.
pub struct Lab<'m> {
    dice: Dice,
    machine: &'m TestMachine,
    made: &'m Made,
    /// Images that are attached.
    attached: Vec<String>,
    home: String,
}

type Kind = (&'static str, fn(&mut Lab<'_>) -> Option<Vec<&'static str>>);

/// Every kind: how it is injected, and what names it; nothing where the machine has nothing that it could befall.
const KINDS: [Kind; 32] = [
    ("another entry put itself first", |lab| {
        let mut order = lab.boot().order;
        let other = lab.other_entry()?;
        order.retain(|number| *number != other);
        order.insert(0, other);
        lab.write(&boot_order(&order));
        Some(vec!["not-first", "loader-gone", "entry-lost", "boot-program-gone"])
    }),
    ("our entry is removed", |lab| {
        let own = lab.own_entry()?;
        lab.forget(&VariableName::boot_option(own));
        let order: Vec<u16> = lab.boot().order.into_iter().filter(|number| *number != own).collect();
        lab.write(&boot_order(&order));
        Some(vec!["entry-lost"])
    }),
    ("our entry's variable alone is removed", |lab| {
        let own = lab.own_entry()?;
        lab.forget(&VariableName::boot_option(own));
        Some(vec!["entry-lost"])
    }),
    ("our entry is disabled", |lab| {
        let own = lab.own_entry()?;
        let mut option = lab.boot().options.remove(&own)?.decoded.ok()?;
        option.attributes.remove(LoadOptionAttributes::ACTIVE);
        lab.write(&boot_option(own, &option));
        Some(vec!["entry-lost"])
    }),
    ("our entry is given other data", |lab| {
        let own = lab.own_entry()?;
        let mut option = lab.boot().options.remove(&own)?.decoded.ok()?;
        option.description = "Renamed".into();
        lab.write(&boot_option(own, &option));
        Some(vec!["entry-lost"])
    }),
    ("the boot order is removed", |lab| {
        lab.forget(&VariableName::global("BootOrder"));
        Some(vec!["not-first", "entry-lost"])
    }),
    ("the boot order is empty", |lab| {
        lab.write(&boot_order(&[]));
        Some(vec!["not-first", "entry-lost"])
    }),
    ("a next boot is set", |lab| {
        let other = lab.other_entry()?;
        lab.write(&boot_next(other));
        Some(vec!["next-boot-set"])
    }),
    ("a next boot leads nowhere", |lab| {
        lab.write(&boot_next(0x99));
        Some(vec!["next-boot-set"])
    }),
    ("the order names entries twice", |lab| {
        let order = lab.boot().order;
        lab.write(&boot_order(&[order.clone(), order].concat()));
        Some(vec!["order-twice"])
    }),
    ("the order names what does not exist", |lab| {
        let order = lab.boot().order;
        lab.write(&boot_order(&[order, vec![0x44, 0x45]].concat()));
        Some(vec!["order-dangling"])
    }),
    ("an entry stands in no order", |lab| {
        let own = lab.own_entry()?;
        let option = lab.boot().options.remove(&own)?.decoded.ok()?;
        let path = option.path;
        lab.write(&boot_option(0x31, &LoadOption::new("Loose", path, b"x".to_vec())));
        Some(vec!["entry-unordered"])
    }),
    ("an entry is broken", |lab| {
        let name = VariableName::boot_option(0x32);
        lab.write(&Variable { name, attributes: Attributes::BOOT, data: vec![1, 0, 0] });
        let order = lab.boot().order;
        lab.write(&boot_order(&[order, vec![0x32]].concat()));
        Some(vec!["entry-broken", "variables-broken"])
    }),
    ("an entry leads to a partition that never was", |lab| {
        let own = lab.own_entry()?;
        let option = lab.boot().options.remove(&own)?.decoded.ok()?;
        let mut drive = option.path.hard_drive()?;
        drive.number = 77;
        drive.signature = PartitionSignature::Guid(Guid::from_random_bytes([0xab; 16]));
        let nodes = vec![Node::hard_drive(&drive), Node::file_path("\\EFI\\old.efi")];
        let path = DevicePath::new(nodes);
        lab.write(&boot_option(0x33, &LoadOption::new("Old", path, vec![])));
        let order = lab.boot().order;
        lab.write(&boot_order(&[order, vec![0x33]].concat()));
        Some(vec!["entry-stale"])
    }),
    ("the boot program is removed", |lab| {
        let path = lab.boot_program()?;
        lab.take(&lab.home.clone(), &path).then(|| vec!["boot-program-gone"])
    }),
    ("the boot program is cut short", |lab| {
        let path = lab.boot_program()?;
        let bytes = lab.read(&lab.home.clone(), &path)?;
        lab.put(&lab.home.clone(), &path, bytes[..bytes.len() / 2].to_vec());
        Some(vec!["boot-program-gone"])
    }),
    ("the boot program is written over", |lab| {
        let path = lab.boot_program()?;
        let bytes = lab.read(&lab.home.clone(), &path)?;
        lab.put(&lab.home.clone(), &path, vec![0; bytes.len()]);
        Some(vec!["boot-program-gone"])
    }),
    ("both slots are written over", |lab| {
        for name in SLOT_NAMES {
            lab.put(&lab.home.clone(), &format!("/EFI/signpost/{name}"), vec![0x5a; 65536]);
        }
        Some(vec!["menu-damaged"])
    }),
    ("the slot that counts is written over", |lab| {
        lab.put(&lab.home.clone(), &format!("/EFI/signpost/{}", SLOT_NAMES[0]), vec![0x5a; 65536]);
        Some(vec!["menu-damaged"])
    }),
    ("a bit of the slot is turned over", |lab| {
        let path = format!("/EFI/signpost/{}", SLOT_NAMES[0]);
        let mut bytes = lab.read(&lab.home.clone(), &path)?;
        bytes[300] ^= 2;
        lab.put(&lab.home.clone(), &path, bytes);
        Some(vec!["menu-damaged"])
    }),
    ("our folder is emptied", |lab| {
        let home = lab.home.clone();
        let mut paths: Vec<String> = SLOT_NAMES.map(|name| format!("/EFI/signpost/{name}")).to_vec();
        paths.extend(lab.boot_program());
        let gone = paths.iter().filter(|path| lab.take(&home, path)).count();
        (gone > 0).then(|| vec!["boot-program-gone"])
    }),
    ("a loader is removed", |lab| {
        let image = lab.image_with("/EFI/larkspur/load.efi")?;
        lab.take(&image, "/EFI/larkspur/load.efi").then(|| vec!["loader-gone", "entry-file-gone"])
    }),
    ("a loader is damaged", |lab| {
        let image = lab.image_with("/EFI/larkspur/load.efi")?;
        lab.put(&image, "/EFI/larkspur/load.efi", b"damaged".to_vec());
        Some(vec!["loader-gone", "entry-unfit"])
    }),
    ("the start of a GPT is written over", |lab| {
        let image = lab.gpt_image(true)?;
        table::put(&lab.path(&image), 512, &[0xe5; 512]);
        Some(vec!["table-broken"])
    }),
    ("the first partition entries are written over", |lab| {
        let image = lab.gpt_image(true)?;
        table::put(&lab.path(&image), 1024, &[0xe5; 1024]);
        Some(vec!["table-broken"])
    }),
    ("the protective MBR is wiped", |lab| {
        let image = lab.gpt_image(true)?;
        table::put(&lab.path(&image), 0, &[0; 512]);
        Some(vec!["table-unprotected"])
    }),
    ("an ESP's partition is made again", |lab| {
        let image = lab.gpt_image(false)?;
        let is_led_to = lab.image_with("/EFI/larkspur/load.efi").is_some();
        table::change_entries(&lab.path(&image), |entries| table::entry(entries, 1)[16..32].fill(0x6d));
        let has_loader = lab.read(&image, "/EFI/larkspur/load.efi").is_some();
        (is_led_to && has_loader).then(|| vec!["esp-new"])
    }),
    ("a partition's number changes", |lab| {
        let image = lab.gpt_image(false)?;
        lab.read(&image, "/EFI/larkspur/load.efi")?;
        table::change_entries(&lab.path(&image), |entries| {
            let own = table::entry(entries, 1).to_vec();
            table::entry(entries, 5).copy_from_slice(&own);
            table::entry(entries, 1).fill(0);
        });
        Some(vec!["partition-moved"])
    }),
    ("an ESP loses its type", |lab| {
        let image = lab.gpt_image(false)?;
        lab.read(&image, "/EFI/larkspur/load.efi")?;
        table::change_entries(&lab.path(&image), |entries| {
            table::entry(entries, 1)[..16]
                .copy_from_slice(&signpost_disk::partition_type::BASIC_DATA.to_bytes());
        });
        Some(vec!["esp-type"])
    }),
    ("what was kept at boot starts no system", |lab| {
        let text = lab.machine.read("menu.toml");
        let group = text.split("[[entry]]").find(|entry| entry.contains("starts = \"group\""))?;
        let id = group.lines().find_map(|line| line.split_once("id = \"")?.1.split('"').next())?;
        lab.ours(signpost_menu::ours::KEPT, id);
        Some(vec!["default-gone"])
    }),
    ("the menu file has errors", |lab| {
        let text = lab.machine.read("menu.toml");
        lab.machine.write("menu.toml", &text.replace("[menu]", "[manu]"));
        Some(vec!["menu-file-broken"])
    }),
    ("a disk is taken out", |lab| {
        let image = lab.other_image()?;
        // Of one without, nothing is missed; it stays, since what is not counted must not be done.
        lab.read(&image, "/EFI/larkspur/load.efi")?;
        lab.detach(&image);
        Some(vec!["disk-missing"])
    }),
];

impl<'m> Lab<'m> {
    pub fn new(seed: u64, machine: &'m TestMachine, made: &'m Made) -> Self {
        let attached: Vec<String> = made.spec.disks.iter().map(|disk| disk.image.to_string()).collect();
        let mut lab = Self { dice: Dice::new(seed ^ 0x5eed), machine, made, attached, home: String::new() };
        lab.home = lab.image_with(&format!("/EFI/signpost/{}", SLOT_NAMES[0])).expect("a menu is applied");
        lab
    }

    /// Injects one to three faults, each of another kind.
    pub fn inject(&mut self) -> Vec<Fault> {
        let count = 1 + self.dice.below(3);
        let (mut faults, mut used): (Vec<Fault>, Vec<usize>) = (Vec::new(), Vec::new());
        for _ in 0..200 {
            if faults.len() == count {
                break;
            }
            let kind = self.dice.below(KINDS.len());
            if used.contains(&kind) || self.excludes(&faults, KINDS[kind].0) {
                continue;
            }
            used.push(kind);
            if let Some(codes) = KINDS[kind].1(self) {
                faults.push(Fault { kind: KINDS[kind].0, codes });
            }
        }
        faults
    }

    /// Whether a kind would undo, or hide, what was injected already.
    fn excludes(&self, faults: &[Fault], kind: &str) -> bool {
        /// What touches the same thing.
        const GROUPS: [&[&str]; 5] = [
            &["another entry", "our entry", "the boot order", "a next boot"],
            &["the boot program", "our folder", "both slots", "the slot", "a bit of"],
            &[
                "a loader",
                "an ESP",
                "a partition",
                "the start of",
                "the first partition",
                "the protective",
                "a disk",
                "an entry leads",
            ],
            &[
                "the order",
                "an entry stands",
                "an entry is broken",
                "the boot order",
                "our entry",
                "another entry",
            ],
            &["a disk", "a loader", "another entry", "a next boot is set"],
        ];
        let is_in = |group: &[&str], name: &str| group.iter().any(|start| name.starts_with(start));
        faults.iter().any(|fault| GROUPS.iter().any(|group| is_in(group, fault.kind) && is_in(group, kind)))
    }

    pub fn images(&self) -> Vec<String> {
        self.attached.clone()
    }

    fn path(&self, image: &str) -> PathBuf {
        self.machine.path(image)
    }

    fn boot(&self) -> signpost_firmware::boot_variables::BootVariables {
        self.machine.boot()
    }

    fn change_store(&self, change: impl FnOnce(&mut FdImage)) {
        let path = self.machine.path("variables.fd");
        let mut store = FdImage::decode(std::fs::read(&path).unwrap()).unwrap();
        change(&mut store);
        std::fs::write(path, store.bytes()).unwrap();
    }

    fn write(&self, variable: &Variable) {
        self.change_store(|store| store.write(variable).map(|_| ()).unwrap());
    }

    fn forget(&self, name: &VariableName) {
        self.change_store(|store| store.remove(name).map(|_| ()).unwrap());
    }

    fn ours(&self, name: &str, value: &str) {
        let name = signpost_facts::ours::OurVariables::name(name);
        self.write(&Variable { name, attributes: Attributes::BOOT, data: value.as_bytes().to_vec() });
    }

    fn own_entry(&self) -> Option<u16> {
        let boot = self.boot();
        let is_ours = |number: &u16| {
            let option = boot.options.get(number).and_then(|option| option.decoded.as_ref().ok());
            option.is_some_and(|option| option.description.to_string() == "Signpost")
        };
        boot.options.keys().copied().find(is_ours)
    }

    /// An entry of another system's, which starts something.
    fn other_entry(&self) -> Option<u16> {
        let own = self.own_entry();
        let boot = self.boot();
        let is_other = |number: &u16| {
            let option = boot.options.get(number).and_then(|option| option.decoded.as_ref().ok());
            Some(*number) != own && option.is_some_and(|option| option.description.to_string() == "Larkspur")
        };
        boot.options.keys().copied().find(is_other)
    }

    /// Files of an ESP, on a disk with either table.
    fn fat(&self, image: &str) -> Option<FatVolume> {
        let bytes = std::fs::read(self.path(image)).ok()?;
        let device: SharedDevice = std::sync::Arc::new(bytes);
        let window = Window::new(device, ESP.start as u64, ESP.len() as u64);
        FatVolume::open(std::sync::Arc::new(window)).ok()
    }

    fn read(&self, image: &str, path: &str) -> Option<Vec<u8>> {
        self.fat(image)?.read(path, 8 << 20).ok()
    }

    fn image_with(&self, path: &str) -> Option<String> {
        self.attached.iter().find(|image| self.read(image, path).is_some()).cloned()
    }

    fn boot_program(&self) -> Option<String> {
        let names = self.fat(&self.home)?.list("/EFI/signpost").ok()?;
        let program = names.into_iter().find(|item| item.name.to_uppercase().ends_with(".EFI"))?;
        Some(format!("/EFI/signpost/{}", program.name))
    }

    fn put(&self, image: &str, path: &str, bytes: Vec<u8>) {
        change_fat(&self.path(image), ESP, &[(path.to_string(), bytes)], &[]).unwrap();
    }

    /// Removes a file; whether it was there.
    fn take(&self, image: &str, path: &str) -> bool {
        self.read(image, path).is_some() && change_fat(&self.path(image), ESP, &[], &[path]).is_ok()
    }

    /// A disk with a GPT; the home's own only where that may be.
    fn gpt_image(&mut self, may_be_home: bool) -> Option<String> {
        let has_gpt = |image: &&String| !self.made.mbr.iter().any(|(mbr, _)| mbr == image);
        let mut fitting: Vec<String> = self.attached.iter().filter(has_gpt).cloned().collect();
        fitting.retain(|image| may_be_home || *image != self.home);
        let at = self.dice.below(fitting.len().max(1));
        fitting.into_iter().nth(at)
    }

    fn other_image(&mut self) -> Option<String> {
        let others: Vec<String> =
            self.attached.iter().filter(|image| **image != self.home).cloned().collect();
        // The last one: those before it keep their places.
        others.last().filter(|last| Some(*last) == self.attached.last()).cloned()
    }

    fn detach(&mut self, image: &str) {
        self.attached.retain(|own| own != image);
        let text = self.machine.read("machine.toml");
        let at = text.find(&format!("\n[[disk]]\nimage = \"{image}\"")).unwrap();
        self.machine.write("machine.toml", &text[..at]);
    }
}
