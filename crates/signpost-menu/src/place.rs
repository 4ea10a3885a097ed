//! Places: a volume and a path on it, `KIND:VALUE/path`.

mod resolve;
mod typed;

use alloc::format;
use alloc::string::{String, ToString};
use core::fmt;

pub use resolve::{Nearness, Unresolved, VolumeIdentity, count, resolve, stable};
pub use typed::{Mistyped, Typed, typed};

/// A file or folder somewhere on a machine.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Place {
    /// The volume.
    pub volume: VolumeRef,
    /// The path on it, with `/` at its start.
    pub path: String,
}

/// How a volume is named.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum VolumeRef {
    /// `uuid:`: the file system's UUID or serial.
    Uuid(String),
    /// `partuuid:`: the partition's own GUID.
    PartUuid(String),
    /// `label:`: the file system's label.
    Label(String),
    /// `partlabel:`: the partition's name.
    PartLabel(String),
    /// `lv:group/name`: a logical volume.
    Lv(String, String),
    /// `disk:SERIAL#3`: a disk's serial, a partition number.
    Disk(String, u32),
    /// `diskid:GUID#3`: a disk's GUID, a partition number.
    DiskId(String, u32),
    /// `path:PciRoot(0x0)/Pci(0x4,0x0)#3`: where a disk is plugged in, as a device path's text, and a partition number.
    Path(String, u32),
    /// `home:`.
    Home,
    /// `d2p1:`: the name that a survey shows. Not for files.
    Name(String),
}

const KINDS: &str = "uuid:, partuuid:, label:, partlabel:, lv:, disk:, diskid:, path: or home:";

impl VolumeRef {
    /// Whether the name holds beyond the next change of disks, so that it may stand in a menu file.
    pub fn is_stable(&self) -> bool {
        !matches!(self, Self::Name(_))
    }

    /// Reads the name of a volume alone.
    ///
    /// # Errors
    /// What is wrong with it, in words.
    pub fn parse(text: &str) -> Result<Self, String> {
        match split(text)? {
            (volume, "") => Ok(volume),
            (_, path) => Err(format!("\"{text}\" goes on with the path {path}; only a volume belongs here")),
        }
    }
}

impl Place {
    /// Reads a place; without a path it is the volume's root folder.
    ///
    /// # Errors
    /// What is wrong with it, in words.
    pub fn parse(text: &str) -> Result<Self, String> {
        let (volume, path) = split(text)?;
        let path = if path.is_empty() { "/" } else { path };
        Ok(Self { volume, path: path.to_string() })
    }

    /// Whether a path is this one's, whose names may hold a `*` each for any letters; case does not matter.
    pub fn covers(&self, path: &str) -> bool {
        let (own, path) = (self.path.to_lowercase(), path.to_lowercase());
        own.split('/').count() == path.split('/').count()
            && own.split('/').zip(path.split('/')).all(|(pattern, name)| fits(pattern, name))
    }
}

/// Whether a text is what a pattern says, in any case.
pub fn fits_in_any_case(pattern: &str, text: &str) -> bool {
    fits(&pattern.to_lowercase(), &text.to_lowercase())
}

/// Whether a name fits a pattern, in which every `*` stands for any letters, or none.
pub fn fits(pattern: &str, name: &str) -> bool {
    let Some((first, rest)) = pattern.split_once('*') else { return pattern == name };
    let Some(mut left) = name.strip_prefix(first) else { return false };
    let (middle, last) = rest.rsplit_once('*').map_or((None, rest), |(middle, last)| (Some(middle), last));
    for part in middle.into_iter().flat_map(|middle| middle.split('*')) {
        let Some((_, behind)) = left.split_once(part) else { return false };
        left = behind;
    }
    left.ends_with(last)
}

