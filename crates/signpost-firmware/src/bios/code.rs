//! Whose code a sector is, as far as its bytes tell.

use alloc::vec::Vec;

use super::{CODE_LEN, SECTOR, area, is_marked, plain};

/// The code in a disk's first sector.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[cfg_attr(feature = "serde", derive(serde::Serialize, serde::Deserialize))]
#[cfg_attr(feature = "serde", serde(rename_all = "kebab-case"))]
pub enum FirstCode {
    /// The sector lacks the mark 55AA: firmware does not start the disk.
    Unmarked,
    /// Zeros.
    Empty,
    /// Code that runs in a circle at once, and so hangs.
    Loops,
    /// Code that goes back to the firmware at once, which then starts nothing from a disk.
    Returns,
    /// Our own plain code, which starts the active partition.
    OurPlain,
    /// Our own, which starts the menu where a copy of the boot program counts, and else the active partition.
    OurMenu,
    /// Plain code of another's, which starts the active partition.
    Plain,
    /// A volume's boot sector: the disk has no table, and is a volume as a whole.
    Volume,
    /// Something else, such as another boot manager.
    Other,
}

impl FirstCode {
    /// Whether it starts nothing, whatever else is on the disk.
    pub fn starts_nothing(self) -> bool {
        matches!(self, Self::Unmarked | Self::Empty | Self::Loops | Self::Returns)
    }

    /// Whether it starts the active partition; ours that starts the menu does so where there is none.
    pub fn leads_on(self) -> bool {
        matches!(self, Self::OurPlain | Self::Plain | Self::OurMenu)
    }
}

/// The code in a partition's boot sector.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[cfg_attr(feature = "serde", derive(serde::Serialize, serde::Deserialize))]
#[cfg_attr(feature = "serde", serde(rename_all = "kebab-case"))]
pub enum SectorCode {
    /// The sector lacks the mark 55AA: plain code does not start it.
    Unmarked,
    /// The mark, and no code.
    Empty,
    /// Code that runs in a circle at once, and so hangs.
    Loops,
    /// Code that goes back to the firmware at once.
    Returns,
    /// Code that only says that the volume starts nothing, as file system tools write it.
    SaysNothing,
    /// Code that starts something.
    Starts,
}

impl SectorCode {
    /// What it is, in words.
    pub fn words(self) -> &'static str {
        match self {
            Self::Unmarked => "no boot sector",
            Self::Empty => "no code",
            Self::Loops => "code that only runs in a circle",
            Self::Returns => "code that only goes back to the firmware",
            Self::SaysNothing => "code that only says that nothing starts",
            Self::Starts => "code that starts something",
        }
    }
}

/// What plain code says where it can start nothing; all of it has such a text, and little else does. In lower case.
const PLAIN: [&str; 6] = [
    "invalid partition table",
    "missing operating system",
    "error loading operating system",
    "no active partition",
    "no bootable partition",
    "no partition of this disk is active",
];

/// What a boot sector says that is none. In lower case.
const NOTHING: [&str; 4] =
    ["not a bootable disk", "non-system disk", "this is not a bootable", "insert a bootable floppy"];

/// What a disk's first sector is.
pub fn of_first(sector: &[u8; SECTOR]) -> FirstCode {
    let code = sector.get(..CODE_LEN).unwrap_or_default();
    let own = code.get(..plain::CODE.len()) == Some(&plain::CODE[..]);
    match () {
        () if !is_marked(sector) => FirstCode::Unmarked,
        () if code.iter().all(|byte| *byte == 0) => FirstCode::Empty,
        () if does(code) == Some(Does::Loop) => FirstCode::Loops,
        () if does(code) == Some(Does::Return) => FirstCode::Returns,
        () if own => FirstCode::OurPlain,
        () if area::is_first(sector) => FirstCode::OurMenu,
        () if says(code, &PLAIN) => FirstCode::Plain,
        () if has_parameters(sector) => FirstCode::Volume,
        () => FirstCode::Other,
    }
}

/// What a partition's boot sector is.
pub fn of_partition(sector: &[u8; SECTOR]) -> SectorCode {
    // Of a volume with parameters the code stands behind them.
    let code =
        if has_parameters(sector) { sector.get(90..510) } else { sector.get(..510) }.unwrap_or_default();
    match () {
        () if !is_marked(sector) => SectorCode::Unmarked,
        () if code.iter().all(|byte| *byte == 0) => SectorCode::Empty,
        () if does(sector) == Some(Does::Loop) => SectorCode::Loops,
        () if does(sector) == Some(Does::Return) => SectorCode::Returns,
        () if says(code, &NOTHING) => SectorCode::SaysNothing,
        () => SectorCode::Starts,
    }
}

