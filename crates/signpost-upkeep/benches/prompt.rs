//! Completing a path in a large folder, beside listing that folder. `cargo xtask bench` makes a ratio of them.
#![allow(clippy::unwrap_used, missing_docs, reason = "a benchmark that cannot go on has failed")]

mod turns;

use std::fs::{self, File};
use std::hint::black_box;
use std::process::Command;

use criterion::{BenchmarkId, Criterion, criterion_group, criterion_main};
use signpost_demo::{BenchSpec, Content, DiskSpec, PartitionSpec, StoreKind};
use signpost_disk::{Guid, partition_type};
use signpost_machine::Machine;
use signpost_menu::MenuDocument;
use signpost_menu::prompt::Prompt;
use signpost_survey::catalogue::Catalogue;
use signpost_upkeep::look;

/// As the program has it.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

const FILES: usize = 5000;

/// An ext4 volume with one large folder.
fn volume() -> Vec<u8> {
    let work = tempfile::tempdir().unwrap();
    let folder = work.path().join("tree/tides");
    fs::create_dir_all(&folder).unwrap();
    for number in 0..FILES {
        fs::write(folder.join(format!("gauge-{number:05}.log")), b"").unwrap();
    }
    let image = work.path().join("image");
    File::create(&image).unwrap().set_len(32 << 20).unwrap();
    let path = format!("{}:/usr/sbin:/sbin", std::env::var("PATH").unwrap_or_default());
    let mut tool = Command::new("mke2fs");
    tool.args(["-q", "-F", "-t", "ext4", "-N", "6000", "-d"]).arg(work.path().join("tree")).arg(&image);
    let status = tool.env("PATH", path).status();
    assert!(status.expect("mke2fs; `cargo xtask bench` installs it").success());
    fs::read(image).unwrap()
}

fn completion(c: &mut Criterion) {
    let work = tempfile::tempdir().unwrap();
    let partition = PartitionSpec {
        guid: Guid::from_bytes([0xbe; 16]),
        type_guid: partition_type::LINUX_DATA,
        name: "tides",
        mebibytes: 32,
        content: Content::Bytes(volume()),
    };
    let disk = DiskSpec {
        image: "disk1.img",
        bus: "sata",
        model: "Petrel",
        serial: "BENCH-1",
        guid: Guid::from_bytes([0xbf; 16]),
        partitions: vec![partition],
    };
    let spec = BenchSpec {
        name: "Bench".into(),
        disks: vec![disk],
        variables: Vec::new(),
        store: StoreKind::Folder,
        more: String::new(),
        catalogue: "",
        recipes: "",
    };
    spec.write(work.path()).unwrap();
    let machine = Machine::open_bench(work.path()).unwrap();
    let look = look(&machine, &Catalogue::built_in());
    let prompt = Prompt::new(MenuDocument::default());
    assert_eq!(prompt.complete("look d1p1:/tides/", &look).words.len(), FILES);
    let mut group = turns::group(c, "completion");
    for turn in 0..turns::count() {
        group.bench_function(BenchmarkId::new("list", turn), |b| {
            b.iter(|| black_box(look.reader(0).unwrap().list("/tides").unwrap().len()));
        });
        group.bench_function(BenchmarkId::new("complete", turn), |b| {
            b.iter(|| black_box(prompt.complete("look d1p1:/tides/", &look).words.len()));
        });
    }
    group.finish();
}

criterion_group!(benches, completion);
criterion_main!(benches);