/// The volume, and what follows it.
fn split(text: &str) -> Result<(VolumeRef, &str), String> {
    let Some((kind, rest)) = text.split_once(':') else {
        return Err(format!("\"{text}\" names no volume: it starts with {KINDS}"));
    };
    if is_name(kind) {
        return Ok((VolumeRef::Name(kind.to_string()), rest));
    }
    let unknown = || format!("\"{text}\": there is no kind \"{kind}:\"; it is {KINDS}");
    if !KINDS.split([',', ' ']).any(|known| known.strip_suffix(':') == Some(kind)) {
        return Err(unknown());
    }
    let path_at =
        |from: usize| rest.get(from..).and_then(|rest| rest.find('/')).and_then(|at| at.checked_add(from));
    // An LV's own name has a slash in it: its path starts at the second. A device path's text has many, and no #.
    let end = match kind {
        "lv" => path_at(0).and_then(|at| path_at(at.checked_add(1)?)),
        "path" => rest.find('#').and_then(path_at),
        _ => path_at(0),
    };
    let (value, path) = rest.split_at_checked(end.unwrap_or(rest.len())).unwrap_or((rest, ""));
    if value.is_empty() != (kind == "home") {
        let what = if kind == "home" { "takes no value between : and /" } else { "needs a value after :" };
        return Err(format!("\"{text}\": {kind}: {what}"));
    }
    let numbered = || {
        let (id, number) = value.rsplit_once('#')?;
        Some((unescape(id), number.parse().ok().filter(|number| *number > 0)?))
    };
    let no_number =
        || format!("\"{text}\": {kind}: needs a partition number after #, such as {kind}:{value}#1");
    let volume = match kind {
        "uuid" => VolumeRef::Uuid(value.to_string()),
        "partuuid" => VolumeRef::PartUuid(value.to_string()),
        "label" => VolumeRef::Label(unescape(value)),
        "partlabel" => VolumeRef::PartLabel(unescape(value)),
        "lv" => {
            let (group, name) =
                value.split_once('/').ok_or_else(|| format!("\"{text}\": lv: needs group/name"))?;
            VolumeRef::Lv(group.to_string(), name.to_string())
        }
        "disk" => numbered().map(|(serial, number)| VolumeRef::Disk(serial, number)).ok_or_else(no_number)?,
        "diskid" => numbered().map(|(guid, number)| VolumeRef::DiskId(guid, number)).ok_or_else(no_number)?,
        "path" => numbered().map(|(path, number)| VolumeRef::Path(path, number)).ok_or_else(no_number)?,
        "home" => VolumeRef::Home,
        _ => return Err(unknown()),
    };
    Ok((volume, path))
}

/// Whether this is a partition's name as a survey shows it, which a menu file does not take.
fn is_name(text: &str) -> bool {
    let numbers = text.strip_prefix('d').and_then(|rest| rest.split_once('p'));
    numbers.is_some_and(|(disk, partition)| {
        disk.parse::<u32>().is_ok() && partition.trim_end_matches(char::is_alphabetic).parse::<u32>().is_ok()
    })
}

/// Labels and serials may hold what ends them here: `/` is written `%2F`, `%` is `%25`.
fn escape(value: &str) -> String {
    value.replace('%', "%25").replace('/', "%2F")
}

fn unescape(value: &str) -> String {
    value.replace("%2F", "/").replace("%2f", "/").replace("%25", "%")
}

impl fmt::Display for VolumeRef {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Uuid(value) => write!(f, "uuid:{value}"),
            Self::PartUuid(value) => write!(f, "partuuid:{value}"),
            Self::Label(value) => write!(f, "label:{}", escape(value)),
            Self::PartLabel(value) => write!(f, "partlabel:{}", escape(value)),
            Self::Lv(group, name) => write!(f, "lv:{group}/{name}"),
            Self::Disk(serial, number) => write!(f, "disk:{}#{number}", escape(serial)),
            Self::DiskId(guid, number) => write!(f, "diskid:{guid}#{number}"),
            Self::Path(path, number) => write!(f, "path:{path}#{number}"),
            Self::Home => f.write_str("home:"),
            Self::Name(name) => write!(f, "{name}:"),
        }
    }
}

