//! Debian's packages that tests and pictures need.

use std::sync::{Mutex, PoisonError};

use crate::run::{Result, command, run};

/// What the tests need.
pub const FOR_TESTS: [&str; 43] = [
    "apfsprogs",
    "binutils",
    "btrfs-progs",
    "busybox-static",
    "cpio",
    "cryptsetup-bin",
    "debootstrap",
    "dosfstools",
    "e2fsprogs",
    "erofs-utils",
    "exfat-fuse",
    "exfatprogs",
    "f2fs-tools",
    "fdisk",
    "genisoimage",
    "iproute2",
    "kmod",
    "lintian",
    "linux-image-cloud-amd64",
    "lvm2",
    "makefs",
    "mdadm",
    "memtest86+",
    "mount",
    "mtools",
    "ntfs-3g",
    "openssh-client",
    "openssh-server",
    "openssl",
    "ovmf",
    "python3-apt",
    "python3-venv",
    "qemu-system-x86",
    "rpm",
    "sbsigntool",
    "squashfs-tools",
    "strace",
    "systemd",
    "time",
    "udftools",
    "util-linux",
    "xfsprogs",
    "xorriso",
];

/// Debian's toolchain for the boot program, where rustup has none.
pub const FOR_BOOT: [&str; 4] = ["cargo-web", "lld", "rust-web-src", "rustc-web"];

/// What the pictures need.
pub const FOR_PICTURES: [&str; 5] = ["chromium", "fonts-dejavu-core", "imagemagick", "xterm", "xvfb"];

/// Sees to it that these are installed: installs them as root, else says what to install.
pub fn need(packages: &[&str]) -> Result<()> {
    /// The package manager refuses to run twice at once.
    static TURN: Mutex<()> = Mutex::new(());
    let _turn = TURN.lock().unwrap_or_else(PoisonError::into_inner);
    let missing: Vec<&str> = packages.iter().copied().filter(|package| !is_installed(package)).collect();
    if missing.is_empty() {
        return Ok(());
    }
    let list = missing.join(" ");
    if command("apt-get").arg("--version").output().is_err() {
        return Err(format!(
            "this is not a Debian system; install what Debian calls {list}, or run plain `cargo test`"
        ));
    }
    if !is_root()? {
        return Err(format!("missing packages; as root: apt-get install --no-install-recommends {list}"));
    }
    println!("installing {list}");
    run(command("apt-get").args(["-qq", "update"]))?;
    run(command("apt-get")
        .env("DEBIAN_FRONTEND", "noninteractive")
        .args(["-qq", "-y", "--no-install-recommends", "install"])
        .args(&missing))
}

fn is_installed(package: &str) -> bool {
    let query = command("dpkg-query").args(["-W", "-f=${db:Status-Status}", package]).output();
    query.is_ok_and(|output| output.stdout == b"installed")
}

fn is_root() -> Result<bool> {
    let output = command("id").arg("-u").output().map_err(|error| format!("id: {error}"))?;
    Ok(output.stdout.trim_ascii() == b"0")
}
