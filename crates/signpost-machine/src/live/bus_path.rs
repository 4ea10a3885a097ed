//! Where a disk is plugged in, as UEFI's device paths write it (UEFI 2.10, 10.6.1), from the kernel's tree of devices: so that a
//! name can stand in a menu which firmware finds again.

use std::fmt::Write;
use std::fs;
use std::path::Path;

use super::line::text;

/// The device path's text of a disk, by its folder in `/sys/block`; `None` where the way to it has a part that device paths
/// of the kinds known here do not have.
pub(super) fn of(folder: &Path) -> Option<String> {
    let way = fs::canonicalize(folder).ok()?;
    let mut parts = way.ancestors().collect::<Vec<_>>();
    parts.reverse();
    let mut path = None;
    for at in parts {
        let name = at.file_name().map(|name| name.to_string_lossy()).unwrap_or_default();
        if let Some(root) = name.strip_prefix("pci") {
            // `_UID` of the host bridge (ACPI 6.5, 6.1.12); where firmware names none, the domain's bridges are counted by it.
            let uid = number(text(&at.join("firmware_node/uid"))).unwrap_or(0);
            let is_bridge = root.split_once(':').is_some_and(|(domain, bus)| is_hex(domain) && is_hex(bus));
            path = is_bridge.then(|| format!("PciRoot(0x{uid:x})"));
        } else if let Some((device, function)) = pci(&name) {
            write!(path.as_mut()?, "/Pci(0x{device:x},0x{function:x})").ok()?;
        }
    }
    let mut path = path?;
    if let Some(last) = drive(folder, &way.to_string_lossy())? {
        path.push('/');
        path.push_str(&last);
    }
    Some(path)
}

/// The node of the drive itself; nothing inside for those of virtual machines that their controller stands for, `None` for a kind
/// that is not known.
fn drive(folder: &Path, way: &str) -> Option<Option<String>> {
    if way.contains("/usb") || way.contains("/mmc") {
        return None;
    }
    if way.contains("/nvme") {
        let namespace = number(text(&folder.join("nsid")))?;
        let eui = text(&folder.join("eui")).unwrap_or_default();
        let mut bytes: Vec<String> = eui.split([' ', '-']).map(str::to_uppercase).collect();
        if bytes.len() != 8 || !bytes.iter().all(|byte| byte.len() == 2 && is_hex(byte)) {
            bytes = vec!["00".into(); 8];
        }
        return Some(Some(format!("NVMe(0x{namespace:x},{})", bytes.join("-"))));
    }
    let last = |prefix: &str| way.split('/').rfind(|part| part.starts_with(prefix));
    // HOST:CHANNEL:TARGET:LUN, as the kernel's SCSI layer counts, which drives of ATA go through too.
    let address = way.split('/').find_map(|part| {
        let numbers: Vec<u16> = part.split(':').map_while(|number| number.parse().ok()).collect();
        <[u16; 4]>::try_from(numbers).ok().filter(|_| part.matches(':').count() == 3)
    });
    if let Some(port) = last("ata").filter(|part| part[3..].parse::<u16>().is_ok()) {
        // Counted from 1 on each controller.
        let at = way.find(port).and_then(|start| way.get(..start))?;
        let number = number(text(&Path::new(at).join(port).join("ata_port").join(port).join("port_no")))?;
        return Some(Some(format!("Sata(0x{:x},0xffff,0x0)", number.checked_sub(1)?)));
    }
    match address {
        Some([_, _, target, lun]) => Some(Some(format!("Scsi(0x{target:x},0x{lun:x})"))),
        None => way.contains("/virtio").then_some(None),
    }
}

/// Device and function of `0000:00:1f.2`.
fn pci(name: &str) -> Option<(u8, u8)> {
    let (domain, rest) = name.split_once(':')?;
    let (bus, rest) = rest.split_once(':')?;
    let (device, function) = rest.split_once('.')?;
    let is_whole = domain.len() == 4 && is_hex(domain) && bus.len() == 2 && is_hex(bus);
    let hex = |text: &str| u8::from_str_radix(text, 16).ok();
    is_whole.then_some((hex(device)?, hex(function)?))
}