/// What code does at once, where its first instructions say it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Does {
    Loop,
    Return,
}

/// Follows code over instructions that only wait, and over jumps: one back to where it was is a circle, the interrupt 18h goes back.
fn does(code: &[u8]) -> Option<Does> {
    const WAITING: [u8; 5] = [0x90, 0xf4, 0xfa, 0xfb, 0xfc];
    /// More instructions than that do something.
    const MOST: usize = 64;
    let mut passed: Vec<usize> = Vec::new();
    let mut at = 0usize;
    while passed.len() < MOST {
        if passed.contains(&at) {
            return Some(Does::Loop);
        }
        passed.push(at);
        let byte = |behind: usize| code.get(at.checked_add(behind)?).copied();
        let (length, jump) = match byte(0)? {
            0xcd if byte(1)? == 0x18 => return Some(Does::Return),
            0xeb => (2, isize::from(i8::from_le_bytes([byte(1)?]))),
            0xe9 => (3, isize::from(i16::from_le_bytes([byte(1)?, byte(2)?]))),
            waits if WAITING.contains(&waits) => (1, 0),
            _ => return None,
        };
        at = at.checked_add(length)?.checked_add_signed(jump)?;
    }
    None
}

/// Whether a sector begins as one with a volume's parameters: a jump over them, and sectors of a size that there is.
pub fn has_parameters(sector: &[u8; SECTOR]) -> bool {
    let jumps = matches!((sector[0], sector[2]), (0xeb, 0x90) | (0xe9, _));
    let size = u16::from_le_bytes([sector[11], sector[12]]);
    jumps && size.is_power_of_two() && (512..=4096).contains(&size)
}

/// Whether code has one of these texts, in whatever case.
fn says(code: &[u8], texts: &[&str]) -> bool {
    let lower: Vec<u8> = code.iter().map(u8::to_ascii_lowercase).collect();
    texts.iter().any(|text| lower.windows(text.len()).any(|part| part == text.as_bytes()))
}

#[cfg(test)]
mod tests {
    use super::super::with_code;
    use super::*;

    #[test]
    fn code_is_known_by_what_it_says() {
        let first = |code: &[u8]| of_first(&with_code(&[0; SECTOR], code));
        assert_eq!(of_first(&[0; SECTOR]), FirstCode::Unmarked);
        assert_eq!(first(&[]), FirstCode::Empty);
        assert_eq!(first(&plain::CODE), FirstCode::OurPlain);
        assert_eq!(first(b"\x33\xc0 Invalid Partition Table"), FirstCode::Plain);
        assert_eq!(first(b"\x33\xc0 something else"), FirstCode::Other);
        for circle in [&b"\xeb\xfe"[..], b"\xfa\xf4\xeb\xfd", b"\x90\xeb\xfd"] {
            assert_eq!(first(circle), FirstCode::Loops, "{circle:x?}");
        }
        assert_eq!(first(b"\xeb\x10"), FirstCode::Other, "a jump ahead");
        assert_eq!(first(b"\xeb\x80"), FirstCode::Other, "a jump out of the sector");
        assert_eq!(first(b"\xfb\xcd\x18"), FirstCode::Returns);
        let partition = |code: &[u8]| of_partition(&with_code(&[0; SECTOR], code));
        assert_eq!(partition(&[]), SectorCode::Empty);
        assert_eq!(partition(b"\xfa\xfc"), SectorCode::Starts);
        let mut fat = [0; SECTOR];
        fat[..3].copy_from_slice(&[0xeb, 0x58, 0x90]);
        fat[12] = 2;
        assert_eq!(of_partition(&with_code(&fat, &fat[..440])), SectorCode::Empty, "parameters are no code");
        fat[90..92].copy_from_slice(&[0xeb, 0xfe]);
        assert_eq!(of_partition(&with_code(&fat, &fat[..440])), SectorCode::Loops, "behind the jump");
        fat[90..92].fill(0);
        fat[100..127].copy_from_slice(b"This is not a bootable disk");
        assert_eq!(of_partition(&with_code(&fat, &fat[..440])), SectorCode::SaysNothing);
    }
}
