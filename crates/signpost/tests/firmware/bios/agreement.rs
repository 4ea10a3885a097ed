//! What the rehearsal says of a BIOS machine, against the open-source BIOS: machines from seeds, with one to three disks, first
//! sectors of several kinds, active flags, logical partitions, tables of a GPT, boot sectors that start, hang, return, say that they
//! start nothing, or lack their mark.

use std::path::PathBuf;
use std::time::Duration;

use signpost_demo::boot_sector::{said, stand_in};
use signpost_disk::gpt::{Layout, NewPartition, encode};
use signpost_disk::{Guid, partition_type};
use signpost_firmware::bios::{SECTOR, plain};
use signpost_vm::{Spec, Vm};

use crate::agreement::generate::Dice;
use crate::agreement::seeds;
use crate::harness::{result_of, run_bare};

/// All that a start says comes at once.
const PATIENCE: Duration = Duration::from_secs(20);
/// Bytes of a disk.
const DISK: usize = 4 << 20;
/// The first sectors of the four partitions.
const FIRST: [u32; 4] = [2048, 3072, 4096, 5120];

/// What a partition's boot sector does.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Code {
    Starts,
    Unmarked,
    Empty,
    SaysNothing,
    Loops,
    Returns,
}

struct Machine {
    folder: tempfile::TempDir,
    images: Vec<PathBuf>,
}

fn title(disk: usize, partition: usize) -> String {
    format!("Stand-in {}-{}", disk + 1, partition + 1)
}

/// A disk's first sector: its code, then four partitions of which some are active.
fn first_sector(dice: &mut Dice, disk: usize) -> [u8; SECTOR] {
    let mut sector = [0; SECTOR];
    let plain_too = |sector: &mut [u8; SECTOR]| sector[..plain::CODE.len()].copy_from_slice(&plain::CODE);
    match dice.below(11) {
        0 => {}
        8 => sector[..3].copy_from_slice(&[0xf4, 0xeb, 0xfd]),
        9 => sector[..2].copy_from_slice(&[0xcd, 0x18]),
        // Another boot manager's: it starts the second partition, whichever is active.
        10 => sector[..plain::CODE.len()].copy_from_slice(&second()),
        // Another's: the same, with a text more and interrupts left on.
        1 => {
            plain_too(&mut sector);
            sector[0] = 0x90;
        }
        2 if disk > 0 => stand_in(&mut sector, "Whole disk"),
        _ => plain_too(&mut sector),
    }
    sector[440..444].copy_from_slice(&(0x5157_0000 + disk as u32).to_le_bytes());
    for (index, first) in FIRST.iter().enumerate() {
        let entry = &mut sector[446 + index * 16..462 + index * 16];
        entry[1..4].copy_from_slice(&[0, 2, 0]);
        entry[4] = [0x06, 0x83, 0x0c, 0x07][index];
        entry[8..12].copy_from_slice(&first.to_le_bytes());
        entry[12..16].copy_from_slice(&1024u32.to_le_bytes());
    }
    let active = dice.below(6);
    if active < 4 {
        sector[446 + active * 16] = 0x80;
    }
    // Plain code of others refuses several, and what stands in for it here takes the first.
    if dice.below(8) == 0 && sector[0] != 0x90 {
        sector[446] = 0x80;
    }
    if dice.below(12) > 0 {
        sector[510..].copy_from_slice(&[0x55, 0xaa]);
    }
    sector
}

fn boot_sector(dice: &mut Dice, disk: usize, partition: usize) -> [u8; SECTOR] {
    let mut sector = [0; SECTOR];
    let code = [
        Code::Starts,
        Code::Starts,
        Code::Starts,
        Code::Starts,
        Code::Unmarked,
        Code::Empty,
        Code::SaysNothing,
        Code::Loops,
        Code::Returns,
    ][dice.below(9)];
    if !matches!(code, Code::Empty) {
        stand_in(&mut sector, &title(disk, partition));
    }
    match code {
        Code::Unmarked => sector[510] = 0,
        Code::Empty => sector[510..].copy_from_slice(&[0x55, 0xaa]),
        // What it prints says that it starts nothing, which is all that it does.
        Code::SaysNothing => {
            let text = b"This is not a bootable disk\0";
            sector[0x100..0x100 + text.len()].copy_from_slice(text);
        }
        // Behind the jump over a volume's parameters.
        Code::Loops => sector[0x5a..0x5d].copy_from_slice(&[0xf4, 0xeb, 0xfd]),
        Code::Returns => sector[0x5a..0x5c].copy_from_slice(&[0xcd, 0x18]),
        Code::Starts => {}
    }
    sector
}

