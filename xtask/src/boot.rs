//! Building the boot programs: by rustup's toolchain where the source of the core libraries is installed or can be had, else
//! by Debian's.

use std::fs;
use std::io::Write;
use std::path::{Path, PathBuf};
use std::process::Command;

use lzma_rust2::{LzmaOptions, LzmaWriter};
use miniz_oxide::deflate::compress_to_vec_zlib;
use signpost_firmware::bios::SECTOR;
use signpost_firmware::bios::area::{DICTIONARY, PROPERTIES};
use signpost_firmware::bios::{area, calls};
use signpost_firmware::image::flat;

use crate::packages;
use crate::run::{Result, at, command, run, static_folder, target_folder, workspace};

/// The program for UEFI, in `target/boot`.
pub const FILE: &str = "signpost-x64.efi";
/// The program for BIOS there: a first sector, and a copy behind it.
pub const BIOS_FILE: &str = "signpost-bios.img";

/// What tests have firmware start, and the devices that they have it know.
const SYSTEM_FILE: &str = "made-up-system-x64.efi";
const DEVICES_FILE: &str = "made-up-devices-x64.efi";

/// Most bytes of the program for UEFI: two of them, and a copy on the fallback path, leave room on the smallest ESPs.
const MOST: u64 = 700_000;

/// A boot program's workspace.
struct Workspace {
    folder: &'static str,
    target: &'static str,
    flags: &'static str,
    /// What Debian's compiler needs beside.
    debian_flags: &'static str,
}

/// Both builds leave out the places of panics, which nobody sees at boot and which take room: that needs a switch
/// of the compiler's own. The fewer sections, the more room for a kernel's header between headers and contents.
const UEFI: Workspace = Workspace {
    folder: "boot/uefi",
    target: "x86_64-unknown-uefi",
    flags: "-Zlocation-detail=none -Zfmt-debug=none -Clink-arg=/merge:.eh_frame=.rdata",
    debian_flags: "-Clinker=lld-link -Clinker-flavor=lld-link",
};

/// Made for processors without SSE, and flat: nothing at boot reads the headers of an executable file.
const BIOS: Workspace = Workspace {
    folder: "boot/bios",
    target: "i586-unknown-linux-gnu",
    flags: "-Zlocation-detail=none -Zfmt-debug=none -Crelocation-model=static -Clinker-flavor=ld.lld \
            -Clink-arg=--build-id=none -Clink-arg=--oformat=binary",
    debian_flags: "-Clinker=ld.lld",
};

/// The core libraries are built with the program, in the form that is small instead of fast: 50 KB less.
const CORE: [&str; 2] =
    ["-Zbuild-std=core,alloc", "-Zbuild-std-features=compiler-builtins-mem,optimize_for_size"];

/// Builds both; the path of the one for UEFI.
pub fn build(install: bool) -> Result<PathBuf> {
    let folder = target_folder().join("boot");
    let is_ours = has_core_source();
    if !is_ours && install {
        packages::need(&packages::FOR_BOOT)?;
    }
    let stage = ["--bin", "signpost-stage"];
    let all: [(&Workspace, &[&str]); 3] = [
        (&UEFI, &["--bin", "signpost-boot", "--bin", "made-up-system", "--bin", "made-up-devices"]),
        (&UEFI, &stage),
        (&BIOS, &[]),
    ];
    for (workspace, bins) in all {
        if bins == stage {
            pack_for_uefi()?;
        }
        run(workspace.cargo("build", is_ours).args(bins)).map_err(|error| {
            format!(
                "{error}; `rustup component add rust-src`, or `cargo xtask boot --install` as root on Debian, helps"
            )
        })?;
    }
    for (built, file) in [
        ("signpost-stage.efi", FILE),
        ("made-up-system.efi", SYSTEM_FILE),
        ("made-up-devices.efi", DEVICES_FILE),
    ] {
        let built = UEFI.built(built);
        fs::copy(&built, folder.join(file)).map_err(at(&built))?;
    }
    let length = fs::metadata(folder.join(FILE)).map_err(at(&folder))?.len();
    if length > MOST {
        return Err(format!("the boot program for UEFI has {length} bytes, and at most {MOST} are allowed"));
    }
    pack(&folder.join(BIOS_FILE))?;
    copy_for_tests(&folder)?;
    Ok(folder.join(FILE))
}

/// Puts them where static programs look for them too: beside the folders of their profiles.
fn copy_for_tests(folder: &Path) -> Result<()> {
    let copies = static_folder().join("boot");
    fs::create_dir_all(&copies).map_err(at(&copies))?;
    for file in [FILE, BIOS_FILE, SYSTEM_FILE, DEVICES_FILE] {
        fs::copy(folder.join(file), copies.join(file)).map_err(at(&copies))?;
    }
    Ok(())
}

