//! The program on a PC that was started by BIOS: a real kernel in the virtual machine, which writes sectors through the disk's own
//! device.

use std::path::Path;

use signpost_demo::boot_sector::said;
use signpost_firmware::bios::{SECTOR, active, plain};
use signpost_vm::{Bus, SAME_ADDRESSES, Spec, Vm};

use super::look::{is_drawn_as_foretold, lathe};
use super::real::{FIRST, bench, started};
use crate::debian::kernel;
use crate::harness::flat;
use crate::live::{Heard, initrd};

const SCRIPT: &str = r#"
said survey signpost --json survey
said save signpost sector save d1 /tmp/d1.bin
said partition signpost sector save d1p1 /tmp/d1p1.bin
mount -t vfat /dev/vda1 /esp
said mounted signpost sector restore /tmp/d1p1.bin d1p1 --yes
said active signpost sector active d1p2 --yes
said standard signpost sector standard d1 --yes
dd if=/dev/urandom of=/dev/vda bs=440 count=1 conv=notrunc 2>/dev/null
said restore signpost sector restore /tmp/d1.bin d1 --yes
umount /esp
dd if=/dev/vda2 of=/tmp/d1p2.bin count=1 2>/dev/null
mkswap /dev/vda2 && swapon /dev/vda2
said swapped signpost sector restore /tmp/d1p1.bin d1p2 --yes
swapoff /dev/vda2
dd if=/tmp/d1p2.bin of=/dev/vda2 conv=notrunc 2>/dev/null
said dmesg dmesg
"#;

/// What a system says that does this on a PC with this disk.
fn works(disk: &Path, script: &str) -> Heard {
    let work = tempfile::tempdir().unwrap();
    let at = work.path().join("rescue.cpio");
    std::fs::write(&at, initrd(work.path(), script)).unwrap();
    let mut spec = Spec::of_bios([disk.to_path_buf()]);
    spec.memory = 768;
    spec.disks[0].bus = Bus::Virtio;
    spec.disks[0].serial = Some("S-1".into());
    let kernel = format!("/boot/vmlinuz-{}", kernel().0);
    let arguments = format!("console=ttyS0 quiet panic=-1 {SAME_ADDRESSES}");
    let words = ["-kernel", &kernel, "-initrd", at.to_str().unwrap(), "-append", &arguments];
    spec.devices = words.map(String::from).to_vec();
    Heard(Vm::start(&spec, None).unwrap().until_it_ends().unwrap().replace('\r', ""))
}

/// What is written while a partition of the disk is in use: the first sector, and no boot sector that the kernel holds.
#[test]
fn sectors_are_written_through_the_device_and_what_is_in_use_is_not() {
    let folder = bench();
    let before = std::fs::read(folder.path().join("disk.img")).unwrap();
    let heard = works(&folder.path().join("disk.img"), SCRIPT);
    let survey = heard.json("survey");
    assert_eq!(survey["machine"]["firmware"], "bios", "{}", survey["machine"]);
    assert_eq!(survey["boot_sectors"]["is_order_known"], true, "the kernel was told the order");
    heard.ok("save");
    heard.ok("partition");
    let refused = heard.said("mounted");
    assert_eq!(refused.code, 3, "{}", refused.text);
    assert!(refused.text.contains("d1p1 is mounted"), "{}", refused.text);
    let refused = heard.said("swapped");
    assert_eq!(refused.code, 3, "{}", refused.text);
    assert!(refused.text.contains("d1p2 is being swapped to"), "{}", refused.text);
    assert!(heard.ok("active").contains("from d1p2, which is active"));
    assert!(heard.ok("standard").contains("nothing would change"), "it is there already");
    assert!(heard.ok("restore").contains("put back the code of the first sector of d1"));
    let after = std::fs::read(folder.path().join("disk.img")).unwrap();
    assert_eq!(after[..plain::CODE.len()], plain::CODE);
    assert_eq!(active(&after[..SECTOR]).collect::<Vec<_>>(), [1], "the table stayed as it was made");
    assert_eq!(
        after[FIRST * SECTOR..FIRST * SECTOR + SECTOR],
        before[FIRST * SECTOR..FIRST * SECTOR + SECTOR]
    );
    started(folder.path()).wait_for(&said("Beside it", 0x80, 0x83)).unwrap();
}

/// A system whose `/boot` is a volume of its own puts the picture there, by the mount.
#[test]
fn a_picture_is_written_to_the_volume_that_is_mounted_at_boot() {
    let machine = lathe();
    // The rescue system has no picture but this one, of a single colour.
    let picture =
        "iVBORw0KGgoAAAANSUhEUgAAAAEAAAABCAIAAACQd1PeAAAADElEQVR4nGNQcEgAAAFEAMELjZZCAAAAAElFTkSuQmCC";
    let script = format!(
        "mkdir -p /boot /etc/signpost; mount /dev/vda6 /boot
         echo {picture} | base64 -d >/etc/signpost/harbour.png
         said draft signpost draft --host signpost
         said tune signpost tune timeout=never look.screen=1024x768 look.picture=harbour.png look.align=left look.width=narrow
         said apply signpost apply --yes
         said again signpost plan --check
         said check signpost check
         said menu cat /etc/signpost/menu.toml
         said there ls /boot/signpost
         printf x | dd of=/boot/signpost/PICTURE.PIC bs=1 seek=17 conv=notrunc 2>/dev/null
         umount /boot
         said unmounted signpost hold --dry-run
         said unmounted-undo signpost undo --dry-run
         said unmounted-menu signpost plan
         mount /dev/vda6 /boot
         said hold signpost hold
         umount /boot
         said at-last signpost hold --check"
    );
    let heard = works(&machine.path("gauge.img"), &script);
    let applied = heard.ok("apply");
    assert!(applied.contains("write the picture, d1p6:/signpost/PICTURE.PIC"), "{applied}");
    assert_eq!(heard.ok("there").trim(), "PICTURE.PIC");
    heard.ok("again");
    assert!(heard.ok("check").contains("No problems"));
    // What cannot be written to is left as it is, and that is said; the menu may have its picture elsewhere.
    let said = flat(&heard.ok("unmounted"));
    assert!(said.contains("its volume has to be mounted") && !said.contains("write the picture"), "{said}");
    assert!(
        flat(&heard.ok("unmounted-undo")).contains("PICTURE.PIC stays as it is: its volume is not mounted")
    );
    let said = flat(&heard.ok("unmounted-menu"));
    assert!(said.contains("write the picture, d1p1:/EFI/signpost/PICTURE.PIC"), "{said}");
    assert!(said.contains("d1p6:/signpost/PICTURE.PIC stays: its volume is not mounted, or"), "{said}");
    assert!(heard.ok("hold").contains("write the picture, d1p6:/signpost/PICTURE.PIC"));
    assert!(heard.ok("at-last").contains("Everything is as it was applied"));
    // The boot program shows what is foretold by the same menu file on a bench.
    machine.write("menu.toml", &heard.ok("menu"));
    image::RgbImage::from_pixel(1, 1, image::Rgb([0x20, 0x40, 0x60]))
        .save(machine.path("harbour.png"))
        .unwrap();
    is_drawn_as_foretold(&machine, &["--size", "1024x768"]);
}
