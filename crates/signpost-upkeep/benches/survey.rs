//! How long a survey takes, and reading a large file, each beside plain reads of the same bytes in the same run.
//! `cargo xtask bench` makes ratios of them.
#![allow(clippy::unwrap_used, missing_docs, reason = "a benchmark that cannot go on has failed")]

mod turns;

use std::cell::LazyCell;
use std::fs::{self, File};
use std::hint::black_box;
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::{Arc, Mutex};

use criterion::{BenchmarkId, Criterion, criterion_group, criterion_main};
use signpost_demo::program::{Kernel, Program};
use signpost_demo::{BenchSpec, Content, DiskSpec, PartitionSpec, StoreKind};
use signpost_disk::block::{BlockDevice, ReadError, SharedDevice};
use signpost_disk::file_system::FileSystem;
use signpost_disk::{Guid, open, partition_type, probe};
use signpost_machine::Machine;
use signpost_survey::catalogue::Catalogue;
use signpost_upkeep::look;

/// As the program has it.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

const PARTITIONS: usize = 64;
const FILE: usize = 64 << 20; // bytes

/// An identity that no other has.
fn guid(disk: usize, partition: usize) -> Guid {
    let mut bytes = [0; 16];
    bytes[0] = 0xbe;
    bytes[7] = 0x40;
    bytes[8] = 0x80;
    bytes[12..14].copy_from_slice(&(disk as u16).to_be_bytes());
    bytes[14..16].copy_from_slice(&(partition as u16).to_be_bytes());
    Guid::from_bytes(bytes)
}

/// A disk as one meets it: an ESP, a Linux system, and much else: FAT, swap, volumes that are empty.
fn disk(index: usize) -> DiskSpec {
    let loader = Program::new("Larkspur loader").build();
    let esp = vec![("/EFI/larkspur/lkload.efi".to_string(), loader)];
    let mut partitions = vec![PartitionSpec::esp(guid(index, 1), "ESP", 0x0be0_0000 + index as u32, 4, esp)];
    for number in 2..=PARTITIONS {
        let (mebibytes, content) = match number % 3 {
            _ if number == 2 => (16, Content::Bytes(root(index))),
            0 => {
                let serial = (index * 1000 + number) as u32;
                (
                    2,
                    Content::Fat {
                        label: "DATA",
                        serial,
                        files: vec![("/data.txt".into(), b"tide".to_vec())],
                    },
                )
            }
            1 => (1, Content::Bytes([vec![0; 0xff6], b"SWAPSPACE2".to_vec()].concat())),
            _ => (1, Content::Bytes(Vec::new())),
        };
        let type_guid = partition_type::LINUX_DATA;
        partitions.push(PartitionSpec {
            guid: guid(index, number),
            type_guid,
            name: "data",
            mebibytes,
            content,
        });
    }
    DiskSpec {
        image: format!("disk{index}.img").leak(),
        bus: "sata",
        model: "Petrel",
        serial: format!("BENCH-{index}").leak(),
        guid: guid(index, 0),
        partitions,
    }
}

/// The root of a Linux system, with a UUID of its own.
fn root(index: usize) -> Vec<u8> {
    let work = tempfile::tempdir().unwrap();
    let tree = work.path().join("tree");
    let uuid = format!("be000000-0000-4000-8000-{index:012}");
    let put = |path: &str, contents: &[u8]| {
        let path = tree.join(path);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, contents).unwrap();
    };
    put("etc/os-release", format!("ID=larkspur\nPRETTY_NAME=\"Larkspur Linux 14, {index}\"\n").as_bytes());
    put("etc/fstab", format!("UUID={uuid} / ext4 defaults 0 1\n").as_bytes());
    for version in ["6.9.1", "6.9.4"] {
        put(&format!("boot/vmlinuz-{version}"), &Kernel::new(version).build("Larkspur"));
        put(&format!("boot/initrd-{version}"), b"initrd");
        put(&format!("usr/lib/modules/{version}/modules.order"), b"ext4\n");
    }
    let image = work.path().join("root.img");
    File::create(&image).unwrap().set_len(16 << 20).unwrap();
    tool(
        "mke2fs",
        &["-q", "-F", "-t", "ext4", "-U", &uuid, "-d", tree.to_str().unwrap(), image.to_str().unwrap()],
    );
    fs::read(image).unwrap()
}

fn bench_folder(disks: usize) -> tempfile::TempDir {
    let folder = tempfile::tempdir().unwrap();
    let spec = BenchSpec {
        name: "Bench".into(),
        disks: (1..=disks).map(disk).collect(),
        variables: Vec::new(),
        store: StoreKind::Folder,
        more: String::new(),
        catalogue: "",
        recipes: "",
    };
    spec.write(folder.path()).unwrap();
    folder
}

/// Notes what is read.
struct Recorder {
    inner: SharedDevice,
    reads: Arc<Mutex<Vec<(u64, usize)>>>,
}

impl BlockDevice for Recorder {
    fn size(&self) -> u64 {
        self.inner.size()
    }

    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> Result<(), ReadError> {
        self.reads.lock().unwrap().push((offset, buffer.len()));
        self.inner.read_at(offset, buffer)
    }
}

