//! The rpm package: the same tree below `/usr`, and what package managers of that family run, by their own tool.

use std::fs;
use std::path::{Path, PathBuf};

use crate::packages;
use crate::run::{Result, at, command, run, workspace};

/// Makes it of a tree that is filled.
pub fn package(folder: &Path, tree: &Path, version: &str) -> Result<PathBuf> {
    packages::need(&["rpm"])?;
    let architecture = std::env::consts::ARCH;
    let work = folder.join("rpmbuild");
    let define = |name: &str, value: &Path| ["--define".to_string(), format!("{name} {}", value.display())];
    run(command("rpmbuild")
        .args(["-bb", "--quiet", "--target", architecture])
        .args(define("_topdir", &work))
        .args(define("_rpmdir", &work))
        .args(define("version_of_tree", Path::new(version)))
        .args(define("tree", tree))
        .args(define("kernel_install", &workspace().join("xtask/debian/kernel-install")))
        .arg(workspace().join("xtask/rpm/early-signpost.spec")))?;
    let name = format!("early-signpost-{version}-1.{architecture}.rpm");
    let package = folder.join(&name);
    fs::rename(work.join(architecture).join(&name), &package).map_err(at(&work))?;
    fs::remove_dir_all(&work).map_err(at(&work))?;
    Ok(package)
}
