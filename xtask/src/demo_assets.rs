//! The packed volumes of the demo's benches, each made by its own file system's tool.
//!
//! Runs as root, since some tools take block devices alone, and some file systems are filled only when mounted.

use std::fs::{self, File};
use std::io::Write as _;
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};
use std::process::Stdio;

use signpost_demo::program::{Kernel, Program};
use signpost_demo::{gauge, tide};

use crate::packages;
use crate::run::{Result, at, command, run, workspace};

/// Makes them all.
pub fn make() -> Result<()> {
    packages::need(&["btrfs-progs", "e2fsprogs", "lvm2", "makefs", "ntfs-3g", "xfsprogs", "zstd"])?;
    let work = tempfile::tempdir().map_err(|error| error.to_string())?;
    let work = work.path();
    let larkspur = larkspur(work, "larkspur-root", &["6.9.1-1-larkspur", "6.9.4-2-larkspur"])?;
    let image =
        ext(work, &larkspur, "ext4", &["-L", "larkspur", "-U", tide::LARKSPUR_UUID, "-J", "size=4"], "96M")?;
    pack(&image, "larkspur-root")?;
    pack(&tidewater(work)?, "tidewater-disk")?;
    pack(&store(work)?, "kestrel-store")?;
    pack(&meridian(work)?, "meridian-system")?;
    let old = work.join("larkspur10");
    copy(&workspace().join("demo/larkspur10-root"), &old)?;
    fs::create_dir_all(old.join("boot")).map_err(at(&old))?;
    put(&old.join("usr/lib/modules/4.19.8-larkspur/modules.order"), b"kernel/fs/ext3/ext3.ko\n")?;
    let image =
        ext(work, &old, "ext3", &["-L", "larkspur10", "-U", gauge::LARKSPUR_ROOT, "-J", "size=1"], "24M")?;
    pack(&image, "larkspur10-root")?;
    let boot = work.join("larkspur10-boot");
    put(&boot.join("vmlinuz-4.19.8-larkspur"), &kernel("4.19.8-larkspur", "Larkspur Linux 10"))?;
    put(&boot.join("initrd-4.19.8-larkspur"), "initrd of 4.19.8-larkspur\n".repeat(900).as_bytes())?;
    pack(&ext(work, &boot, "ext2", &["-U", gauge::LARKSPUR_BOOT], "8M")?, "larkspur10-boot")?;
    pack(&skerry(work)?, "skerry-root")
}

/// A Linux system's tree, with kernels, initrds and modules.
fn larkspur(work: &Path, name: &str, versions: &[&str]) -> Result<PathBuf> {
    let tree = work.join(name);
    copy(&workspace().join("demo").join(name), &tree)?;
    for version in versions {
        put(&tree.join(format!("boot/vmlinuz-{version}")), &kernel(version, "Larkspur Linux 14"))?;
        let initrd = format!("initrd of {version}\n").repeat(2000);
        put(&tree.join(format!("boot/initrd-{version}")), initrd.as_bytes())?;
        put(&tree.join(format!("usr/lib/modules/{version}/modules.order")), b"kernel/fs/ext4/ext4.ko\n")?;
    }
    Ok(tree)
}

fn ext(work: &Path, tree: &Path, kind: &str, args: &[&str], size: &str) -> Result<PathBuf> {
    let name = tree.file_name().unwrap_or_default().to_string_lossy().into_owned();
    let image = work.join(format!("{name}.img"));
    let seed = "root_owner=0:0,lazy_itable_init=0,hash_seed=0d3b6c8f-2e14-4c6b-8b7f-12d5a6e39c01";
    let mut mkfs = command("mke2fs");
    mkfs.args(["-q", "-t", kind, "-N", "512", "-m", "0", "-E", seed]).args(args).arg("-d").arg(tree);
    run(mkfs.arg(&image).arg(size))?;
    Ok(image)
}

