//! Mirrors of Linux RAID, put together from their members.

use std::fs;

use signpost_disk::array::Member;
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
    assert!(matches!(&volumes[2].origin, Origin::Array { members, .. } if *members == [0, 1]));
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

/// A disk with a GPT whose one partition holds an ext4, in an image that goes on behind it.
fn disk_with_table(mebibytes: u64) -> Image {
    let image = Image::new(mebibytes);
    let table = Image::new(24);
    let script = "label: gpt\nlabel-id: 2E0C1D5B-0000-4000-8000-000000000001\nstart=2048, size=32768\n";
    let path = table.path.with_extension("script");
    fs::write(&path, script).unwrap();
    run("sh", &["-c", &format!("sfdisk -q {} < {}", table.name(), path.display())]);
    let tree = tempfile::tempdir().unwrap();
    fs::write(tree.path().join("tide"), "high").unwrap();
    let inner = Image::new(16);
    run("mke2fs", &["-q", "-F", "-t", "ext4", "-d", tree.path().to_str().unwrap(), inner.name()]);
    poke(&table.path, 1 << 20, &fs::read(&inner.path).unwrap());
    poke(&image.path, 0, &fs::read(&table.path).unwrap());
    image
}

/// What stands in an array's disks is one machine's, not that of two disks that are copies of each other.
fn is_one_disk(images: &[Image], words: &str) {
    let disks: Vec<Disk> = images.iter().map(|image| Disk::look(&image.device(), 512)).collect();
    for disk in &disks {
        assert_eq!(disk.array.as_ref().map(Member::words).as_deref(), Some(words));
    }
    let found = Volumes::find(&disks);
    assert_eq!(found.doubles, [None, Some(0)], "{words}");
    let [volume] = found.list.as_slice() else { panic!("{words}: one volume") };
    assert_eq!(volume.origin, Origin::Partition(0, 0), "{words}");
    assert_eq!(contents(volume, "/tide"), b"high", "{words}");
    assert_eq!(Volumes::find(&disks[1..]).list.len(), 1, "{words}: one disk is enough");
}

#[test]
fn whole_disks_that_mirror_each_other_are_one() {
    const AT: u64 = (32 << 20) - 8192;
    let images = [disk_with_table(32), disk_with_table(32)];
    for image in &images {
        make_mirror(&image.path, AT, 0, 24 << 20);
    }
    is_one_disk(&images, "mirror kestrel:tide");
    // Of two that differ, the newer one is read.
    change_mirror(&images[1].path, AT, EVENTS, &9u64.to_le_bytes());
    let disks: Vec<Disk> = images.iter().map(|image| Disk::look(&image.device(), 512)).collect();
    assert_eq!(Volumes::find(&disks).doubles, [Some(1), None]);
}

/// Metadata that firmware of one maker writes: two disks, one array of this level.
fn imsm(level: u8) -> Vec<u8> {
    let mut bytes = vec![0u8; 512];
    bytes[..24].copy_from_slice(b"Intel Raid ISM Cfg Sig. ");
    let mut put = |at: usize, value: u32| bytes[at..at + 4].copy_from_slice(&value.to_le_bytes());
    let array = 0xd8 + 2 * 48;
    put(0x24, 512);
    put(0x28, 0x71de);
    put(0x2c, 3);
    put(0x38, 0x0102);
    put(array + 112 + 4, (24 << 20) / 512);
    put(array + 112 + 12, u32::from(level) << 24);
    put(array + 112 + 16, 2);
    bytes[array..array + 4].copy_from_slice(b"Ebbe");
    let sum =
        bytes.chunks(4).map(|word| u32::from_le_bytes(word.try_into().unwrap())).fold(0, u32::wrapping_add);
    bytes[0x20..0x24].copy_from_slice(&sum.to_le_bytes());
    bytes
}

