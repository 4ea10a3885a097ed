//! What a Linux system calls itself, also where it says so in an older way.

use alloc::string::{String, ToString};

use signpost_menu::layouts::last_part;
use signpost_menu::os_release::{OsRelease, PATHS};
use signpost_menu::text::{shown, shown_lines};

use crate::reader::VolumeReader;

/// Bytes of such a file.
const MAX_TEXT: usize = 64 * 1024;
/// Letters of a title that is made of a whole line.
const MAX_TITLE: usize = 80;
/// Files of `/etc` that are looked through for one.
const MAX_FILES: usize = 1024;

/// A text file that people or old programs may have written: a byte-order mark goes, what is not UTF-8 is replaced.
pub(super) fn text(reader: &VolumeReader, path: &str) -> Option<String> {
    let bytes = reader.read(path, MAX_TEXT).ok()?;
    let text = String::from_utf8_lossy(&bytes);
    Some(shown_lines(text.trim_start_matches('\u{feff}')).into_owned())
}

/// What a system is called by its `os-release`: by its title, else by its id.
pub fn title(release: &OsRelease) -> Option<String> {
    release.title().or_else(|| release.id().map(capital))
}

/// `os-release` below a folder, and its path.
pub fn os_release(reader: &VolumeReader, below: &str) -> Option<(String, OsRelease)> {
    PATHS.iter().find_map(|path| {
        let path = [below, path].concat();
        let release = OsRelease::parse(&text(reader, &path)?);
        title(&release).is_some().then_some((path, release))
    })
}

/// `os-release` on a volume that its system mounts at `/usr`, and its path.
pub(super) fn of_usr(reader: &VolumeReader) -> Option<(String, OsRelease)> {
    let path = "/lib/os-release";
    let release = OsRelease::parse(&text(reader, path)?);
    title(&release).is_some().then(|| (path.to_string(), release))
}

/// The title of a system from before `os-release`: its file `/etc/NAME-release`, or `/etc/NAME_version`; and the file's path.
pub(super) fn before_os_release(reader: &VolumeReader, below: &str) -> Option<(String, String)> {
    const KINDS: [(&str, bool); 4] =
        [("-release", true), ("_release", true), ("-version", false), ("_version", false)];
    let folder = [below, "/etc/"].concat();
    let described = text(reader, &[&folder, "lsb-release"].concat());
    let described = described.map(|text| text.replace("DISTRIB_DESCRIPTION=", "PRETTY_NAME="));
    if let Some(title) = described.and_then(|text| OsRelease::parse(&text).title()) {
        return Some((title, [&folder, "lsb-release"].concat()));
    }
    let mut paths = reader.files_in(&folder, MAX_FILES);
    paths.sort_unstable();
    for (end, is_whole) in KINDS {
        for path in paths.iter().filter(|path| path.ends_with(end)) {
            let name = last_part(path).strip_suffix(end).unwrap_or_default();
            let text = text(reader, path).filter(|_| !matches!(name, "os" | "system" | "lsb" | ""));
            let line =
                text.as_deref().and_then(|text| text.lines().map(str::trim).find(|line| !line.is_empty()));
            let Some(line) = line else { continue };
            let line: String = shown(line).chars().take(MAX_TITLE).collect();
            let is_title = is_whole || line.contains(' ');
            return Some((if is_title { line } else { [&capital(name), " ", &line].concat() }, path.clone()));
        }
    }
    None
}

fn capital(name: &str) -> String {
    let mut name = name.to_string();
    if let Some(first) = name.get_mut(..1) {
        first.make_ascii_uppercase();
    }
    name
}

/// An id made of a title: its first word.
pub(super) fn id_of(title: &str) -> String {
    signpost_menu::ids::slug(title.split(' ').next().unwrap_or_default(), "linux").to_string()
}
