//! Load options: what a `Boot####` variable holds (UEFI 2.10, 3.1.3, `EFI_LOAD_OPTION`).

use alloc::vec::Vec;

use uguid::{Guid, guid};

use crate::device_path::{DevicePath, DevicePathFault};
use crate::ucs2::Ucs2;

/// Optional data of load options that the open-source UEFI firmware made by itself, one a device it found.
const MADE_BY_FIRMWARE: Guid = guid!("8108ac4e-9f11-4d59-850e-e21a522c59b2");

bitflags::bitflags! {
    /// `EFI_LOAD_OPTION.Attributes`; unknown bits are kept.
    #[derive(Clone, Copy, Debug, PartialEq, Eq)]
    pub struct LoadOptionAttributes: u32 {
        /// In use: the boot order starts it.
        const ACTIVE = 0x1;
        /// Reconnect all drivers afterwards (driver options).
        const FORCE_RECONNECT = 0x2;
        /// Not listed in the firmware's own menu.
        const HIDDEN = 0x8;
        /// `LOAD_OPTION_CATEGORY`, a number of five bits: 0 is a part of normal starting.
        const CATEGORY = 0x1f00;
        /// An application: the boot order skips it.
        const CATEGORY_APP = 0x100;
        const _ = !0;
    }
}

/// A load option, decoded; writing it gives the bytes that were read.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LoadOption {
    /// Its attributes.
    pub attributes: LoadOptionAttributes,
    /// What the firmware's own menu calls it.
    pub description: Ucs2,
    /// What it starts.
    pub path: DevicePath,
    /// What follows the first device path in `FilePathList`, as found.
    pub further_paths: Vec<u8>,
    /// Handed to what is started.
    pub optional_data: Vec<u8>,
}

/// Why bytes are not load option; offsets in bytes from its start.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum LoadOptionFault {
    /// Shorter than attributes and path length.
    #[error("cut off after {0} bytes, at least 6 are needed")]
    Short(usize),
    /// No NUL ends the description.
    #[error("the description from offset 6 has no end")]
    DescriptionUnending,
    /// The path list reaches past the end.
    #[error("the device path from offset {offset} claims {claimed} bytes, {left} are there")]
    PathPastEnd {
        /// Where the path list starts.
        offset: usize,
        /// `FilePathListLength`.
        claimed: usize,
        /// Bytes left in the variable.
        left: usize,
    },
    /// The device path itself is broken.
    #[error("device path from offset {offset}: {fault}")]
    Path {
        /// Where the path list starts.
        offset: usize,
        /// What is wrong with it.
        fault: DevicePathFault,
    },
}

impl LoadOption {
    /// An option in use with this label, path and data.
    pub fn new(description: &str, path: DevicePath, optional_data: Vec<u8>) -> Self {
        Self {
            attributes: LoadOptionAttributes::ACTIVE,
            description: description.into(),
            path,
            further_paths: Vec::new(),
            optional_data,
        }
    }

    /// Whether it is of the category that the boot order starts (UEFI 2.10, 3.1.3): any other number is skipped.
    pub fn is_for_booting(&self) -> bool {
        !self.attributes.intersects(LoadOptionAttributes::CATEGORY)
    }

    /// Decodes the data of a `Boot####` variable.
    ///
    /// # Errors
    /// Where the bytes are cut off or a length in them cannot be true.
    pub fn decode(bytes: &[u8]) -> Result<Self, LoadOptionFault> {
        let short = || LoadOptionFault::Short(bytes.len());
        let (attributes, rest) = bytes.split_first_chunk::<4>().ok_or_else(short)?;
        let (path_length, rest) = rest.split_first_chunk::<2>().ok_or_else(short)?;
        let claimed = usize::from(u16::from_le_bytes(*path_length));
        let (description, used) =
            Ucs2::decode_terminated(rest).ok_or(LoadOptionFault::DescriptionUnending)?;
        let offset = used.saturating_add(6);
        let rest = rest.get(used..).unwrap_or_default();
        let (list, data) = rest.split_at_checked(claimed).ok_or(LoadOptionFault::PathPastEnd {
            offset,
            claimed,
            left: rest.len(),
        })?;
        let (path, further) =
            DevicePath::decode(list).map_err(|fault| LoadOptionFault::Path { offset, fault })?;
        Ok(Self {
            attributes: LoadOptionAttributes::from_bits_retain(u32::from_le_bytes(*attributes)),
            description,
            path,
            further_paths: Vec::from(further),
            optional_data: Vec::from(data),
        })
    }

