//! Where the picture behind the menu lies. The desk puts it there, and the boot program reads it.

use alloc::format;
use alloc::string::{String, ToString};

/// Where the look's picture lies on the home volume.
pub const PICTURE_PATH: &str = "/EFI/signpost/PICTURE.PIC";
/// Where it lies on other volumes: one that is mounted at `/boot`, and one that is a system's root.
pub const PICTURE_PATH_AT_BOOT: &str = "/signpost/PICTURE.PIC";
/// See [`PICTURE_PATH_AT_BOOT`].
pub const PICTURE_PATH_AT_ROOT: &str = "/boot/signpost/PICTURE.PIC";

/// Whether a path is one of those where a look's picture lies.
pub fn is_picture_path(path: &str) -> bool {
    let all = [PICTURE_PATH, PICTURE_PATH_AT_BOOT, PICTURE_PATH_AT_ROOT];
    all.iter().any(|picture| picture.eq_ignore_ascii_case(path))
}

/// Where a picture lies that is not on a home volume, since sectors of a disk are home.
#[derive(Clone, Debug, PartialEq, Eq)]
#[cfg_attr(feature = "serde", derive(serde::Serialize, serde::Deserialize))]
pub struct PicturePlace {
    /// Its path.
    pub path: String,
    /// A name of the volume.
    pub volume: String,
}

impl PicturePlace {
    /// As a slot's first line says it, without blanks: the path, an at sign, the volume. `None` where the name of the volume has any.
    pub fn text(&self) -> Option<String> {
        let is_word = !self.volume.contains(char::is_whitespace);
        is_word.then(|| format!("{}@{}", self.path, self.volume))
    }

    /// Reads that. A slot may say anything: a path that is none of ours is none, so that no other file is ever removed for a picture.
    pub fn parse(text: &str) -> Option<Self> {
        let (path, volume) = text.split_once('@')?;
        is_picture_path(path).then(|| Self { path: path.to_string(), volume: volume.to_string() })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_place_is_read_as_it_is_written_and_no_other_file_is_one() {
        for path in [PICTURE_PATH, PICTURE_PATH_AT_BOOT, PICTURE_PATH_AT_ROOT] {
            let place = PicturePlace { path: path.into(), volume: "disk:M@1#2".into() };
            assert_eq!(PicturePlace::parse(&place.text().unwrap()), Some(place));
        }
        for text in
            ["", "@", "/etc/passwd@uuid:1", "/boot/signpost/../PICTURE.PIC@uuid:1", "/signpost/PICTURE.PIC"]
        {
            assert_eq!(PicturePlace::parse(text), None, "{text}");
        }
        let blank = PicturePlace { path: PICTURE_PATH.into(), volume: "label:my disk".into() };
        assert_eq!(blank.text(), None);
    }
}
