//! A made-up running system in a folder: what the kernel would show of it, and no disk that could be read.
#![allow(clippy::unwrap_used, dead_code, reason = "for tests, each of which takes a part")]

use std::fs;

pub struct Made {
    pub folder: tempfile::TempDir,
}

impl Made {
    pub fn new() -> Self {
        Self { folder: tempfile::tempdir().unwrap() }
    }

    pub fn put(&self, path: &str, contents: &str) -> &Self {
        let path = self.folder.path().join(path);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, contents).unwrap();
        self
    }

    /// A disk with an ESP and a root, as kernel and device manager describe it.
    pub fn with_disk(&self, name: &str, major: u32) -> &Self {
        let block = format!("sys/block/{name}");
        self.put(&format!("{block}/dev"), &format!("{major}:0\n")).put(&format!("{block}/size"), "40960\n");
        self.put(
            &format!("run/udev/data/b{major}:0"),
            &format!("E:ID_PART_TABLE_TYPE=gpt\nE:ID_SERIAL_SHORT=KP-{major}\n"),
        );
        for (number, start, entry_type, volume) in [
            (
                1,
                2048,
                "c12a7328-f81f-11d2-ba4b-00a0c93ec93b",
                "vfat\nE:ID_FS_UUID=0A0A-0001\nE:ID_FS_VERSION=FAT32",
            ),
            (
                2,
                10240,
                "0fc63daf-8483-4772-8e79-3d69d8477de4",
                "xfs\nE:ID_FS_UUID=5eed\nE:ID_FS_LABEL_ENC=tide\\x20bench",
            ),
        ] {
            let part = format!("{block}/{name}{number}");
            self.put(&format!("{part}/dev"), &format!("{major}:{number}\n"))
                .put(&format!("{part}/partition"), &format!("{number}\n"))
                .put(&format!("{part}/start"), &format!("{start}\n"))
                .put(&format!("{part}/size"), "8192\n");
            let notes = format!("E:ID_PART_ENTRY_TYPE={entry_type}\nE:ID_FS_TYPE={volume}\n");
            self.put(&format!("run/udev/data/b{major}:{number}"), &notes);
        }
        self
    }

    pub fn mounts(&self, lines: &[String]) -> &Self {
        self.put("proc/self/mountinfo", &(lines.join("\n") + "\n"))
    }
}
