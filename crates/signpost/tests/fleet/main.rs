//! The role for many machines, run by its real engine against hosts with real ssh servers.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

#[path = "../cli/harness.rs"]
#[allow(dead_code, reason = "the other tests need more of it")]
mod harness;
mod hosts;

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use serde_json::{Value, json};

use harness::{Held, TestMachine};
use hosts::Network;

const NAMES: [&str; 8] =
    ["pier-1", "pier-2", "pier-3", "pier-4", "library-1", "library-2", "library-3", "workshop"];
/// The one that is hurt, by its index.
const HURT: usize = 7;
/// The one that is switched off.
const OFF: usize = 6;

/// Eight hosts, each with a bench for its machine; the first installs the package, the others have the built program.
struct Fleet {
    work: tempfile::TempDir,
    network: Network,
    machines: Vec<TestMachine>,
    addresses: Vec<String>,
}

/// What became of a run.
struct Run {
    /// For each host: its counts, by their names.
    hosts: BTreeMap<String, Value>,
    /// What failed, by its host.
    failed: BTreeMap<String, Value>,
    /// Results of the role's one task that matters, by its host.
    menus: BTreeMap<String, Value>,
    took: Duration,
}

impl Fleet {
    fn new() -> Self {
        let work = tempfile::tempdir().unwrap();
        let mut network = Network::new(work.path());
        let machines = NAMES.map(|_| TestMachine::small()).into();
        let addresses = NAMES.map(|_| network.add()).into();
        let fleet = Self { work, network, machines, addresses };
        let collection = fleet.run_engine(
            "ansible-galaxy",
            &[
                "collection",
                "install",
                "--offline",
                "--no-deps",
                "--collections-path",
                fleet.path("collections").to_str().unwrap(),
                root().join("fleet").to_str().unwrap(),
            ],
        );
        assert!(collection.status.success(), "{}", String::from_utf8_lossy(&collection.stderr));
        std::fs::create_dir(fleet.path("reports")).unwrap();
        let play = "- hosts: all\n  gather_facts: false\n  roles: [early_signpost.fleet.machine]\n";
        std::fs::write(fleet.path("site.yml"), play).unwrap();
        std::fs::write(fleet.path("own.toml"), "format = 1\nrecipe = []\n").unwrap();
        fleet
    }

    fn path(&self, name: &str) -> PathBuf {
        self.work.path().join(name)
    }

    fn run_engine(&self, program: &str, args: &[&str]) -> std::process::Output {
        let folder = signpost_vm::build_folder(env!("CARGO_BIN_EXE_signpost")).join("fleet/bin");
        let program = folder.join(program);
        assert!(program.exists(), "{}: `cargo xtask test` sets it up", program.display());
        let mut command = self.network.command(&program);
        let path = format!("{}:/usr/sbin:/usr/bin:/sbin:/bin", folder.display());
        command.env_clear().envs([
            ("PATH", path.as_str()),
            ("LC_ALL", "C.UTF-8"),
            ("HOME", self.path("").to_str().unwrap()),
        ]);
        let settings = [
            ("COLLECTIONS_PATH", self.path("collections")),
            ("CALLBACK_PLUGINS", root().join("fleet/tests")),
            ("CALLBACKS_ENABLED", "record".into()),
            ("HOST_KEY_CHECKING", "false".into()),
            ("FORKS", "8".into()),
            ("PIPELINING", "true".into()),
            ("SSH_CONTROL_PATH_DIR", self.path("control")),
            ("PRIVATE_KEY_FILE", self.path("key")),
            ("REMOTE_TMP", "/var/tmp/engine".into()),
            ("RETRY_FILES_ENABLED", "false".into()),
            ("TIMEOUT", "20".into()),
        ];
        command.envs(settings.map(|(name, value)| (format!("ANSIBLE_{name}"), value)));
        command.env("SIGNPOST_RECORD", self.path("record")).args(args).output().unwrap()
    }