/// What a survey reads of each disk: file, offsets and lengths.
fn recorded(folder: &Path) -> Vec<(File, Vec<(u64, usize)>)> {
    let mut machine = Machine::open_bench(folder).unwrap();
    let mut logs = Vec::new();
    for disk in &mut machine.disks {
        let reads = Arc::new(Mutex::new(Vec::new()));
        let inner = disk.contents.clone().unwrap();
        disk.contents = Ok(Arc::new(Recorder { inner, reads: reads.clone() }));
        logs.push((File::open(&disk.image).unwrap(), reads));
    }
    black_box(look(&machine, &Catalogue::built_in()).survey.systems.len());
    logs.into_iter().map(|(file, reads)| (file, reads.lock().unwrap().clone())).collect()
}

fn survey(c: &mut Criterion) {
    let mut group = turns::group(c, "survey");
    let catalogue = Catalogue::built_in();
    // Made when it is first measured: a run of a few benchmarks makes no disks for the others.
    let machines = [1usize, 64, 16].map(|disks| {
        let bench = LazyCell::new(move || {
            let folder = bench_folder(disks);
            let machine = Machine::open_bench(folder.path()).unwrap();
            (folder, machine)
        });
        (disks, bench)
    });
    let reads = LazyCell::new(|| recorded(machines[2].1.0.path()));
    let mut buffer = vec![0; 2 << 20];
    for turn in 0..turns::count() {
        for (disks, bench) in &machines {
            group.bench_function(BenchmarkId::new(format!("disks/{disks}"), turn), |b| {
                let machine = &bench.1;
                b.iter(|| black_box(look(machine, &catalogue).survey.volumes.len()));
            });
        }
        group.bench_function(BenchmarkId::new("plain-reads/16", turn), |b| {
            let reads = &*reads;
            b.iter(|| {
                for (file, reads) in reads {
                    for (offset, length) in reads {
                        file.read_exact_at(&mut buffer[..*length], *offset).unwrap();
                    }
                }
            });
        });
    }
    group.finish();
}

fn tool(name: &str, args: &[&str]) {
    let path = format!("{}:/usr/sbin:/sbin", std::env::var("PATH").unwrap_or_default());
    let output = Command::new(name).args(args).env("PATH", path).output();
    let output = output.unwrap_or_else(|error| panic!("{name}: {error}; `cargo xtask bench` installs it"));
    assert!(output.status.success(), "{name}: {}", String::from_utf8_lossy(&output.stderr));
}

/// A tree with a file of 64 MiB, and what makes volumes of it.
struct LargeFile {
    work: tempfile::TempDir,
    bytes: Vec<u8>,
}

impl LargeFile {
    fn new() -> Self {
        let work = tempfile::tempdir().unwrap();
        let bytes: Vec<u8> =
            (0..FILE as u32).map(|index| (index.wrapping_mul(2_654_435_761) >> 24) as u8).collect();
        fs::create_dir_all(work.path().join("tree")).unwrap();
        let large = Self { work, bytes };
        fs::write(large.plain(), &large.bytes).unwrap();
        large
    }

    fn plain(&self) -> PathBuf {
        self.work.path().join("tree/large")
    }

    /// A volume of this kind with the file in it, opened by our reader.
    fn volume(&self, kind: &str) -> Box<dyn FileSystem> {
        let image = self.work.path().join(kind);
        File::create(&image).unwrap().set_len(400 << 20).unwrap();
        let proto = self.work.path().join("proto");
        let line = format!("large ---644 0 0 {}", self.plain().display());
        fs::write(&proto, format!("/dev/null\n0 0\nd--755 0 0\n{line}\n$\n")).unwrap();
        let tree = self.work.path().join("tree");
        let [tree, proto, image_name] = [&tree, &proto, &image].map(|path| path.to_str().unwrap());
        match kind {
            "ext4" => tool("mke2fs", &["-q", "-F", "-t", "ext4", "-d", tree, image_name]),
            "xfs" => tool("mkfs.xfs", &["-q", "-f", "-p", proto, image_name]),
            _ => tool("mkfs.btrfs", &["-q", "-f", "--rootdir", tree, image_name]),
        }
        let machine = Machine::of_images(std::slice::from_ref(&image));
        let device = machine.disks[0].contents.clone().unwrap();
        let (identity, _) = probe::identify(device.as_ref());
        let volume = open::file_system(&device, &identity).unwrap().unwrap();
        assert!(volume.read("/large", FILE).unwrap() == self.bytes, "{kind}");
        volume
    }
}

/// A file of 64 MiB by each reader, into the caller's buffer, beside the same bytes from a plain file.
fn large_files(c: &mut Criterion) {
    let large = LazyCell::new(LargeFile::new);
    let plain = LazyCell::new(|| File::open(large.plain()).unwrap());
    let volumes = ["ext4", "xfs", "btrfs"].map(|kind| {
        let large = &large;
        (kind, LazyCell::new(move || large.volume(kind)))
    });
    let mut group = turns::group(c, "large-file");
    let mut buffer = vec![0; FILE];
    for turn in 0..turns::count() {
        group.bench_function(BenchmarkId::new("plain", turn), |b| {
            let file = &*plain;
            b.iter(|| file.read_exact_at(&mut buffer, 0).unwrap());
        });
        for (kind, volume) in &volumes {
            group.bench_function(BenchmarkId::new(*kind, turn), |b| {
                let volume = &**volume;
                b.iter(|| assert_eq!(volume.read_at("/large", 0, &mut buffer).unwrap(), FILE));
            });
        }
    }
    group.finish();
}

criterion_group!(benches, survey, large_files);
criterion_main!(benches);
