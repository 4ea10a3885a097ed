//! Logical volumes, made by LVM2's own tools on loop devices. They work without a device mapper, which reads and
//! writes what they lay out; so the bytes are put there by hand.

use std::fs;

use signpost_disk::lvm::assemble;
use signpost_disk::probe::{VolumeKind, identify};

use crate::harness::{Image, LoopDevice, noise, poke, run};

/// The tools look at nothing but loop devices, and ask no kernel.
const CONFIG: &str = "devices{use_devicesfile=0 filter=[\"a|^/dev/loop|\",\"r|.*|\"]}";

fn lvm(tool: &str, args: &[&str]) {
    let mut all = vec!["-qq", "--config", CONFIG, "--driverloaded", "n"];
    all.extend(args);
    run(tool, &all);
}

const MIB: usize = 1 << 20;

#[test]
fn linear_and_striped_volumes_over_two_disks_are_read() {
    let images = [Image::new(48), Image::new(48)];
    let group = format!("tide{}", std::process::id());
    {
        let devices = images.each_ref().map(LoopDevice::new);
        let [first, second] = [devices[0].name(), devices[1].name()];
        lvm("vgcreate", &["-y", "-s", "4m", &group, first, second]);
        let make = |args: &[&str]| {
            let mut all = vec!["-an", "-Zn", "-Wn", "-y"];
            all.extend(args);
            lvm("lvcreate", &all);
        };
        make(&["-L", "8m", "-n", "low", &group, first]);
        make(&["-L", "16m", "-i", "2", "-I", "64k", "-n", "striped", &group]);
        make(&["-L", "8m", "-n", "high", &group, second]);
        // Grown where room is left: a second segment on the other disk.
        lvm("lvextend", &["-L", "16m", &format!("{group}/low"), second]);
        // Text enough that the ring of metadata is used several times over.
        for turn in 0..40 {
            lvm("vgchange", &["--addtag", &format!("turn{turn}"), &group]);
        }
    }
    let data = noise(16 * MIB);
    // Extents of 4 MiB from 1 MiB on: low has 0 and 1 of the first disk, striped 2 and 3 of it and 0 and 1 of the
    // second, high 2 and 3, low's second segment 4 and 5.
    let at = |extent: usize| (MIB + extent * 4 * MIB) as u64;
    poke(&images[0].path, at(0), &data[..8 * MIB]);
    poke(&images[1].path, at(4), &data[8 * MIB..]);
    for (index, stripe) in data.chunks(65536).enumerate() {
        let image = &images[index % 2].path;
        poke(image, at(if index % 2 == 0 { 2 } else { 0 }) + (index / 2 * 65536) as u64, stripe);
    }
    let physical = images.each_ref().map(Image::device);
    assert_eq!(identify(physical[0].as_ref()).0.kind, VolumeKind::Lvm2);
    let (volumes, faults) = assemble(&physical);
    assert_eq!(faults, [""; 0]);
    let names: Vec<_> =
        volumes.iter().map(|lv| (lv.group == group, lv.name.as_str(), lv.members.clone())).collect();
    assert_eq!(names, [(true, "high", vec![1]), (true, "low", vec![0, 1]), (true, "striped", vec![0, 1])]);
    for volume in &volumes[1..] {
        let device = volume.contents.clone().unwrap();
        assert_eq!(device.size(), 16 << 20);
        let mut all = vec![0; 16 * MIB];
        device.read_at(0, &mut all).unwrap();
        assert!(all == data, "{}", volume.name);
        let mut piece = vec![0; 200_001];
        device.read_at(8 * MIB as u64 - 100_000, &mut piece).unwrap();
        assert!(piece == data[8 * MIB - 100_000..8 * MIB + 100_001], "{}", volume.name);
        assert!(device.read_at((16 << 20) - 1, &mut [0; 2]).is_err());
    }
    // A disk is gone: what lies on it is named as gone, the rest goes on.
    let (volumes, _) = assemble(&physical[1..]);
    assert!(volumes[0].contents.is_ok());
    assert!(volumes[1].contents.as_ref().err().unwrap().contains("is not in this machine"));
}

#[test]
fn spoiled_metadata_ends_in_words() {
    let image = Image::new(32);
    let group = format!("spoiled{}", std::process::id());
    {
        let device = LoopDevice::new(&image);
        lvm("vgcreate", &["-y", &group, device.name()]);
        lvm("lvcreate", &["-an", "-Zn", "-Wn", "-y", "-L", "8m", "-n", "root", &group]);
    }
    let good = fs::read(&image.path).unwrap();
    assert_eq!(assemble(&[image.device()]).0.len(), 1);
    let mut faults = 0;
    for at in (512..16384).step_by(37) {
        let mut spoiled = good.clone();
        spoiled[at..at + 24].fill(if at % 2 == 0 { 0xff } else { b'{' });
        let (volumes, found) = assemble(&[std::sync::Arc::new(spoiled)]);
        faults += usize::from(volumes.is_empty() || !found.is_empty());
    }
    assert!(faults > 10);
}

#[test]
fn members_without_metadata_second_areas_and_copies_are_known() {
    let images = [Image::new(48), Image::new(48)];
    let group = format!("areas{}", std::process::id());
    {
        let devices = images.each_ref().map(LoopDevice::new);
        let [first, second] = [devices[0].name(), devices[1].name()];
        lvm("pvcreate", &["-y", "--metadatacopies", "2", first]);
        lvm("pvcreate", &["-y", "--metadatacopies", "0", second]);
        lvm("vgcreate", &["-y", "-s", "4m", &group, first, second]);
        lvm("lvcreate", &["-an", "-Zn", "-Wn", "-y", "-L", "8m", "-n", "there", &group, second]);
    }
    let physical = images.each_ref().map(Image::device);
    let (volumes, faults) = assemble(&physical);
    assert_eq!((faults, volumes.len()), (vec![], 1));
    assert!(volumes[0].contents.is_ok() && volumes[0].members == [1], "it lies on the one without a text");
    // The first area is spoiled: the second one, at the disk's end, says the same.
    let mut spoiled = fs::read(&images[0].path).unwrap();
    spoiled[4096..4096 + 512].fill(0x5a);
    let (volumes, faults) = assemble(&[std::sync::Arc::new(spoiled), physical[1].clone()]);
    assert_eq!((faults, volumes.len()), (vec![], 1));
    // A copy of a member beside it.
    let (volumes, faults) = assemble(&[physical[0].clone(), physical[1].clone(), physical[1].clone()]);
    assert!(faults[0].contains("is there twice"), "{faults:?}");
    assert!(volumes[0].contents.as_ref().err().unwrap().contains("is there twice"));
}
