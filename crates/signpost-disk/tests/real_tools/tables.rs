//! Partition tables, held against what `sfdisk` says of those it wrote.

use std::io::Write;
use std::process::{Command, Stdio};

use signpost_disk::table::{Table, TableKind};

use crate::harness::{Image, LoopDevice, run};

type Listed = Vec<(u32, u64, u64, Option<String>)>;

/// Writes a table by a script of the tool's own; number, start, size (both in sectors) and identity of each partition
/// as the tool then lists them. The size of sectors is the loop device's.
fn written(mebibytes: u64, sector_size: &str, script: &str) -> (Image, Listed) {
    let image = Image::new(mebibytes);
    let device = LoopDevice::with_sectors(&image, sector_size);
    let mut tool = Command::new("/sbin/sfdisk")
        .args(["-q", "--no-reread", "--no-tell-kernel", device.name()])
        .stdin(Stdio::piped())
        .spawn()
        .unwrap_or_else(|error| panic!("sfdisk cannot be run ({error}); `cargo xtask test` installs it"));
    tool.stdin.take().unwrap().write_all(script.as_bytes()).unwrap();
    assert!(tool.wait().unwrap().success());
    let text = run("sfdisk", &["--dump", device.name()]);
    let field = |line: &str, key: &str| {
        let rest = line.split_once(&format!("{key}="))?.1;
        Some(rest.split(',').next()?.trim().to_lowercase())
    };
    let listed = text
        .lines()
        .filter_map(|line| {
            let rest = line.strip_prefix(device.name())?.trim_start_matches('p');
            let number = rest.split(' ').next()?.parse().ok()?;
            let number_of = |key| field(line, key)?.parse().ok();
            Some((number, number_of("start")?, number_of("size")?, field(line, "uuid")))
        })
        .collect();
    (image, listed)
}

fn read(image: &Image, sector_size: u32) -> (Table, Listed) {
    let table = Table::read(image.device().as_ref(), sector_size);
    let sector = u64::from(sector_size);
    let entries = table.partitions.iter();
    let seen =
        entries.map(|entry| (entry.number, entry.start / sector, entry.size / sector, entry.uuid.clone()));
    let seen = seen.collect();
    (table, seen)
}

#[test]
fn gpt_with_sectors_of_either_size_and_out_of_order() {
    let script = "label: gpt\nname=\"Gezeiten ≈\", start=4MiB, size=2MiB\nstart=1MiB, size=2MiB, type=U\n7: start=8MiB, size=1MiB\n";
    for size in [512, 4096] {
        let (image, listed) = written(16, &size.to_string(), script);
        let (table, seen) = read(&image, size);
        assert_eq!(seen, listed, "{size}");
        assert_eq!(
            (table.kind, table.faults.len(), table.oddities.len()),
            (TableKind::Gpt, 0, 0),
            "{table:?}"
        );
        assert_eq!(table.partitions[0].name, "Gezeiten ≈");
        assert!(table.partitions[1].purpose.is_esp());
    }
}

#[test]
fn mbr_with_logical_partitions_is_numbered_as_the_tool_numbers_it() {
    let script = "label: dos\nlabel-id: 0x7a51900b\nstart=1MiB, size=4MiB, type=c, bootable\nstart=6MiB, size=20MiB, type=f\n\
                  start=7MiB, size=3MiB\nstart=12MiB, size=2MiB, type=82\nstart=15MiB, size=4MiB\nstart=28MiB, size=2MiB, type=a5\n";
    let (image, listed) = written(32, "512", script);
    let (table, seen) = read(&image, 512);
    // The tool prints no identity for these; Linux makes them of the signature and the number.
    let listed: Vec<_> = listed.into_iter().map(|(number, start, size, _)| (number, start, size)).collect();
    let mut ours: Vec<_> = seen.iter().map(|(number, start, size, _)| (*number, *start, *size)).collect();
    ours.sort_unstable();
    assert_eq!(ours, listed);
    assert_eq!((table.kind, table.signature, table.faults.len()), (TableKind::Mbr, Some(0x7a51_900b), 0));
    let logical = table.partitions.iter().find(|entry| entry.number == 6).unwrap();
    assert_eq!(logical.uuid.as_deref(), Some("7a51900b-06"));
    assert!(table.partitions[0].is_active && table.partitions[1].is_container);
}
