//! Device paths in words, for people.

use alloc::string::String;
use core::fmt;

use super::{DevicePath, Node, View};

/// `EISA_ID(0x0A03)` and `EISA_ID(0x0A08)`: PCI and PCI Express root bridges (10.3.3).
const PCI_ROOTS: [u32; 2] = [0x0a03_41d0, 0x0a08_41d0];

impl fmt::Display for DevicePath {
    /// What the path leads to, the way there left out where it only repeats it: a path with a partition
    /// or a network card says that, not the controllers before it.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let starts_at = self
            .views()
            .position(|view| matches!(view, View::HardDrive(_) | View::Mac(_) | View::FirmwareFile(_)))
            .unwrap_or(0);
        let mut first = true;
        for node in self.nodes().iter().skip(starts_at) {
            if !first {
                f.write_str(", ")?;
            }
            first = false;
            write_node(node, f)?;
        }
        Ok(())
    }
}

fn write_node(node: &Node, f: &mut fmt::Formatter<'_>) -> fmt::Result {
    match node.view() {
        View::Pci { device, function } => write!(f, "PCI device {device:x}.{function:x}"),
        View::Acpi { hid, uid } if PCI_ROOTS.contains(&hid) => write!(f, "PCI root {uid:x}"),
        View::Acpi { hid, uid } => write!(f, "ACPI device {hid:08x}.{uid:x}"),
        View::Ata { secondary, slave, lun } => write!(
            f,
            "ATA channel {}, device {}, unit {lun}",
            if secondary { 2 } else { 1 },
            if slave { 2 } else { 1 }
        ),
        View::Scsi { target, lun } => write!(f, "SCSI target {target}, unit {lun}"),
        View::Usb { port, interface } => write!(f, "USB port {port}, interface {interface}"),
        View::Sata { port } => write!(f, "SATA port {port}"),
        View::Nvme { namespace, eui64: 0 } => write!(f, "NVMe namespace {namespace}"),
        View::Nvme { namespace, eui64 } => write!(f, "NVMe namespace {namespace} ({eui64:016x})"),
        View::Mac([a, b, c, d, e, g]) => {
            write!(f, "network card {a:02x}:{b:02x}:{c:02x}:{d:02x}:{e:02x}:{g:02x}")
        }
        View::Ipv4 => f.write_str("IPv4"),
        View::Ipv6 => f.write_str("IPv6"),
        View::Uri(address) if address.is_empty() => f.write_str("address given by the network"),
        View::Uri(address) => write!(f, "address {}", String::from_utf8_lossy(&address)),
        View::HardDrive(drive) => write!(f, "partition {} ({})", drive.number, drive.signature),
        View::Cdrom => f.write_str("CD boot entry"),
        View::FilePath(path) => write!(f, "file {path}"),
        View::FirmwareVolume(guid) => write!(f, "firmware volume {guid}"),
        View::FirmwareFile(guid) => write!(f, "built-in program {guid}"),
        View::Vendor(guid) => write!(f, "vendor node {guid}"),
        View::Bbs { device_type } => write!(f, "legacy device class {device_type}"),
        View::Other => {
            write!(f, "node {:02x}.{:02x}", node.kind, node.sub_kind)?;
            if !node.data.is_empty() {
                f.write_str(" ")?;
            }
            node.data.iter().try_for_each(|byte| write!(f, "{byte:02x}"))
        }
    }
}
