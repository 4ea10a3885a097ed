//! The program on a PC that was started by BIOS: a real kernel in the virtual machine, which writes sectors through the disk's own
//! device.

use signpost_demo::boot_sector::said;
use signpost_firmware::bios::{SECTOR, active, plain};
use signpost_vm::{Bus, Spec, Vm};

use super::real::{FIRST, bench, started};
use crate::debian::kernel;
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

/// What is written while a partition of the disk is in use: the first sector, and no boot sector that the kernel holds.
#[test]
fn sectors_are_written_through_the_device_and_what_is_in_use_is_not() {
    let (folder, work) = (bench(), tempfile::tempdir().unwrap());
    let at = work.path().join("rescue.cpio");
    std::fs::write(&at, initrd(work.path(), SCRIPT)).unwrap();
    let mut spec = Spec::of_bios([folder.path().join("disk.img")]);
    spec.memory = 768;
    spec.disks[0].bus = Bus::Virtio;
    spec.disks[0].serial = Some("S-1".into());
    let kernel = format!("/boot/vmlinuz-{}", kernel().0);
    let words =
        ["-kernel", &kernel, "-initrd", at.to_str().unwrap(), "-append", "console=ttyS0 quiet panic=-1"];
    spec.devices = words.map(String::from).to_vec();
    let before = std::fs::read(folder.path().join("disk.img")).unwrap();
    let heard = Heard(Vm::start(&spec, None).unwrap().until_it_ends().unwrap().replace('\r', ""));
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