    /// The bytes of the variable. A path list over 65535 bytes, which no firmware takes, is cut.
    pub fn encode(&self) -> Vec<u8> {
        let mut list = self.path.encode();
        list.extend(&self.further_paths);
        list.truncate(usize::from(u16::MAX));
        let length = u16::try_from(list.len()).unwrap_or(u16::MAX);
        let mut bytes = Vec::from(self.attributes.bits().to_le_bytes());
        bytes.extend(length.to_le_bytes());
        bytes.extend(self.description.to_bytes_terminated());
        bytes.extend(list);
        bytes.extend(&self.optional_data);
        bytes
    }

    /// Whether the boot order starts it.
    pub fn is_active(&self) -> bool {
        self.attributes.contains(LoadOptionAttributes::ACTIVE)
    }

    /// Whether the firmware made it by itself, for a device that it found.
    pub fn is_made_by_firmware(&self) -> bool {
        self.optional_data == MADE_BY_FIRMWARE.to_bytes()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::device_path::Node;
    use alloc::vec;
    use proptest::prelude::*;

    fn sample() -> LoadOption {
        let path = DevicePath::new(vec![Node::file_path("\\EFI\\larkspur\\start.efi")]);
        LoadOption::new("Larkspur", path, vec![1, 2, 3])
    }

    #[test]
    fn what_is_written_is_read() {
        assert_eq!(LoadOption::decode(&sample().encode()), Ok(sample()));
    }

    #[test]
    fn each_broken_part_is_named() {
        let good = sample().encode();
        assert_eq!(LoadOption::decode(&good[..5]), Err(LoadOptionFault::Short(5)));
        assert_eq!(LoadOption::decode(&good[..12]), Err(LoadOptionFault::DescriptionUnending));
        let cut = LoadOption::decode(&good[..30]);
        assert!(matches!(cut, Err(LoadOptionFault::PathPastEnd { offset: 24, left: 6, .. })), "{cut:?}");
        let mut zero_node = good;
        zero_node[26..28].fill(0);
        let fault = DevicePathFault::NodeLength { offset: 0, length: 0, left: 56 };
        assert_eq!(LoadOption::decode(&zero_node), Err(LoadOptionFault::Path { offset: 24, fault }));
    }

    #[test]
    fn options_of_the_firmware_are_known_by_their_data() {
        let mut option = sample();
        assert!(!option.is_made_by_firmware());
        option.optional_data = vec![
            0x4e, 0xac, 0x08, 0x81, 0x11, 0x9f, 0x59, 0x4d, 0x85, 0x0e, 0xe2, 0x1a, 0x52, 0x2c, 0x59, 0xb2,
        ];
        assert!(option.is_made_by_firmware());
    }

    proptest! {
        #[test]
        fn random_bytes_never_panic_and_round_trip(bytes in prop::collection::vec(any::<u8>(), 0..200)) {
            if let Ok(option) = LoadOption::decode(&bytes) {
                prop_assert_eq!(option.encode(), bytes);
            }
        }

        #[test]
        fn spoiled_options_never_panic_and_round_trip(at in 0usize..80, value: u8) {
            let mut bytes = sample().encode();
            let at = at % bytes.len();
            bytes[at] = value;
            if let Ok(option) = LoadOption::decode(&bytes) {
                prop_assert_eq!(option.encode(), bytes);
            }
        }
    }
}