impl fmt::Display for Place {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}{}", self.volume, self.path)
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn every_kind_is_read_and_written() {
        for text in [
            "uuid:4f2a-11c9/EFI/meridian/start.efi",
            "partuuid:8a4b1c52-7f0e-4d1e-9b55-2f6a3c9d1e01/a",
            "label:TIDE DATA/x y",
            "label:a%2Fb%25/x",
            "partlabel:ESP/x",
            "lv:tide/root/boot/vmlinuz",
            "disk:PTR-0071#3/x",
            "diskid:5e1f0c9a-1d1b-4f5b-9f0e-70b1d7c3a001#12/x",
            "path:PciRoot(0x0)/Pci(0x4,0x0)/NVMe(0x1,00-00-00-00-00-00-00-00)#2/boot/vmlinuz",
            "home:/EFI",
            "d3p1:/boot",
            "d3p1a:/boot",
        ] {
            assert_eq!(Place::parse(text).unwrap().to_string(), text);
        }
        assert_eq!(Place::parse("label:a%2Fb%25/x").unwrap().volume, VolumeRef::Label("a/b%".into()));
        assert_eq!(Place::parse("uuid:1").unwrap().path, "/");
    }

    #[test]
    fn a_star_stands_for_any_letters_of_one_name() {
        let covers =
            |pattern: &str, path: &str| Place::parse(&format!("uuid:1{pattern}")).unwrap().covers(path);
        for (pattern, path) in [
            ("/EFI/BOOT/BOOTX64.EFI", "/efi/boot/bootx64.efi"),
            ("/EFI/*/fb*.efi", "/EFI/larkspur/fbx64.efi"),
            ("/EFI/*", "/EFI/"),
            ("/a*b*c*d", "/abcd"),
            ("/a**", "/a"),
        ] {
            assert!(covers(pattern, path), "{pattern} {path}");
        }
        for (pattern, path) in
            [("/EFI/*", "/EFI/a/b"), ("/a*a", "/a"), ("/*x*y", "/yx"), ("/a*", "/b"), ("/EFI", "/EFI/x")]
        {
            assert!(!covers(pattern, path), "{pattern} {path}");
        }
    }

    #[test]
    fn mistakes_say_what_would_be_right() {
        for (text, hint) in [
            ("/EFI/x.efi", "names no volume"),
            ("disk:PTR-0071/x", "disk:PTR-0071#1"),
            ("disk:PTR-0071#0/x", "partition number"),
            ("path:PciRoot(0x0)/boot", "partition number"),
            ("lv:tide", "group/name"),
            ("uuid:/x", "needs a value"),
            ("home:x/y", "takes no value"),
            ("uid:1/x", "no kind \"uid:\""),
        ] {
            let error = Place::parse(text).unwrap_err();
            assert!(error.contains(hint), "{text}: {error}");
        }
        assert!(VolumeRef::parse("uuid:1/x").unwrap_err().contains("only a volume"));
    }

    proptest! {
        #[test]
        fn what_is_written_is_read(label in "[^:]{1,12}", path in "(/[a-z ]{1,5}){0,3}", number in 1u32..200) {
            let path = if path.is_empty() { "/".to_string() } else { path };
            for volume in [VolumeRef::Label(label.clone()), VolumeRef::Disk(label.clone(), number)] {
                let place = Place { volume, path: path.clone() };
                prop_assert_eq!(Place::parse(&place.to_string()), Ok(place));
            }
        }

        #[test]
        fn any_text_is_taken(text: String) {
            if let Ok(place) = Place::parse(&text) {
                prop_assert_eq!(Place::parse(&place.to_string()), Ok(place));
            }
        }
    }

    #[test]
    fn a_star_stands_for_anything() {
        for (pattern, text, is_it) in [
            ("TIDE*", "Tide bench", true),
            ("*bench*", "Tide bench PC", true),
            ("tide", "tides", false),
            ("a*b*c", "a-b-b-c", true),
            ("a*bc", "abd", false),
            ("*", "", true),
        ] {
            assert_eq!(fits_in_any_case(pattern, text), is_it, "{pattern} {text}");
        }
    }
}
