//! The packed root volume of the demo's Larkspur Linux 14.

use std::fs;
use std::path::Path;

use signpost_demo::program::Kernel;
use signpost_demo::tide::LARKSPUR_UUID;

use crate::run::{Result, at, command, run, workspace};

/// Its kernels, the newest last.
const KERNELS: [&str; 2] = ["6.9.1-1-larkspur", "6.9.4-2-larkspur"];
const SIZE: &str = "96M";

/// Makes it.
pub fn make() -> Result<()> {
    let demo = workspace().join("demo");
    let work = tempfile::tempdir().map_err(|error| error.to_string())?;
    let tree = work.path().join("root");
    run(command("cp").arg("-r").arg(demo.join("larkspur-root")).arg(&tree))?;
    for version in KERNELS {
        put(&tree.join(format!("boot/vmlinuz-{version}")), &kernel(version))?;
        put(
            &tree.join(format!("boot/initrd-{version}")),
            format!("initrd of {version}\n").repeat(2000).as_bytes(),
        )?;
        put(&tree.join(format!("usr/lib/modules/{version}/modules.order")), b"kernel/fs/ext4/ext4.ko\n")?;
    }
    let image = work.path().join("larkspur-root.img");
    run(command("mke2fs")
        .args(["-q", "-t", "ext4", "-L", "larkspur", "-U", LARKSPUR_UUID, "-N", "512", "-m", "0"])
        .args([
            "-J",
            "size=4",
            "-E",
            "root_owner=0:0,lazy_itable_init=0,hash_seed=0d3b6c8f-2e14-4c6b-8b7f-12d5a6e39c01",
        ])
        .arg("-d")
        .arg(&tree)
        .arg(&image)
        .arg(SIZE))?;
    let packed = demo.join("larkspur-root.img.zst");
    run(command("zstd").args(["-q", "-19", "-f"]).arg(&image).arg("-o").arg(&packed))?;
    let size = fs::metadata(&packed).map_err(at(&packed))?.len();
    println!("{}: {size} bytes", packed.display());
    Ok(())
}

fn kernel(version: &str) -> Vec<u8> {
    let mut bytes = Kernel::new(version).build(&format!("Larkspur Linux 14, kernel {version}"));
    bytes.resize(48 * 1024, 0x90);
    bytes
}

fn put(path: &Path, contents: &[u8]) -> Result<()> {
    let folder = path.parent().unwrap_or(path);
    fs::create_dir_all(folder).map_err(at(folder))?;
    fs::write(path, contents).map_err(at(path))
}
