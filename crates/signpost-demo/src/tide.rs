//! *Tide bench PC 2* of Kestrel Point, a made-up tide observatory.
//!
//! Larkspur Linux runs; an update of Meridian Desktop has put itself first, twice, and Larkspur's own entry
//! is long gone: the machine only starts it through the fallback path.

use signpost_disk::{Guid, guid, partition_type};
use signpost_firmware::boot_variables::{boot_option, boot_order, timeout};
use signpost_firmware::device_path::{DevicePath, HardDrive, Node, PartitionSignature};
use signpost_firmware::load_option::LoadOption;
use signpost_firmware::variable::Variable;

use crate::bench::{BenchSpec, Content, DiskSpec, PartitionSpec, StoreKind};
use crate::program::Program;
use crate::volume::Packed;

/// Volumes made by `cargo xtask demo-assets`.
const LARKSPUR_ROOT: Packed = Packed(include_bytes!("../../../demo/larkspur-root.pack"));
const MERIDIAN_SYSTEM: Packed = Packed(include_bytes!("../../../demo/meridian-system.pack"));
const TIDEWATER_DISK: Packed = Packed(include_bytes!("../../../demo/tidewater-disk.pack"));
const KESTREL_STORE: Packed = Packed(include_bytes!("../../../demo/kestrel-store.pack"));
/// UUID of that volume.
pub const LARKSPUR_UUID: &str = "7c0e4b1a-52d3-4f86-9a1e-0d3b6c8f2e14";

/// UUID of Tidewater RT's root, XFS on a logical volume.
pub const TIDEWATER_UUID: &str = "e2b7c9a4-0d61-4f38-9c15-8a4f7d3e6b20";
/// UUID of the observatory's store, btrfs.
pub const STORE_UUID: &str = "41f0d8e6-7b93-4c2a-8e57-c60b9a1d2f84";
/// UUID of the volume inside of Lantern Live's image.
pub const LANTERN_UUID: &str = "b8a60e15-3f2c-4d79-9a04-5e7c1b8d6f33";
/// Serial of Meridian Desktop's system volume, NTFS.
pub const MERIDIAN_SERIAL: u64 = 0x4e52_1d07_9b3c_a660;

/// The observatory's own rows: Meridian Desktop's system volume does not tell its name.
const CATALOGUE: &str = r#"# Systems of Kestrel Point that do not tell their own names.
format = 1

[[system]]
id = "meridian"
title = "Meridian Desktop {version}"
family = "desktop"
volume = { kinds = ["NTFS"], files = ["/Meridian/System/desktop.exe"], version-of = "/Meridian/System/desktop.exe" }
"#;

/// The observatory's own recipe: how Lantern Live learns where its image is.
const RECIPES: &str = r#"# How Kestrel Point starts Lantern Live from its image file.
format = 1

[[recipe]]
id     = "lantern-live"
title  = "Lantern Live, from the image file on the store"
for    = "image"
when   = { label = "LANTERN" }
kernel = ["newest:/boot/vmlinuz-*"]
initrd = ["/boot/initrd-{version}"]
args   = "lantern.volume=UUID={volume.uuid} lantern.image={path} ro"
"#;

/// Partition of a system that is long gone.
const GONE: Guid = guid!("c4d81f20-3b6a-4e57-8f19-60a2d7b3e512");
/// What the open-source firmware puts into entries that it makes by itself.
const MADE_BY_FIRMWARE: Guid = guid!("8108ac4e-9f11-4d59-850e-e21a522c59b2");

/// The bench.
///
/// # Panics
/// Where the packed root volume in the program is broken, which a test rules out.
pub fn bench(store: StoreKind) -> BenchSpec {
    let (first, second) = (first_disk(), second_disk());
    let variables = variables(&second);
    let disks = vec![first, second, third_disk()];
    BenchSpec {
        name: "Tide bench PC 2".into(),
        disks,
        catalogue: CATALOGUE,
        recipes: RECIPES,
        variables,
        store,
        more: format!(
            "secure-boot = false\n\n[running]\nentry = \"0004\"\nroot = \"uuid:{LARKSPUR_UUID}\"\n"
        ),
    }
}

