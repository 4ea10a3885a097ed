//! What is remembered from start to start where the firmware keeps no variables: a sector that desk and boot program read and write.
//! There are two of them, written in turn, so that a cut leaves the older one.

use alloc::string::{String, ToString};
use alloc::vec::Vec;

use crc::{CRC_32_ISO_HDLC, Crc, Table};

use crate::ours;

/// Bytes of a state: a sector.
pub const STATE_SIZE: usize = 512;
const MARKER: &[u8; 4] = b"SPST";
/// Bytes before the texts: marker, serial, checksum of all that follows it.
const HEAD: usize = 12;
/// Ends a text.
const END: u8 = b'\n';

/// What is remembered.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct State {
    /// Counts up with each writing; the newer of two whole ones counts.
    pub serial: u32,
    /// Texts, by the names of [`ours`].
    texts: Vec<(String, String)>,
}

impl State {
    /// A text.
    pub fn text(&self, name: &str) -> Option<&str> {
        self.texts.iter().find(|(known, _)| known == name).map(|(_, text)| text.as_str())
    }

    /// The state that follows, with another text under this name, or without one; nothing where it has that text already.
    #[must_use]
    pub fn with(&self, name: &str, text: Option<&str>) -> Option<Self> {
        if self.text(name) == text {
            return None;
        }
        let mut texts: Vec<(String, String)> =
            self.texts.iter().filter(|(known, _)| known != name).cloned().collect();
        if let Some(text) = text {
            let line: String = text.chars().map(|c| if c.is_control() { ' ' } else { c }).collect();
            texts.push((name.to_string(), line));
        }
        Some(Self { serial: self.serial.wrapping_add(1), texts })
    }

    /// Its sector. Where it is too much for one, the log is cut first; nothing where it is too much without it.
    pub fn encode(&self) -> Option<[u8; STATE_SIZE]> {
        let mut sector = [0; STATE_SIZE];
        sector.get_mut(..4)?.copy_from_slice(MARKER);
        sector.get_mut(4..8)?.copy_from_slice(&self.serial.to_le_bytes());
        let mut at = HEAD;
        let (log, others): (Vec<_>, Vec<_>) = self.texts.iter().partition(|(name, _)| name == ours::LOG);
        for (name, text) in others.into_iter().chain(log) {
            let line = [name.as_bytes(), b"=", text.as_bytes()].concat();
            // One byte for its end, one for the end of all.
            let room = STATE_SIZE.checked_sub(at)?.checked_sub(2)?;
            let mut length = line.len().min(room);
            if length < line.len() && name != ours::LOG {
                return None;
            }
            // A character is not cut in two.
            while length > 0 && line.get(length).is_some_and(|byte| byte & 0xc0 == 0x80) {
                length = length.saturating_sub(1);
            }
            let end = at.checked_add(length)?;
            sector.get_mut(at..end)?.copy_from_slice(line.get(..length)?);
            *sector.get_mut(end)? = END;
            at = end.checked_add(1)?;
        }
        let checksum = checksum(&sector);
        sector.get_mut(8..HEAD)?.copy_from_slice(&checksum.to_le_bytes());
        Some(sector)
    }

    /// Reads a sector; nothing where it is none, or hurt.
    pub fn decode(sector: &[u8]) -> Option<Self> {
        let sector = sector.get(..STATE_SIZE)?;
        let number = |at: usize| Some(u32::from_le_bytes(sector.get(at..)?.first_chunk().copied()?));
        if sector.get(..4)? != MARKER || number(8)? != checksum(sector) {
            return None;
        }
        let texts = core::str::from_utf8(sector.get(HEAD..)?).ok()?.trim_end_matches('\0');
        let texts = texts.lines().filter_map(|line| line.split_once('='));
        let texts = texts.map(|(name, text)| (name.to_string(), text.to_string()));
        Some(Self { serial: number(4)?, texts: texts.collect() })
    }
}

/// The newer of two states, and its index; an empty one, and the second's, where neither is whole. The other is written next.
pub fn newest(sectors: [&[u8]; 2]) -> (usize, State) {
    let [first, second] = sectors.map(State::decode);
    match (first, second) {
        // Serials count around.
        (Some(first), Some(second)) if second.serial.wrapping_sub(first.serial) > u32::MAX / 2 => (0, first),
        (Some(first), None) => (0, first),
        (_, Some(second)) => (1, second),
        (None, None) => (1, State::default()),
    }
}

fn checksum(sector: &[u8]) -> u32 {
    let crc = Crc::<u32, Table<1>>::new(&CRC_32_ISO_HDLC);
    let mut digest = crc.digest();
    digest.update(sector.get(..8).unwrap_or_default());
    digest.update(sector.get(HEAD..).unwrap_or_default());
    digest.finalize()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn the_newer_whole_one_counts() {
        let first = State::default().with(ours::LAST, Some("larkspur")).unwrap();
        let second = first.with(ours::ONCE, Some("meridian")).unwrap();
        let [one, two] = [&first, &second].map(|state| state.encode().unwrap());
        assert_eq!(newest([&one, &two]), (1, second.clone()));
        assert_eq!(newest([&two, &one]), (0, second.clone()));
        let mut hurt = two;
        hurt[20] ^= 1;
        assert_eq!(newest([&one, &hurt]), (0, first.clone()));
        assert_eq!(newest([&hurt, &hurt]), (1, State::default()));
        assert_eq!(first.with(ours::LAST, Some("larkspur")), None, "nothing to write");
        let last = State { serial: u32::MAX, ..first };
        let around = last.with(ours::ONCE, None).or_else(|| last.with(ours::LAST, None)).unwrap();
        let [one, two] = [&last, &around].map(|state| state.encode().unwrap());
        assert_eq!(newest([&one, &two]).0, 1, "serials count around");
    }

    proptest! {
        #[test]
        fn what_is_remembered_comes_back(id in "[a-z0-9-]{1,60}", log in "\\PC{0,600}") {
            let state = State::default().with(ours::KEPT, Some(&id)).unwrap();
            let state = state.with(ours::LOG, Some(&log)).unwrap();
            let back = State::decode(&state.encode().unwrap()).unwrap();
            prop_assert_eq!(back.text(ours::KEPT), Some(&id[..]));
            prop_assert!(log.starts_with(back.text(ours::LOG).unwrap_or_default()));
        }

        #[test]
        fn any_sector_is_read_without_harm(bytes in prop::collection::vec(any::<u8>(), 0..600)) {
            let mut marked = MARKER.to_vec();
            marked.extend(bytes);
            prop_assert_eq!(State::decode(&marked), None);
        }
    }
}
