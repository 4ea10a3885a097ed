//! Running other programs.

use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

/// What went wrong, in words.
pub type Result<T> = std::result::Result<T, String>;

/// The workspace's folder.
pub fn workspace() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).parent().map(Path::to_path_buf).unwrap_or_default()
}

/// A command that finds tools of the system administrator too.
pub fn command(program: &str) -> Command {
    let mut command = Command::new(program);
    let path = std::env::var("PATH").unwrap_or_default();
    command.env("PATH", format!("{path}:/usr/sbin:/sbin")).stdin(Stdio::null());
    command
}

/// Runs a command to its end.
pub fn run(command: &mut Command) -> Result<()> {
    let name = command.get_program().to_string_lossy().into_owned();
    let status = command.status().map_err(|error| format!("{name} cannot be run: {error}"))?;
    if status.success() { Ok(()) } else { Err(format!("{name} failed: {status}")) }
}

/// Does both at once, to their ends; what either of them says of what went wrong.
pub fn side_by_side(
    one: impl FnOnce() -> Result<()>,
    other: impl FnOnce() -> Result<()> + Send,
) -> Result<()> {
    let (one, other) = std::thread::scope(|scope| {
        let other = scope.spawn(other);
        (one(), other.join().unwrap_or_else(|_| Err("it panicked".into())))
    });
    match (one, other) {
        (Err(one), Err(other)) => Err(format!("{one}; {other}")),
        (one, other) => one.and(other),
    }
}

/// An error with the path it is about.
pub fn at(path: &Path) -> impl Fn(std::io::Error) -> String {
    let path = path.display().to_string();
    move |error| format!("{path}: {error}")
}

/// Builds the program as people use it; its path.
pub fn build_release() -> Result<PathBuf> {
    run(command(env!("CARGO")).current_dir(workspace()).args([
        "build",
        "--quiet",
        "--release",
        "--package",
        "signpost",
    ]))?;
    Ok(target_folder().join("release/signpost"))
}

/// Cargo, so that what it builds has its C library in it and needs nothing of the system it is put on. That takes a named target: what
/// runs inside the compiler would be built so otherwise.
pub fn static_cargo(args: &[&str]) -> Command {
    statically(command(env!("CARGO")), args)
}

fn statically(mut cargo: Command, args: &[&str]) -> Command {
    cargo.current_dir(workspace()).env("RUSTFLAGS", "-Ctarget-feature=+crt-static").args(args).args([
        "--locked",
        "--target",
        &target(),
    ]);
    cargo
}

/// How many tests run at once.
const THREADS: &str = "RUST_TEST_THREADS";

/// Cargo, asked for all tests, behind what is done beside them: that does one thing after the other, and would end last. Any other
/// features would have it build them anew; and what they run is what is in the package.
pub fn tests() -> Command {
    let mut behind = command("nice");
    behind.args(["-n", "10", env!("CARGO")]);
    let mut cargo = statically(behind, &["test", "--workspace", "--all-features"]);
    if std::env::var_os(THREADS).is_none() {
        // Virtual machines and the tools of file systems wait half of their time.
        let processors = std::thread::available_parallelism().map_or(1, usize::from);
        cargo.env(THREADS, (2 * processors).to_string());
    }
    cargo
}

/// Where programs are that were built static; boot programs lie beside the folders of profiles.
pub fn static_folder() -> PathBuf {
    target_folder().join(target())
}

fn target() -> String {
    format!("{}-unknown-linux-gnu", std::env::consts::ARCH)
}

/// Where cargo puts what it builds.
pub fn target_folder() -> PathBuf {
    std::env::var_os("CARGO_TARGET_DIR").map_or_else(|| workspace().join("target"), PathBuf::from)
}