fn first_disk() -> DiskSpec {
    let loader =
        Program::new("Larkspur Linux 14").section(".sbat", b"larkspur,1,Larkspur,loader,14,-\n").build();
    let files =
        vec![("/EFI/larkspur/lkload.efi".into(), loader.clone()), ("/EFI/BOOT/BOOTX64.EFI".into(), loader)];
    DiskSpec {
        image: "disk1.img",
        bus: "nvme",
        model: "Petrel N512",
        serial: "PTR-0071-K",
        guid: guid!("1d6f7a52-08c4-4b9e-a3d1-5e2b90c7f831"),
        partitions: vec![
            PartitionSpec::esp(
                guid!("3a9c51d7-e042-4c6b-8b7f-12d5a6e39c01"),
                "LARK-ESP",
                0x4f2a_11c9,
                64,
                files,
            ),
            PartitionSpec {
                guid: guid!("3a9c51d7-e042-4c6b-8b7f-12d5a6e39c02"),
                type_guid: partition_type::LINUX_DATA,
                name: "larkspur",
                mebibytes: 96,
                content: Content::Packed(LARKSPUR_ROOT),
            },
            PartitionSpec {
                guid: guid!("3a9c51d7-e042-4c6b-8b7f-12d5a6e39c03"),
                type_guid: guid!("0657fd6d-a4ab-43c4-84e5-0933c84b4f4f"),
                name: "swap",
                mebibytes: 32,
                content: Content::Bytes([vec![0; 0xff6], b"SWAPSPACE2".to_vec()].concat()),
            },
        ],
    }
}

/// Larkspur's root volume.
///
/// # Panics
/// Where the packed image in the program is broken, which a test rules out.
#[expect(clippy::expect_used, reason = "compiled in; a test unpacks it")]
pub fn larkspur_root() -> Vec<u8> {
    LARKSPUR_ROOT.bytes().expect("the packed root volume is whole")
}

fn third_disk() -> DiskSpec {
    DiskSpec {
        image: "disk3.img",
        bus: "sata",
        model: "Gannet D2",
        serial: "GNT-9034-B",
        guid: guid!("c5a2e980-4f17-4b6d-9d83-1e70b8f4a362"),
        partitions: vec![
            PartitionSpec {
                guid: guid!("d90c4b16-28e3-4f5a-b7a1-6c3e5f0d8a01"),
                type_guid: guid!("e6d6d379-f507-44c2-a23c-238f2a3df928"),
                name: "kestrel",
                mebibytes: 330,
                content: Content::Packed(TIDEWATER_DISK),
            },
            PartitionSpec {
                guid: guid!("d90c4b16-28e3-4f5a-b7a1-6c3e5f0d8a02"),
                type_guid: partition_type::LINUX_DATA,
                name: "store",
                mebibytes: 160,
                content: Content::Packed(KESTREL_STORE),
            },
        ],
    }
}

fn second_disk() -> DiskSpec {
    let loader = Program::new("Meridian Desktop 4")
        .string("CompanyName", "Meridian Works")
        .string("ProductName", "Meridian Desktop 4")
        .string("FileDescription", "Meridian loader")
        .string("ProductVersion", "4.2.1107")
        .signed()
        .build();
    let files =
        vec![("/EFI/meridian/start.efi".into(), loader.clone()), ("/EFI/BOOT/BOOTX64.EFI".into(), loader)];
    DiskSpec {
        image: "disk2.img",
        bus: "sata",
        model: "Cormorant S256",
        serial: "CRM-2208",
        guid: guid!("8e02b4c9-6d17-4a35-b0f8-c94d1e7a2650"),
        partitions: vec![
            PartitionSpec::esp(
                guid!("b71e08f4-95a2-4d3c-86e0-7f41c2d5a901"),
                "MERIDIAN",
                0x8b30_52e7,
                48,
                files,
            ),
            PartitionSpec {
                guid: guid!("b71e08f4-95a2-4d3c-86e0-7f41c2d5a902"),
                type_guid: guid!("e3c9e316-0b5c-4db8-817d-f92df00215ae"),
                name: "reserved",
                mebibytes: 16,
                content: Content::Bytes(Vec::new()),
            },
            PartitionSpec {
                guid: guid!("b71e08f4-95a2-4d3c-86e0-7f41c2d5a903"),
                type_guid: partition_type::BASIC_DATA,
                name: "Meridian",
                mebibytes: 64,
                content: Content::Packed(MERIDIAN_SYSTEM),
            },
        ],
    }
}

