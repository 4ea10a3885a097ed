//! One run at a time changes a machine.

use std::fs::{File, OpenOptions, TryLockError};
use std::io::{Read, Seek, Write};
use std::os::unix::fs::{DirBuilderExt, MetadataExt, OpenOptionsExt};
use std::path::{Path, PathBuf};
use std::sync::mpsc;
use std::time::Duration;

use rustix::fs::OFlags;
use signpost_facts::error::{Error, Result};

use crate::clock::now;
use crate::durable;
use crate::machine::Machine;

/// Held while a machine is changed; the kernel lets go of it when we end, however that is.
#[derive(Debug)]
pub struct Lock {
    _file: File,
    path: PathBuf,
}

/// How often the file is opened anew.
const MAX_TRIES: usize = 100;
/// How long another run is waited for: most have ended by then.
const PATIENCE: Duration = Duration::from_secs(10);

impl Machine {
    /// Keeps other runs of ours from changing the machine, and takes away what killed ones left beside what they wrote. Another
    /// run that changes it is waited for, ten seconds.
    ///
    /// # Errors
    /// Where that has not ended by then, or the lock cannot be taken.
    pub fn lock(&self) -> Result<Lock> {
        // Whoever can open a file can lock it: it lies where others cannot, or is its owner's alone.
        let path = match &self.host {
            Some(_) => PathBuf::from("/run/signpost/lock"),
            None => self.folder.join("signpost.lock"),
        };
        let lock = take(&path, PATIENCE)?;
        for folder in [self.folder.clone(), self.history_folder()] {
            durable::clean(&folder);
        }
        Ok(lock)
    }
}

impl Drop for Lock {
    fn drop(&mut self) {
        let _ = std::fs::remove_file(&self.path);
    }
}

/// Takes the lock on a file of its owner's alone, which is made, and names us while it is held.
fn take(path: &Path, patience: Duration) -> Result<Lock> {
    let failed = |error: std::io::Error| Error::unusable(path.display(), error);
    if let Some(folder) = path.parent().filter(|folder| !folder.exists()) {
        // In a root that somebody has changed into, there may be no /run either.
        std::fs::DirBuilder::new().mode(0o700).recursive(true).create(folder).map_err(failed)?;
    }
    // The one that held it may have taken the file away between our opening it and locking it.
    for _ in 0..MAX_TRIES {
        let flags = OFlags::NOFOLLOW.union(OFlags::NONBLOCK).bits().cast_signed();
        let mut options = OpenOptions::new();
        options.read(true).write(true).create(true).truncate(false).mode(0o600).custom_flags(flags);
        let opened = options.open(path);
        let file = opened.map_err(failed)?;
        let mut file = match file.try_lock() {
            Ok(()) => file,
            Err(TryLockError::WouldBlock) => wait_for(file, patience)?,
            Err(TryLockError::Error(error)) => return Err(failed(error)),
        };
        let is_same = |there: std::fs::Metadata, ours: std::fs::Metadata| {
            (there.dev(), there.ino()) == (ours.dev(), ours.ino())
        };
        if std::fs::symlink_metadata(path).ok().zip(file.metadata().ok()).is_some_and(|(a, b)| is_same(a, b))
        {
            // For people to read; the lock is the kernel's.
            let _ = file
                .set_len(0)
                .and_then(|()| file.rewind())
                .and_then(|()| writeln!(file, "{} since {}", std::process::id(), now()));
            return Ok(Lock { _file: file, path: path.to_path_buf() });
        }
    }
    Err(Error::unusable(path.display(), "the file of the lock comes and goes; see who does that"))
}

/// The same file once whoever holds the lock has let go of it.
fn wait_for(mut file: File, patience: Duration) -> Result<File> {
    let other = file.try_clone();
    let (sender, waited) = mpsc::channel();
    // The kernel wakes one that waits for a lock, and knows no end of its patience.
    std::thread::spawn(move || {
        let got = other.and_then(|other| other.lock());
        let _ = sender.send(got);
    });
    match waited.recv_timeout(patience) {
        Ok(Ok(())) => Ok(file),
        _ => Err(held(&mut file)),
    }
}

fn held(file: &mut File) -> Error {
    let mut holder = String::new();
    let _ = Read::by_ref(file).take(80).read_to_string(&mut holder);
    let who = match holder.trim() {
        "" => "another run".to_string(),
        process => format!("another run (process {process})"),
    };
    let why = format!("{who} is changing this machine; nothing was done, try again when it has ended");
    Error::Unusable { place: "this machine".into(), why }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_second_is_told_who_holds_it_and_gets_it_when_the_first_has_ended() {
        let work = tempfile::tempdir().unwrap();
        let path = work.path().join("lock");
        let first = take(&path, PATIENCE).unwrap();
        let error = take(&path, Duration::ZERO).unwrap_err().to_string();
        assert!(error.contains(&format!("process {} since 2", std::process::id())), "{error}");
        std::thread::scope(|scope| {
            let second = scope.spawn(|| take(&path, Duration::MAX));
            drop(first);
            second.join().unwrap().unwrap();
        });
        take(&path, Duration::ZERO).unwrap();
        assert!(!path.exists(), "it is there while it is held");
        std::os::unix::fs::symlink("/dev/null", &path).unwrap();
        assert!(take(&path, Duration::ZERO).is_err(), "a link is not a file of ours");
    }
}
