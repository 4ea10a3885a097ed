//! A bench in a temporary folder, and the program run on it with nothing of the surroundings.

use std::io::Read;
use std::path::{Path, PathBuf};
use std::process::Output;

use assert_cmd::Command;
use signpost_demo::program::{Kernel, Program};
use signpost_demo::{BenchSpec, Content, DiskSpec, PartitionSpec, StoreKind};
use signpost_disk::{Guid, guid, partition_type};
use signpost_firmware::boot_variables::{BootVariables, boot_option, boot_order};
use signpost_firmware::load_option::LoadOption;
use signpost_firmware::store::fd::FdImage;
use signpost_firmware::store::kernel_file;
use signpost_firmware::variable::{Contents, Variable};
use signpost_menu::disk_number::DiskNumbers;
use signpost_menu::slot::{Slot, Writer};

pub const LARK_ESP: Guid = guid!("aaaaaaaa-0001-4000-8000-000000000001");
pub const MERIDIAN_ESP: Guid = guid!("bbbbbbbb-0001-4000-8000-000000000001");

/// A bench and the program on it.
pub struct TestMachine {
    folder: tempfile::TempDir,
}

/// What a file holds: its length, and what is not zero of it. Images are mostly nothing.
#[derive(Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Held {
    length: u64,
    pieces: Vec<(u64, Vec<u8>)>,
}

impl Held {
    fn of(path: &Path) -> Self {
        const PIECE: usize = 16 << 10;
        static ZEROES: [u8; PIECE] = [0; PIECE];
        let (mut file, mut held) =
            (std::fs::File::open(path).unwrap(), Self { length: 0, pieces: Vec::new() });
        let mut piece = vec![0; PIECE];
        loop {
            let read = file.read(&mut piece).unwrap();
            if read == 0 {
                return held;
            }
            if !ZEROES.starts_with(&piece[..read]) {
                held.pieces.push((held.length, piece[..read].to_vec()));
            }
            held.length += read as u64;
        }
    }
}

/// How a run ended.
#[must_use]
pub struct Run {
    pub stdout: String,
    pub stderr: String,
    pub code: i32,
}

impl TestMachine {
    pub fn new(spec: &BenchSpec) -> Self {
        let folder = tempfile::tempdir().unwrap();
        spec.write(folder.path()).unwrap();
        Self { folder }
    }

    /// Two small disks: Larkspur's ESP with a kernel that the firmware can start, Meridian's ESP.
    pub fn small() -> Self {
        Self::new(&small(StoreKind::Folder))
    }

    /// Another one that is as this one is now.
    pub fn copy(&self) -> Self {
        let copy = Self { folder: tempfile::tempdir().unwrap() };
        copy.become_like(self);
        copy
    }

    /// Makes this one what another one is now.
    pub fn become_like(&self, other: &Self) {
        for entry in std::fs::read_dir(self.folder()).unwrap() {
            let path = entry.unwrap().path();
            let removed =
                if path.is_dir() { std::fs::remove_dir_all(path) } else { std::fs::remove_file(path) };
            removed.unwrap();
        }
        let from = other.folder().join(".");
        let copied =
            std::process::Command::new("cp").arg("-a").arg(from).arg(self.folder()).status().unwrap();
        assert!(copied.success());
    }

    pub fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    pub fn folder(&self) -> &Path {
        self.folder.path()
    }

    pub fn write(&self, name: &str, text: &str) {
        std::fs::write(self.path(name), text).unwrap();
    }

    pub fn read(&self, name: &str) -> String {
        std::fs::read_to_string(self.path(name)).unwrap()
    }

    /// Runs the program; what differs from run to run is named in brackets.
    pub fn run(&self, args: &[&str]) -> Run {
        let mut command = program();
        let output = command.arg("--machine").arg(self.folder()).args(args).output().unwrap();
        let mut run = Run::new(&output);
        let folder = self.folder().display().to_string();
        for text in [&mut run.stdout, &mut run.stderr] {
            *text = text.replace(&folder, "[BENCH]");
        }
        run
    }

