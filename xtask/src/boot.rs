//! Building the boot program: by rustup's toolchain where the source of the core libraries is installed or can be had, else
//! by Debian's.

use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;

use crate::packages;
use crate::run::{Result, at, command, run, target_folder, workspace};

const TARGET: &str = "x86_64-unknown-uefi";
/// The file's name in `target/boot`.
pub const FILE: &str = "signpost-x64.efi";

/// Both builds leave out the places of panics, which nobody sees at boot and which take room: that needs a switch
/// of the compiler's own. The fewer sections, the more room for a kernel's header between headers and contents.
const FLAGS: &str = "-Zlocation-detail=none -Zfmt-debug=none -Clink-arg=/merge:.eh_frame=.rdata";

/// The core libraries are built with the program, in the form that is small instead of fast: 50 KB less.
const CORE: [&str; 2] =
    ["-Zbuild-std=core,alloc", "-Zbuild-std-features=compiler-builtins-mem,optimize_for_size"];

/// Builds it; the path of the program.
pub fn build(install: bool) -> Result<PathBuf> {
    let target = target_folder().join("boot");
    let cargo = if has_core_source() {
        clean(command("cargo"))
    } else {
        if install {
            packages::need(&packages::FOR_BOOT)?;
        }
        debian_cargo()
    };
    run(&mut of_program(cargo, "build", &target)).map_err(|error| {
        format!(
            "{error}; `rustup component add rust-src`, or `cargo xtask boot --install` as root on Debian, helps"
        )
    })?;
    for (built, file) in [("signpost-boot.efi", FILE), ("made-up-system.efi", "made-up-system-x64.efi")] {
        let built = target.join(TARGET).join("release").join(built);
        fs::copy(&built, target.join(file)).map_err(at(&built))?;
    }
    Ok(target.join(FILE))
}

/// Formatting and lints of it.
pub fn lint() -> Result<()> {
    run(command(env!("CARGO")).current_dir(folder()).args(["fmt", "--check"]))?;
    if !has_core_source() {
        return Err(
            "lints take rustup's source of the core libraries; `rustup component add rust-src` helps".into(),
        );
    }
    let mut clippy = of_program(clean(command("cargo")), "clippy", &target_folder().join("boot"));
    run(clippy.args(["--", "-D", "warnings"]))
}

fn folder() -> PathBuf {
    workspace().join("boot/uefi")
}

fn of_program(mut cargo: Command, what: &str, target: &Path) -> Command {
    cargo
        .current_dir(folder())
        .args([what, "--quiet", "--release", "--locked", "--target", TARGET])
        .args(CORE);
    cargo.arg("--target-dir").arg(target);
    cargo
}

fn has_core_source() -> bool {
    const SOURCE: &str = "rust-src";
    let installed = || {
        let listed = command("rustup").args(["component", "list", "--installed"]).output();
        listed.is_ok_and(|output| String::from_utf8_lossy(&output.stdout).lines().any(|line| line == SOURCE))
    };
    installed()
        || (run(command("rustup").args(["--quiet", "component", "add", SOURCE])).is_ok() && installed())
}

/// A cargo that knows nothing of the one that runs us.
fn clean(mut cargo: Command) -> Command {
    for (name, _) in std::env::vars_os() {
        let text = name.to_string_lossy();
        if text.starts_with("CARGO") || matches!(text.as_ref(), "RUSTC" | "RUSTFLAGS" | "RUSTUP_TOOLCHAIN") {
            cargo.env_remove(&name);
        }
    }
    cargo.env("RUSTC_BOOTSTRAP", "1").env("RUSTFLAGS", FLAGS);
    cargo
}

fn debian_cargo() -> Command {
    let mut cargo = clean(command("/usr/bin/cargo"));
    cargo
        .env("RUSTC", "/usr/bin/rustc")
        .env("RUSTFLAGS", format!("-Clinker=lld-link -Clinker-flavor=lld-link {FLAGS}"));
    cargo
}