fn variables(second: &DiskSpec) -> Vec<Variable> {
    let gone = HardDrive { number: 2, start: 2048, size: 1 << 20, signature: PartitionSignature::Guid(GONE) };
    let stale =
        DevicePath::new(vec![Node::hard_drive(&gone), Node::file_path("\\EFI\\larkspur12\\lkload.efi")]);
    let made_by_firmware = MADE_BY_FIRMWARE.to_bytes().to_vec();
    let meridian =
        |path: &str| LoadOption::new("Meridian Start", second.path_to(1, path), b"MERIDIAN\0\x04".to_vec());
    vec![
        boot_option(0, &LoadOption::new("Larkspur 12", stale, Vec::new())),
        boot_option(1, &meridian("\\EFI\\meridian\\start.efi")),
        boot_option(2, &LoadOption::new("UEFI: Network, IPv4", network_card(), made_by_firmware.clone())),
        boot_option(3, &meridian("\\EFI\\MERIDIAN\\START.EFI")),
        boot_option(4, &LoadOption::new("UEFI Petrel N512 PTR-0071-K", nvme_disk(), made_by_firmware)),
        boot_order(&[1, 3, 0, 4, 2]),
        timeout(0),
    ]
}

fn pci_root() -> Node {
    Node { kind: 2, sub_kind: 1, data: vec![0xd0, 0x41, 0x03, 0x0a, 0, 0, 0, 0] }
}

fn pci(device: u8) -> Node {
    Node { kind: 1, sub_kind: 1, data: vec![0, device] }
}

fn network_card() -> DevicePath {
    let mut mac = vec![0x02, 0x4b, 0x50, 0x19, 0x00, 0x2e];
    mac.resize(33, 0);
    let nodes = vec![
        pci_root(),
        pci(0x1f),
        Node { kind: 3, sub_kind: 11, data: mac },
        Node { kind: 3, sub_kind: 12, data: vec![0; 23] },
    ];
    DevicePath::new(nodes)
}

fn nvme_disk() -> DevicePath {
    let namespace = [vec![1, 0, 0, 0], vec![0; 8]].concat();
    DevicePath::new(vec![pci_root(), pci(6), Node { kind: 3, sub_kind: 23, data: namespace }])
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_packed_root_volume_is_whole_and_small() {
        assert_eq!(larkspur_root().len() % (1 << 20), 0);
        let packed = [LARKSPUR_ROOT, MERIDIAN_SYSTEM, TIDEWATER_DISK, KESTREL_STORE];
        let total: usize = packed.iter().map(|packed| packed.0.len()).sum();
        assert!(total < 400_000, "{total} bytes");
    }

    #[test]
    fn the_same_bench_has_the_same_bytes() {
        let (a, b) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
        for folder in [&a, &b] {
            bench(StoreKind::Fd).write(folder.path()).unwrap();
        }
        for file in ["machine.toml", "disk1.img", "disk2.img", "disk3.img", "variables.fd"] {
            let read = |folder: &tempfile::TempDir| std::fs::read(folder.path().join(file)).unwrap();
            assert!(read(&a) == read(&b), "{file}");
        }
    }
}