    /// Runs the program, which must end well; its standard output.
    pub fn ok(&self, args: &[&str]) -> String {
        let run = self.run(args);
        assert_eq!(run.code, 0, "{args:?}: {}{}", run.stdout, run.stderr);
        run.stdout
    }

    /// Runs the program, which must end with this code; its standard error.
    pub fn fails(&self, code: i32, args: &[&str]) -> String {
        let run = self.run(args);
        assert_eq!(run.code, code, "{args:?}: {}{}", run.stdout, run.stderr);
        run.stderr
    }

    pub fn json(&self, args: &[&str]) -> serde_json::Value {
        let mut all = vec!["--json"];
        all.extend(args);
        result_of(&self.run(&all).stdout)
    }

    /// The same for a command that fails: the error.
    pub fn error(&self, args: &[&str]) -> serde_json::Value {
        let mut all = vec!["--json"];
        all.extend(args);
        let mut document: serde_json::Value = serde_json::from_str(&self.run(&all).stdout).unwrap();
        document["error"].take()
    }

    /// Every variable, straight from the store.
    pub fn variables(&self) -> Contents {
        let fd = self.path("variables.fd");
        if fd.exists() {
            return FdImage::decode(std::fs::read(fd).unwrap()).unwrap().contents();
        }
        let files = std::fs::read_dir(self.path("variables")).unwrap().map(|entry| entry.unwrap().path());
        let read = files.filter_map(|path| {
            let name = kernel_file::parse_file_name(path.file_name()?.to_str()?)?;
            kernel_file::decode(name, &std::fs::read(&path).unwrap())
        });
        read.collect::<Vec<Variable>>().into()
    }

    pub fn boot(&self) -> BootVariables {
        BootVariables::read(&self.variables())
    }

    /// Puts a variable into a folder store, as another program would.
    pub fn put(&self, variable: &Variable) {
        let path = self.path("variables").join(kernel_file::file_name(&variable.name));
        std::fs::write(path, kernel_file::encode(variable)).unwrap();
    }

    /// Every file of the bench with what is in it, to see that nothing was changed.
    pub fn everything(&self) -> Vec<(PathBuf, Held)> {
        let mut files = Vec::new();
        let mut folders = vec![self.folder().to_path_buf()];
        while let Some(folder) = folders.pop() {
            for entry in std::fs::read_dir(folder).unwrap() {
                let path = entry.unwrap().path();
                if path.is_dir() {
                    folders.push(path);
                } else {
                    files.push((path.clone(), Held::of(&path)));
                }
            }
        }
        files.sort();
        files
    }
}

impl Run {
    fn new(output: &Output) -> Self {
        let text = |bytes: &[u8]| String::from_utf8(bytes.to_vec()).unwrap();
        Self {
            stdout: text(&output.stdout),
            stderr: text(&output.stderr),
            code: output.status.code().expect("ended by a signal"),
        }
    }
}

/// Copies the program. By another process: while this one had it open for writing, a test that starts a program at the same
/// time would hand that on, and the copy could not be run.
pub fn copy_program(to: &Path) {
    let copied =
        std::process::Command::new("cp").arg(env!("CARGO_BIN_EXE_signpost")).arg(to).status().unwrap();
    assert!(copied.success());
}

/// The built program, with nothing of the surroundings.
pub fn program() -> Command {
    let mut command = Command::new(env!("CARGO_BIN_EXE_signpost"));
    command.env_clear();
    command
}

pub fn run_bare(args: &[&str]) -> Run {
    Run::new(&program().args(args).output().unwrap())
}

pub fn file(path: &str, contents: Vec<u8>) -> (String, Vec<u8>) {
    (path.to_string(), contents)
}

pub fn lark_files() -> Vec<(String, Vec<u8>)> {
    let mut files = vec![file("/EFI/larkspur/lkload.efi", Program::new("Larkspur").build())];
    for version in ["6.9.1", "6.10.2"] {
        files.push(file(&format!("/EFI/larkspur/vmlinuz-{version}"), Kernel::new(version).build("Larkspur")));
        files.push(file(&format!("/EFI/larkspur/initrd-{version}"), b"initrd".to_vec()));
    }
    files
}

