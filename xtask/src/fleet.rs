//! The engine that the role for many machines is tested with, in an environment of its own.

use std::fs;
use std::path::PathBuf;

use crate::run::{Result, at, command, run, target_folder, workspace};

/// Where it is, below the build folder.
pub fn folder() -> PathBuf {
    target_folder().join("fleet")
}

/// Sets it up, where it is not there or is another than what is asked for.
pub fn need() -> Result<()> {
    let wanted = workspace().join("fleet/tests/requirements.txt");
    let wanted_text = fs::read_to_string(&wanted).map_err(at(&wanted))?;
    let (folder, mark) = (folder(), folder().join("requirements.txt"));
    if fs::read_to_string(&mark).is_ok_and(|held| held == wanted_text) {
        return Ok(());
    }
    if folder.exists() {
        fs::remove_dir_all(&folder).map_err(at(&folder))?;
    }
    run(command("/usr/bin/python3").args(["-m", "venv"]).arg(&folder))?;
    run(command(&folder.join("bin/pip").to_string_lossy())
        .args(["--quiet", "--disable-pip-version-check", "install", "--no-deps", "--requirement"])
        .arg(&wanted))?;
    // Written last: an environment that is half there has none.
    fs::copy(&wanted, &mark).map_err(at(&mark))?;
    Ok(())
}
