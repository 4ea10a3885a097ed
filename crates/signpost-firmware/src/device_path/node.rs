//! The nodes of a device path, and the decoded view of those that load options use.

use alloc::vec::Vec;
use core::fmt;

use uguid::Guid;

use crate::bytes::{array_at, u16_at, u32_at, u64_at};
use crate::ucs2::Ucs2;

/// One node: type, sub-type and data as found.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Node {
    /// `Type`.
    pub kind: u8,
    /// `Sub-Type`.
    pub sub_kind: u8,
    /// What follows the four header bytes.
    pub data: Vec<u8>,
}

/// A node, decoded (UEFI 2.10, 10.3.2 to 10.3.6).
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum View {
    /// PCI: function and device.
    Pci {
        /// Device number on its bus.
        device: u8,
        /// Function.
        function: u8,
    },
    /// An ACPI device; PCI root bridges are of this kind.
    Acpi {
        /// `_HID`, compressed.
        hid: u32,
        /// `_UID`.
        uid: u32,
    },
    /// ATA: the second channel, the second device on it, the logical unit.
    Ata {
        /// Second channel.
        secondary: bool,
        /// Second device.
        slave: bool,
        /// Logical unit.
        lun: u16,
    },
    /// SCSI target and unit.
    Scsi {
        /// Target.
        target: u16,
        /// Logical unit.
        lun: u16,
    },
    /// USB port and interface.
    Usb {
        /// Port on its parent.
        port: u8,
        /// Interface.
        interface: u8,
    },
    /// SATA port (HBA port, multiplier port, logical unit).
    Sata {
        /// Port on the controller.
        port: u16,
    },
    /// NVMe namespace.
    Nvme {
        /// Namespace.
        namespace: u32,
        /// Its IEEE identity, zero where it has none.
        eui64: u64,
    },
    /// A network card.
    Mac([u8; 6]),
    /// IPv4.
    Ipv4,
    /// IPv6.
    Ipv6,
    /// An address to fetch from.
    Uri(Vec<u8>),
    /// A partition of a disk.
    HardDrive(HardDrive),
    /// A CD's boot entry.
    Cdrom,
    /// A file or part of its path.
    FilePath(Ucs2),
    /// A firmware volume.
    FirmwareVolume(Guid),
    /// A program inside a firmware volume.
    FirmwareFile(Guid),
    /// A vendor's own kind of node.
    Vendor(Guid),
    /// A legacy device class (10.3.6).
    Bbs {
        /// 1 floppy, 2 hard disk, 3 CD, 6 network, and so on.
        device_type: u16,
    },
    /// Anything else.
    Other,
}

/// A partition as a load option names it (10.3.5.1).
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct HardDrive {
    /// Partition number, from 1.
    pub number: u32,
    /// First block; firmware does not look at it.
    pub start: u64,
    /// Length in blocks; firmware does not look at it.
    pub size: u64,
    /// The identity that is matched.
    pub signature: PartitionSignature,
}

/// What tells a partition from others.
#[cfg_attr(feature = "serde", derive(serde::Serialize, serde::Deserialize))]
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum PartitionSignature {
    /// GPT: the partition's unique GUID.
    Guid(Guid),
    /// MBR: the disk's signature.
    Mbr(u32),
    /// None, or of an unknown type, which is given.
    Other(u8),
}

impl fmt::Display for PartitionSignature {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Guid(guid) => guid.fmt(f),
            Self::Mbr(signature) => write!(f, "MBR {signature:08x}"),
            Self::Other(kind) => write!(f, "no signature, type {kind}"),
        }
    }
}

impl Node {
    pub(super) const END: u8 = 0x7f;
    pub(super) const END_ENTIRE: u8 = 0xff;
    const HARDWARE: u8 = 1;
    const ACPI: u8 = 2;
    const MESSAGING: u8 = 3;
    const MEDIA: u8 = 4;
    const BBS: u8 = 5;

    /// Whether it stands for USB, for a class or a WWID of USB devices, or for an SD card (UEFI 2.10, 10.3.4).
    pub(super) fn is_pluggable(&self) -> bool {
        self.kind == Self::MESSAGING && matches!(self.sub_kind, 5 | 15 | 16 | 26)
    }

