//! The Debian package: the same tree below `/usr`, what Debian's policy asks of a package, and what package managers run when
//! kernels come and go.

use std::fs;
use std::path::{Path, PathBuf};
use std::process::Stdio;

use super::make_parent;
use crate::packages;
use crate::run::{Result, at, command, run, workspace};

/// Architectures by Rust's name and by Debian's.
const ARCHITECTURES: [(&str, &str); 2] = [("x86_64", "amd64"), ("aarch64", "arm64")];
const NAME: &str = "early-signpost";
const DOCUMENTS: &str = "usr/share/doc/early-signpost";
/// Files of `xtask/debian`, where each goes, and its mode.
const FILES: [(&str, &str, &str); 9] = [
    ("postinst", "DEBIAN/postinst", "755"),
    ("prerm", "DEBIAN/prerm", "755"),
    ("postrm", "DEBIAN/postrm", "755"),
    ("conffiles", "DEBIAN/conffiles", "644"),
    ("kernel-hook", "etc/kernel/postinst.d/zz-signpost", "755"),
    ("kernel-hook", "etc/kernel/postrm.d/zz-signpost", "755"),
    ("kernel-install", "usr/lib/kernel/install.d/95-signpost.install", "755"),
    ("overrides", "usr/share/lintian/overrides/early-signpost", "644"),
    ("copyright", "usr/share/doc/early-signpost/copyright", "644"),
];

/// Makes it of a tree that is filled.
pub fn package(folder: &Path, tree: &Path, version: &str) -> Result<PathBuf> {
    packages::need(&["dpkg"])?;
    let own = std::env::consts::ARCH;
    let architecture = ARCHITECTURES.iter().find(|(rust, _)| *rust == own).map_or(own, |(_, debian)| debian);
    let root = folder.join("package");
    fs::create_dir_all(root.join("DEBIAN")).map_err(at(&root))?;
    run(command("cp").arg("-r").arg(tree).arg(root.join("usr")))?;
    for (from, to, mode) in FILES {
        let (from, to) = (workspace().join("xtask/debian").join(from), root.join(to));
        make_parent(&to)?;
        fs::copy(&from, &to).map_err(at(&from))?;
        run(command("chmod").arg(mode).arg(&to))?;
    }
    fill_documents(&root)?;
    let size = command("du").args(["-sk"]).arg(root.join("usr")).output().map_err(at(&root))?.stdout;
    let size = String::from_utf8_lossy(&size).split_whitespace().next().unwrap_or("0").to_string();
    let text = format!(
        "Package: {NAME}\nVersion: {version}\nArchitecture: {architecture}\nSection: admin\nPriority: optional\n\
         Installed-Size: {size}\nMaintainer: Early Signpost <signpost@kestrel-point.example>\n\
         Description: boot menus for PCs with several operating systems\n \
         Looks at the whole machine at once, plans before it writes, rehearses the next\n \
         start without a reboot, and can always undo what it did.\n"
    );
    let control = root.join("DEBIAN/control");
    fs::write(&control, text).map_err(at(&control))?;
    let package = folder.join(format!("{NAME}_{version}_{architecture}.deb"));
    let mut make = command("dpkg-deb");
    make.args(["--root-owner-group", "--build"]).arg(&root).arg(&package).stdout(Stdio::null());
    run(&mut make)?;
    fs::remove_dir_all(&root).map_err(at(&root))?;
    Ok(package)
}

/// Documents under the package's own name, manual pages and the list of changes packed.
fn fill_documents(root: &Path) -> Result<()> {
    let (from, to) = (root.join("usr/share/doc/signpost"), root.join(DOCUMENTS));
    for entry in fs::read_dir(&from).map_err(at(&from))? {
        let entry = entry.map_err(at(&from))?.path();
        run(command("mv").arg(&entry).arg(&to))?;
    }
    fs::remove_dir(&from).map_err(at(&from))?;
    let changes = to.join("changelog");
    fs::rename(to.join("CHANGELOG.md"), &changes).map_err(at(&changes))?;
    let mut packed = vec![changes];
    for section in ["man1", "man5"] {
        let pages = root.join("usr/share/man").join(section);
        for page in fs::read_dir(&pages).map_err(at(&pages))? {
            packed.push(page.map_err(at(&pages))?.path());
        }
    }
    run(command("gzip").args(["-9", "-n"]).args(packed))
}
