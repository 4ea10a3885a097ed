//! Strange disks: whatever stands on them, the survey says of each entry what the firmware makes of it.
//!
//! Every kind has a disk of its own with one program, which says its name and gives up, so that the firmware goes on to the
//! next: one start tells of many kinds.

mod gpt;
mod kinds;
mod tables;

use kinds::{Kind, Part};
use signpost_demo::program::{Ending, Program};
use signpost_demo::{BenchSpec, DiskSpec, PartitionSpec, StoreKind};
use signpost_disk::{Guid, guid};
use signpost_firmware::boot_variables::{boot_option, boot_order};
use signpost_firmware::device_path::{DevicePath, HardDrive, Node, PartitionSignature};
use signpost_firmware::load_option::LoadOption;

use crate::harness::TestMachine;
use crate::vm::Vm;

/// Kinds in one start: so many disks fit one machine.
const TOGETHER: usize = 24;
const END: &str = "the end";

/// Names of the images, since a disk's name is a word of the program's.
fn image(index: usize) -> &'static str {
    Box::leak(format!("disk{index}.img").into_boxed_str())
}

fn guid_of(index: usize, partition: u8) -> Guid {
    let mut bytes = guid!("dddddddd-0000-4000-8000-000000000000").to_bytes();
    (bytes[14], bytes[15]) = (partition, index as u8);
    Guid::from_bytes(bytes)
}

fn program(name: &str, ending: Ending) -> Vec<u8> {
    Program::new(name).ending(ending).build()
}

fn disk(index: usize, file: Vec<u8>, mebibytes: u64) -> DiskSpec {
    let files = vec![("/EFI/strange/a.efi".to_string(), file)];
    let spare = PartitionSpec::esp(guid_of(index, 2), "OTHER", 0x2000 + index as u32, 4, vec![]);
    DiskSpec {
        image: image(index),
        bus: "sata",
        model: "Sandpiper",
        serial: Box::leak(format!("SND-{index}").into_boxed_str()),
        guid: guid_of(index, 0),
        partitions: vec![
            PartitionSpec::esp(guid_of(index, 1), "STRANGE", 0x1000 + index as u32, mebibytes, files),
            spare,
        ],
    }
}

/// What becomes of a program.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Fate {
    Starts,
    /// The firmware goes on to the next entry.
    DoesNot,
    /// It is started, and the machine stands still.
    Hangs,
}

/// The device path of the file by a table of BIOS.
fn by_signature(index: usize, number: u32) -> DevicePath {
    let signature = PartitionSignature::Mbr(tables::SIGNATURE + index as u32);
    let drive = HardDrive { number, start: 2048, size: 8192, signature };
    DevicePath::new(vec![Node::hard_drive(&drive), Node::file_path("\\EFI\\strange\\a.efi")])
}

/// A machine with a disk of each kind.
fn machine(kinds: &[&Kind]) -> (TestMachine, Vec<&'static str>) {
    let mut disks: Vec<DiskSpec> = Vec::new();
    let mut variables = Vec::new();
    for (index, kind) in kinds.iter().enumerate() {
        let mut file = program(kind.name, Ending::GiveUp);
        if let Part::Program(change) = &kind.part {
            change(&mut file);
        }
        let disk = disk(index, file, kind.mebibytes);
        let path = match &kind.part {
            Part::Path(path) => disk.path_to(1, path),
            Part::Mbr(number, _) => by_signature(index, *number),
            _ => disk.path_to(1, "\\EFI\\strange\\a.efi"),
        };
        variables.push(boot_option(index as u16, &LoadOption::new(kind.name, path, vec![])));
        disks.push(disk);
    }
    let last = disk(kinds.len(), program(END, Ending::PowerOff), 4);
    let path = last.path_to(1, "\\EFI\\strange\\a.efi");
    variables.push(boot_option(kinds.len() as u16, &LoadOption::new(END, path, vec![])));
    variables.push(boot_order(&(0..=kinds.len() as u16).collect::<Vec<_>>()));
    disks.push(last);
    let images = disks.iter().map(|disk| disk.image).collect();
    let spec = BenchSpec {
        name: "Strange bench".into(),
        disks,
        variables,
        store: StoreKind::Fd,
        more: "secure-boot = false\n".into(),
        catalogue: "",
        recipes: "",
    };
    let machine = TestMachine::new(&spec);
    for (index, kind) in kinds.iter().enumerate() {
        let path = machine.path(image(index));
        let mut bytes = std::fs::read(&path).unwrap();
        match &kind.part {
            Part::Disk(change) => change(&mut bytes),
            Part::Mbr(_, change) => {
                change(&mut bytes);
                bytes[440..444].copy_from_slice(&(tables::SIGNATURE + index as u32).to_le_bytes());
            }
            Part::Fat(change) => change(&mut bytes[1 << 20..(1 + kind.mebibytes as usize) << 20]),
            Part::Program(_) | Part::Path(_) => continue,
        }
        std::fs::write(&path, bytes).unwrap();
    }
    (machine, images)
}

