//! One run at a time changes a machine.

use std::fs::{File, OpenOptions, TryLockError};
use std::io::{Read, Seek, Write};
use std::path::{Path, PathBuf};

use super::Machine;
use crate::error::{Error, Result};

/// Held while a machine is changed; the kernel lets go of it when we end, however that is.
#[derive(Debug)]
pub struct Lock {
    _file: File,
}

impl Machine {
    /// Keeps other runs of ours from changing the machine.
    ///
    /// # Errors
    /// Where another run changes it now, or the lock cannot be taken.
    pub fn lock(&self) -> Result<Lock> {
        let path = match &self.host {
            Some(_) => PathBuf::from("/run/signpost.lock"),
            None => self.folder.join("machine.toml"),
        };
        take(&path, self.host.is_some())
    }
}

/// Takes the lock on a file, which is made where it is ours alone, and then names us.
fn take(path: &Path, is_ours: bool) -> Result<Lock> {
    let opened = OpenOptions::new().read(true).write(is_ours).create(is_ours).truncate(false).open(path);
    let mut file = opened.map_err(|error| Error::unusable(path, error))?;
    match file.try_lock() {
        Ok(()) => {}
        Err(TryLockError::WouldBlock) => {
            let mut holder = String::new();
            if is_ours {
                let _ = Read::by_ref(&mut file).take(20).read_to_string(&mut holder);
            }
            let who = match holder.trim() {
                "" => "another run".to_string(),
                process => format!("another run (process {process})"),
            };
            let why =
                format!("{who} is changing this machine; nothing was done, try again when it has ended");
            return Err(Error::Unusable { place: "this machine".into(), why });
        }
        Err(TryLockError::Error(error)) => return Err(Error::unusable(path, error)),
    }
    if is_ours {
        // For people to read; the lock is the kernel's.
        let _ = file
            .set_len(0)
            .and_then(|()| file.rewind())
            .and_then(|()| writeln!(file, "{}", std::process::id()));
    }
    Ok(Lock { _file: file })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_second_is_told_who_holds_it_and_gets_it_when_the_first_has_ended() {
        let work = tempfile::tempdir().unwrap();
        let path = work.path().join("lock");
        let first = take(&path, true).unwrap();
        let error = take(&path, true).unwrap_err().to_string();
        assert!(error.contains(&format!("process {}", std::process::id())), "{error}");
        drop(first);
        take(&path, true).unwrap();
        assert!(take(&work.path().join("none"), false).is_err());
    }
}
