//! The rpm package: the same tree below `/usr`, and what package managers of that family run.

use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};

use rpm::{BuildConfig, CompressionType, FileOptions, PackageBuilder};

use crate::run::{Result, at, workspace};

/// What kernel-install(8) runs, of the files beside the tree.
const HOOK: &str = "/usr/lib/kernel/install.d/95-signpost.install";

/// Makes it of a tree that is filled.
pub fn package(folder: &Path, tree: &Path, version: &str) -> Result<PathBuf> {
    let failed = |error: rpm::Error| format!("the rpm package: {error}");
    let summary = "Boot menus for PCs with several operating systems";
    let architecture = std::env::consts::ARCH;
    let mut builder =
        PackageBuilder::new("early-signpost", version, "MIT OR Apache-2.0", architecture, summary);
    builder
        .using_config(BuildConfig::v4().compression(CompressionType::Gzip))
        .release("1")
        .description(
            "Looks at the whole machine at once, plans before it writes, rehearses the next start without a reboot, and can \
             always undo what it did.",
        )
        .post_install_script(script("post")?)
        .pre_uninstall_script(script("preun")?)
        .post_uninstall_script(script("postun")?);
    let mut folders = vec![tree.to_path_buf()];
    while let Some(at_folder) = folders.pop() {
        for entry in fs::read_dir(&at_folder).map_err(at(&at_folder))? {
            let path = entry.map_err(at(&at_folder))?.path();
            if path.is_dir() {
                folders.push(path);
                continue;
            }
            let below = path.strip_prefix(tree).map_err(|error| error.to_string())?;
            add(&mut builder, &path, &format!("/usr/{}", below.display()))?;
        }
    }
    add(&mut builder, &workspace().join("xtask/debian/kernel-install"), HOOK)?;
    let package = folder.join(format!("early-signpost-{version}-1.{architecture}.rpm"));
    builder.build().and_then(|made| made.write_file(&package)).map_err(failed)?;
    Ok(package)
}

fn add(builder: &mut PackageBuilder, from: &Path, to: &str) -> Result<()> {
    let is_run = to == HOOK || fs::metadata(from).map_err(at(from))?.permissions().mode() & 0o111 != 0;
    let options = FileOptions::new(to).permissions(if is_run { 0o755 } else { 0o644 });
    let options = if to.starts_with("/usr/share/doc/") { options.doc() } else { options };
    builder.with_file(from, options).map(|_| ()).map_err(|error| format!("{}: {error}", from.display()))
}

fn script(name: &str) -> Result<String> {
    let path = workspace().join("xtask/rpm").join(name);
    fs::read_to_string(&path).map_err(at(&path))
}
