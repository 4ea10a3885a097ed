//! Kernel arguments: single words added and dropped, and the volumes that they name, looked for on the machine.

use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec::Vec;

use crate::linux_files::named;
use crate::place::{Unresolved, VolumeRef, resolve};
use crate::surroundings::Surroundings;

/// Arguments whose value is a device as fstab writes it: `UUID=…`, `LABEL=…`, `/dev/disk/…`, `/dev/mapper/…`.
const DEVICES: [&str; 3] = ["root=", "resume=", "usr="];
/// Arguments whose value is the UUID of an encrypted volume.
const ENCRYPTED: [&str; 2] = ["rd.luks.uuid=", "luks.uuid="];

/// A word of the arguments that names a volume which is not seen.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Missing {
    /// No volume has that name, or several have it.
    Gone {
        /// The word.
        word: String,
        /// The same in words.
        words: String,
    },
    /// Whether it is there shows only in the running system, or once an encrypted volume is open.
    Unknown(String),
}

impl Missing {
    fn words(self) -> String {
        match self {
            Self::Gone { words, .. } | Self::Unknown(words) => words,
        }
    }
}

/// What of the arguments names a volume that is not there, a line each. What only the running system could tell is marked to
/// be that.
pub fn named_volumes(around: &impl Surroundings, args: &str) -> Vec<String> {
    args.split_whitespace().filter_map(|word| missing(around, word)).map(Missing::words).collect()
}

/// The same as values.
pub fn missing_volumes(around: &impl Surroundings, args: &str) -> Vec<Missing> {
    args.split_whitespace().filter_map(|word| missing(around, word)).collect()
}

fn missing(around: &impl Surroundings, word: &str) -> Option<Missing> {
    let uuid = ENCRYPTED.iter().find_map(|key| word.strip_prefix(key));
    if let Some(uuid) = uuid {
        let uuid = uuid.strip_prefix("luks-").unwrap_or(uuid);
        return not_there(around, word, &VolumeRef::Uuid(uuid.into())).map(gone(word));
    }
    let device = DEVICES.iter().find_map(|key| word.strip_prefix(key))?;
    let closed = |volume: &VolumeRef| {
        let why = not_there(around, word, volume)?;
        let inside =
            format!("{word} names no volume that can be seen now; it may lie in one that is encrypted");
        Some(if around.has_closed_volumes() { Missing::Unknown(inside) } else { gone(word)(why) })
    };
    match named(device) {
        // The device mapper names encrypted volumes too, which are only there once they are open.
        Some(volume @ VolumeRef::Lv(..)) => not_there(around, word, &volume).map(|_| only_running(word)),
        Some(volume) => closed(&volume),
        None if device.starts_with("/dev/") => Some(only_running(word)),
        None => None,
    }
}

fn gone(word: &str) -> impl Fn(String) -> Missing {
    move |words| Missing::Gone { word: word.into(), words }
}

fn only_running(word: &str) -> Missing {
    Missing::Unknown(format!(
        "{word} names a device as the running system does; whether it is there shows only then"
    ))
}

fn not_there(around: &impl Surroundings, word: &str, volume: &VolumeRef) -> Option<String> {
    match resolve(volume, around.volumes()) {
        Ok(_) => None,
        Err(Unresolved::None { near, .. }) => {
            let hint = near.map(|near| format!("; there is {near}")).unwrap_or_default();
            Some(format!("{word} names no volume of this machine{hint}"))
        }
        Err(error @ Unresolved::Several { .. }) => Some(format!("{word} is ambiguous: {error}")),
    }
}

/// Whether a text only adds (`+single`) and drops (`-quiet`) single words.
pub fn is_change(text: &str) -> bool {
    let is_one = |word: &str| word.starts_with(['+', '-']) && word.len() > 1;
    !text.trim().is_empty() && text.split_whitespace().all(is_one)
}

/// Arguments with single words added and dropped; a word is dropped by itself, or by what stands before its `=`.
///
/// # Errors
/// Where one that is to be dropped is not there.
pub fn changed_words(args: &str, changes: &str) -> Result<String, String> {
    let mut words: Vec<String> = args.split_whitespace().map(ToString::to_string).collect();
    for change in changes.split_whitespace() {
        let word = change.get(1..).unwrap_or_default();
        let is_it = |held: &String| held == word || held.split('=').next() == Some(word);
        if change.starts_with('+') {
            // Said twice, it is there once.
            if !words.iter().any(|held| held == word) {
                words.push(word.to_string());
            }
        } else if words.iter().any(is_it) {
            words.retain(|held| !is_it(held));
        } else {
            return Err(format!("the arguments do not contain {word}; they are: {args}"));
        }
    }
    Ok(words.join(" "))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn words_are_added_once_and_dropped_by_their_name() {
        assert!(is_change("+single -quiet") && !is_change("root=x +single") && !is_change(""));
        assert_eq!(changed_words("root=a ro quiet", "+single -quiet -root"), Ok("ro single".into()));
        assert_eq!(changed_words("ro", "+ro"), Ok("ro".into()));
        assert!(changed_words("ro", "-quiet").unwrap_err().contains("do not contain quiet; they are: ro"));
    }
}
