//! The kinds of strange partition tables.

use super::gpt::{entry, header, headers, put32, put64};
use super::kinds::{Kind, Part, disk};

/// First sectors of the two partitions, which have 4 MiB each.
const FIRST: u64 = 2048;
const SECOND: u64 = FIRST + 8192;

pub fn tables() -> Vec<Kind> {
    let mut kinds = vec![
        disk("a plain table", |_| {}),
        disk("no protective MBR", |disk| disk[..512].fill(0)),
        disk("an MBR without 55AA", |disk| disk[510..512].fill(0)),
        disk("a protective MBR in its fourth entry", |disk| {
            let held = disk[446..462].to_vec();
            disk[446..462].fill(0);
            disk[494..510].copy_from_slice(&held);
        }),
        disk("a protective MBR from sector 2", |disk| put32(disk, 454, 2)),
        disk("a protective MBR from sector 0", |disk| put32(disk, 454, 0)),
        disk("a protective MBR of one sector", |disk| put32(disk, 458, 1)),
        disk("a protective MBR of no length", |disk| put32(disk, 458, 0)),
        disk("a protective MBR that is active", |disk| disk[446] = 0x80),
        disk("an MBR of another type", |disk| disk[450] = 0x83),
        disk("a hybrid MBR", |disk| {
            disk.copy_within(446..462, 462);
            disk[466] = 0x0c;
            put32(disk, 470, FIRST as u32);
            put32(disk, 474, 8192);
        }),
        disk("a partition over the end of it", |disk| {
            entry(disk, 1, |bytes| put64(bytes, 32, SECOND - 100));
        }),
        disk("a partition within it", |disk| {
            entry(disk, 1, |bytes| (put64(bytes, 32, FIRST + 10), put64(bytes, 40, FIRST + 20)).0);
        }),
        disk("a partition around it", |disk| {
            entry(disk, 1, |bytes| (put64(bytes, 32, FIRST - 8), put64(bytes, 40, SECOND + 8)).0);
        }),
        disk("a partition at the very same place", |disk| {
            entry(disk, 1, |bytes| (put64(bytes, 32, FIRST), put64(bytes, 40, SECOND - 1)).0);
        }),
        disk("another partition that ends before it starts", |disk| {
            entry(disk, 1, |bytes| (put64(bytes, 32, SECOND + 100), put64(bytes, 40, SECOND)).0);
        }),
        disk("another partition behind the usable sectors over it", |disk| {
            entry(disk, 1, |bytes| put64(bytes, 40, 1 << 40));
        }),
        disk("usable sectors that begin within it", |disk| {
            header(disk, |bytes| put64(bytes, 40, FIRST + 1));
        }),
        disk("usable sectors that begin behind it", |disk| {
            header(disk, |bytes| put64(bytes, 40, SECOND));
        }),
        disk("usable sectors that end within it", |disk| {
            header(disk, |bytes| put64(bytes, 48, SECOND - 2));
        }),
        disk("usable sectors that end before it", |disk| {
            header(disk, |bytes| put64(bytes, 48, FIRST - 1));
        }),
        disk("no usable sectors", |disk| {
            header(disk, |bytes| (put64(bytes, 40, 100), put64(bytes, 48, 99)).0);
        }),
        disk("the type of plain data", |disk| {
            let basic = signpost_disk::partition_type::BASIC_DATA.to_bytes();
            entry(disk, 0, move |bytes| bytes[..16].copy_from_slice(&basic));
        }),
        disk("a type that nobody knows", |disk| entry(disk, 0, |bytes| bytes[..16].fill(0x77))),
        disk("no type", |disk| entry(disk, 0, |bytes| bytes[..16].fill(0))),
        disk("the identity of its neighbour", |disk| {
            let own = disk[1024 + 16..1024 + 32].to_vec();
            entry(disk, 1, move |bytes| bytes[16..32].copy_from_slice(&own));
        }),
        disk("a first copy with a wrong checksum", |disk| disk[512 + 16] ^= 1),
        disk("a first copy whose entries are altered", |disk| disk[1024 + 200] ^= 1),
        disk("a first copy of zeros", |disk| disk[512..1024].fill(0)),
        disk("a backup of zeros", |disk| {
            let at = headers(disk)[1];
            disk[at..].fill(0);
        }),
        disk("a backup with a wrong checksum", |disk| {
            let at = headers(disk)[1];
            disk[at + 16] ^= 1;
        }),
        disk("both copies with a wrong checksum", |disk| {
            for at in headers(disk) {
                disk[at + 16] ^= 1;
            }
        }),
        disk("a backup that the disk was cut before", |disk| {
            let length = disk.len();
            disk.truncate(length - (64 << 10));
        }),
        disk("a backup that is not at the end", |disk| {
            let length = disk.len();
            disk.resize(length + (1 << 20), 0);
        }),
        disk("headers that name another sector as theirs", |disk| {
            header(disk, |bytes| put64(bytes, 24, 7));
        }),
        disk("headers that name another sector as the other's", |disk| {
            header(disk, |bytes| put64(bytes, 32, 7));
        }),
        disk("headers of 512 bytes", |disk| header(disk, |bytes| put32(bytes, 12, 512))),
        disk("headers of another revision", |disk| header(disk, |bytes| put32(bytes, 8, 0x0002_0000))),
        disk("4 entries alone", |disk| header(disk, |bytes| put32(bytes, 80, 4))),
        disk("no entries", |disk| header(disk, |bytes| put32(bytes, 80, 0))),
    ];
    for (name, bit) in [
        ("an attribute: required", 0),
        ("an attribute: no block I/O", 1),
        ("an attribute: started by BIOS", 2),
        ("an attribute of its type", 63),
    ] {
        kinds.push(disk(name, move |disk| entry(disk, 0, move |bytes| put64(bytes, 48, 1 << bit))));
    }
    kinds.extend(bios_tables());
    kinds
}

