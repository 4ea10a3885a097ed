//! Errors of the operating system in words that say what they mean here.

use std::io::{self, ErrorKind};

use rustix::io::Errno;

/// The same error; one of the operating system speaks in our words then, without its number.
pub fn in_words(error: io::Error) -> io::Error {
    match error.raw_os_error() {
        Some(_) => io::Error::new(error.kind(), words(&error)),
        None => error,
    }
}

/// What an error of the operating system means.
pub fn words(error: &io::Error) -> String {
    let is_root = rustix::process::geteuid().is_root();
    let known = match error.kind() {
        ErrorKind::NotFound => "it is not there",
        ErrorKind::PermissionDenied if is_root => "the kernel does not allow it",
        ErrorKind::PermissionDenied => "only root may do this; run the same command as root",
        ErrorKind::AlreadyExists => "it is there already",
        ErrorKind::IsADirectory => "it is a folder, and a file is needed",
        ErrorKind::NotADirectory => "a part of its path is a file, and a folder is needed",
        ErrorKind::ReadOnlyFilesystem => "it is mounted read-only",
        ErrorKind::StorageFull => "the volume is full",
        ErrorKind::QuotaExceeded => "this user's share of the volume is used up",
        ErrorKind::ResourceBusy | ErrorKind::ExecutableFileBusy => "another program is using it",
        ErrorKind::TimedOut => "the device does not answer",
        _ => match error.raw_os_error().map(Errno::from_raw_os_error) {
            Some(Errno::IO) => "the device reports an error; see its own health report",
            Some(Errno::NXIO | Errno::NODEV | Errno::NOMEDIUM) => "the device is gone, or has no medium",
            Some(Errno::LOOP) => "its links go round in a circle",
            Some(Errno::NAMETOOLONG) => "its name is too long",
            _ => "",
        },
    };
    if !known.is_empty() {
        return known.into();
    }
    let text = error.to_string();
    let words = text.split_once(" (os error").map_or(text.as_str(), |(words, _)| words);
    words.to_lowercase()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn no_number_of_the_system_is_shown() {
        for code in 1..=133 {
            let words = in_words(io::Error::from_raw_os_error(code)).to_string();
            assert!(!words.contains("os error") && words.len() > 5, "{code}: {words}");
        }
        assert_eq!(in_words(io::Error::other("ours")).to_string(), "ours");
    }
}
