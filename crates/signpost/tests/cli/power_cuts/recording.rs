//! What a run of the program writes below a folder, as the kernel was asked for it, and the same again as far as a cut.

use std::collections::BTreeMap;
use std::fs::{self, File};
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};
use std::process::Command;

/// Bytes that a disk writes whole.
const SECTOR: usize = 512;
const CALLS: &str = "trace=openat,creat,write,pwrite64,writev,pwritev,pwritev2,ftruncate,fallocate,rename,renameat,renameat2,\
                     link,linkat,symlink,symlinkat,unlink,unlinkat,mkdir,mkdirat,rmdir,copy_file_range,sendfile";

/// One change of a file or a folder; paths are below the folder that was watched.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Change {
    Made(PathBuf),
    Wrote { path: PathBuf, offset: u64, bytes: Vec<u8> },
    Sized(PathBuf, u64),
    Renamed(PathBuf, PathBuf),
    Removed(PathBuf),
    MadeFolder(PathBuf),
    RemovedFolder(PathBuf),
}

/// Where the power goes: behind so many changes, and so many bytes into the next.
#[derive(Clone, Copy, Debug)]
pub struct Cut {
    pub changes: usize,
    pub bytes: usize,
}

/// Runs the program on a bench under the system's own recorder of calls; what it changed there, in order.
pub fn record(folder: &Path, args: &[&str]) -> Vec<Change> {
    let folder = folder.canonicalize().unwrap();
    let log = tempfile::NamedTempFile::new().unwrap();
    let output = Command::new("strace")
        .env_clear()
        .env("PATH", "/usr/sbin:/usr/bin:/sbin:/bin")
        // Every byte, written out, and the path behind each open file.
        .args(["-f", "-y", "-xx", "-s", "16777216", "-e", CALLS, "-o"])
        .arg(log.path())
        .args([env!("CARGO_BIN_EXE_signpost"), "--machine"])
        .arg(&folder)
        .args(args)
        .output()
        .expect("strace is there; `cargo xtask test` installs it");
    let said = [output.stdout.as_slice(), &output.stderr].concat();
    let said = String::from_utf8_lossy(&said);
    assert!(output.status.success(), "{args:?}: {said}");
    let mut reader = Reader { folder, ends: BTreeMap::new(), changes: Vec::new() };
    whole_lines(&fs::read_to_string(log.path()).unwrap()).iter().for_each(|line| reader.line(line));
    reader.changes
}

/// The recorder's lines, those put together that the calls of another thread have parted.
fn whole_lines(log: &str) -> Vec<String> {
    let mut begun: BTreeMap<&str, &str> = BTreeMap::new();
    let mut lines = Vec::new();
    for line in log.lines() {
        let (thread, call) = line.split_once(' ').unwrap();
        if let Some(start) = call.strip_suffix(" <unfinished ...>") {
            begun.insert(thread, start);
        } else if let Some((_, rest)) = call.split_once(" resumed>") {
            lines.push(format!("{}{rest}", begun.remove(thread).unwrap()));
        } else {
            lines.push(call.to_string());
        }
    }
    lines
}

/// Carries a recorded run out again below another folder, as far as the cut.
pub fn replay(changes: &[Change], folder: &Path, cut: Cut) {
    changes[..cut.changes].iter().for_each(|change| change.carry_out(folder));
    if let Some(Change::Wrote { path, offset, bytes }) = changes.get(cut.changes) {
        let torn = Change::Wrote { path: path.clone(), offset: *offset, bytes: bytes[..cut.bytes].to_vec() };
        torn.carry_out(folder);
    }
}

/// Every place where the power can go: behind each change, and in each write at every sector.
pub fn cuts(changes: &[Change]) -> Vec<Cut> {
    let torn = |(index, change): (usize, &Change)| {
        let length = if let Change::Wrote { bytes, .. } = change { bytes.len() } else { 0 };
        (0..length.max(1)).step_by(SECTOR).map(move |bytes| Cut { changes: index, bytes })
    };
    let whole = Cut { changes: changes.len(), bytes: 0 };
    changes.iter().enumerate().flat_map(torn).chain([whole]).collect()
}

impl Change {
    fn carry_out(&self, folder: &Path) {
        let at = |path: &PathBuf| folder.join(path);
        match self {
            Self::Made(path) => drop(File::create(at(path)).unwrap()),
            Self::Wrote { path, offset, bytes } => {
                let file = File::options().write(true).open(at(path)).unwrap();
                file.write_all_at(bytes, *offset).unwrap();
            }
            Self::Sized(path, size) => {
                File::options().write(true).open(at(path)).unwrap().set_len(*size).unwrap();
            }
            Self::Renamed(from, to) => fs::rename(at(from), at(to)).unwrap(),
            Self::Removed(path) => fs::remove_file(at(path)).unwrap(),
            Self::MadeFolder(path) => fs::create_dir(at(path)).unwrap(),
            Self::RemovedFolder(path) => fs::remove_dir(at(path)).unwrap(),
        }
    }
}

