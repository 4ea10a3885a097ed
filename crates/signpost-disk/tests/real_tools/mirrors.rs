//! Mirrors of Linux RAID, put together from their members.

use std::fs;

use signpost_disk::open;
use signpost_disk::probe::VolumeKind;
use signpost_disk::volumes::{Disk, Origin, Volume, Volumes};

use crate::harness::{Image, change_mirror, make_mirror, poke, run};

// Offsets in the metadata.
const FEATURES: u64 = 8;
const EVENTS: u64 = 200;
const ROLES: u64 = 256;

fn found(images: &[Image]) -> Vec<Volume> {
    let disks: Vec<Disk> = images.iter().map(|image| Disk::look(&image.device(), 512)).collect();
    Volumes::find(&disks).list
}

fn contents(volume: &Volume, path: &str) -> Vec<u8> {
    open::file_system(volume.device.as_ref().unwrap(), &volume.identity)
        .unwrap()
        .unwrap()
        .read(path, 99)
        .unwrap()
}

#[test]
fn the_member_with_most_changes_is_read() {
    const DATA: u64 = 1 << 20;
    let images = [Image::new(24), Image::new(24)];
    for (index, image) in images.iter().enumerate() {
        let tree = tempfile::tempdir().unwrap();
        fs::write(tree.path().join("tide"), format!("member {index}")).unwrap();
        let inner = Image::new(16);
        run("mke2fs", &["-q", "-F", "-t", "ext4", "-d", tree.path().to_str().unwrap(), inner.name()]);
        poke(&image.path, DATA, &fs::read(&inner.path).unwrap());
        make_mirror(&image.path, 4096, DATA, 16 << 20);
    }
    change_mirror(&images[1].path, 4096, EVENTS, &9u64.to_le_bytes());
    let volumes = found(&images);
    let kinds: Vec<VolumeKind> = volumes.iter().map(|volume| volume.identity.kind).collect();
    assert_eq!(kinds, [VolumeKind::MdRaid, VolumeKind::MdRaid, VolumeKind::Ext4]);
    assert!(matches!(&volumes[2].origin, Origin::Mirror { members, .. } if *members == [0, 1]));
    assert_eq!(contents(&volumes[2], "/tide"), b"member 1");
    // One member is enough.
    assert_eq!(contents(&found(&images[..1])[1], "/tide"), b"member 0");
    // The newer one is a spare, or is being rebuilt: it holds nothing of the mirror, or not all of it.
    for (at, bytes) in [(ROLES, &[0xff, 0xff][..]), (FEATURES, &[2, 0, 0, 0])] {
        let before = fs::read(&images[1].path).unwrap();
        change_mirror(&images[1].path, 4096, at, bytes);
        assert_eq!(contents(&found(&images)[2], "/tide"), b"member 0");
        let alone = found(&images[1..]);
        let fault = alone[1].fault.as_ref().unwrap().to_string();
        assert!(fault.contains("no member that is here holds the whole of it"), "{fault}");
        fs::write(&images[1].path, before).unwrap();
    }
    // A member whose metadata was altered is none.
    poke(&images[1].path, 4096 + EVENTS, &[42]);
    let kinds: Vec<VolumeKind> = found(&images).iter().map(|volume| volume.identity.kind).collect();
    assert_eq!(kinds[0], VolumeKind::MdRaid);
    assert_ne!(kinds[1], VolumeKind::MdRaid);
}

/// An ESP on a mirror whose metadata stands at the end: firmware takes each member for a plain FAT.
#[test]
fn what_firmware_sees_beneath_a_mirror_is_told() {
    let image = Image::made_by(16, "mkfs.fat", &["-F", "16"]);
    let size = 16 << 20;
    make_mirror(&image.path, size - 8192, 0, size - 65536);
    let volumes = found(&[image]);
    assert_eq!(volumes[0].identity.kind, VolumeKind::MdRaid);
    assert_eq!(volumes[0].beneath_raid, Some(VolumeKind::Fat16));
}
