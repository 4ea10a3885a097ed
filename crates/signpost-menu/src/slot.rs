//! The active menu: two slots of fixed size on the home volume, overwritten in turn, so that at every cut
//! only one of them is hurt.
//!
//! A slot's first line carries serial, length, checksum, writer and the machine that put it there; the menu
//! file's text follows, then line ends up to the slot's size.

use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec::Vec;

use crate::disk_number::DiskNumbers;
use crate::picture_place::PicturePlace;
use crc::{CRC_32_ISO_HDLC, Crc, Table};

/// Bytes of a slot's first line, at most.
const MAX_HEAD: usize = 8192;
/// Bytes of a slot.
pub const SLOT_SIZE: usize = 64 * 1024;
/// Their names in the folder of the boot program, short ones that any FAT keeps as they are.
pub const SLOT_NAMES: [&str; 2] = ["MENU-A.TML", "MENU-B.TML"];
/// What they are called where they are sectors.
pub const SECTOR_SLOT_NAMES: [&str; 2] = ["slot A", "slot B"];
/// Folder on the home volume that holds boot program and slots.
pub const HOME_FOLDER: &str = "/EFI/signpost";
const MARK: &str = "# signpost menu slot,";
const FORMAT: u32 = 1;

/// Who wrote a slot.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Writer {
    /// The command line.
    Desk,
    /// The boot program.
    Boot,
}

impl Writer {
    fn word(self) -> &'static str {
        match self {
            Self::Desk => "desk",
            Self::Boot => "boot",
        }
    }
}

/// A whole slot.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Slot {
    /// Counts up with each writing; the newest whole slot counts.
    pub serial: u64,
    /// Who wrote it.
    pub writer: Writer,
    /// Machine-id of the system that put it there; empty where it has none.
    pub machine: String,
    /// The numbers of that machine's disks, by the identities of their tables.
    pub disks: DiskNumbers,
    /// Names of the homes that the menu was put on, where there are several.
    pub homes: Vec<String>,
    /// Where the picture behind the menu lies, where that is not the home volume.
    pub picture: Option<PicturePlace>,
    /// The menu file's text.
    pub text: String,
}

/// The slots of a home.
pub type Slots = [Result<Slot, SlotFault>; 2];

/// Why a slot is not whole.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum SlotFault {
    /// Never written.
    #[error("it is empty")]
    Empty,
    /// Its first line is none of ours, or lacks a field.
    #[error("its first line is not that of a slot")]
    Header,
    /// It was written by a newer version.
    #[error("its format is {0}; format {FORMAT} is read")]
    Format(u32),
    /// It ends before its text does.
    #[error("it is cut off: its text has {claimed} bytes, {there} are there")]
    Short {
        /// Bytes it should have.
        claimed: usize,
        /// Bytes that are there.
        there: usize,
    },
    /// What is there is not what was written.
    #[error("it was altered: its checksum is {computed:08x}, its first line says {stored:08x}")]
    Checksum {
        /// Over what is there.
        computed: u32,
        /// What should be.
        stored: u32,
    },
    /// The text is not UTF-8.
    #[error("its text is not UTF-8")]
    Text,
}

impl SlotFault {
    /// Whether something was hurt: one that was never written, and one that a newer version wrote, are whole.
    pub fn is_damage(&self) -> bool {
        !matches!(self, Self::Empty | Self::Format(_))
    }
}

impl Slot {
    /// The slot's bytes, [`SLOT_SIZE`] of them; `None` where the text is too long.
    pub fn encode(&self) -> Option<Vec<u8>> {
        let head = self.head();
        let checksum = checksum(&head, self.text.as_bytes());
        let mut bytes = format!("{head} checksum={checksum:08x}\n").into_bytes();
        bytes.extend(self.text.as_bytes());
        if bytes.len() > SLOT_SIZE {
            return None;
        }
        bytes.resize(SLOT_SIZE, b'\n');
        Some(bytes)
    }

