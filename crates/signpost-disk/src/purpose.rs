//! What partitions are for.

use alloc::borrow::Cow;
use alloc::format;
use alloc::string::{String, ToString};

use uguid::Guid;

use crate::mbr::MbrType;
use crate::{disklabel, partition_type};

/// Stands before the number of a BSD label's type.
const OF_LABEL: &str = "bsd-";

/// What a partition is for, in its table's own words.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Purpose {
    /// By a type GUID.
    Gpt(Guid),
    /// By a type byte.
    Mbr(MbrType),
    /// By the type byte of a BSD label.
    Label(u8),
}

impl Purpose {
    /// Whether it is an ESP.
    pub fn is_esp(self) -> bool {
        matches!(self, Self::Gpt(partition_type::EFI_SYSTEM) | Self::Mbr(MbrType::EFI_SYSTEM))
    }

    /// Whether it is an extended boot partition.
    pub fn is_extended_boot(self) -> bool {
        matches!(self, Self::Gpt(partition_type::EXTENDED_BOOT) | Self::Mbr(MbrType::EXTENDED_BOOT))
    }

    /// Whether it is an extended partition, in which logical ones lie.
    pub fn is_extended(self) -> bool {
        matches!(self, Self::Mbr(kind) if kind.is_extended())
    }

    /// In a few words; the type itself where it is not known.
    pub fn name(self) -> Cow<'static, str> {
        let known = match self {
            Self::Gpt(guid) => partition_type::name(guid).ok_or_else(|| guid.to_string()),
            Self::Mbr(kind) => kind.name().ok_or_else(|| format!("type {:02x}", kind.0)),
            Self::Label(kind) => disklabel::kind_name(kind).ok_or_else(|| format!("BSD type {kind}")),
        };
        known.map_or_else(Cow::Owned, Cow::Borrowed)
    }

    /// The type as it is written down: a GUID, two hexadecimal digits, or a BSD label's number.
    pub fn type_text(self) -> String {
        match self {
            Self::Gpt(guid) => guid.to_string(),
            Self::Mbr(kind) => format!("{:02x}", kind.0),
            Self::Label(kind) => format!("{OF_LABEL}{kind}"),
        }
    }

    /// The purpose whose type is written so; `None` where it is none.
    pub fn of_type_text(text: &str) -> Option<Self> {
        if let Some(kind) = text.strip_prefix(OF_LABEL) {
            return kind.parse().ok().map(Self::Label);
        }
        if text.len() == 2 {
            return u8::from_str_radix(text, 16).ok().map(|kind| Self::Mbr(MbrType(kind)));
        }
        Guid::try_parse(text).ok().map(Self::Gpt)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_purpose_is_read_back_from_its_type() {
        for purpose in [
            Purpose::Gpt(partition_type::EFI_SYSTEM),
            Purpose::Mbr(MbrType::EFI_SYSTEM),
            Purpose::Mbr(MbrType(5)),
            Purpose::Label(7),
        ] {
            assert_eq!(Purpose::of_type_text(&purpose.type_text()), Some(purpose), "{}", purpose.type_text());
        }
        assert_eq!(Purpose::of_type_text("Linux root"), None);
    }

    #[test]
    fn an_extended_boot_partition_is_no_extended_one() {
        assert!(!Purpose::Mbr(MbrType::EXTENDED_BOOT).is_extended());
        assert!([0x05, 0x0f, 0x85].into_iter().all(|kind| Purpose::Mbr(MbrType(kind)).is_extended()));
    }
}