fn is_hex(text: &str) -> bool {
    !text.is_empty() && text.chars().all(|c| c.is_ascii_hexdigit())
}

fn number(text: Option<String>) -> Option<u32> {
    text?.trim().parse().ok()
}

#[cfg(test)]
mod tests {
    use std::os::unix::fs::symlink;

    use super::*;

    /// The path of a disk whose folder in the tree of devices is this one, with these files below that tree.
    fn path(folder: &str, files: &[(&str, &str)]) -> Option<String> {
        let work = tempfile::tempdir().unwrap();
        let devices = work.path().join("sys/devices");
        fs::create_dir_all(devices.join(folder)).unwrap();
        for (file, contents) in files {
            let file = devices.join(file);
            fs::create_dir_all(file.parent().unwrap()).unwrap();
            fs::write(file, contents).unwrap();
        }
        let link = work.path().join("disk");
        symlink(devices.join(folder), &link).unwrap();
        of(&link)
    }

    #[test]
    fn each_kind_of_drive_is_written_as_firmware_writes_it() {
        let nvme = "pci0000:00/0000:00:04.0/nvme/nvme0/nvme0n1";
        let nsid = format!("{nvme}/nsid");
        assert_eq!(
            path(nvme, &[(&nsid, "1\n")]).unwrap(),
            "PciRoot(0x0)/Pci(0x4,0x0)/NVMe(0x1,00-00-00-00-00-00-00-00)"
        );
        let eui = format!("{nvme}/eui");
        let behind = path(nvme, &[(&nsid, "2\n"), (&eui, "00 25 38 5b 71 b0 18 9a\n")]).unwrap();
        assert!(behind.ends_with("NVMe(0x2,00-25-38-5B-71-B0-18-9A)"), "{behind}");
        let sata = "pci0000:00/0000:00:1f.2/ata3/host2/target2:0:0/2:0:0:0/block/sda";
        let port = "pci0000:00/0000:00:1f.2/ata3/ata_port/ata3/port_no";
        assert_eq!(path(sata, &[(port, "3\n")]).unwrap(), "PciRoot(0x0)/Pci(0x1f,0x2)/Sata(0x2,0xffff,0x0)");
        let scsi = "pci0000:00/0000:00:05.0/virtio1/host6/target6:0:3/6:0:3:1/block/sdb";
        assert_eq!(path(scsi, &[]).unwrap(), "PciRoot(0x0)/Pci(0x5,0x0)/Scsi(0x3,0x1)");
        assert_eq!(
            path("pci0000:00/0000:00:03.0/virtio0/block/vda", &[]).unwrap(),
            "PciRoot(0x0)/Pci(0x3,0x0)"
        );
    }

    #[test]
    fn bridges_stand_on_the_way_and_the_host_bridge_by_its_own_number() {
        let folder = "pci0000:40/0000:40:01.1/0000:41:00.0/nvme/nvme1/nvme1n1";
        let nsid = format!("{folder}/nsid");
        let path = path(folder, &[(&nsid, "1"), ("pci0000:40/firmware_node/uid", "2\n")]).unwrap();
        assert!(path.starts_with("PciRoot(0x2)/Pci(0x1,0x1)/Pci(0x0,0x0)/NVMe"), "{path}");
    }

    #[test]
    fn what_device_paths_of_these_kinds_do_not_have_has_none() {
        for folder in [
            "pci0000:00/0000:00:14.0/usb2/2-1/2-1:1.0/host3/target3:0:0/3:0:0:0/block/sdc",
            "pci0000:00/0000:00:1a.0/mmc_host/mmc0/mmc0:0001/block/mmcblk0",
            "platform/ahci/ata1/host0/target0:0:0/0:0:0:0/block/sda",
            "pci0000:00/0000:00:02.0/nvme/nvme0/nvme0n1",
            "pci0000:00/0000:00:02.0/block/rssda",
            "virtual/block/loop0",
        ] {
            assert_eq!(path(folder, &[]), None, "{folder}");
        }
    }
}
