use alloc::boxed::Box;
use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec;
use core::cell::OnceCell;

use signpost_demo::program::Kernel;
use signpost_disk::file_system::{FileSystem, Item, Metadata, Subvolume, VolumeError};
use signpost_disk::probe::VolumeKind;
use signpost_firmware::image::pe::MachineType;
use signpost_menu::disk_number::DiskNumber;
use signpost_menu::place::VolumeIdentity;
use signpost_menu::resolve::LoadOptionSeen;

use super::*;
use crate::reader::{VolumeReader, unguarded};
use crate::volumes::Seen;

/// Files in memory.
struct Files {
    files: Vec<(String, Vec<u8>)>,
    subvolumes: Vec<Subvolume>,
}

impl FileSystem for Files {
    fn list(&self, folder: &str) -> Result<Vec<Item>, VolumeError> {
        let below = format!("{}/", folder.trim_end_matches('/'));
        let mut items: Vec<Item> = Vec::new();
        for rest in self.files.iter().filter_map(|(path, _)| path.strip_prefix(&below)) {
            let (name, is_folder) = rest.split_once('/').map_or((rest, false), |(name, _)| (name, true));
            items.push(Item { name: name.into(), is_folder });
        }
        items.sort();
        items.dedup();
        if items.is_empty() { Err(VolumeError::NotFound(folder.into())) } else { Ok(items) }
    }

    fn metadata(&self, path: &str) -> Result<Metadata, VolumeError> {
        let file = self.files.iter().find(|(own, _)| own == path);
        let file = file.ok_or_else(|| VolumeError::NotFound(path.into()))?;
        Ok(Metadata { size: file.1.len() as u64, is_folder: false })
    }

    fn read_at(&self, path: &str, offset: u64, buffer: &mut [u8]) -> Result<usize, VolumeError> {
        self.metadata(path)?;
        let file = &self.files.iter().find(|(own, _)| own == path).unwrap().1;
        let there = &file[(offset as usize).min(file.len())..];
        let length = there.len().min(buffer.len());
        buffer[..length].copy_from_slice(&there[..length]);
        Ok(length)
    }

    fn subvolumes(&self) -> Result<Vec<Subvolume>, VolumeError> {
        Ok(self.subvolumes.clone())
    }
}

/// A machine whose volumes each lie on a disk of this number; disks from the third on are sticks.
struct Made {
    identities: Vec<VolumeIdentity>,
    disks: Vec<u32>,
    readers: Vec<VolumeReader>,
    systems: OnceCell<Systems>,
}

type MadeVolume<'a> = (u32, &'a [(&'a str, &'a str)], &'a [(&'a str, Option<i64>)]);

/// Volumes with their files and subvolumes; a file whose text starts with `kernel ` is a kernel of that version.
fn made(volumes: &[MadeVolume<'_>]) -> Made {
    let reader = |(_, files, subvolumes): &MadeVolume<'_>| {
        let bytes = |text: &str| match text.strip_prefix("kernel ") {
            Some(version) => Kernel::new(version).build("Larkspur"),
            None => text.as_bytes().to_vec(),
        };
        let subvolume = |(path, copied): &(&str, Option<i64>)| Subvolume {
            path: (*path).to_string(),
            is_default: false,
            copied: *copied,
        };
        let files = Files {
            files: files.iter().map(|(path, text)| ((*path).to_string(), bytes(text))).collect(),
            subvolumes: subvolumes.iter().map(subvolume).collect(),
        };
        VolumeReader::new(Box::new(files), OnceCell::new(), unguarded)
    };
    let identity = |index: usize| VolumeIdentity {
        name: format!("d1p{}", index + 1),
        uuid: Some(format!("{}", index + 1)),
        part_uuid: Some(format!("part-{}", index + 1)),
        ..VolumeIdentity::default()
    };
    Made {
        identities: (0..volumes.len()).map(identity).collect(),
        disks: volumes.iter().map(|(disk, ..)| *disk).collect(),
        readers: volumes.iter().map(reader).collect(),
        systems: OnceCell::new(),
    }
}

impl Volumes for Made {
    fn identities(&self) -> &[VolumeIdentity] {
        &self.identities
    }
    fn seen(&self, volume: usize) -> Option<Seen<'_>> {
        let disk = self.disks.get(volume).copied().map(DiskNumber);
        Some(Seen { kind: VolumeKind::Ext4, label: None, size: 0, disk, is_extended_boot: false })
    }
    fn disks_of(&self, volume: usize) -> Vec<DiskNumber> {
        vec![DiskNumber(self.disks[volume])]
    }
    fn takes_part(&self, disk: DiskNumber) -> bool {
        disk.0 < 3
    }
    fn system_ids(&self) -> Vec<(String, usize)> {
        Vec::new()
    }
    fn fault(&self, _: usize) -> Option<String> {
        None
    }
    fn opened(&self, volume: usize) -> Option<&VolumeReader> {
        self.readers.get(volume)
    }
    fn machine_type(&self) -> MachineType {
        MachineType::X64
    }
    fn options(&self) -> Vec<LoadOptionSeen> {
        Vec::new()
    }
}

const OS: (&str, &str) = ("/etc/os-release", "ID=larkspur\nPRETTY_NAME=\"Larkspur Linux 14\"\n");
const KERNEL: (&str, &str) = ("/boot/vmlinuz-6.9", "kernel 6.9");
const INITRD: (&str, &str) = ("/boot/initrd-6.9", "made");
const MODULES: (&str, &str) = ("/lib/modules/6.10/modules.dep", "");

