//! Device paths in the specification's text form (UEFI 2.10, 10.6), in which the standard's own tools show them. Every
//! node is written: one of a kind that is not known by its numbers and its bytes.

use alloc::format;
use alloc::string::String;
use alloc::vec::Vec;

use uguid::Guid;

use super::{DevicePath, Node, PartitionSignature, View};
use crate::bytes::{array_at, u16_at, u32_at, u64_at};

/// `EISA_ID(0x0A03)` and `EISA_ID(0x0A08)`: PCI and PCI Express root bridges (10.3.3).
const PCI_ROOT: u32 = 0x0a03_41d0;
const PCIE_ROOT: u32 = 0x0a08_41d0;
/// Kinds of legacy devices (10.3.6).
const LEGACY: [(u16, &str); 6] =
    [(1, "Floppy"), (2, "HD"), (3, "CDROM"), (4, "PCMCIA"), (5, "USB"), (6, "Network")];

impl DevicePath {
    /// The path in the specification's text form.
    pub fn to_text(&self) -> String {
        self.nodes().iter().map(node).collect::<Vec<String>>().join("/")
    }

    /// The same for the path of a disk that hangs on PCI; `None` for one with nodes of other kinds. Small, for the boot program.
    pub fn disk_text(&self) -> Option<String> {
        let mut text = String::new();
        for node in self.nodes() {
            if !text.is_empty() {
                text.push('/');
            }
            text.push_str(&of_disk(node)?);
        }
        Some(text).filter(|text| !text.is_empty())
    }
}

/// A node of a disk's path.
fn of_disk(node: &Node) -> Option<String> {
    match node.view() {
        View::Pci { device, function } => Some(call("Pci", &[u32::from(device), u32::from(function)])),
        View::Acpi { hid: PCI_ROOT, uid } => Some(call("PciRoot", &[uid])),
        View::Acpi { hid: PCIE_ROOT, uid } => Some(call("PcieRoot", &[uid])),
        View::Scsi { target, lun } => Some(call("Scsi", &[u32::from(target), u32::from(lun)])),
        View::Sata { port } => {
            // A port behind no multiplier has 0xFFFF, or the highest bit, there.
            let (multiplier, lun) = (u16_at(&node.data, 2)?, u16_at(&node.data, 4)?);
            Some(call("Sata", &[port, multiplier, lun].map(u32::from)))
        }
        View::Nvme { namespace, eui64 } => {
            let mut text = call("NVMe", &[namespace]);
            text.pop();
            for (index, byte) in eui64.to_le_bytes().into_iter().enumerate() {
                text.push(if index == 0 { ',' } else { '-' });
                text.push(digit(u32::from(byte) >> 4).to_ascii_uppercase());
                text.push(digit(u32::from(byte) & 15).to_ascii_uppercase());
            }
            text.push(')');
            Some(text)
        }
        _ => None,
    }
}

/// `Name(0x1,0x2)`.
fn call(name: &str, numbers: &[u32]) -> String {
    let mut text = String::from(name);
    for (index, number) in numbers.iter().enumerate() {
        text.push_str(if index == 0 { "(0x" } else { ",0x" });
        let digits = (32_u32.saturating_sub(number.leading_zeros())).div_ceil(4).max(1);
        for place in (0..digits).rev() {
            text.push(digit((number >> place.saturating_mul(4)) & 15));
        }
    }
    text.push(')');
    text
}

fn digit(value: u32) -> char {
    char::from_digit(value, 16).unwrap_or('0')
}