    /// The first line but for its checksum.
    fn head(&self) -> String {
        let Self { serial, writer, machine, disks, homes, picture, text } = self;
        // One home needs no name: the slot stands there.
        let homes = if homes.is_empty() { String::new() } else { format!(" homes={}", homes.join(",")) };
        let picture = picture.as_ref().and_then(PicturePlace::text);
        let picture = picture.map(|picture| format!(" picture={picture}")).unwrap_or_default();
        let machine = if machine.is_empty() { "-" } else { machine };
        format!(
            "{MARK} format={FORMAT} serial={serial} writer={} machine={machine} disks={}{homes}{picture} length={}",
            writer.word(),
            disks.text(),
            text.len()
        )
    }

    /// Where what is in a slot ends, in bytes; nothing where it is none.
    pub fn end(bytes: &[u8]) -> Option<usize> {
        let slot = Self::decode(bytes).ok()?;
        bytes.iter().position(|byte| *byte == b'\n')?.checked_add(1)?.checked_add(slot.text.len())
    }

    /// Reads a slot.
    ///
    /// # Errors
    /// Why it is not whole.
    pub fn decode(bytes: &[u8]) -> Result<Self, SlotFault> {
        if is_blank(bytes) {
            return Err(SlotFault::Empty);
        }
        let end = bytes.iter().take(MAX_HEAD).position(|byte| *byte == b'\n').ok_or(SlotFault::Header)?;
        let (line, rest) = bytes.split_at_checked(end).ok_or(SlotFault::Header)?;
        let line = core::str::from_utf8(line).map_err(|_| SlotFault::Header)?;
        let fields = line.strip_prefix(MARK).ok_or(SlotFault::Header)?;
        let field = |name: &str| {
            let mut words = fields.split_whitespace().filter_map(|word| word.split_once('='));
            words.find(|(key, _)| *key == name).map(|(_, value)| value).ok_or(SlotFault::Header)
        };
        let format: u32 = field("format")?.parse().map_err(|_| SlotFault::Header)?;
        if format != FORMAT {
            return Err(SlotFault::Format(format));
        }
        let claimed: usize = field("length")?.parse().map_err(|_| SlotFault::Header)?;
        let stored_text = field("checksum")?;
        let stored = u32::from_str_radix(stored_text, 16).map_err(|_| SlotFault::Header)?;
        // A number can be written in several ways; a slot has one of them.
        if stored_text != format!("{stored:08x}") {
            return Err(SlotFault::Header);
        }
        let body = rest.get(1..).unwrap_or_default();
        let text = body.get(..claimed).ok_or(SlotFault::Short { claimed, there: body.len() })?;
        let (head, _) = line.rsplit_once(" checksum=").ok_or(SlotFault::Header)?;
        let computed = checksum(head, text);
        if computed != stored {
            return Err(SlotFault::Checksum { computed, stored });
        }
        let writer =
            [Writer::Desk, Writer::Boot].into_iter().find(|writer| Ok(writer.word()) == field("writer"));
        Ok(Self {
            serial: field("serial")?.parse().map_err(|_| SlotFault::Header)?,
            writer: writer.ok_or(SlotFault::Header)?,
            machine: field("machine")?.trim_matches('-').to_string(),
            disks: DiskNumbers::from_text(field("disks")?),
            homes: field("homes").map_or_else(|_| Vec::new(), homes),
            picture: field("picture").ok().and_then(PicturePlace::parse),
            text: core::str::from_utf8(text).map_err(|_| SlotFault::Text)?.to_string(),
        })
    }
}

/// Whether nothing was ever written there.
fn is_blank(bytes: &[u8]) -> bool {
    let is_filler = |byte: &u8| matches!(byte, 0 | 0xff | b'\n');
    let (Some((first, rest)), Some((_, but_last))) = (bytes.split_first(), bytes.split_last()) else {
        return true;
    };
    // All alike is what is met, and comparing is much sooner done than looking at each byte.
    is_filler(first) && (rest == but_last || rest.iter().all(is_filler))
}

fn homes(text: &str) -> Vec<String> {
    text.split(',').filter(|name| !name.is_empty()).map(ToString::to_string).collect()
}

fn checksum(head: &str, text: &[u8]) -> u32 {
    // Without a table: a boot program has little room, and slots are short.
    static CRC_32: Crc<u32, Table<0>> = Crc::<u32, Table<0>>::new(&CRC_32_ISO_HDLC);
    let mut digest = CRC_32.digest();
    digest.update(head.as_bytes());
    digest.update(b"\n");
    digest.update(text);
    digest.finalize()
}

