//! Names of disks that nothing on them tells: serials, which the drives are asked for, and where a disk is plugged in.

use signpost_firmware::boot_variables::{boot_option, boot_order};
use signpost_firmware::load_option::LoadOption;
use signpost_vm::{Bus, Spec};

use crate::harness::TestMachine;
use crate::menu::with_slots;
use crate::vm::Vm;

#[test]
fn disks_are_told_by_their_drives_serials_and_by_where_they_are_plugged_in() {
    let mut bench = with_slots([vec![b'\n'; 65536], vec![b'\n'; 65536]]);
    let ours = LoadOption::new("Signpost", bench.disks[0].path_to(1, "\\EFI\\BOOT\\BOOTX64.EFI"), vec![]);
    bench.variables = vec![boot_option(0, &ours), boot_order(&[0])];
    let machine = TestMachine::new(&bench);
    std::fs::copy(machine.path("meridian.img"), machine.path("copy.img")).unwrap();
    let mut spec = Spec::of_bench(machine.folder(), &["lark.img", "meridian.img", "copy.img"]);
    let kinds = [(Bus::Nvme, "PTR 1"), (Bus::Sata, "CRM-1"), (Bus::Scsi, "CRM-2")];
    for (disk, (bus, serial)) in spec.disks.iter_mut().zip(kinds) {
        (disk.bus, disk.serial) = (bus, Some(serial.into()));
    }
    let mut vm = Vm::start_spec(&spec);
    vm.wait_for("No menu was found here.");
    for (place, found) in [
        ("disk:PTR_1#1/EFI", "larkspur"),
        ("disk:CRM-1#1/EFI", "meridian"),
        ("disk:CRM-2#1/EFI", "meridian"),
        ("path:PciRoot(0x0)/Pci(0x1f,0x2)/Sata(0x1,0xffff,0x0)#1/EFI", "meridian"),
        ("uuid:0b0b-0001/EFI", "fits 2 volumes"),
        ("disk:CRM-3#1/EFI", "there is disk:CRM-"),
    ] {
        vm.type_keys(&format!("look {place}\r"));
        vm.wait_for("/EFI");
        vm.wait_for(found);
    }
}
