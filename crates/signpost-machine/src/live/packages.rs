//! Whether a package manager is at work: what it has half done is nothing to learn from.

use std::fmt;
use std::os::unix::fs::MetadataExt;

use super::numbers::Root;

/// Files that package managers lock while they work, as dpkg and rpm do.
const LOCKED: [&str; 4] = [
    "var/lib/dpkg/lock-frontend",
    "var/lib/dpkg/lock",
    "var/lib/rpm/.rpm.lock",
    "usr/lib/sysimage/rpm/.rpm.lock",
];
/// Files that are there while one works, as pacman makes them.
const THERE: [&str; 1] = ["var/lib/pacman/db.lck"];

/// A package manager that is at work.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct AtWork {
    /// The file that says so.
    pub file: &'static str,
    /// The process that holds it, where the kernel tells.
    pub process: Option<u32>,
}

impl fmt::Display for AtWork {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let process = self.process.map(|process| format!(", process {process}")).unwrap_or_default();
        write!(f, "a package manager is at work (/{}{process})", self.file)
    }
}

/// The one that is at work, unless it is its work that we do: a script of a package that runs us waits for us.
pub fn at_work() -> Option<AtWork> {
    let root = Root("/".into());
    look(&root)
        .filter(|found| found.process.is_none_or(|process| !is_above(&root, std::process::id(), process)))
}

/// Whether a process was started, by way of others, by this one.
fn is_above(root: &Root, process: u32, wanted: u32) -> bool {
    /// Processes from one to the first of all.
    const MAX_DEPTH: usize = 64;
    let parent = |process: &u32| {
        let stat = std::fs::read_to_string(root.at(&format!("proc/{process}/stat"))).ok()?;
        // Its name may hold anything (proc_pid_stat(5)); state and parent stand behind it.
        stat.rsplit_once(')')?.1.split_ascii_whitespace().nth(1)?.parse().ok()
    };
    std::iter::successors(Some(process), parent).take(MAX_DEPTH).any(|process| process == wanted)
}

pub(super) fn look(root: &Root) -> Option<AtWork> {
    let locks = std::fs::read_to_string(root.at("proc/locks")).unwrap_or_default();
    let locked = LOCKED.into_iter().find_map(|file| {
        let inode = std::fs::metadata(root.at(file)).ok()?.ino();
        let process = locks.lines().find_map(|line| holder(line, inode))?;
        Some(AtWork { file, process: Some(process) })
    });
    let there = || THERE.into_iter().find(|file| root.at(file).exists());
    locked.or_else(|| there().map(|file| AtWork { file, process: None }))
}

/// Who holds a lock on this inode, by a line of `/proc/locks` (proc_locks(5)). Its device is not asked for: some file
/// systems tell another one to whom asks for the file.
fn holder(line: &str, inode: u64) -> Option<u32> {
    let mut words = line.split_ascii_whitespace();
    let process = words.by_ref().nth(4)?.parse().ok()?;
    let (_, own) = words.next()?.rsplit_once(':')?;
    // One that waits has an arrow behind its number, which moves its fields; it holds nothing.
    (own.parse() == Ok(inode)).then_some(process)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn who_started_us_is_told_from_others() {
        let folder = tempfile::tempdir().unwrap();
        for (process, parent) in [(900, 812), (812, 1), (1, 0), (77, 1)] {
            let path = folder.path().join(format!("proc/{process}"));
            std::fs::create_dir_all(&path).unwrap();
            std::fs::write(path.join("stat"), format!("{process} (a ) name) S {parent} 5 5 0\n")).unwrap();
        }
        let root = Root(folder.path().to_path_buf());
        assert!(is_above(&root, 900, 812) && is_above(&root, 900, 1) && !is_above(&root, 900, 77));
    }
}