    /// Runs the role on all hosts, with a policy.
    fn run(&self, policy: &Value, options: &[&str]) -> Run {
        let program = env!("CARGO_BIN_EXE_signpost");
        let package = package();
        let hosts = NAMES.iter().enumerate().map(|(index, name)| {
            let mut own = json!({
                "ansible_host": self.addresses[index],
                "signpost_machine": self.machines[index].folder(),
                "signpost_program": program,
            });
            if index == 0 {
                own["signpost_package"] = package.to_str().into();
                own["signpost_program"] = "signpost".into();
                own["signpost_hold"] = true.into();
            }
            if index == 1 {
                own["signpost_recipes"] = json!([self.path("own.toml")]);
            }
            (*name, own)
        });
        let inventory = json!({"all": {
            "hosts": hosts.collect::<BTreeMap<_, _>>(),
            "vars": {
                "ansible_user": "root",
                "ansible_python_interpreter": "/usr/bin/python3",
                "signpost_policy": policy,
                "signpost_reports": self.path("reports"),
            },
        }});
        std::fs::write(self.path("inventory.json"), inventory.to_string()).unwrap();
        let (site, inventory) = (self.path("site.yml"), self.path("inventory.json"));
        let args = ["-i", inventory.to_str().unwrap(), site.to_str().unwrap()];
        let started = Instant::now();
        let output = self.run_engine("ansible-playbook", &[&args, options].concat());
        let took = started.elapsed();
        let said =
            format!("{}{}", String::from_utf8_lossy(&output.stdout), String::from_utf8_lossy(&output.stderr));
        let record = std::fs::read_to_string(self.path("record")).unwrap_or_else(|_| panic!("{said}"));
        let lines: Vec<Value> = record.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
        let hosts = lines.last().map(|line| line["hosts"].clone()).unwrap();
        let by_host = |is_it: &dyn Fn(&Value) -> bool| {
            let lines = lines.iter().filter(|line| is_it(line));
            lines.map(|line| (line["host"].as_str().unwrap().to_string(), line.clone())).collect()
        };
        Run {
            hosts: serde_json::from_value(hosts).unwrap_or_else(|_| panic!("{said}")),
            failed: by_host(&|line| line["status"] == "failed"),
            menus: by_host(&|line| line["result"].get("policy_file").is_some()),
            took,
        }
    }

    /// All bytes of all machines.
    fn everything(&self) -> Vec<Vec<(PathBuf, Held)>> {
        self.machines.iter().map(TestMachine::everything).collect()
    }
}

impl Run {
    /// The hosts of which a count is not zero.
    fn with(&self, count: &str) -> Vec<&str> {
        let hosts = self.hosts.iter().filter(|(_, counts)| counts[count] != 0);
        hosts.map(|(name, _)| name.as_str()).collect()
    }
}

fn root() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..").canonicalize().unwrap()
}

/// The Debian package that `cargo xtask dist` made.
fn package() -> PathBuf {
    let folder = signpost_vm::build_folder(env!("CARGO_BIN_EXE_signpost")).join("dist");
    let entries = std::fs::read_dir(&folder).unwrap_or_else(|error| panic!("{}: {error}", folder.display()));
    let mut paths = entries.map(|entry| entry.unwrap().path());
    paths.find(|path| path.extension().is_some_and(|extension| extension == "deb")).expect("no package")
}

/// These names but for some, in the order in which runs tell of them.
fn all_but(left: &[usize]) -> Vec<&'static str> {
    let kept = NAMES.iter().enumerate().filter(|(index, _)| !left.contains(index));
    let mut names: Vec<&str> = kept.map(|(_, name)| *name).collect();
    names.sort_unstable();
    names
}