/// Where the program for UEFI lies, packed for its stage.
fn packed_for_uefi() -> PathBuf {
    let file = target_folder().join("boot/signpost-boot.packed");
    // The stage is built in another folder.
    std::path::absolute(&file).unwrap_or(file)
}

/// Packs the program for UEFI, laid out as it will stand in memory.
fn pack_for_uefi() -> Result<()> {
    /// The most that this packer takes the time for.
    const LEVEL: u8 = 10;
    let built = UEFI.built("signpost-boot.efi");
    let program = fs::read(&built).map_err(at(&built))?;
    let (head, image) = flat::flatten(&program).map_err(|fault| format!("{}: {fault}", built.display()))?;
    let packed = [head.encode(), compress_to_vec_zlib(&image, LEVEL)].concat();
    println!("boot program for UEFI: {} bytes, packed {}", program.len(), packed.len());
    let file = packed_for_uefi();
    // What is the same is left as it is, so that nothing is built anew for it.
    if fs::read(&file).ok().as_ref() == Some(&packed) {
        return Ok(());
    }
    fs::write(&file, packed).map_err(at(&file))
}

/// Makes the program for BIOS of its two parts: what the first sector and the stage are, and what the stage unpacks.
fn pack(file: &Path) -> Result<()> {
    let read = |name: &str| {
        let built = BIOS.built(name);
        fs::read(&built).map_err(at(&built))
    };
    let (stage, mut program) = (read("signpost-stage")?, read("signpost-boot-bios")?);
    calls::by_place(&mut program);
    let (first, stage) = stage.split_at_checked(SECTOR).ok_or("the stage has no first sector")?;
    let unpacked = u32::try_from(program.len()).map_err(|error| error.to_string())?;
    let copy = area::make_copy(stage, &packed(&program)?, unpacked).ok_or_else(|| {
        format!("the boot program for BIOS is longer than the {} sectors of a copy", area::MAX_COPY)
    })?;
    println!("boot program for BIOS: {} bytes, packed {} sectors", program.len(), copy.len() / SECTOR);
    fs::write(file, [first, &copy].concat()).map_err(at(file))
}

/// The program as the stage unpacks it: LZMA without a head, since the stage knows what would stand there.
fn packed(program: &[u8]) -> Result<Vec<u8>> {
    let mut options = LzmaOptions::with_preset(9);
    (options.dict_size, options.pb) = (DICTIONARY, 0);
    if options.get_props() != PROPERTIES {
        return Err("the program would be packed otherwise than the stage unpacks it".into());
    }
    let pack = || {
        let mut writer = LzmaWriter::new_no_header(Vec::new(), &options, false)?;
        writer.write_all(program)?;
        writer.finish()
    };
    pack().map_err(|error: std::io::Error| error.to_string())
}

/// Formatting and lints of both.
pub fn lint() -> Result<()> {
    if !has_core_source() {
        return Err(
            "lints take rustup's source of the core libraries; `rustup component add rust-src` helps".into(),
        );
    }
    for workspace in [UEFI, BIOS] {
        run(command(env!("CARGO")).current_dir(workspace.path()).args(["fmt", "--check"]))?;
        // Whatever is packed, the stage's own lines are the same.
        let packed = packed_for_uefi();
        if !packed.exists() {
            fs::create_dir_all(target_folder().join("boot")).map_err(at(&packed))?;
            fs::write(&packed, []).map_err(at(&packed))?;
        }
        run(workspace.cargo("clippy", true).args(["--", "-D", "warnings"]))?;
    }
    Ok(())
}

impl Workspace {
    fn path(&self) -> PathBuf {
        workspace().join(self.folder)
    }

    /// What it has built of this name.
    fn built(&self, name: &str) -> PathBuf {
        target_folder().join("boot").join(self.target).join("release").join(name)
    }

    fn cargo(&self, what: &str, is_ours: bool) -> Command {
        let mut cargo = if is_ours { clean(command("cargo")) } else { debian_cargo() };
        let flags = match (is_ours, self.target == BIOS.target) {
            (false, _) => format!("{} {}", self.debian_flags, self.flags),
            (true, true) => format!("-Clinker=rust-lld {}", self.flags),
            (true, false) => self.flags.to_string(),
        };
        cargo
            .env("RUSTFLAGS", flags)
            .env("SIGNPOST_PACKED", packed_for_uefi())
            .current_dir(self.path())
            .args([what, "--quiet", "--release", "--locked", "--target", self.target])
            .args(CORE);
        cargo.arg("--target-dir").arg(target_folder().join("boot"));
        cargo
    }
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
    cargo.env("RUSTC_BOOTSTRAP", "1");
    cargo
}

fn debian_cargo() -> Command {
    let mut cargo = clean(command("/usr/bin/cargo"));
    cargo.env("RUSTC", "/usr/bin/rustc");
    cargo
}
