//! Rock Ridge: names, modes and links in what ISO 9660 leaves to systems (IEEE P1281 "SUSP", P1282 "RRIP").

use alloc::string::String;

use crate::block::{BlockDevice, read_vec};
use crate::bytes::{le16, le32, len};

/// Areas that a record's own one goes on in.
const MAX_CONTINUATIONS: usize = 16;

/// What the entries of one record say.
#[derive(Default)]
pub(super) struct Extensions {
    pub(super) name: Option<String>,
    pub(super) mode: Option<u16>,
    pub(super) target: Option<String>,
    /// Where a folder was moved that stood too deep, in blocks.
    pub(super) moved_to: Option<u32>,
    /// A moved folder's other record, which is not to be seen.
    pub(super) is_hidden: bool,
    /// A link's last part goes on in the next entry.
    part_goes_on: bool,
}

/// Bytes to leave out in each area, where the first entry of a root folder says that the protocol is spoken.
pub(super) fn skip_of(area: &[u8]) -> Option<usize> {
    (area.starts_with(b"SP") && area.get(4..6) == Some(&[0xbe, 0xef]))
        .then(|| area.get(6).map(|skip| usize::from(*skip)))?
}

impl Extensions {
    /// Reads a record's area and those it goes on in.
    pub(super) fn read(area: &[u8], device: &dyn BlockDevice, block_size: u64) -> Self {
        let mut found = Self::default();
        let mut area = area.to_vec();
        for _ in 0..MAX_CONTINUATIONS {
            match found.take_all(&area) {
                Some((block, offset, length)) => {
                    let at = u64::from(block).saturating_mul(block_size).saturating_add(u64::from(offset));
                    match read_vec(device, at, len(length).min(4096)) {
                        Ok(more) => area = more,
                        Err(_) => break,
                    }
                }
                None => break,
            }
        }
        found
    }

    /// Takes the entries of one area; gives where the next one is: block, offset, length.
    fn take_all(&mut self, area: &[u8]) -> Option<(u32, u32, u32)> {
        let mut rest = area;
        let mut next = None;
        while let Some(length) = rest.get(2).map(|length| usize::from(*length)).filter(|length| *length >= 4)
        {
            let Some(entry) = rest.get(..length) else { break };
            if entry.starts_with(b"CE") {
                next = le32(entry, 4).zip(le32(entry, 12)).zip(le32(entry, 20)).map(|((a, b), c)| (a, b, c));
            } else {
                self.take(entry);
            }
            rest = rest.get(length..).unwrap_or_default();
        }
        next
    }

    fn take(&mut self, entry: &[u8]) {
        match entry.get(..2) {
            Some(b"NM")
                // Flags 2 and 4 stand for the folder itself and the one above.
                if entry.get(4).is_some_and(|flags| flags & 6 == 0) => {
                    let part = String::from_utf8_lossy(entry.get(5..).unwrap_or_default());
                    self.name.get_or_insert_default().push_str(&part);
                }
            Some(b"PX") => self.mode = le16(entry, 4),
            Some(b"SL") => self.take_link(entry.get(5..).unwrap_or_default()),
            Some(b"CL") => self.moved_to = le32(entry, 4),
            Some(b"RE") => self.is_hidden = true,
            _ => {}
        }
    }

    /// The parts of a link's target: flags, length, letters.
    fn take_link(&mut self, parts: &[u8]) {
        let target = self.target.get_or_insert_default();
        let mut rest = parts;
        while let Some((&[flags, length], after)) = rest.split_first_chunk::<2>() {
            let Some((letters, after)) = after.split_at_checked(usize::from(length)) else { break };
            rest = after;
            if !target.is_empty() && !target.ends_with('/') && !self.part_goes_on {
                target.push('/');
            }
            match flags & 0x0e {
                2 => target.push('.'),
                4 => target.push_str(".."),
                8 => *target = String::from("/"),
                _ => target.push_str(&String::from_utf8_lossy(letters)),
            }
            self.part_goes_on = flags & 1 != 0;
        }
    }
}