/// Tidewater RT: XFS on a logical volume.
fn tidewater(work: &Path) -> Result<PathBuf> {
    const VERSION: &str = "6.6.21-rt26-tidewater";
    let (disk, volume) = (sized(work, "tidewater.pv", 330)?, sized(work, "tidewater.xfs", 320)?);
    run(command("mkfs.xfs")
        .args(["-q", "-L", "tidewater", "-m", &format!("uuid={}", tide::TIDEWATER_UUID)])
        .arg(&volume))?;
    mounted(work, &volume, "xfs", |root| {
        copy(&workspace().join("demo/tidewater-root/etc"), &root.join("etc"))?;
        put(&root.join(format!("boot/vmlinuz-{VERSION}")), &kernel(VERSION, "Tidewater RT 5"))?;
        put(&root.join(format!("boot/initrd-{VERSION}")), "initrd of tidewater\n".repeat(2000).as_bytes())?;
        put(&root.join(format!("usr/lib/modules/{VERSION}/modules.order")), b"kernel/fs/xfs/xfs.ko\n")
    })?;
    let config = "devices{use_devicesfile=0 filter=[\"a|^/dev/loop|\",\"r|.*|\"]}";
    let device = output(command("losetup").args(["--find", "--show"]).arg(&disk))?;
    let lvm = |tool: &str, args: &[&str]| {
        run(command(tool)
            .args(["-qq", "--config", config, "--driverloaded", "n"])
            .args(args)
            .stderr(Stdio::null()))
    };
    let made = lvm("vgcreate", &["-y", "kestrel", &device]).and_then(|()| {
        lvm("lvcreate", &["-an", "-Zn", "-Wn", "-y", "-L", "320m", "-n", "tidewater", "kestrel"])
    });
    run(command("losetup").args(["--detach", &device]))?;
    made?;
    // The one logical volume starts with the first extent, which LVM2 puts 1 MiB from the start.
    let bytes = fs::read(&volume).map_err(at(&volume))?;
    let file = File::options().write(true).open(&disk).map_err(at(&disk))?;
    file.write_all_at(&bytes, 1 << 20).map_err(at(&disk))?;
    Ok(disk)
}

/// The observatory's store: btrfs, with Lantern Live in an image file.
fn store(work: &Path) -> Result<PathBuf> {
    let lantern = work.join("lantern-root");
    copy(&workspace().join("demo/lantern-root"), &lantern)?;
    put(&lantern.join("boot/vmlinuz-6.8.2-lantern"), &kernel("6.8.2-lantern", "Lantern Live 3"))?;
    put(&lantern.join("boot/initrd-6.8.2-lantern"), "initrd of lantern\n".repeat(900).as_bytes())?;
    let lantern =
        ext(work, &lantern, "ext4", &["-L", "LANTERN", "-U", tide::LANTERN_UUID, "-J", "size=1"], "12M")?;
    let image = sized(work, "store.btrfs", 160)?;
    run(command("mkfs.btrfs").args(["-q", "-L", "kestrel-store", "-U", tide::STORE_UUID]).arg(&image))?;
    mounted(work, &image, "btrfs", |root| {
        put(&root.join("tides/2026.csv"), "time,height\n".repeat(500).as_bytes())?;
        fs::create_dir_all(root.join("systems")).map_err(at(root))?;
        fs::copy(&lantern, root.join("systems/lantern.img")).map_err(at(root))?;
        Ok(())
    })?;
    Ok(image)
}

/// The system volume of Meridian Desktop: NTFS.
fn meridian(work: &Path) -> Result<PathBuf> {
    let image = sized(work, "meridian.ntfs", 64)?;
    run(command("mkntfs").args(["-q", "-F", "-f", "-L", "Meridian"]).arg(&image).stderr(Stdio::null()))?;
    // The tool takes no serial: it stands in the boot sector and in its copy, the volume's last sector.
    let file = File::options().write(true).open(&image).map_err(at(&image))?;
    for sector in [0, (64 << 20) - 512] {
        file.write_all_at(&tide::MERIDIAN_SERIAL.to_le_bytes(), sector + 0x48).map_err(at(&image))?;
    }
    mounted(work, &image, "ntfs-3g", |root| {
        let program = Program::new("Meridian Desktop 4")
            .string("CompanyName", "Meridian Works")
            .string("ProductName", "Meridian Desktop 4")
            .string("ProductVersion", "4.2.1107")
            .build();
        put(&root.join("Meridian/System/desktop.exe"), &program)?;
        put(&root.join("Users/harbour/notes.txt"), b"high water 06:40\r\n")
    })?;
    Ok(image)
}