pub fn meridian_files() -> Vec<(String, Vec<u8>)> {
    let loader = Program::new("Meridian").string("ProductName", "Meridian Desktop 4").build();
    vec![file("/EFI/meridian/start.efi", loader.clone()), file("/EFI/BOOT/BOOTX64.EFI", loader)]
}

pub fn lark_disk(files: Vec<(String, Vec<u8>)>) -> DiskSpec {
    DiskSpec {
        image: "lark.img",
        bus: "nvme",
        model: "Petrel N512",
        serial: "PTR-1",
        guid: guid!("aaaaaaaa-0000-4000-8000-000000000000"),
        partitions: vec![
            PartitionSpec::esp(LARK_ESP, "LARK-ESP", 0x0a0a_0001, 4, files),
            PartitionSpec {
                guid: guid!("aaaaaaaa-0002-4000-8000-000000000002"),
                type_guid: partition_type::LINUX_DATA,
                name: "root",
                mebibytes: 4,
                content: Content::Bytes(b"XFSB".to_vec()),
            },
        ],
    }
}

pub fn meridian_disk(files: Vec<(String, Vec<u8>)>) -> DiskSpec {
    DiskSpec {
        image: "meridian.img",
        bus: "sata",
        model: "Cormorant",
        serial: "CRM-1",
        guid: guid!("bbbbbbbb-0000-4000-8000-000000000000"),
        partitions: vec![PartitionSpec::esp(MERIDIAN_ESP, "MERIDIAN", 0x0b0b_0001, 4, files)],
    }
}

/// Two small disks; the firmware knows Meridian alone.
pub fn small(store: StoreKind) -> BenchSpec {
    let meridian = meridian_disk(meridian_files());
    let path = meridian.path_to(1, "\\EFI\\meridian\\start.efi");
    BenchSpec {
        catalogue: "",
        recipes: "",
        name: "Small bench".into(),
        variables: vec![boot_option(1, &LoadOption::new("Meridian", path, vec![])), boot_order(&[1])],
        disks: vec![lark_disk(lark_files()), meridian],
        store,
        more: "secure-boot = false\n".into(),
    }
}

/// A record of the history with the checksum that it would have, had the program written it so.
pub fn sealed(mut record: serde_json::Value) -> String {
    use sha2::{Digest, Sha256};
    record["seal"] = "".into();
    let digest = Sha256::digest(serde_json::to_vec(&record).unwrap());
    record["seal"] = digest.iter().map(|byte| format!("{byte:02x}")).collect::<String>().into();
    serde_json::to_string_pretty(&record).unwrap()
}

/// A menu file with these sections behind its head.
pub fn menu(head: &str, entries: &[&str]) -> String {
    let mut text = format!("format = 1\n[menu]\nhost = \"firmware\"\n{head}\n");
    entries.iter().for_each(|entry| text.push_str(&format!("\n[[entry]]\n{entry}\n")));
    text
}

pub const LARK: &str = "id = \"lark\"\ntitle = \"Larkspur\"\nstarts = \"efi\"\nprogram = \"uuid:0A0A-0001/EFI/larkspur/lkload.efi\"";
pub const MERIDIAN: &str = "id = \"meridian\"\ntitle = \"Meridian\"\nstarts = \"efi\"\nprogram = \"uuid:0b0b-0001/EFI/meridian/start.efi\"";

/// A slot that the desk of a system has written.
pub fn slot_of(machine: &str, serial: u64, text: &str) -> Vec<u8> {
    let (machine, text) = (machine.into(), text.into());
    let (disks, homes) = (DiskNumbers::default(), Vec::new());
    Slot { serial, writer: Writer::Desk, machine, disks, homes, picture: None, text }.encode().unwrap()
}

/// The result in a JSON document of the program's.
pub fn result_of(document: &str) -> serde_json::Value {
    let mut document: serde_json::Value = serde_json::from_str(document).unwrap();
    assert_eq!(document["schema"], 1, "{document}");
    assert!(document["command"].is_string(), "{document}");
    document["result"].take()
}

/// A text with single blanks alone, wherever its lines were broken.
pub fn flat(text: &str) -> String {
    text.split_whitespace().collect::<Vec<_>>().join(" ")
}