fn node(node: &Node) -> String {
    let data = node.data.as_slice();
    let known = match node.view() {
        View::Pci { .. } | View::Scsi { .. } | View::Sata { .. } | View::Nvme { .. } => of_disk(node),
        View::Acpi { hid: PCI_ROOT | PCIE_ROOT, .. } => of_disk(node),
        View::Acpi { hid, uid } => Some(format!("Acpi({},0x{uid:x})", eisa(hid))),
        View::Ata { secondary, slave, lun } => Some(format!(
            "Ata({},{},0x{lun:x})",
            if secondary { "Secondary" } else { "Primary" },
            if slave { "Slave" } else { "Master" }
        )),
        View::Usb { port, interface } => Some(format!("USB(0x{port:x},0x{interface:x})")),
        View::Mac(address) => {
            let kind = data.get(32).copied().unwrap_or_default();
            Some(format!("MAC({},0x{kind:x})", hex(&address)))
        }
        View::Ipv4 => ipv4(data),
        View::Ipv6 => ipv6(data),
        View::Uri(address) => Some(format!("Uri({})", String::from_utf8_lossy(&address))),
        View::HardDrive(drive) => {
            let signature = match drive.signature {
                PartitionSignature::Guid(guid) => format!("GPT,{}", upper(guid)),
                PartitionSignature::Mbr(signature) => format!("MBR,0x{signature:08x}"),
                PartitionSignature::Other(kind) => {
                    format!("{kind},{}", hex(data.get(20..36).unwrap_or_default()))
                }
            };
            Some(format!("HD({},{signature},0x{:x},0x{:x})", drive.number, drive.start, drive.size))
        }
        View::Cdrom => cdrom(data),
        View::FilePath(path) => Some(format!("{path}")),
        View::FirmwareVolume(guid) => Some(format!("Fv({})", upper(guid))),
        View::FirmwareFile(guid) => Some(format!("FvFile({})", upper(guid))),
        View::Vendor(guid) => Some(vendor(node, guid)),
        View::Bbs { device_type } => Some(legacy(device_type, data)),
        View::Other => None,
    };
    known.unwrap_or_else(|| other(node))
}

/// `Path(type, sub-type, bytes)`: the form for any node.
fn other(node: &Node) -> String {
    let bytes = hex(&node.data);
    format!("Path({},{},{bytes})", node.kind, node.sub_kind)
}

fn hex(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02X}")).collect()
}

fn upper(guid: Guid) -> String {
    format!("{guid}").to_uppercase()
}

/// Three letters and four digits, as `PNP0A03`.
fn eisa(hid: u32) -> String {
    let letter = |shift: u32| {
        let code = (hid >> shift) & 0x1f;
        char::from_u32(code.saturating_add(0x40)).unwrap_or('?')
    };
    format!("{}{}{}{:04X}", letter(10), letter(5), letter(0), hid >> 16)
}

fn dotted(data: &[u8], at: usize) -> Option<String> {
    let [a, b, c, d] = array_at::<4>(data, at)?;
    Some(format!("{a}.{b}.{c}.{d}"))
}

fn protocol(number: u16) -> String {
    match number {
        6 => "TCP".into(),
        17 => "UDP".into(),
        other => format!("0x{other:x}"),
    }
}

fn ipv4(data: &[u8]) -> Option<String> {
    let (local, remote) = (dotted(data, 0)?, dotted(data, 4)?);
    let kind = protocol(u16_at(data, 12)?);
    let origin = if *data.get(14)? == 0 { "DHCP" } else { "Static" };
    let mut text = format!("IPv4({remote},{kind},{origin},{local}");
    // The gateway and the mask came with a later version of the node.
    if let (Some(gateway), Some(mask)) = (dotted(data, 15), dotted(data, 19)) {
        text.push_str(&format!(",{gateway},{mask}"));
    }
    text.push(')');
    Some(text)
}

fn address6(data: &[u8], at: usize) -> Option<String> {
    let bytes = array_at::<16>(data, at)?;
    let (groups, _) = bytes.as_chunks::<2>();
    let words: Vec<String> = groups.iter().map(|group| format!("{:x}", u16::from_be_bytes(*group))).collect();
    Some(words.join(":"))
}

fn ipv6(data: &[u8]) -> Option<String> {
    let (local, remote) = (address6(data, 0)?, address6(data, 16)?);
    let kind = protocol(u16_at(data, 36)?);
    let origin = match *data.get(38)? {
        0 => "Static",
        1 => "StatelessAutoConfigure",
        _ => "StatefulAutoConfigure",
    };
    let mut text = format!("IPv6({remote},{kind},{origin},{local}");
    if let (Some(prefix), Some(gateway)) = (data.get(39), address6(data, 40)) {
        text.push_str(&format!(",{gateway},{prefix}"));
    }
    text.push(')');
    Some(text)
}

fn cdrom(data: &[u8]) -> Option<String> {
    Some(format!("CDROM(0x{:x},0x{:x},0x{:x})", u32_at(data, 0)?, u64_at(data, 4)?, u64_at(data, 12)?))
}

fn vendor(node: &Node, guid: Guid) -> String {
    let kind = match node.kind {
        1 => "VenHw",
        3 => "VenMsg",
        _ => "VenMedia",
    };
    let data = node.data.get(16..).unwrap_or_default();
    if data.is_empty() {
        format!("{kind}({})", upper(guid))
    } else {
        format!("{kind}({},{})", upper(guid), hex(data))
    }
}