/// Signature of the disks with a table of BIOS, a number apart for each.
pub const SIGNATURE: u32 = 0x51e9_0000;

/// Entries of a table of BIOS: place in it, type, first sector, sectors.
type Slots = &'static [(usize, u8, u64, u64)];

/// A table of BIOS in place of the GPT.
fn mbr(name: &'static str, number: u32, slots: Slots) -> Kind {
    let change = move |disk: &mut Vec<u8>| {
        for at in headers(disk) {
            disk[at..at + 512].fill(0);
        }
        disk[446..510].fill(0);
        slots.iter().for_each(|slot| put_slot(disk, 0, *slot));
    };
    Kind { name, part: Part::Mbr(number, Box::new(change)), mebibytes: 4 }
}

fn put_slot(disk: &mut [u8], sector: usize, (slot, kind, first, sectors): (usize, u8, u64, u64)) {
    let at = sector * 512 + 446 + slot * 16;
    disk[at + 4] = kind;
    put32(disk, at + 8, first as u32);
    put32(disk, at + 12, sectors as u32);
    disk[sector * 512 + 510..sector * 512 + 512].copy_from_slice(&[0x55, 0xaa]);
}

const LENGTH: u64 = 8192;

fn bios_tables() -> Vec<Kind> {
    vec![
        mbr("a plain table of BIOS", 1, &[(0, 0xef, FIRST, LENGTH)]),
        mbr("a table of BIOS, the type one of data", 1, &[(0, 0x0c, FIRST, LENGTH)]),
        mbr("a table of BIOS, in its second place", 2, &[(1, 0x0c, FIRST, LENGTH)]),
        mbr("a table of BIOS, in its second place, counted as the first", 1, &[(1, 0x0c, FIRST, LENGTH)]),
        mbr("a table of BIOS with another before it", 2, &[(0, 0x83, 64, 100), (1, 0x0c, FIRST, LENGTH)]),
        mbr("a table of BIOS with one over it", 1, &[(0, 0xef, FIRST, LENGTH), (1, 0x83, FIRST + 100, 100)]),
        mbr(
            "a table of BIOS whose others overlap",
            1,
            &[(0, 0xef, FIRST, LENGTH), (1, 0x83, 64, 100), (2, 0x83, 100, 100)],
        ),
        mbr(
            "a table of BIOS with one beyond the disk",
            1,
            &[(0, 0xef, FIRST, LENGTH), (1, 0x83, SECOND, 1 << 24)],
        ),
        mbr("a table of BIOS with one of no length", 1, &[(0, 0xef, FIRST, LENGTH), (1, 0x83, 100, 0)]),
        mbr("a table of BIOS of no type", 1, &[(0, 0, FIRST, LENGTH)]),
        mbr(
            "a table of BIOS with a protective entry that is short",
            1,
            &[(0, 0xef, FIRST, LENGTH), (1, 0xee, 1, 63)],
        ),
        logical("a logical partition", 5, 0),
        logical("a logical partition, counted as the first", 1, 0),
        logical("a logical partition behind another, counted as the fifth", 5, 1),
        logical("a logical partition behind another, counted as the first", 1, 1),
        logical("a logical partition behind another, counted as the second", 2, 1),
        logical("a logical partition behind another, counted as the third", 3, 1),
    ]
}

/// The partition is a logical one, in an extended one that starts 64 sectors before it; others stand before that.
fn logical(name: &'static str, number: u32, before: usize) -> Kind {
    let Kind { part: Part::Mbr(_, plain), .. } = mbr(name, number, &[]) else {
        unreachable!("it is one of BIOS");
    };
    let change = move |disk: &mut Vec<u8>| {
        plain(disk);
        (0..before).for_each(|slot| put_slot(disk, 0, (slot, 0x83, 64, 100)));
        put_slot(disk, 0, (before, 0x05, FIRST - 64, LENGTH + 64));
        put_slot(disk, FIRST as usize - 64, (0, 0x0c, 64, LENGTH));
    };
    Kind { name, part: Part::Mbr(number, Box::new(change)), mebibytes: 4 }
}