/// Another boot manager's code: it starts the partition of the second entry, whichever is active. Made of plain code, by other
/// instructions in two places, and with other texts.
fn second() -> Vec<u8> {
    let mut code = plain::CODE.to_vec();
    let mut put = |old: &[u8], new: &[u8]| {
        let at = code.windows(old.len()).position(|bytes| bytes == old).unwrap();
        code[at..at + new.len()].copy_from_slice(new);
    };
    put(&[0xbe, 0xbe, 0x07], &[0xbe, 0xce, 0x07]); // the second entry
    put(&[0xf6, 0x04, 0x80, 0x75], &[0xf6, 0x04, 0x80, 0xeb]); // whatever its flag is
    let texts = code.windows(3).position(|bytes| bytes == b"No ").unwrap();
    code[texts..].fill(b'#');
    code
}

/// Puts a table of logical partitions into the place of the fourth partition, and one in it.
fn put_logical(disk: &mut [u8], port: usize) {
    const TYPE: usize = 446 + 3 * 16 + 4;
    disk[TYPE] = 0x05;
    let at = FIRST[3] as usize * SECTOR;
    disk[at..at + SECTOR].fill(0);
    let entry = at + 446;
    disk[entry + 4] = 0x83;
    disk[entry + 8..entry + 12].copy_from_slice(&64u32.to_le_bytes());
    disk[entry + 12..entry + 16].copy_from_slice(&512u32.to_le_bytes());
    disk[at + 510..at + 512].copy_from_slice(&[0x55, 0xaa]);
    let logical = at + 64 * SECTOR;
    stand_in((&mut disk[logical..logical + SECTOR]).try_into().unwrap(), &title(port, 4));
}

/// Makes the table one of a GPT, with the protective entry active or not.
fn put_gpt(disk: &mut [u8], is_active: bool) {
    let code: Vec<u8> = disk[..446].to_vec();
    let partition = |(index, first): (usize, &u32)| NewPartition {
        type_guid: partition_type::LINUX_DATA,
        guid: Guid::from_bytes([index as u8 + 1; 16]),
        first_lba: u64::from(*first),
        last_lba: u64::from(*first) + 1023,
        name: "stand-in",
    };
    let partitions = FIRST.iter().enumerate().map(partition).collect();
    let disk_guid = Guid::from_bytes([code[440]; 16]);
    for (offset, bytes) in encode(&Layout { disk_guid, sectors: (DISK / SECTOR) as u64, partitions }) {
        disk[offset as usize..offset as usize + bytes.len()].copy_from_slice(&bytes);
    }
    disk[..446].copy_from_slice(&code);
    disk[446] = if is_active { 0x80 } else { 0 };
}

fn machine(seed: u64) -> Machine {
    let mut dice = Dice::new(seed);
    let folder = tempfile::tempdir().unwrap();
    let count = 1 + dice.below(3);
    let mut text = String::from("format = 1\nname = \"From a seed\"\nfirmware = \"bios\"\n");
    // The firmware tries them in the order of the controller's ports; the file may name them in another one.
    let mut places: Vec<usize> = (0..count).collect();
    if dice.below(2) == 0 {
        places.reverse();
    }
    let order: Vec<String> = (0..count)
        .map(|port| (places.iter().position(|place| *place == port).unwrap() + 1).to_string())
        .collect();
    text.push_str(&format!("order = [{}]\n", order.join(", ")));
    let images: Vec<PathBuf> = (0..count).map(|port| folder.path().join(format!("d{port}.img"))).collect();
    for (port, image) in images.iter().enumerate() {
        let mut disk = vec![0; DISK];
        disk[..SECTOR].copy_from_slice(&first_sector(&mut dice, port));
        for (index, first) in FIRST.iter().enumerate() {
            let at = *first as usize * SECTOR;
            disk[at..at + SECTOR].copy_from_slice(&boot_sector(&mut dice, port, index));
        }
        match dice.below(8) {
            0 | 1 => put_logical(&mut disk, port),
            2 => put_gpt(&mut disk, dice.below(2) == 0),
            _ => {}
        }
        std::fs::write(image, disk).unwrap();
    }
    for port in &places {
        text.push_str(&format!("\n[[disk]]\nimage = \"d{port}.img\"\nserial = \"S-{port}\"\n"));
    }
    std::fs::write(folder.path().join("machine.toml"), text).unwrap();
    Machine { folder, images }
}