/// The newest whole slot of those read: its index and contents. One that could not be read counts as empty.
pub fn newest(slots: &[Result<Slot, SlotFault>]) -> Option<(usize, &Slot)> {
    let whole = slots.iter().enumerate().filter_map(|(index, slot)| Some((index, slot.as_ref().ok()?)));
    whole.max_by_key(|(_, slot)| slot.serial)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::picture_place::PICTURE_PATH_AT_ROOT;

    fn slot(serial: u64) -> Slot {
        Slot {
            serial,
            writer: Writer::Desk,
            machine: "4be0a7f2".into(),
            disks: DiskNumbers::from_text("1:0a-1,3:b"),
            homes: Vec::new(),
            picture: None,
            text: "format = 1\n".into(),
        }
    }

    #[test]
    fn every_hurt_is_told_apart() {
        let good = slot(7).encode().unwrap();
        assert_eq!(Slot::decode(&good), Ok(slot(7)));
        assert_eq!(Slot::decode(&[]), Err(SlotFault::Empty));
        assert_eq!(Slot::decode(&[0; 900]), Err(SlotFault::Empty));
        assert_eq!(Slot::decode(b"format = 1\n"), Err(SlotFault::Header));
        let end = good.iter().position(|byte| *byte == b'\n').unwrap();
        assert_eq!(Slot::decode(&good[..end + 5]), Err(SlotFault::Short { claimed: 11, there: 4 }));
        let mut altered = good.clone();
        altered[end + 10] = b'2';
        assert!(matches!(Slot::decode(&altered), Err(SlotFault::Checksum { .. })));
        let newer = String::from_utf8(good).unwrap().replacen("format=1", "format=9", 1);
        assert_eq!(Slot::decode(newer.as_bytes()), Err(SlotFault::Format(9)));
    }

    #[test]
    fn the_newest_whole_slot_counts() {
        assert_eq!(newest(&[Ok(slot(3)), Ok(slot(4))]).unwrap().0, 1);
        assert_eq!(newest(&[Ok(slot(5)), Ok(slot(4))]).unwrap().0, 0);
        assert_eq!(newest(&[Err(SlotFault::Header), Ok(slot(4))]).unwrap().0, 1);
        assert_eq!(newest(&[Err(SlotFault::Empty), Err(SlotFault::Header)]), None);
    }

    #[test]
    fn a_text_that_does_not_fit_is_no_slot() {
        let long = Slot { text: "#".repeat(SLOT_SIZE), ..slot(1) };
        assert_eq!(long.encode(), None);
    }

    #[test]
    fn any_altered_byte_is_noticed() {
        let good = slot(7).encode().unwrap();
        let end = good.iter().position(|byte| *byte == b'\n').unwrap() + 1 + slot(7).text.len();
        let mut bytes = good.clone();
        for at in 0..end + 2 {
            for value in 0..=u8::MAX {
                bytes[at] = value;
                let is_as_written = value == good[at] || at >= end;
                assert_eq!(Slot::decode(&bytes).is_ok(), is_as_written, "{value:#04x} at {at}");
            }
            bytes[at] = good[at];
        }
    }

    proptest! {
        #[test]
        fn what_is_written_is_read(
            serial: u64,
            machine in "[0-9a-f]{0,32}",
            homes in proptest::collection::vec("[0-9a-f-]{1,40}", 0..4),
            volume in proptest::option::of("[!-~]{1,40}"),
            text in "\\PC{0,200}",
        ) {
            let picture = volume.map(|volume| PicturePlace { path: PICTURE_PATH_AT_ROOT.into(), volume });
            let disks = DiskNumbers::default();
            let slot = Slot { serial, writer: Writer::Boot, machine, disks, homes, picture, text };
            let bytes = slot.encode().unwrap();
            prop_assert_eq!(bytes.len(), SLOT_SIZE);
            prop_assert_eq!(Slot::decode(&bytes), Ok(slot));
        }

        #[test]
        fn random_bytes_never_panic(bytes: Vec<u8>) {
            prop_assert!(Slot::decode(&bytes).is_err());
        }
    }
}