/// Reads the recorder's lines.
struct Reader {
    folder: PathBuf,
    /// How far each file that is written from its start on has come.
    ends: BTreeMap<PathBuf, u64>,
    changes: Vec<Change>,
}

/// An argument of a call: a text, the path of an open file, or a number or a word.
enum Argument {
    Text(Vec<u8>),
    Open(PathBuf),
    Plain(String),
}

impl Reader {
    fn line(&mut self, line: &str) {
        // The call, its arguments, what it gave back.
        let Some((call, rest)) = line.split_once('(') else { return };
        let call = call.trim_start();
        let (list, result) = rest.rsplit_once(" = ").unwrap();
        if result.starts_with('-') {
            return;
        }
        let arguments = arguments(list.trim_end().strip_suffix(')').unwrap());
        let given: u64 = result.split(['<', ' ']).next().unwrap().parse().unwrap_or_default();
        let texts: Vec<PathBuf> = arguments
            .iter()
            .filter_map(|argument| match argument {
                Argument::Text(bytes) => Some(path_of(bytes)),
                _ => None,
            })
            .collect();
        let open = arguments.iter().find_map(|argument| match argument {
            Argument::Open(path) if path.is_absolute() => Some(path.clone()),
            _ => None,
        });
        let last = match arguments.last() {
            Some(Argument::Plain(number)) => number.parse().unwrap_or_default(),
            _ => 0,
        };
        match call {
            "openat" | "creat" => {
                let flags = list.contains("O_TRUNC") || list.contains("O_EXCL") || call == "creat";
                if let Some(path) = self.below(&texts[0]) {
                    self.ends.insert(path.clone(), 0);
                    // A file that is opened to be made where it is not there changes nothing where it is.
                    if flags || (list.contains("O_CREAT") && !path.ends_with("lock")) {
                        self.changes.push(Change::Made(path));
                    }
                }
            }
            "write" | "pwrite64" => {
                let Some(path) = open.and_then(|path| self.below(&path)) else { return };
                let Argument::Text(bytes) = &arguments[1] else { panic!("{call} of no bytes") };
                assert_eq!(bytes.len() as u64, given, "a write that did not write all");
                let offset = if call == "pwrite64" { last } else { self.ends[&path] };
                self.ends.insert(path.clone(), offset + given);
                self.changes.push(Change::Wrote { path, offset, bytes: bytes.clone() });
            }
            "ftruncate" => {
                if let Some(path) = open.and_then(|path| self.below(&path)) {
                    self.changes.push(Change::Sized(path, last));
                }
            }
            "rename" | "renameat" | "renameat2" => {
                if let (Some(from), Some(to)) = (self.below(&texts[0]), self.below(&texts[1])) {
                    self.changes.push(Change::Renamed(from, to));
                }
            }
            "unlink" | "unlinkat" | "rmdir" => {
                let is_folder = call == "rmdir" || list.contains("AT_REMOVEDIR");
                let kind = if is_folder { Change::RemovedFolder } else { Change::Removed };
                self.changes.extend(self.below(&texts[0]).map(kind));
            }
            "mkdir" | "mkdirat" => {
                self.changes.extend(self.below(&texts[0]).map(Change::MadeFolder));
            }
            other => {
                let is_below = |path: &PathBuf| self.below(path).is_some();
                assert!(
                    !texts.iter().any(is_below) && !open.iter().any(is_below),
                    "{other} is not known here"
                );
            }
        }
    }

    fn below(&self, path: &Path) -> Option<PathBuf> {
        path.strip_prefix(&self.folder).ok().map(Path::to_path_buf)
    }
}

/// The arguments in a list of them; texts are written out byte by byte, as are the paths of open files.
fn arguments(list: &str) -> Vec<Argument> {
    let mut found = Vec::new();
    let mut rest = list;
    while !rest.is_empty() {
        if let Some(text) = rest.strip_prefix('"') {
            let (text, after) = text.split_once('"').unwrap();
            assert!(!after.starts_with("..."), "the recorder left bytes out");
            found.push(Argument::Text(bytes_of(text)));
            rest = after;
        } else {
            let (word, after) = rest.split_once(", ").map_or((rest, ""), |(word, after)| (word, after));
            let open = word.split_once('<').map(|(_, path)| path.trim_end_matches('>'));
            found.push(match open {
                Some(path) => Argument::Open(path_of(&bytes_of(path))),
                None => Argument::Plain(word.to_string()),
            });
            rest = after;
            continue;
        }
        rest = rest.strip_prefix(", ").unwrap_or(rest);
    }
    found
}

fn bytes_of(text: &str) -> Vec<u8> {
    text.split("\\x").skip(1).map(|digits| u8::from_str_radix(digits, 16).unwrap()).collect()
}

fn path_of(bytes: &[u8]) -> PathBuf {
    PathBuf::from(String::from_utf8_lossy(bytes).into_owned())
}
