//! *Gauge logger* of Kestrel Point: a PC of before UEFI, with Larkspur Linux 10 in logical partitions, Skerry BSD 9 in
//! a slice, and GaugeDOS 7. And *Lathe PC* of its workshop, the same with a first partition at 1 MiB, before which there is room for a
//! menu, and with a kernel that such a machine starts.

use std::fs::{self, File};
use std::io;
use std::os::unix::fs::FileExt;
use std::path::Path;

use signpost_firmware::bios::{CODE_LEN, plain};

use crate::volume::{self, Packed};
use crate::{bios_kernel, boot_sector};

/// UUID of Larkspur 10's root.
pub const LARKSPUR_ROOT: &str = "9d3f2b70-41c8-4e0a-b5d6-72a8c1e50f10";
/// UUID of its `/boot`.
pub const LARKSPUR_BOOT: &str = "9d3f2b70-41c8-4e0a-b5d6-72a8c1e50f11";

const ROOT: &[u8] = include_bytes!("../../../demo/larkspur10-root.pack");
const BOOT: &[u8] = include_bytes!("../../../demo/larkspur10-boot.pack");
const SKERRY: &[u8] = include_bytes!("../../../demo/skerry-root.pack");

const IMAGE: &str = "gauge.img";
const SECTOR: u64 = 512;
/// Heads, as firmware of that time counts.
const HEADS: u64 = 255;
/// Sectors of a track.
const TRACK: u64 = 63;
/// Sectors in a MiB.
const MIB: u64 = 2048;
const SIGNATURE: u32 = 0x7a51_900b;

const MACHINE: &str = r#"format = 1
name = "Gauge logger"
firmware = "bios"

[running]
root = "uuid:9d3f2b70-41c8-4e0a-b5d6-72a8c1e50f10"

[[disk]]
image = "gauge.img"
bus = "ata"
model = "Guillemot 80"
serial = "GLM-4410"
"#;

/// The observatory's own rows.
const CATALOGUE: &str = r#"# Systems of Kestrel Point that do not tell their own names.
format = 1

[[system]]
id = "gaugedos"
title = "GaugeDOS 7"
family = "dos"
volume = { kinds = ["FAT16"], files = ["/gdos.sys", "/gcommand.com"] }

[[system]]
id = "skerry"
title = "Skerry BSD 9"
family = "bsd"
volume = { kinds = ["UFS2"], types = ["a5"], label = "skerry*" }
"#;

/// An entry of the table, or of a logical partition's own one; places in sectors.
struct Entry {
    kind: u8,
    is_active: bool,
    first: u64,
    sectors: u64,
}

/// Makes the bench in a folder, which is made too.
///
/// # Errors
/// Where a file cannot be written.
pub fn write(folder: &Path) -> io::Result<()> {
    make(folder, MACHINE, 63, Packed(BOOT).bytes()?)
}

/// The same of *Lathe PC*.
///
/// # Errors
/// Where a file cannot be written.
pub fn write_lathe(folder: &Path) -> io::Result<()> {
    const HEADER: usize = 0x202;
    let machine = MACHINE.replace("Gauge logger", "Lathe PC").replace("GLM-4410", "GLM-4411");
    let mut boot = Packed(BOOT).bytes()?;
    let kernel = bios_kernel::kernel("4.19.8-larkspur", true);
    let header = boot.windows(4).position(|bytes| bytes == b"HdrS").and_then(|at| at.checked_sub(HEADER));
    let place = header.and_then(|at| boot.get_mut(at..at + kernel.len()));
    place.ok_or(io::ErrorKind::UnexpectedEof)?.copy_from_slice(&kernel);
    make(folder, &machine, MIB, boot)
}

/// The bench whose first partition starts at this sector.
fn make(folder: &Path, machine: &str, first: u64, boot: Vec<u8>) -> io::Result<()> {
    fs::create_dir_all(folder.join("catalogue"))?;
    fs::write(folder.join("machine.toml"), machine)?;
    fs::write(folder.join("catalogue/kestrel.toml"), CATALOGUE)?;
    let disk = File::create(folder.join(IMAGE))?;
    disk.set_len(96 * MIB * SECTOR)?;
    let plain = |kind, first, sectors| Entry { kind, is_active: false, first, sectors };
    let dos = Entry { is_active: true, ..plain(0x06, first, 16 * MIB) };
    let slice = plain(0xa5, 18 * MIB, 20 * MIB);
    let extended = plain(0x05, 40 * MIB, 50 * MIB);
    table(&disk, 0, &[&dos, &slice, &extended])?;
    disk.write_all_at(&plain_code(), 0)?;
    // Each logical partition: its own table in the first sector of a stretch, itself 63 sectors on.
    let logical = [(0x83, 40 * MIB, 24 * MIB), (0x83, 66 * MIB, 8 * MIB), (0x82, 76 * MIB, 8 * MIB)];
    for (index, (kind, at, sectors)) in logical.into_iter().enumerate() {
        let own = plain(kind, 63, sectors);
        let next =
            logical.get(index + 1).map(|(_, next, sectors)| plain(0x05, next - 40 * MIB, sectors + 63));
        table(&disk, at, &[Some(own), next].iter().flatten().collect::<Vec<_>>())?;
    }
    let at = |sector: u64| sector * SECTOR;
    disk.write_all_at(&gauge_dos(first)?, at(first))?;
    let mut skerry = [0; 512];
    boot_sector::stand_in(&mut skerry, "Skerry BSD 9");
    disk.write_all_at(&skerry, at(slice.first))?;
    disk.write_all_at(&label(&slice), at(slice.first + 1))?;
    Packed(SKERRY).write(&disk, at(slice.first + 16))?;
    Packed(ROOT).write(&disk, at(40 * MIB + 63))?;
    disk.write_all_at(&boot, at(66 * MIB + 63))?;
    disk.write_all_at(b"SWAPSPACE2", at(76 * MIB + 63) + 4086)
}