fn legacy(device_type: u16, data: &[u8]) -> String {
    let known = LEGACY.iter().find(|(number, _)| *number == device_type).map(|(_, word)| (*word).into());
    let kind: String = known.unwrap_or_else(|| format!("0x{device_type:x}"));
    let flags = u16_at(data, 2).unwrap_or_default();
    let label: Vec<u8> =
        data.get(4..).unwrap_or_default().iter().copied().take_while(|byte| *byte != 0).collect();
    format!("BBS({kind},{},0x{flags:x})", String::from_utf8_lossy(&label))
}

#[cfg(test)]
mod tests {
    use super::*;
    use alloc::vec;
    use proptest::prelude::*;

    fn raw(kind: u8, sub_kind: u8, data: Vec<u8>) -> Node {
        Node { kind, sub_kind, data }
    }

    #[test]
    fn nodes_have_the_text_of_the_specification() {
        let guid = Guid::from_bytes([1; 16]);
        let guid_text = "01010101-0101-0101-0101-010101010101";
        let mut ipv4 = vec![10, 0, 0, 5, 10, 0, 0, 1, 0, 0, 0, 0, 6, 0, 0];
        let cases = [
            (raw(2, 1, vec![0xd0, 0x41, 0x03, 0x0a, 0, 0, 0, 0]), "PciRoot(0x0)".into()),
            (raw(2, 1, vec![0xd0, 0x41, 0x01, 0x05, 1, 0, 0, 0]), "Acpi(PNP0501,0x1)".into()),
            (raw(1, 1, vec![2, 0x1f]), "Pci(0x1f,0x2)".into()),
            (raw(3, 1, vec![1, 0, 3, 0]), "Ata(Secondary,Master,0x3)".into()),
            (raw(3, 2, vec![4, 0, 1, 0]), "Scsi(0x4,0x1)".into()),
            (raw(3, 5, vec![3, 0]), "USB(0x3,0x0)".into()),
            (raw(3, 18, vec![1, 0, 0xff, 0xff, 0, 0]), "Sata(0x1,0xffff,0x0)".into()),
            (
                raw(3, 23, vec![1, 0, 0, 0, 1, 2, 3, 4, 5, 6, 7, 8]),
                "NVMe(0x1,01-02-03-04-05-06-07-08)".into(),
            ),
            (raw(3, 24, b"http://kestrel.example/a".to_vec()), "Uri(http://kestrel.example/a)".into()),
            (raw(3, 12, ipv4.clone()), "IPv4(10.0.0.1,TCP,DHCP,10.0.0.5)".into()),
            (Node::file_path("\\EFI\\a.efi"), "\\EFI\\a.efi".into()),
            (raw(4, 6, guid.to_bytes().to_vec()), format!("FvFile({guid_text})")),
            (raw(4, 7, guid.to_bytes().to_vec()), format!("Fv({guid_text})")),
            (raw(1, 4, [guid.to_bytes().to_vec(), vec![0xab]].concat()), format!("VenHw({guid_text},AB)")),
            (raw(5, 1, vec![2, 0, 0, 0, b'D', 0]), "BBS(HD,D,0x0)".into()),
            (raw(4, 2, vec![0; 20]), "CDROM(0x0,0x0,0x0)".into()),
            (raw(9, 9, vec![0xca, 0xfe]), "Path(9,9,CAFE)".into()),
            (raw(3, 12, vec![1]), "Path(3,12,01)".into()),
        ];
        for (given, expected) in cases {
            assert_eq!(node(&given), expected);
        }
        ipv4.extend([10, 0, 0, 9, 255, 0, 0, 0]);
        assert_eq!(node(&raw(3, 12, ipv4)), "IPv4(10.0.0.1,TCP,DHCP,10.0.0.5,10.0.0.9,255.0.0.0)");
    }

    proptest! {
        #[test]
        fn no_node_is_lost(nodes in prop::collection::vec((0u8..8, 0u8..30, prop::collection::vec(any::<u8>(), 0..60)), 0..6)) {
            let nodes: Vec<Node> = nodes.into_iter().map(|(kind, sub_kind, data)| raw(kind, sub_kind, data)).collect();
            let each: Vec<String> = nodes.iter().map(node).collect();
            prop_assert_eq!(DevicePath::new(nodes).to_text(), each.join("/"));
        }
    }
}