/// How the firmware's serial console says that a start ends.
fn end(expected: &Expected, machine: &Machine) -> Result<(), String> {
    let mut vm = Vm::start(&Spec::of_bios(machine.images.clone()), None)?.with_patience(PATIENCE);
    vm.wait_for("Booting from Hard Disk")?;
    match expected {
        Expected::Anything => Ok(()),
        Expected::Says(text) => vm.wait_for(text),
        // A machine that hangs says nothing more, while a start says something at once.
        Expected::Silence => match vm.settled() {
            rest if rest.contains("Stand-in") || rest.contains("disk") => Err(format!("it said {rest:?}")),
            _ => Ok(()),
        },
    }
}

#[derive(Debug)]
enum Expected {
    Says(String),
    Silence,
    /// The rehearsal says that it cannot follow that, so whatever comes is no surprise.
    Anything,
}

/// What the rehearsal says will be seen.
fn expected(machine: &Machine) -> (String, Expected) {
    let bench = machine.folder.path().to_str().unwrap();
    let document = run_bare(&["--machine", bench, "--json", "rehearse"]).stdout;
    let outcome = result_of(&document)["outcome"].clone();
    let (kind, text) = (outcome["kind"].as_str().unwrap(), outcome["text"].as_str().unwrap().to_string());
    // Of a start from d2p3 comes what stands there: drive 80, the type of the entry.
    let place = text.split_once(", from d").map(|(_, place)| place.split(',').next().unwrap().to_string());
    let expected = match (kind, place) {
        ("starts", Some(place)) => {
            let (disk, partition) = place.split_once('p').unwrap();
            let (disk, index) = (disk.parse::<usize>().unwrap(), partition.parse::<usize>().unwrap() - 1);
            let port = machine.port_of(disk);
            let kind = [0x06, 0x83, 0x0c, 0x07][index];
            Expected::Says(said(&title(port, index), 0x80, kind))
        }
        ("hangs", _) => Expected::Silence,
        ("may-start", _) if text.contains("cannot be followed") => Expected::Anything,
        ("nothing", _) if text.contains("goes back to the firmware") => {
            Expected::Says("No bootable device.".into())
        }
        ("nothing", _) if text.contains("no partition of d") => {
            Expected::Says("No partition of this disk is active.".into())
        }
        ("nothing", _) if text.contains("has no boot sector") => {
            Expected::Says("The active partition has no boot sector.".into())
        }
        ("nothing", _) if text.contains("only says") => Expected::Says("This is not a bootable disk".into()),
        ("nothing", _) if text.contains("lacks the mark") => Expected::Says("not a bootable disk".into()),
        other => panic!("{other:?}: {text}"),
    };
    (text, expected)
}

impl Machine {
    /// The controller's port of a disk, by its number.
    fn port_of(&self, number: usize) -> usize {
        let text = std::fs::read_to_string(self.folder.path().join("machine.toml")).unwrap();
        let image = text.lines().filter_map(|line| line.strip_prefix("image = \"d")).nth(number - 1).unwrap();
        image.split('.').next().unwrap().parse().unwrap()
    }
}

#[test]
fn rehearsal_and_firmware_agree() {
    let seeds = seeds("SIGNPOST_SEEDS", "0..12").into_iter();
    let faults: Vec<String> = seeds
        .filter_map(|seed| {
            let machine = machine(seed);
            let (text, expected) = expected(&machine);
            let fault = end(&expected, &machine).err()?;
            Some(format!("seed {seed}: rehearsed: {text}; expected {expected:?}; {fault}"))
        })
        .collect();
    assert!(faults.is_empty(), "{} disagree:\n{}", faults.len(), faults.join("\n"));
}
