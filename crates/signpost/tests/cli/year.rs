//! A year of one machine's life: after each change the rehearsal is as expected, and nothing made by hand is lost.

use signpost_demo::program::{Kernel, Program};
use signpost_demo::{BenchSpec, DiskSpec, StoreKind, change_fat};
use signpost_firmware::boot_variables::boot_order;

use crate::harness::{TestMachine, file, lark_disk, meridian_disk, meridian_files, small};
use crate::refresh::tidewater;

const RELEASE: &str = "ID=tidewater\nPRETTY_NAME=\"Tidewater RT 5\"\n";
/// Tidewater's volume on its disk, in bytes.
const VOLUME: std::ops::Range<usize> = 1 << 20..5 << 20;

struct Year {
    machine: TestMachine,
    /// Lines that a person put into the menu file.
    own: Vec<&'static str>,
}

fn spec(disks: Vec<DiskSpec>) -> BenchSpec {
    BenchSpec { disks, ..small(StoreKind::Folder) }
}

fn tidewater_disk() -> DiskSpec {
    lark_disk(tidewater(RELEASE, &["5.9", "5.10"], "root=LABEL=TIDE quiet"))
}

/// A visitor's disk, with a system of its own.
fn guest_disk() -> DiskSpec {
    let loader = Program::new("Guest").string("ProductName", "Guest Desktop").build();
    let mut disk = meridian_disk(vec![file("/EFI/guest/start.efi", loader)]);
    (disk.image, disk.serial) = ("guest.img", "GST-1");
    disk.guid = signpost_disk::guid!("cccccccc-0000-4000-8000-000000000000");
    disk.partitions[0].guid = signpost_disk::guid!("cccccccc-0001-4000-8000-000000000001");
    if let signpost_demo::Content::Fat { serial, .. } = &mut disk.partitions[0].content {
        *serial = 0x0c0c_0001;
    }
    disk
}

impl Year {
    fn new() -> Self {
        let machine = TestMachine::new(&spec(vec![tidewater_disk()]));
        std::fs::write(machine.path("program.efi"), Program::new("Signpost").boot_program().build()).unwrap();
        Self { machine, own: Vec::new() }
    }

    /// The disks of the machine then; those that were there stay as they are.
    fn disks(&self, disks: Vec<DiskSpec>) {
        let other = tempfile::tempdir().unwrap();
        let spec = spec(disks);
        spec.write(other.path()).unwrap();
        for name in spec.disks.iter().map(|disk| disk.image) {
            if !self.machine.path(name).exists() {
                std::fs::copy(other.path().join(name), self.machine.path(name)).unwrap();
            }
        }
        std::fs::copy(other.path().join("machine.toml"), self.machine.path("machine.toml")).unwrap();
    }

    fn files(&self, put: &[(String, Vec<u8>)], take: &[&str]) {
        change_fat(&self.machine.path("lark.img"), VOLUME, put, take).unwrap();
    }

    /// Refreshes, makes active, rehearses: what `draft` said. All that was made by hand is there.
    fn turn(&self, expected: &str) -> String {
        let said = self.machine.ok(&["draft", "--host", "signpost"]);
        let program = self.machine.path("program.efi");
        self.machine.ok(&["apply", "--yes", "--boot-program", program.to_str().unwrap()]);
        self.expect(expected);
        said
    }

    fn expect(&self, expected: &str) {
        let outcome = self.machine.json(&["rehearse"])["outcome"]["text"].to_string();
        assert!(outcome.contains(expected), "{outcome}, and not {expected}");
        let text = self.machine.read("menu.toml");
        for line in &self.own {
            assert!(text.lines().any(|own| own == *line), "{line} is lost:\n{text}");
        }
    }

    /// Changes the file as with an editor.
    fn by_hand(&mut self, before: &str, line: &'static str) {
        let text = self.machine.read("menu.toml");
        assert!(text.contains(before), "{before}:\n{text}");
        self.machine.write("menu.toml", &text.replacen(before, line, 1));
        self.own.push(line);
    }
}