/// Asks the survey about machines of these kinds, starts them, and tells of which kinds the two say different things.
fn disagreements(kinds: &[&Kind]) -> Vec<String> {
    let mut left: Vec<&Kind> = kinds.to_vec();
    let mut wrong = Vec::new();
    while !left.is_empty() {
        let now: Vec<&Kind> = left.drain(..left.len().min(TOGETHER)).collect();
        let (machine, images) = machine(&now);
        let survey = machine.json(&["survey"]);
        let entries = survey["firmware"]["entries"].as_array().unwrap();
        let mut vm = Vm::start(machine.folder(), &images);
        let mut serial = String::new();
        vm.wait_until(|bytes| {
            serial = String::from_utf8_lossy(bytes).into_owned();
            serial.contains(&format!("STARTED {END}\r\n")) || serial.contains("X64 Exception Type")
        });
        let hung = serial.contains("X64 Exception Type").then(|| {
            let at = now.iter().rposition(|kind| serial.contains(&format!(" \"{}\" from", kind.name)));
            at.unwrap_or_else(|| panic!("{serial}"))
        });
        // What was not reached comes again.
        left.splice(0..0, now.iter().skip(hung.map_or(now.len(), |hung| hung + 1)).copied());
        for (index, (kind, entry)) in
            now.iter().zip(entries).enumerate().take(hung.map_or(now.len(), |hung| hung + 1))
        {
            let fate = match serial.contains(&format!("STARTED {}\r\n", kind.name)) {
                true => Fate::Starts,
                false if hung == Some(index) => Fate::Hangs,
                false => Fate::DoesNot,
            };
            let foretold = match entry["verdict"].as_str().unwrap() {
                "starts" => Fate::Starts,
                "hangs" => Fate::Hangs,
                _ => Fate::DoesNot,
            };
            if foretold != fate {
                let told = format!("{}: {}", entry["verdict"], entry["finding"]);
                wrong.push(format!("{}: {fate:?}; the survey says {told}", kind.name));
            }
        }
    }
    wrong
}

/// Holds every fourth kind against the firmware; each, where the environment says so, as after a change of what is foretold.
fn agree(kinds: &[Kind]) {
    let step = std::env::var("SIGNPOST_EVERY_KIND").map_or(4, |_| 1);
    let tried: Vec<&Kind> = kinds.iter().step_by(step).collect();
    let wrong = disagreements(&tried);
    assert!(wrong.is_empty(), "{} of {}:\n{}", wrong.len(), tried.len(), wrong.join("\n"));
}

#[test]
fn strange_programs() {
    agree(&kinds::programs());
}

#[test]
fn strange_file_systems() {
    agree(&kinds::file_systems());
}

#[test]
fn strange_partition_tables() {
    agree(&tables::tables());
}

#[test]
fn there_are_enough_kinds() {
    let count = kinds::programs().len() + kinds::file_systems().len() + tables::tables().len();
    assert!(count >= 60, "{count}");
}