#[test]
fn eight_hosts_follow_one_policy_and_each_fails_alone() {
    let mut fleet = Fleet::new();
    let mut policy = json!({
        "host": "signpost",
        "timeout": 10,
        "default": "Meridian Desktop 4",
        "titles": {"Meridian Desktop 4": "Office \"two\" – büro"},
        "look": {"scale": 1.5, "clock": true},
    });

    // To look first: all would change, and nothing does.
    let before = fleet.everything();
    let looked = fleet.run(&policy, &["--check", "--diff"]);
    assert_eq!(
        (looked.with("changed"), looked.with("failures")),
        (all_but(&[]), vec![]),
        "{:?}",
        looked.failed
    );
    assert!(fleet.everything() == before, "a look changed a machine");
    let diff = looked.menus[NAMES[1]]["result"]["diff"].as_array().unwrap();
    assert_eq!(diff.len(), 3, "policy, menu file, plan: {diff:?}");
    assert!(diff[1]["after"].as_str().unwrap().contains("title   = 'Office \"two\" – büro'"), "{diff:?}");
    assert!(diff[2]["prepared"].as_str().unwrap().contains("write the boot program"), "{diff:?}");

    let first = fleet.run(&policy, &[]);
    assert_eq!((first.with("changed"), first.with("failures")), (all_but(&[]), vec![]), "{:?}", first.failed);
    assert_eq!(first.menus[NAMES[1]]["facts"], json!(["signpost"]));
    assert!(fleet.machines[1].path("recipes/own.toml").exists());
    // Larkspur has no entry of the firmware's until the menu starts it.
    let problems = |run: &Run| run.menus[NAMES[1]]["result"]["problems"].clone();
    assert_eq!((&problems(&looked)[0]["code"], problems(&first)), (&"no-way".into(), json!([])));
    for (name, looked) in &looked.menus {
        // The first host had no program to look with.
        assert_eq!(looked["result"]["writes"], first.menus[name]["result"]["writes"], "{name}");
    }
    for machine in &fleet.machines {
        assert_eq!(machine.run(&["policy"]).code, 0);
        assert!(machine.ok(&["rehearse"]).contains("büro"));
    }
    let units = fleet.network.on(&fleet.addresses[0], "ls /etc/systemd/system/*.wants | grep signpost");
    let turned_on =
        ["signpost-confirm.service", "signpost-hold.path", "signpost-hold.service", "signpost-hold.timer"];
    assert_eq!(units.lines().collect::<BTreeSet<_>>(), BTreeSet::from(turned_on));
    let reports: Vec<String> = NAMES
        .iter()
        .map(|name| fleet.path("reports").join(format!("{name}.json")).display().to_string())
        .collect();
    let reports: Vec<&str> =
        [&["report", "--json"], &reports.iter().map(String::as_str).collect::<Vec<_>>()[..]].concat();
    let report = harness::result_of(&harness::run_bare(&reports).stdout);
    assert_eq!(report["faults"], json!([]));
    assert_eq!(report["machines"].as_array().unwrap().len(), 8);

    let before = fleet.everything();
    let second = fleet.run(&policy, &[]);
    assert_eq!((second.with("changed"), second.with("failures")), (vec![], vec![]), "{:?}", second.failed);
    assert!(fleet.everything() == before, "nothing was to be done");
    let ratio = second.took.as_secs_f64() / first.took.as_secs_f64();
    println!(
        "second run / first run: {ratio:.2} ({:.1} s / {:.1} s)",
        second.took.as_secs_f64(),
        first.took.as_secs_f64()
    );

    // Another policy reaches all that can be reached and are well.
    policy["timeout"] = 3.into();
    std::fs::rename(fleet.machines[HURT].path("meridian.img"), fleet.path("meridian.img")).unwrap();
    fleet.network.switch_off(OFF);
    let before = fleet.machines[HURT].everything();
    let third = fleet.run(&policy, &[]);
    assert_eq!(third.with("changed"), all_but(&[HURT, OFF]), "{:?}", third.failed);
    assert_eq!((third.with("failures"), third.with("unreachable")), (vec![NAMES[HURT]], vec![NAMES[OFF]]));
    let refused = &third.failed[NAMES[HURT]]["result"];
    assert_eq!((&refused["code"], &refused["rc"]), (&"default-gone".into(), &3.into()), "{refused}");
    assert!(refused["instead"].as_str().is_some_and(|way| !way.is_empty()), "{refused}");
    assert!(fleet.machines[HURT].everything() == before, "what was refused was written");
    for index in (0..NAMES.len()).filter(|index| ![HURT, OFF].contains(index)) {
        assert!(fleet.machines[index].read("menu.toml").contains("timeout = 3"), "{}", NAMES[index]);
    }
}