/// The root of Skerry BSD: UFS.
fn skerry(work: &Path) -> Result<PathBuf> {
    let tree = work.join("skerry-root");
    copy(&workspace().join("demo/skerry-root"), &tree)?;
    put(&tree.join("boot/kernel/kernel"), &vec![0x7f; 20_000])?;
    let image = work.join("skerry.ufs");
    run(command("makefs")
        .args(["-t", "ffs", "-s", "16m", "-o", "version=2"])
        .arg(&image)
        .arg(&tree)
        .stdout(Stdio::null()))?;
    let file = File::options().write(true).open(&image).map_err(at(&image))?;
    // The tool takes no label: it stands in the superblock, which this tool puts where version 1 has it.
    file.write_all_at(b"skerryroot", 8192 + 680).map_err(at(&image))?;
    Ok(image)
}

fn kernel(version: &str, title: &str) -> Vec<u8> {
    let mut bytes = Kernel::new(version).build(&format!("{title}, kernel {version}"));
    bytes.resize(48 * 1024, 0x90);
    bytes
}

/// An empty file of this many MiB.
fn sized(work: &Path, name: &str, mebibytes: u64) -> Result<PathBuf> {
    let path = work.join(name);
    File::create(&path).and_then(|file| file.set_len(mebibytes << 20)).map_err(at(&path))?;
    Ok(path)
}

/// Fills a volume by mounting it.
fn mounted(work: &Path, image: &Path, kind: &str, fill: impl FnOnce(&Path) -> Result<()>) -> Result<()> {
    let root = work.join("mounted");
    fs::create_dir_all(&root).map_err(at(&root))?;
    run(command("mount").args(["-t", kind, "-o", "loop"]).arg(image).arg(&root))?;
    let filled = fill(&root);
    run(command("umount").arg(&root))?;
    filled
}

fn output(command: &mut std::process::Command) -> Result<String> {
    let output = command.output().map_err(|error| error.to_string())?;
    Ok(String::from_utf8_lossy(&output.stdout).trim().to_string())
}

fn copy(from: &Path, to: &Path) -> Result<()> {
    run(command("cp").arg("-r").arg(from).arg(to))
}

fn put(path: &Path, contents: &[u8]) -> Result<()> {
    let folder = path.parent().unwrap_or(path);
    fs::create_dir_all(folder).map_err(at(folder))?;
    fs::write(path, contents).map_err(at(path))
}

/// Packs what is not zero of an image: stretches of 4 KiB, each behind its offset, all through zstd.
fn pack(image: &Path, name: &str) -> Result<()> {
    const STRETCH: usize = 4096;
    let bytes = fs::read(image).map_err(at(image))?;
    let mut sparse = (bytes.len() as u64).to_le_bytes().to_vec();
    for (index, stretch) in bytes.chunks(STRETCH).enumerate() {
        if stretch.iter().any(|byte| *byte != 0) {
            sparse.extend(((index * STRETCH) as u64).to_le_bytes());
            sparse.extend(stretch);
            sparse.resize(sparse.len() + STRETCH - stretch.len(), 0);
        }
    }
    let packed = workspace().join(format!("demo/{name}.pack"));
    let mut zstd = command("zstd");
    zstd.args(["-q", "-19", "-f", "-", "-o"]).arg(&packed).stdin(Stdio::piped());
    let mut child = zstd.spawn().map_err(|error| format!("zstd: {error}"))?;
    if let Some(input) = child.stdin.as_mut() {
        input.write_all(&sparse).map_err(|error| format!("zstd: {error}"))?;
    }
    child.wait().map_err(|error| format!("zstd: {error}"))?;
    let size = fs::metadata(&packed).map_err(at(&packed))?.len();
    println!("{}: {size} bytes, of {}", packed.display(), bytes.len());
    Ok(())
}