#[test]
fn mirrors_that_firmware_makes_are_one_disk_and_other_arrays_are_named() {
    let images = [disk_with_table(32), disk_with_table(32)];
    for image in &images {
        poke(&image.path, (32 << 20) - 1024, &imsm(1));
    }
    is_one_disk(&images, "mirror Ebbe");
    // An independent reader of the format.
    assert_eq!(images[0].blkid("TYPE").as_deref(), Some("isw_raid_member"));
    // Stripes: the table speaks of more than one member holds.
    for image in &images {
        fs::OpenOptions::new().write(true).open(&image.path).unwrap().set_len(12 << 20).unwrap();
        poke(&image.path, (12 << 20) - 1024, &imsm(0));
    }
    let volumes = found(&images);
    let fault = volumes[2].fault.as_ref().unwrap().to_string();
    assert!(volumes[2].device.is_none() && fault.contains("RAID 0"), "{fault}");
    assert_eq!(volumes.len(), 3, "two members and the array");
}

/// What an array left behind on disks that have found another use hides nothing of them.
#[test]
fn metadata_left_over_from_a_former_array_hides_nothing() {
    let images = [disk_with_table(32), disk_with_table(32)];
    run("sfdisk", &["-q", "--disk-id", images[1].name(), "2E0C1D5B-0000-4000-8000-000000000002"]);
    for level in [0, 1] {
        for image in &images {
            poke(&image.path, (32 << 20) - 1024, &imsm(level));
        }
        let kinds: Vec<VolumeKind> = found(&images).iter().map(|volume| volume.identity.kind).collect();
        assert_eq!(kinds, [VolumeKind::Ext4, VolumeKind::Ext4], "level {level}");
    }
}

#[test]
fn mirrors_in_the_makers_common_format_are_one_disk() {
    const SECTORS: u64 = (32 << 20) / 512;
    let images = [disk_with_table(32), disk_with_table(32)];
    for image in &images {
        let mut header = vec![0u8; 512];
        header[..4].copy_from_slice(&0xde11_de11u32.to_be_bytes());
        header[8..32].copy_from_slice(b"a controller's own GUID.");
        header[96..104].copy_from_slice(&(SECTORS - 100).to_be_bytes());
        header[216..220].copy_from_slice(&10u32.to_be_bytes());
        header[220..224].copy_from_slice(&4u32.to_be_bytes());
        poke(&image.path, (SECTORS - 1) * 512, &header);
        poke(&image.path, (SECTORS - 100) * 512, &header);
        let mut record = vec![0xffu8; 512];
        record[..4].copy_from_slice(&0xeeee_eeeeu32.to_be_bytes());
        record[8..32].copy_from_slice(b"a virtual disk's own ID.");
        record[67] = 1;
        poke(&image.path, (SECTORS - 89) * 512, &record);
    }
    let guid: String = b"a virtual disk's own ID.".iter().map(|byte| format!("{byte:02x}")).collect();
    is_one_disk(&images, &format!("mirror {guid}"));
}

#[test]
fn a_table_inside_of_a_mirror_is_read_and_arrays_of_other_levels_are_named() {
    const LEVEL: u64 = 72;
    let images = [Image::new(40), Image::new(40)];
    let inner = fs::read(&disk_with_table(24).path).unwrap();
    for image in &images {
        poke(&image.path, 1 << 20, &inner);
        make_mirror(&image.path, 4096, 1 << 20, 24 << 20);
    }
    let volumes = found(&images);
    assert_eq!(volumes.len(), 3);
    assert!(matches!(volumes[2].origin, Origin::Array { partition: Some(1), .. }));
    assert_eq!(volumes[2].origin.name(&[], |_| 0), "array/kestrel:tidep1");
    assert_eq!(contents(&volumes[2], "/tide"), b"high");
    for (level, words) in
        [(0u32, "RAID 0"), (5, "RAID 5"), (6, "RAID 6"), (10, "RAID 10"), (u32::MAX, "linear array")]
    {
        for image in &images {
            change_mirror(&image.path, 4096, LEVEL, &level.to_le_bytes());
        }
        let volumes = found(&images);
        assert_eq!(volumes[2].origin.name(&[], |_| 0), "array/kestrel:tide", "{words}");
        let fault = volumes[2].fault.as_ref().unwrap().to_string();
        assert!(fault.contains(words) && volumes[2].device.is_none(), "{fault}");
    }
}