#[test]
fn a_year_of_one_machine() {
    let mut year = Year::new();
    let said = year.turn("Tidewater RT 5, from d1p1:/boot/vmlinuz-5.10");
    assert!(said.contains("tidewater-older"), "{said}");

    // A second system is installed, on a disk of its own.
    year.disks(vec![tidewater_disk(), meridian_disk(meridian_files())]);
    assert!(year.turn("Tidewater RT 5, from").contains("Meridian Desktop 4"));
    let chosen = year.machine.json(&["rehearse", "--choose", "meridian"])["outcome"]["text"].to_string();
    assert!(chosen.contains("Meridian Desktop 4, from"), "{chosen}");

    // Titles and an order by hand, with a note on it.
    year.by_hand("title   = \"Tidewater RT 5\"", "title   = \"The tide gauge\"  # Anna calls it so");
    year.by_hand("timeout = 5           # seconds", "timeout = 20          # the keyboard is slow");
    year.machine.ok(&["entry", "move", "meridian", "top"]);
    assert!(year.turn("The tide gauge, from").contains("nothing new"));
    assert_eq!(year.machine.json(&["menu"])["entries"][0]["id"], "meridian");

    // A kernel comes with an update, and the one before it goes into the group.
    let newer = [
        file("/boot/vmlinuz-5.11", Kernel::new("5.11").build("Tidewater")),
        file("/boot/initrd-5.11", b"initrd".to_vec()),
    ];
    year.files(&newer, &[]);
    let said = year.turn("The tide gauge, from d1p1:/boot/vmlinuz-5.11");
    assert!(said.contains("tidewater-5.10"), "{said}");

    // A visitor's disk: what is on it is not for this menu.
    year.disks(vec![tidewater_disk(), meridian_disk(meridian_files()), guest_disk()]);
    assert!(year.turn("The tide gauge, from").contains("Guest Desktop"));
    year.machine.ok(&["entry", "hide", "guest", "--why", "a visitor's", "--despite", "last-way"]);
    year.own.extend(["entry = \"guest\"", "why = \"a visitor's\""]);
    assert!(year.turn("The tide gauge, from").contains("Guest Desktop: hidden in the menu file"));
    year.machine.ok(&["entry", "hide", "uuid:0c0c-0001", "--why", "all of that disk"]);
    year.own.push("why = \"all of that disk\"");
    year.turn("The tide gauge, from");

    // Another default; and for one start, the one before.
    year.machine.ok(&["tune", "default=meridian"]);
    year.turn("Meridian Desktop 4, from");
    year.machine.ok(&["once", "the tide gauge"]);
    year.expect("The tide gauge, from");
    year.machine.ok(&["once", "--clear"]);

    // Old kernels are cleared away by the system itself.
    year.files(&[], &["/boot/vmlinuz-5.9", "/boot/initrd-5.9"]);
    let said = year.turn("Meridian Desktop 4, from");
    assert!(said.contains("tidewater-5.9") && said.contains("is taken out"), "{said}");

    // Another system's update has put itself first.
    year.machine.put(&boot_order(&[1]));
    year.expect("Meridian");
    year.turn("Meridian Desktop 4, from");
    assert_eq!(year.machine.boot().order[0], 0, "our boot program is first again");

    // The default's disk is taken out of the machine: the menu waits with the reason, until somebody says what now.
    year.disks(vec![tidewater_disk()]);
    year.expect("the menu, which waits for a key: Meridian Desktop 4 cannot start");
    let said = year.machine.ok(&["draft"]);
    assert!(said.contains("Out of reach now (left as they are)\n  meridian"), "{said}");
    year.machine.ok(&["tune", "default=tidewater"]);
    year.turn("The tide gauge, from");
    // A disk that was there may come back: nothing of it is noise, nothing is tidied away.
    assert_eq!(year.machine.ok(&["entry", "noise"]), "No entry is only noise.\n");
    let tidied = year.machine.ok(&["firmware", "tidy", "--dry-run"]);
    assert!(tidied.contains("not attached or cannot be read"), "{tidied}");
    year.machine.ok(&["entry", "remove", "meridian"]);
    year.turn("The tide gauge, from");

    // It is back at the end of the year, and was taken out by hand: it comes when it is asked for.
    year.disks(vec![tidewater_disk(), meridian_disk(meridian_files())]);
    assert!(year.turn("The tide gauge, from").contains("Meridian Desktop 4: taken out of the menu by hand"));
    year.machine.ok(&["draft", "--offer-removed"]);
    year.turn("The tide gauge, from");
    let ids = year.machine.json(&["menu"])["entries"].to_string();
    assert!(ids.contains("\"id\":\"meridian\"") && ids.contains("tidewater-single-5.10"), "{ids}");
}