    /// A file node.
    pub fn file_path(path: &str) -> Self {
        Self { kind: Self::MEDIA, sub_kind: 4, data: Ucs2::from(path).to_bytes_terminated() }
    }

    /// A partition node.
    pub fn hard_drive(drive: &HardDrive) -> Self {
        let mut data = Vec::from(drive.number.to_le_bytes());
        data.extend(drive.start.to_le_bytes());
        data.extend(drive.size.to_le_bytes());
        let (signature, format, kind) = match drive.signature {
            PartitionSignature::Guid(guid) => (guid.to_bytes(), 2, 2),
            PartitionSignature::Mbr(signature) => {
                let mut bytes = [0; 16];
                if let Some(first) = bytes.first_chunk_mut() {
                    *first = signature.to_le_bytes();
                }
                (bytes, 1, 1)
            }
            PartitionSignature::Other(kind) => ([0; 16], 2, kind),
        };
        data.extend(signature);
        data.extend([format, kind]);
        Self { kind: Self::MEDIA, sub_kind: 1, data }
    }

    /// The node as its kind describes it; [`View::Other`] where the kind is unknown or the data too short.
    pub fn view(&self) -> View {
        self.decode().unwrap_or(View::Other)
    }

    fn decode(&self) -> Option<View> {
        let data = self.data.as_slice();
        Some(match (self.kind, self.sub_kind) {
            (Self::HARDWARE, 1) => View::Pci { function: *data.first()?, device: *data.get(1)? },
            (Self::ACPI, 1 | 2) => View::Acpi { hid: u32_at(data, 0)?, uid: u32_at(data, 4)? },
            (Self::MESSAGING, 1) => {
                View::Ata { secondary: *data.first()? != 0, slave: *data.get(1)? != 0, lun: u16_at(data, 2)? }
            }
            (Self::MESSAGING, 2) => View::Scsi { target: u16_at(data, 0)?, lun: u16_at(data, 2)? },
            (Self::MESSAGING, 5) => View::Usb { port: *data.first()?, interface: *data.get(1)? },
            (Self::MESSAGING, 10) | (Self::HARDWARE, 4) => View::Vendor(guid_at(data, 0)?),
            (Self::MESSAGING, 11) => View::Mac(*self.data.first_chunk()?),
            (Self::MESSAGING, 12) => View::Ipv4,
            (Self::MESSAGING, 13) => View::Ipv6,
            (Self::MESSAGING, 18) => View::Sata { port: u16_at(data, 0)? },
            (Self::MESSAGING, 23) => View::Nvme { namespace: u32_at(data, 0)?, eui64: u64_at(data, 4)? },
            (Self::MESSAGING, 24) => View::Uri(self.data.clone()),
            (Self::MEDIA, 1) => View::HardDrive(HardDrive {
                number: u32_at(data, 0)?,
                start: u64_at(data, 4)?,
                size: u64_at(data, 12)?,
                signature: match *data.get(37)? {
                    1 => PartitionSignature::Mbr(u32_at(data, 20)?),
                    2 => PartitionSignature::Guid(guid_at(data, 20)?),
                    other => PartitionSignature::Other(other),
                },
            }),
            (Self::MEDIA, 2) => View::Cdrom,
            (Self::MEDIA, 3) => View::Vendor(guid_at(data, 0)?),
            (Self::MEDIA, 4) => View::FilePath(Ucs2::decode_lenient(&self.data)),
            (Self::MEDIA, 6) => View::FirmwareFile(guid_at(data, 0)?),
            (Self::MEDIA, 7) => View::FirmwareVolume(guid_at(data, 0)?),
            (Self::BBS, 1) => View::Bbs { device_type: u16_at(data, 0)? },
            _ => return None,
        })
    }

    /// Appends the node. Data over what the 16-bit length can say, which no reader gives, is cut.
    pub(super) fn encode_into(&self, bytes: &mut Vec<u8>) {
        let data = self.data.get(..usize::from(u16::MAX).saturating_sub(4)).unwrap_or(&self.data);
        let length = u16::try_from(data.len().saturating_add(4)).unwrap_or(u16::MAX);
        bytes.extend([self.kind, self.sub_kind]);
        bytes.extend(length.to_le_bytes());
        bytes.extend(data);
    }
}

fn guid_at(bytes: &[u8], offset: usize) -> Option<Guid> {
    array_at(bytes, offset).map(Guid::from_bytes)
}
