//! Volumes that are mounted while they are looked at: what the running system has just written counts, and not what has
//! reached the disk so far. As root, on loop devices.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

#[path = "../cli/harness.rs"]
#[allow(dead_code, unused_imports, reason = "shared with the other tests, which use all of it")]
mod harness;
mod subvolumes;

use std::path::{Path, PathBuf};
use std::process::Command;

use harness::program;
use serde_json::Value;

/// A volume on a loop device, mounted; all of it is undone in the end.
struct Mounted {
    work: tempfile::TempDir,
    device: String,
}

impl Mounted {
    fn new(mkfs: &[&str], mebibytes: u64) -> Self {
        let work = tempfile::tempdir().unwrap();
        let image = work.path().join("volume.img");
        std::fs::File::create(&image).unwrap().set_len(mebibytes << 20).unwrap();
        let image = image.to_str().unwrap();
        run(mkfs[0], &[&mkfs[1..], &[image]].concat());
        let device = run("losetup", &["--find", "--show", image]);
        let mounted = Self { work, device };
        std::fs::create_dir(mounted.point()).unwrap();
        run("mount", &[&mounted.device, mounted.point().to_str().unwrap()]);
        mounted
    }

    fn image(&self) -> PathBuf {
        self.work.path().join("volume.img")
    }

    fn point(&self) -> PathBuf {
        self.work.path().join("mounted")
    }

    fn put(&self, path: &str, contents: &str) {
        let path = self.point().join(path);
        std::fs::create_dir_all(path.parent().unwrap()).unwrap();
        std::fs::write(path, contents).unwrap();
    }

    fn survey(&self) -> Value {
        let output = program().args(["--json", "--disk", &self.device, "survey"]).output().unwrap();
        assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
        serde_json::from_slice::<Value>(&output.stdout).unwrap()["result"].take()
    }

    fn titles(&self) -> Vec<String> {
        let survey = self.survey();
        let systems = survey["systems"].as_array().unwrap();
        systems.iter().map(|system| system["title"].as_str().unwrap().to_string()).collect()
    }
}

impl Drop for Mounted {
    fn drop(&mut self) {
        let _ = Command::new("umount").arg("--recursive").arg(self.point()).status();
        let _ = Command::new("losetup").args(["--detach", &self.device]).status();
    }
}

/// Runs a tool, which must end well.
fn run(tool: &str, args: &[&str]) -> String {
    let path = format!("{}:/usr/sbin:/sbin", std::env::var("PATH").unwrap_or_default());
    let output = Command::new(tool).args(args).env("PATH", path).output();
    let output = output.unwrap_or_else(|error| panic!("{tool}: {error}; `cargo xtask test` installs it"));
    assert!(output.status.success(), "{tool} {args:?}: {}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8_lossy(&output.stdout).trim().to_string()
}

fn sees_changes(mkfs: &[&str], mebibytes: u64) {
    let volume = Mounted::new(mkfs, mebibytes);
    assert_eq!(volume.titles(), Vec::<String>::new());
    for version in ["14", "15"] {
        volume.put("etc/os-release", &format!("ID=larkspur\nPRETTY_NAME=\"Larkspur Linux {version}\"\n"));
        assert_eq!(volume.titles(), [format!("Larkspur Linux {version}")]);
    }
    let facts = volume.survey()["volumes"][0].clone();
    assert_eq!(facts["device"], volume.device.as_str());
    assert_eq!(facts["mounted"][0], volume.point().to_str().unwrap());
    assert_eq!(facts["is_unclean"], false, "{facts}");
}

#[test]
fn a_change_to_a_mounted_ext4_is_seen_at_once() {
    sees_changes(&["mkfs.ext4", "-q"], 32);
}

#[test]
fn a_change_to_a_mounted_xfs_is_seen_at_once() {
    sees_changes(&["mkfs.xfs", "-q"], 320);
}

/// Only a subvolume is mounted; the others are seen too.
#[test]
fn a_change_to_a_mounted_subvolume_is_seen_at_once_and_its_siblings_too() {
    let volume = Mounted::new(&["mkfs.btrfs", "-q"], 160);
    let point = volume.point();
    for (name, title) in [("@", "Larkspur Linux 14"), ("@old", "Larkspur Linux 13")] {
        run("btrfs", &["subvolume", "create", point.join(name).to_str().unwrap()]);
        volume.put(&format!("{name}/etc/os-release"), &format!("ID=larkspur\nPRETTY_NAME=\"{title}\"\n"));
    }
    let point = point.to_str().unwrap();
    run("umount", &[point]);
    run("mount", &["-o", "subvol=@", &volume.device, point]);
    volume.put("etc/os-release", "ID=larkspur\nPRETTY_NAME=\"Larkspur Linux 15\"\n");
    let mut titles = volume.titles();
    titles.sort();
    assert_eq!(titles, ["Larkspur Linux 13", "Larkspur Linux 15"]);
}

/// What lies beneath another mount is the volume's own, and what is mounted there is not.
#[test]
fn what_is_mounted_over_a_folder_is_not_taken_for_the_volumes_own() {
    let volume = Mounted::new(&["mkfs.ext4", "-q"], 32);
    volume.put("etc/os-release", "ID=larkspur\nPRETTY_NAME=\"Larkspur Linux 14\"\n");
    let etc = volume.point().join("etc");
    run("mount", &["-t", "tmpfs", "none", etc.to_str().unwrap()]);
    volume.put("etc/os-release", "ID=other\nPRETTY_NAME=\"Another\"\n");
    assert_eq!(volume.titles(), ["Larkspur Linux 14"]);
    assert!(Path::new(&etc).join("os-release").exists());
}
