//! Files that we keep for ourselves beside a machine: JSON, for people to read too.

use std::path::Path;

use serde::Serialize;
use serde::de::DeserializeOwned;
use signpost_facts::error::{Error, Result};

use crate::durable::write_privately;
use crate::files;

/// No file of ours is longer.
const MAX_LENGTH: u64 = 16 << 20; // bytes

/// What a file says; `None` where there is none.
///
/// # Errors
/// Where it cannot be read, is too long to be ours, or says something else.
pub fn read<T: DeserializeOwned>(path: &Path) -> Result<Option<T>> {
    let text = files::read_text(path, MAX_LENGTH).map_err(|error| Error::unusable(path.display(), error))?;
    let value =
        text.map(|text| serde_json::from_str(&text).map_err(|error| Error::unusable(path.display(), error)));
    value.transpose()
}

/// Writes a file; one that says the same already is left alone.
///
/// # Errors
/// Where it cannot be written, or would be too long to be read again; it is then as it was.
pub fn write<T: Serialize>(path: &Path, what: &T) -> Result<()> {
    let text =
        serde_json::to_string_pretty(what).map_err(|error| Error::unusable(path.display(), error))? + "\n";
    check_length(path, text.len() as u64)?;
    let before = files::read_text(path, MAX_LENGTH);
    if before.is_ok_and(|before| before.as_ref() == Some(&text)) {
        return Ok(());
    }
    write_privately(path, text.as_bytes())
}

fn check_length(path: &Path, length: u64) -> Result<()> {
    if length <= MAX_LENGTH {
        return Ok(());
    }
    let why = format!("it has {length} bytes; what we write has at most {MAX_LENGTH}");
    Err(Error::unusable(path.display(), why))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_written_is_read_and_what_is_no_file_of_ours_is_an_error_with_its_place() {
        let work = tempfile::tempdir().unwrap();
        let path = work.path().join("kept.json");
        assert_eq!(read::<Vec<u32>>(&path).unwrap(), None);
        write(&path, &[1, 2]).unwrap();
        assert_eq!(read::<Vec<u32>>(&path).unwrap(), Some(vec![1, 2]));
        let error = |result: Result<Option<Vec<u32>>>| result.unwrap_err().to_string();
        std::fs::write(&path, "[1,").unwrap();
        assert!(error(read(&path)).contains("kept.json: EOF while parsing"), "{}", error(read(&path)));
        std::fs::File::create(&path).unwrap().set_len(MAX_LENGTH + 1).unwrap();
        assert!(error(read(&path)).ends_with("it has 16777217 bytes, and 16777216 at most are read"));
        write(&path, &[1, 2]).unwrap();
        assert!(write(&path, &"a".repeat(MAX_LENGTH as usize)).is_err(), "it could not be read again");
        assert_eq!(read::<Vec<u32>>(&path).unwrap(), Some(vec![1, 2]), "as it was");
    }

    #[test]
    fn a_file_that_says_the_same_is_left_alone() {
        use std::os::unix::fs::MetadataExt;
        let work = tempfile::tempdir().unwrap();
        let path = work.path().join("kept.json");
        let inode = || std::fs::metadata(&path).unwrap().ino();
        write(&path, &1).unwrap();
        let before = inode();
        write(&path, &1).unwrap();
        assert_eq!(inode(), before);
        write(&path, &2).unwrap();
        assert_ne!(inode(), before);
    }
}