/// The kernels of a machine's only system, with their volumes.
impl WithSystems for Made {
    fn systems(&self) -> &Systems {
        self.systems.get_or_init(|| Systems::find(self))
    }
}

fn kernels(machine: &Made) -> Vec<(usize, String)> {
    let [system] = machine.systems().started.as_slice() else { panic!("{:?}", machine.systems().started) };
    system.kernels.iter().map(|kernel| (kernel.volume, kernel.path.clone())).collect()
}

#[test]
fn kernels_on_a_stick_are_nobodys_whatever_they_are_called() {
    let newer = [("/vmlinuz-6.10", "kernel 6.10"), ("/initrd-6.10", "made")];
    let own = (0, "/boot/vmlinuz-6.9".to_string());
    let root: &[(&str, &str)] = &[OS, KERNEL, INITRD, MODULES];
    for (disk, wanted) in
        [(1, vec![(1, "/vmlinuz-6.10".to_string()), own.clone()]), (2, vec![own.clone()]), (3, vec![own])]
    {
        assert_eq!(kernels(&made(&[(1, root, &[]), (disk, &newer, &[])])), wanted, "on disk {disk}");
    }
    // A system that has none may have one on another fixed disk, and never on a stick.
    let bare: &[(&str, &str)] = &[OS, MODULES];
    assert_eq!(kernels(&made(&[(1, bare, &[]), (2, &newer, &[])])), [(1, "/vmlinuz-6.10".to_string())]);
    assert_eq!(kernels(&made(&[(1, bare, &[]), (3, &newer, &[])])), []);
}

#[test]
fn what_is_mounted_at_boot_counts_and_on_a_stick_does_not() {
    let root: &[(&str, &str)] = &[OS, ("/etc/fstab", "UUID=1 / ext4\nUUID=2 /boot ext4\n")];
    let boot: &[(&str, &str)] = &[("/vmlinuz-6.9", "kernel 6.9"), ("/initrd-6.9", "made")];
    assert_eq!(kernels(&made(&[(1, root, &[]), (2, boot, &[])])), [(1, "/vmlinuz-6.9".to_string())]);
    assert_eq!(kernels(&made(&[(1, root, &[]), (3, boot, &[])])), []);
}

#[test]
fn arguments_come_from_the_entry_file_of_the_kernel() {
    let entry = |of: &str| {
        format!("title Larkspur Linux 14\nlinux /boot/vmlinuz-{of}\noptions root=UUID=1 of-{of}\n")
    };
    let (older, newest) = (entry("6.8"), entry("6.9"));
    let files: &[(&str, &str)] = &[
        OS,
        KERNEL,
        INITRD,
        ("/boot/vmlinuz-6.8", "kernel 6.8"),
        ("/boot/initrd-6.8", "made"),
        ("/boot/loader/entries/a.conf", &older),
        ("/boot/loader/entries/b.conf", &newest),
    ];
    let machine = made(&[(1, files, &[])]);
    let system = &machine.systems().started[0];
    assert_eq!(
        (system.args.as_str(), system.args_from.as_str()),
        ("root=UUID=1 of-6.9", "d1p1:/boot/loader/entries/b.conf")
    );
    assert_eq!(system.kernels[1].args.as_deref(), Some("root=UUID=1 of-6.8"));
}

#[test]
fn copies_of_a_root_are_snapshots_of_it() {
    let mut files: Vec<(String, String)> = Vec::new();
    for root in ["/@", "/@new", "/@old", "/@other"] {
        files.push((format!("{root}{}", OS.0), OS.1.to_string()));
        files.push((format!("{root}{}", KERNEL.0), KERNEL.1.to_string()));
        files.push((format!("{root}{}", INITRD.0), INITRD.1.to_string()));
    }
    files.push(("/@other/etc/fstab".into(), "UUID=1 / btrfs subvol=@other\n".into()));
    let files: Vec<(&str, &str)> = files.iter().map(|(path, text)| (path.as_str(), text.as_str())).collect();
    let subvolumes =
        [("/@", None), ("/@new", Some(86_400 * 2)), ("/@old", Some(86_400)), ("/@other", Some(5))];
    let machine = made(&[(1, &files, &subvolumes)]);
    let titles: Vec<&str> = machine.systems().list.iter().map(|system| system.title.as_str()).collect();
    assert_eq!(
        titles,
        [
            "Larkspur Linux 14, /@",
            "Larkspur Linux 14, /@, snapshot of 1970-01-03 00:00",
            "Larkspur Linux 14, /@, snapshot of 1970-01-02 00:00",
            "Larkspur Linux 14, /@other",
        ]
    );
    let args: Vec<&str> = machine.systems().started.iter().map(|system| system.args.as_str()).collect();
    assert_eq!(args[1..3], ["root=UUID=1 rootflags=subvol=@new ro", "root=UUID=1 rootflags=subvol=@old ro"]);
}

#[test]
fn roots_of_containers_are_no_systems() {
    let below = format!("/var/lib/machines/ebbe{}", OS.0);
    let files: &[(&str, &str)] = &[OS, KERNEL, INITRD, (&below, OS.1)];
    let machine = made(&[(1, files, &[("/var/lib/machines/ebbe", None)])]);
    assert_eq!(machine.systems().list.len(), 1);
}
