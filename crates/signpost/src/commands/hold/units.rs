//! Units of systemd that run `hold`: put into a folder, or, where the package brought them, turned on.

use std::path::{Path, PathBuf};

use serde::Serialize;
use signpost_machine::durable::write_durably;
use signpost_machine::files;

use crate::app::{App, Outcome};
use signpost_machine::os_words;

use crate::failure::{Exit, Failure};

/// The units, by their names, and what wants each.
const UNITS: [(&str, &str, &str); 4] = [
    ("signpost-hold.service", "multi-user.target", include_str!("../../../units/signpost-hold.service")),
    ("signpost-hold.path", "paths.target", include_str!("../../../units/signpost-hold.path")),
    ("signpost-hold.timer", "timers.target", include_str!("../../../units/signpost-hold.timer")),
    (
        "signpost-confirm.service",
        "multi-user.target",
        include_str!("../../../units/signpost-confirm.service"),
    ),
];

fn failed(path: &Path, error: &std::io::Error) -> Failure {
    Failure::Other(format!("{}: {}", path.display(), os_words::words(error)))
}

/// Where the package that we are of has its units; nothing where it has none, or they would do something else than what is
/// asked for.
fn packaged(app: &App<'_>) -> Option<PathBuf> {
    let folder = std::env::current_exe().ok()?.parent()?.parent()?.join("lib/systemd/system");
    let has_all = UNITS.iter().all(|(name, ..)| folder.join(name).is_file());
    (has_all && app.named_menu().is_none()).then_some(folder)
}

/// Turns on the package's units as `systemctl enable` does. Copies of ours, which would count instead, go.
fn enable(app: &App<'_>, folder: &Path, packaged: &Path) -> Outcome {
    let mut enabled = Vec::new();
    for (name, wanted_by, _) in UNITS {
        let copy = folder.join(name);
        if copy.exists() && matches!(owner(&copy).map_err(|error| failed(&copy, &error))?, Owner::Us) {
            std::fs::remove_file(&copy).map_err(|error| failed(&copy, &error))?;
        }
        let wants = folder.join(format!("{wanted_by}.wants"));
        std::fs::create_dir_all(&wants).map_err(|error| failed(&wants, &error))?;
        let link = wants.join(name);
        if !link.is_symlink() {
            std::os::unix::fs::symlink(packaged.join(name), &link).map_err(|error| failed(&link, &error))?;
        }
        enabled.push(name);
    }
    app.report(&UnitsWritten { written: &enabled, left: &[] }, || {
        format!(
            "{} of the package are turned on in {}; `systemctl daemon-reload` lets systemd see that.\n",
            enabled.join(", "),
            folder.display()
        )
    });
    Ok(Exit::Done)
}

/// Puts them into a folder, or turns on those of the package.
pub fn put(app: &App<'_>, folder: &Path) -> Outcome {
    if let Some(packaged) = packaged(app) {
        return enable(app, folder, &packaged);
    }
    std::fs::create_dir_all(folder).map_err(|error| failed(folder, &error))?;
    let (mut written, mut left) = (Vec::new(), Vec::new());
    let program = std::env::current_exe()?;
    let mut words = vec![program.display().to_string()];
    if let Some(menu) = app.named_menu() {
        words.extend(["--menu".to_string(), std::path::absolute(menu)?.display().to_string()]);
    }
    let command = words.iter().map(|word| unit_word(word)).collect::<Vec<_>>().join(" ");
    for (name, _, text) in UNITS {
        let path = folder.join(name);
        let text = text.replace(INSTALLED, &command);
        match owner(&path).map_err(|error| failed(&path, &error))? {
            Owner::Us => {
                write_durably(&path, marked(&text).as_bytes())?;
                written.push(name);
            }
            Owner::Somebody(why) => left.push(Left { name, why }),
        }
    }
    app.report(&UnitsWritten { written: &written, left: &left }, || {
        let mut said = String::new();
        if !written.is_empty() {
            said = format!(
                "{} in {}; `systemctl enable --now {}` turns them on.\n",
                written.join(", "),
                folder.display(),
                written.join(" ")
            );
        }
        for Left { name, why } in &left {
            said.push_str(&format!("{name} {why}, and stays as it is.\n"));
        }
        said
    });
    Ok(Exit::Done)
}

/// What came of writing units.
#[derive(Serialize)]
struct UnitsWritten<'a> {
    written: &'a [&'static str],
    left: &'a [Left],
}

/// A unit that was left alone.
#[derive(Serialize)]
struct Left {
    name: &'static str,
    why: &'static str,
}

/// Whose a unit's file is.
enum Owner {
    /// There is none, or it is as we wrote it.
    Us,
    /// Somebody has made it another: what it is.
    Somebody(&'static str),
}

fn owner(path: &Path) -> std::io::Result<Owner> {
    /// No unit is longer, in bytes.
    const MAX_UNIT: u64 = 1 << 20;
    match std::fs::symlink_metadata(path) {
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(Owner::Us),
        Err(error) => return Err(error),
        Ok(found) if found.is_symlink() => {
            let masked = std::fs::read_link(path)? == Path::new("/dev/null");
            return Ok(Owner::Somebody(if masked { "is masked" } else { "is a link" }));
        }
        Ok(_) => {}
    }
    let held = files::read_text(path, MAX_UNIT)?.unwrap_or_default();
    let (_, text) = held.split_once('\n').unwrap_or_default();
    Ok(if marked(text) == held { Owner::Us } else { Owner::Somebody("was edited") })
}

/// A unit's text under a line that tells whether it is as we wrote it.
fn marked(text: &str) -> String {
    format!(
        "# Written by `signpost hold --units`, checksum {:08x}; a file that is edited is left alone.\n{text}",
        crc32fast::hash(text.as_bytes())
    )
}

/// The program as the packaged units name it.
const INSTALLED: &str = "/usr/bin/signpost";

/// A word of a unit's command line (systemd.service(5), "Command lines"): quoted where it has to be, `%` and `$` for
/// themselves.
fn unit_word(word: &str) -> String {
    let plain = word.replace('%', "%%").replace('$', "$$");
    if plain.chars().all(|c| c.is_ascii_alphanumeric() || "/._-+:@%$=,".contains(c)) {
        return plain;
    }
    format!("\"{}\"", plain.replace('\\', "\\\\").replace('"', "\\\""))
}