/// Writes the table of one sector.
fn table(disk: &File, sector: u64, entries: &[&Entry]) -> io::Result<()> {
    let mut bytes = [0; 512];
    for (slot, entry) in entries.iter().enumerate() {
        let at = 446 + slot * 16;
        bytes[at] = if entry.is_active { 0x80 } else { 0 };
        bytes[at + 1..at + 4].copy_from_slice(&chs(entry.first));
        bytes[at + 4] = entry.kind;
        bytes[at + 5..at + 8].copy_from_slice(&chs(entry.first + entry.sectors - 1));
        bytes[at + 8..at + 12].copy_from_slice(&(entry.first as u32).to_le_bytes());
        bytes[at + 12..at + 16].copy_from_slice(&(entry.sectors as u32).to_le_bytes());
    }
    if sector == 0 {
        bytes[440..444].copy_from_slice(&SIGNATURE.to_le_bytes());
    }
    bytes[510..].copy_from_slice(&[0x55, 0xaa]);
    disk.write_all_at(&bytes, sector * SECTOR)
}

/// Cylinder, head and sector.
fn chs(lba: u64) -> [u8; 3] {
    let (cylinder, rest) = (lba / (HEADS * TRACK), lba % (HEADS * TRACK));
    let (head, sector) = (rest / TRACK, rest % TRACK + 1);
    [head as u8, (sector | (cylinder >> 2 & 0xc0)) as u8, cylinder as u8]
}

/// Puts code that nobody knows into the first sector of a bench's disk, as another system's installer does; the table stays.
///
/// # Errors
/// Where the disk's image cannot be written.
pub fn overwrite_first_sector(folder: &Path) -> io::Result<()> {
    // It clears a register, and goes on to what is not there.
    let mut code = [0x90; CODE_LEN];
    code[..4].copy_from_slice(&[0x31, 0xc0, 0x8e, 0xd8]);
    File::options().write(true).open(folder.join(IMAGE))?.write_all_at(&code, 0)
}

/// GaugeDOS 7: FAT16, whose boot sector names the file that it starts.
fn gauge_dos(first: u64) -> io::Result<Vec<u8>> {
    let files: Vec<(String, Vec<u8>)> = vec![
        ("/GDOS.SYS".into(), b"GaugeDOS 7 kernel\r\n".repeat(800)),
        ("/GCOMMAND.COM".into(), b"GaugeDOS 7 shell\r\n".repeat(300)),
        ("/GAUGE/LOGGER.EXE".into(), b"reads the gauge\r\n".repeat(100)),
    ];
    let mut volume = volume::fat(16 << 20, "GAUGEDOS 7", 0x0719_2204, &files)?;
    // Its boot sector knows the disk's sectors a track, its heads, and how many sectors lie before it.
    volume[24..26].copy_from_slice(&(TRACK as u16).to_le_bytes());
    volume[26..28].copy_from_slice(&(HEADS as u16).to_le_bytes());
    volume[28..32].copy_from_slice(&(first as u32).to_le_bytes());
    let mut sector: [u8; 512] = std::array::from_fn(|at| volume[at]);
    boot_sector::stand_in(&mut sector, "GaugeDOS 7");
    volume[..512].copy_from_slice(&sector);
    volume[0x1e0..0x1eb].copy_from_slice(b"GDOS    SYS");
    Ok(volume)
}

/// Plain code in the first sector, as another system's installer left it: like ours, with a text of its own.
fn plain_code() -> [u8; 440] {
    let mut code = [0; 440];
    code[..plain::CODE.len()].copy_from_slice(&plain::CODE);
    let text = b"Missing operating system";
    code[400..400 + text.len()].copy_from_slice(text);
    // Not one of ours: interrupts stay on while it moves itself.
    code[0] = 0x90;
    code
}

/// The label of Skerry's slice: root, swap, and the whole as `c`. Places count from the slice's start.
fn label(slice: &Entry) -> Vec<u8> {
    const MAGIC: [u8; 4] = 0x8256_4557u32.to_le_bytes();
    let mut label = vec![0; 512];
    label[0..4].copy_from_slice(&MAGIC);
    label[132..136].copy_from_slice(&MAGIC);
    label[24..36].copy_from_slice(b"Skerry BSD 9");
    label[40..44].copy_from_slice(&512u32.to_le_bytes());
    label[138..140].copy_from_slice(&3u16.to_le_bytes());
    let parts = [
        (16u32, 16 * MIB as u32, 7u8),
        (16 * MIB as u32 + 16, 2 * MIB as u32, 1),
        (0, slice.sectors as u32, 0),
    ];
    for (index, (first, sectors, kind)) in parts.into_iter().enumerate() {
        let at = 148 + index * 16;
        label[at..at + 4].copy_from_slice(&sectors.to_le_bytes());
        label[at + 4..at + 8].copy_from_slice(&first.to_le_bytes());
        label[at + 12] = kind;
    }
    label
}
