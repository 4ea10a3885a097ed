//! What is fuzzed: every reader of bytes that others write. Each function takes any bytes and must come back; the same ones run
//! over the seeds of `corpus/` in an ordinary test.
#![allow(dead_code, reason = "each fuzzing program takes one of them")]

use std::collections::BTreeMap;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::{Arc, Once};

use signpost_core::history::Record;
use signpost_demo::StoreKind;
use signpost_disk::block::{BlockDevice, ReadError, SharedDevice};
use signpost_disk::fat::{Change, FatVolume, Stamp};
use signpost_disk::file_system::FileSystem;
use signpost_disk::open;
use signpost_disk::probe::{Identity, VolumeKind, identify};
use signpost_disk::table::Table;
use signpost_disk::volumes::{Disk, Volumes};
use signpost_firmware::boot_variables::BootVariables;
use signpost_firmware::image::pe::{MachineType, Pe};
use signpost_firmware::image::{in_words, linux, loading, version_resource};
use signpost_firmware::load_option::LoadOption;
use signpost_firmware::store::fd::FdImage;
use signpost_machine::Machine;
use signpost_menu::include::EntryFile;
use signpost_menu::linux_files::{kept_arguments, mounts, named};
use signpost_menu::os_release::OsRelease;
use signpost_menu::place::Place;
use signpost_menu::prompt::Prompt;
use signpost_menu::slot::Slot;
use signpost_menu::text::{acts, shown};
use signpost_menu::{MenuDocument, parse, parse_leniently};
use signpost_place::Look;
use signpost_place::secure_boot::SecureBoot;
use signpost_survey::catalogue::Catalogue;

/// A target.
type Target = fn(&[u8]);

/// Every target, by its name.
pub const ALL: [(&str, Target); 18] = [
    ("tables", tables),
    ("fat", fat),
    ("ext", ext),
    ("xfs", xfs),
    ("btrfs", btrfs),
    ("ntfs", ntfs),
    ("exfat", exfat),
    ("udf", udf),
    ("iso", iso),
    ("volume_managers", volume_managers),
    ("programs", programs),
    ("load_options", load_options),
    ("variable_store", variable_store),
    ("menu_file", menu_file),
    ("slots", slots),
    ("texts", texts),
    ("history", history),
    ("prompt_lines", prompt_lines),
];

fn device(data: &[u8]) -> SharedDevice {
    Arc::new(data.to_vec())
}

/// A large volume told by the few sectors of it that are not empty, since no tool makes a small one: its size in MiB (two
/// bytes), then, for each, its number (four bytes, little endian) and its 512 bytes.
struct FewSectors {
    size: u64,
    sectors: BTreeMap<u64, Vec<u8>>,
}

/// Bytes of a sector that [`FewSectors`] tells.
const SECTOR: u64 = 512;

impl FewSectors {
    fn device(data: &[u8]) -> SharedDevice {
        let (size, told) = data.split_at(data.len().min(2));
        let size = u64::from(u16::from_le_bytes(size.try_into().unwrap_or_default())) << 20;
        let sectors = told.chunks(4 + SECTOR as usize).filter_map(|sector| {
            let (number, bytes) = sector.split_at_checked(4)?;
            Some((u64::from(u32::from_le_bytes(number.try_into().ok()?)), bytes.to_vec()))
        });
        Arc::new(Self { size, sectors: sectors.collect() })
    }
}

impl BlockDevice for FewSectors {
    fn size(&self) -> u64 {
        self.size
    }

    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> Result<(), ReadError> {
        let length = buffer.len() as u64;
        let end = offset.checked_add(length).filter(|end| *end <= self.size);
        let Some(end) = end else { return Err(ReadError::past_end(offset, buffer.len(), self.size)) };
        buffer.fill(0);
        for (number, bytes) in self.sectors.range(offset / SECTOR..end.div_ceil(SECTOR)) {
            for (at, byte) in (number * SECTOR..).zip(bytes) {
                if let Some(to) = at.checked_sub(offset).and_then(|at| buffer.get_mut(at as usize)) {
                    *to = *byte;
                }
            }
        }
        Ok(())
    }
}

pub fn tables(data: &[u8]) {
    for sector in [512, 4096] {
        let table = Table::read(&data.to_vec(), sector);
        assert!(table.partitions.len() < 70_000);
    }
}

pub fn fat(data: &[u8]) {
    let Ok(volume) = FatVolume::open(device(data)) else { return };
    let whole = volume.check().is_ok();
    look(&volume);
    let stamp = Stamp::default();
    // A volume that holds together does so after every change.
    for (path, change) in
        [("/EFI/signpost/MENU-A.TML", Change::Put(&[7; 3000][..])), ("/EFI/x", Change::Remove)]
    {
        let Ok(writes) = volume.change(path, change, stamp) else { continue };
        let mut after = data.to_vec();
        for (at, bytes) in writes {
            let Some(place) = after.get_mut(at as usize..at as usize + bytes.len()) else { return };
            place.copy_from_slice(&bytes);
        }
        let after = FatVolume::open(device(&after)).and_then(|after| after.check());
        assert!(!whole || after.is_ok(), "{path}: not whole any more: {after:?}");
    }
}

