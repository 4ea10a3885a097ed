//! The kinds of strange programs and file systems.

use super::gpt::put32;

/// A kind.
pub struct Kind {
    pub name: &'static str,
    pub part: Part,
    /// Size of the partition with the program.
    pub mebibytes: u64,
}

/// A change to a file, or to a whole disk.
type Change = Box<dyn Fn(&mut Vec<u8>)>;
/// A change to a file system in its place.
type FatChange = Box<dyn Fn(&mut [u8])>;

/// What is strange.
pub enum Part {
    Program(Change),
    /// The bytes of the file system.
    Fat(FatChange),
    Disk(Change),
    /// How the entry names the file.
    Path(&'static str),
    /// A table of BIOS, and the number that the entry gives to the partition.
    Mbr(u32, Change),
}

fn program(name: &'static str, change: impl Fn(&mut Vec<u8>) + 'static) -> Kind {
    Kind { name, part: Part::Program(Box::new(change)), mebibytes: 4 }
}

fn fat(name: &'static str, mebibytes: u64, change: impl Fn(&mut [u8]) + 'static) -> Kind {
    Kind { name, part: Part::Fat(Box::new(change)), mebibytes }
}

pub fn disk(name: &'static str, change: impl Fn(&mut Vec<u8>) + 'static) -> Kind {
    Kind { name, part: Part::Disk(Box::new(change)), mebibytes: 4 }
}

fn path(name: &'static str, path: &'static str) -> Kind {
    Kind { name, part: Part::Path(path), mebibytes: 4 }
}

fn put16(bytes: &mut [u8], at: usize, value: u16) {
    bytes[at..at + 2].copy_from_slice(&value.to_le_bytes());
}

/// Where fields of the made-up programs' headers stand, in bytes from the file's start.
mod pe {
    pub const MACHINE: usize = 0x44;
    pub const SECTIONS: usize = 0x46;
    pub const OPTIONAL_SIZE: usize = 0x54;
    pub const CHARACTERISTICS: usize = 0x56;
    pub const MAGIC: usize = 0x58;
    pub const ENTRY: usize = 0x68;
    pub const SECTION_ALIGNMENT: usize = 0x78;
    pub const FILE_ALIGNMENT: usize = 0x7c;
    pub const IMAGE_SIZE: usize = 0x90;
    pub const HEADERS_SIZE: usize = 0x94;
    pub const CHECK_SUM: usize = 0x98;
    pub const SUBSYSTEM: usize = 0x9c;
    pub const DIRECTORIES: usize = 0xc4;
    pub const SECTION: usize = 0x148;
}

pub fn programs() -> Vec<Kind> {
    let mut kinds = vec![
        program("a plain program", |_| {}),
        path("a path without its first backslash", "EFI\\strange\\a.efi"),
        path("a path with slashes", "/EFI/strange/a.efi"),
        path("a path in another case", "\\efi\\STRANGE\\A.EFI"),
        path("a path with two backslashes", "\\EFI\\\\strange\\a.efi"),
        path("a path with a dot folder", "\\EFI\\.\\strange\\a.efi"),
        path("a path with a folder up", "\\EFI\\strange\\..\\strange\\a.efi"),
        path("a path that ends in a backslash", "\\EFI\\strange\\a.efi\\"),
        program("an entry at the start of the image", |file| put32(file, pe::ENTRY, 0)),
        path("a path to a folder", "\\EFI\\strange"),
        program("a size of the image of nothing", |file| put32(file, pe::IMAGE_SIZE, 0)),
        program("a size of the image below its sections", |file| put32(file, pe::IMAGE_SIZE, 0x1000)),
        program("a size of the image of 2 GiB", |file| put32(file, pe::IMAGE_SIZE, 0x7fff_f000)),
        program("headers longer than the file", |file| put32(file, pe::HEADERS_SIZE, 0x10_0000)),
        program("headers of no length", |file| put32(file, pe::HEADERS_SIZE, 0)),
        program("headers shorter than their table", |file| put32(file, pe::HEADERS_SIZE, 0x100)),
        program("headers of 32 bits", |file| put16(file, pe::MAGIC, 0x10b)),
        program("headers of a magic that is none", |file| put16(file, pe::MAGIC, 0x30b)),
        program("cut in its section", |file| file.truncate(0x410)),
        program("cut behind its headers", |file| file.truncate(0x400)),
        program("cut in its headers", |file| file.truncate(0x60)),
        program("cut in its section table", |file| file.truncate(0x150)),
        program("nothing", Vec::clear),
        program("two letters", |file| file.truncate(2)),
        program("random bytes", |file| file.iter_mut().for_each(|byte| *byte = byte.wrapping_mul(37) ^ 0x5a)),
        program("no sections", |file| put16(file, pe::SECTIONS, 0)),
        program("97 sections", |file| put16(file, pe::SECTIONS, 97)),
        program("a section behind the end", |file| put32(file, pe::SECTION + 20, 0x10_0000)),
        program("a section longer than the file", |file| put32(file, pe::SECTION + 16, 0x10_0000)),
        program("a section at an address behind the image", |file| {
            put32(file, pe::SECTION + 12, 0x100_0000);
        }),
        program("a section within the headers", |file| put32(file, pe::SECTION + 20, 0x200)),
        program("a section at an address within the headers", |file| put32(file, pe::SECTION + 12, 0x200)),
        program("a section alignment of nothing", |file| put32(file, pe::SECTION_ALIGNMENT, 0)),
        program("a section alignment of 512", |file| put32(file, pe::SECTION_ALIGNMENT, 512)),
        program("a file alignment of nothing", |file| put32(file, pe::FILE_ALIGNMENT, 0)),
        program("no data directories", |file| put32(file, pe::DIRECTORIES, 0)),
        program("17 data directories", |file| put32(file, pe::DIRECTORIES, 17)),
        program("an optional header of no length", |file| put16(file, pe::OPTIONAL_SIZE, 0)),
        program("an optional header that is too long", |file| put16(file, pe::OPTIONAL_SIZE, 0x1000)),
        program("no mark of executables", |file| put16(file, pe::CHARACTERISTICS, 0x0020)),
        program("without relocations", |file| put16(file, pe::CHARACTERISTICS, 0x0023)),
        program("a library", |file| put16(file, pe::CHARACTERISTICS, 0x2022)),
        program("a checksum that is wrong", |file| put32(file, pe::CHECK_SUM, 0x1234_5678)),
        program("an entry behind the image", |file| put32(file, pe::ENTRY, 0x100_0000)),
        program("no MZ", |file| file[..2].copy_from_slice(b"ZM")),
        program("no PE", |file| file[0x40..0x42].copy_from_slice(b"NE")),
        program("PE headers behind the end", |file| put32(file, 0x3c, 0x10_0000)),
        program("PE headers without MZ", |file| {
            file.drain(..0x40);
        }),
        program("bytes behind its end", |file| file.extend([0xaa; 5000])),
        program("a certificate table behind its end", |file| {
            put32(file, pe::DIRECTORIES + 4 + 4 * 8, 0x10_0000);
            put32(file, pe::DIRECTORIES + 4 + 4 * 8 + 4, 16);
        }),
    ];
    for (name, machine) in
        [("built for x86", 0x14c), ("built for aarch64", 0xaa64), ("built for no machine", 0)]
    {
        kinds.push(program(name, move |file| put16(file, pe::MACHINE, machine)));
    }
    for (name, subsystem) in [
        ("no subsystem", 0),
        ("a native program", 1),
        ("a console program", 3),
        ("a boot service driver", 11),
        ("a runtime driver", 12),
        ("a subsystem that is not there", 99),
    ] {
        kinds.push(program(name, move |file| put16(file, pe::SUBSYSTEM, subsystem)));
    }
    kinds
}

/// Small partitions are FAT12, larger ones FAT32.
const LARGE: u64 = 40;

pub fn file_systems() -> Vec<Kind> {
    let boot_sector = |name, at: usize, value: &'static [u8]| {
        fat(name, 4, move |volume| volume[at..at + value.len()].copy_from_slice(value))
    };
    let large = |name, at: usize, value: &'static [u8]| {
        fat(name, LARGE, move |volume| volume[at..at + value.len()].copy_from_slice(value))
    };
    vec![
        fat("a plain FAT12", 4, |_| {}),
        fat("a plain FAT16", 16, |_| {}),
        fat("a plain FAT32", LARGE, |_| {}),
        boot_sector("no 55AA", 510, &[0, 0]),
        boot_sector("no jump", 0, &[0, 0, 0]),
        boot_sector("a near jump", 0, &[0xe9, 0, 0]),
        boot_sector("a media byte of 0", 21, &[0]),
        boot_sector("a media byte of 1", 21, &[1]),
        boot_sector("a media byte of F0", 21, &[0xf0]),
        boot_sector("a media byte of F5", 21, &[0xf5]),
        boot_sector("a media byte of FF", 21, &[0xff]),
        boot_sector("sectors of no length", 11, &[0, 0]),
        boot_sector("sectors of 1024", 11, &[0, 4]),
        boot_sector("sectors of 500", 11, &[0xf4, 1]),
        boot_sector("3 sectors a cluster", 13, &[3]),
        boot_sector("no sectors a cluster", 13, &[0]),
        boot_sector("no reserved sectors", 14, &[0, 0]),
        boot_sector("no FATs", 16, &[0]),
        boot_sector("3 FATs", 16, &[3]),
        boot_sector("no room for the root folder", 17, &[0, 0]),
        boot_sector("another name of its maker", 3, b"NTFS    "),
        boot_sector("no name of its type", 54, b"        "),
        boot_sector("no extended boot signature", 38, &[0]),
        fat("more sectors than its partition", 4, |volume| {
            put16(volume, 19, 0);
            put32(volume, 32, 0x10_0000);
        }),
        fat("one sector more than its partition", 4, |volume| {
            put16(volume, 19, 8193);
        }),
        fat("fewer sectors than its file needs", 4, |volume| {
            put16(volume, 19, 40);
        }),
        fat("no sectors", 4, |volume| {
            put16(volume, 19, 0);
            put32(volume, 32, 0);
        }),
        fat("both counts of sectors", 4, |volume| put32(volume, 32, 8192)),
        fat("a count of sectors in the wide field alone", 4, |volume| {
            put16(volume, 19, 0);
            put32(volume, 32, 8192);
        }),
        boot_sector("a FAT that is too short", 22, &[1, 0]),
        large("version 1", 42, &[1, 0]),
        large("version 0.1", 42, &[0, 1]),
        large("its first FAT active alone", 40, &[0x80, 0]),
        large("its second FAT active alone", 40, &[0x81, 0]),
        large("a third FAT active alone", 40, &[0x82, 0]),
        fat("a FAT32 of too few clusters", LARGE, |volume| put32(volume, 32, 60_000)),
        large("no root cluster", 44, &[0, 0, 0, 0]),
        large("a root cluster behind the end", 44, &[0xff, 0xff, 0xff, 0]),
        large("no information sector", 48, &[0xff, 0xff]),
        large("an information sector behind the end", 48, &[0xf0, 0xff]),
        large("no copy of the boot sector", 50, &[0, 0]),
        large("FAT32 with room for a root folder", 17, &[0, 2]),
        large("FAT32 without 55AA", 510, &[0, 0]),
        large("FAT32 without a name of its type", 82, b"        "),
        fat("a FAT32 whose FATs differ", LARGE, |volume| {
            let (reserved, length) = (le16(volume, 14), le32(volume, 36));
            volume[(reserved + length) * 512..(reserved + 2 * length) * 512].fill(0);
        }),
        fat("a FAT12 whose first FAT is empty", 4, |volume| {
            let (reserved, length) = (le16(volume, 14), le16(volume, 22));
            volume[reserved * 512..(reserved + length) * 512].fill(0);
        }),
    ]
}

fn le16(bytes: &[u8], at: usize) -> usize {
    usize::from(u16::from_le_bytes([bytes[at], bytes[at + 1]]))
}

fn le32(bytes: &[u8], at: usize) -> usize {
    le16(bytes, at) | le16(bytes, at + 2) << 16
}
