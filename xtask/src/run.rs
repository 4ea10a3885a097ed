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

/// Where cargo puts what it builds.
pub fn target_folder() -> PathBuf {
    std::env::var_os("CARGO_TARGET_DIR").map_or_else(|| workspace().join("target"), PathBuf::from)
}