/// Looks at the first folders of a file system, and into their files.
fn look(fs: &dyn FileSystem) {
    let mut folders = vec!["/".to_string()];
    for _ in 0..8 {
        let Some(folder) = folders.pop() else { break };
        for item in fs.list(&folder).unwrap_or_default().into_iter().take(16) {
            let path = format!("{}/{}", folder.trim_end_matches('/'), item.name);
            if item.is_folder {
                folders.push(path);
            } else {
                let head = fs.read_head(&path, 4096).unwrap_or_default();
                assert!(head.len() <= 4096, "{path}");
            }
        }
    }
    let _ = fs.subvolumes();
}

fn file_system(kind: VolumeKind, device: &SharedDevice) {
    if let Some(Ok(fs)) = open::file_system(device, &Identity::of_kind(kind)) {
        look(fs.as_ref());
    }
    let _ = identify(device.as_ref());
}

/// Readers of others, whose panics the desk catches.
fn guarded(call: impl FnOnce()) {
    static QUIET: Once = Once::new();
    QUIET.call_once(|| std::panic::set_hook(Box::new(|_| {})));
    let _ = catch_unwind(AssertUnwindSafe(call));
}

pub fn ext(data: &[u8]) {
    guarded(|| file_system(VolumeKind::Ext4, &device(data)));
}

pub fn xfs(data: &[u8]) {
    file_system(VolumeKind::Xfs, &FewSectors::device(data));
}

pub fn btrfs(data: &[u8]) {
    file_system(VolumeKind::Btrfs, &FewSectors::device(data));
}

pub fn ntfs(data: &[u8]) {
    file_system(VolumeKind::Ntfs, &FewSectors::device(data));
}

pub fn exfat(data: &[u8]) {
    file_system(VolumeKind::ExFat, &FewSectors::device(data));
}

pub fn udf(data: &[u8]) {
    file_system(VolumeKind::Udf, &FewSectors::device(data));
}

pub fn iso(data: &[u8]) {
    file_system(VolumeKind::Iso9660, &device(data));
}

pub fn volume_managers(data: &[u8]) {
    let half = data.len() / 2;
    let disks = [data, &data[..half], &data[half..]].map(|part| Disk::look(&device(part), 512));
    let found = Volumes::find(&disks);
    assert!(found.list.len() < 100_000);
}

pub fn programs(data: &[u8]) {
    let _ =
        (in_words(data), linux::decode(data), loading::becomes(data, data.len() as u64, MachineType::X64));
    if let Ok(pe) = Pe::decode(data) {
        let _ = version_resource::decode(&pe, data);
        let _ = pe.section_bytes(data, ".osrel");
    }
    let _ = SecureBoot::read(&Vec::new().into()).judge(data);
}

pub fn load_options(data: &[u8]) {
    let Ok(option) = LoadOption::decode(data) else { return };
    let _ =
        (option.path.to_string(), option.path.hard_drive(), option.path.file(), option.is_made_by_firmware());
    let again = LoadOption::decode(&option.encode());
    assert!(again.is_ok_and(|again| again.path == option.path));
}

pub fn variable_store(data: &[u8]) {
    let Ok(image) = FdImage::decode(data.to_vec()) else { return };
    let _ = BootVariables::read(&image.contents());
    let _ = image.room();
}

pub fn menu_file(data: &[u8]) {
    let text = String::from_utf8_lossy(data);
    let (document, problems) = parse_leniently(&text);
    match parse(&text) {
        Ok(strict) => assert!(document == Some(strict) && problems.is_empty()),
        Err(problems) => assert!(!problems.is_empty()),
    }
}

pub fn slots(data: &[u8]) {
    if let Ok(slot) = Slot::decode(data) {
        assert_eq!(slot.encode().and_then(|bytes| Slot::decode(&bytes).ok()), Some(slot));
    }
}

/// Files of systems, places as people type them, and text that is shown.
pub fn texts(data: &[u8]) {
    let text = String::from_utf8_lossy(data);
    let release = OsRelease::parse(&text);
    for said in [release.title(), release.id().map(str::to_string), EntryFile::parse(&text).title]
        .into_iter()
        .flatten()
    {
        assert!(!said.contains(acts), "{said:?}");
    }
    for mount in mounts(&text) {
        let _ = named(mount.what);
    }
    let _ = (kept_arguments(&text), Place::parse(&text));
    assert!(!shown(&text).contains(acts));
}

pub fn history(data: &[u8]) {
    let _ = serde_json::from_slice::<Record>(data);
}

/// Lines at the prompt, on the demo's bench; nothing that they ask for is carried out.
pub fn prompt_lines(data: &[u8]) {
    thread_local! {
        static LOOK: &'static Look = bench();
    }
    let text = String::from_utf8_lossy(data);
    LOOK.with(|look| {
        let mut prompt = Prompt::new(MenuDocument::default());
        for line in text.lines().take(20) {
            let _ = prompt.complete(line, *look);
            let reply = prompt.run(line, *look);
            assert!(!reply.lines.iter().any(|line| line.contains(acts)), "{line:?}");
        }
    });
}

/// The demo's bench, which stays as long as the process.
fn bench() -> &'static Look {
    let folder = std::env::temp_dir().join(format!("signpost-fuzz-{}", std::process::id()));
    signpost_demo::tide::bench(StoreKind::Folder).write(&folder).expect("the bench can be written");
    let machine = &Machine::open_bench(&folder).expect("it is a bench");
    let look = Box::leak(Box::new(signpost_upkeep::look(machine, &Catalogue::built_in())));
    // What is open stays readable.
    let _ = std::fs::remove_dir_all(&folder);
    look
}
