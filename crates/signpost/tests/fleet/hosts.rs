//! Hosts in network namespaces of this machine: each has an address, an ssh server and a file system of its own, on which it may
//! install what it likes. Nothing of them outlives the test.

use std::io::{BufRead, BufReader};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};

/// Runs a command that must go well.
fn ok(words: &[&str]) -> String {
    let output = Command::new(words[0]).args(&words[1..]).output();
    let output = output.unwrap_or_else(|error| panic!("{words:?}: {error}; `cargo xtask test` installs it"));
    assert!(output.status.success(), "{words:?}: {}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8(output.stdout).unwrap()
}

/// A network of hosts, and the namespace that looks after them.
pub struct Network {
    work: PathBuf,
    hosts: Vec<Host>,
}

struct Host {
    namespace: String,
    server: Child,
}

impl Network {
    /// The network with its keys in a folder, and no hosts yet.
    pub fn new(work: &Path) -> Self {
        let network = Self { work: work.to_path_buf(), hosts: Vec::new() };
        ok(&["ip", "netns", "add", &network.namespace()]);
        for key in ["key", "host-key"] {
            let path = work.join(key);
            ok(&["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", path.to_str().unwrap()]);
        }
        network
    }

    /// The namespace from which the hosts are reached; several tests may have one each.
    fn namespace(&self) -> String {
        format!("signpost-{}", std::process::id())
    }

    /// One host more; its address.
    pub fn add(&mut self) -> String {
        let index = self.hosts.len() + 1;
        let (ours, own) = (self.namespace(), format!("{}-{index}", self.namespace()));
        let (near, link) = (format!("10.73.{index}.1/30"), format!("link{index}"));
        let address = format!("10.73.{index}.2");
        ok(&["ip", "netns", "add", &own]);
        ok(&[
            "ip", "link", "add", &link, "netns", &ours, "type", "veth", "peer", "name", "eth0", "netns", &own,
        ]);
        for (namespace, link, address) in
            [(&ours, link.as_str(), near.as_str()), (&own, "eth0", &format!("{address}/30"))]
        {
            ok(&["ip", "-n", namespace, "address", "add", address, "dev", link]);
            ok(&["ip", "-n", namespace, "link", "set", link, "up"]);
        }
        let server = self.server(&own, index);
        self.hosts.push(Host { namespace: own, server });
        address
    }

    /// Starts a host's ssh server, and waits until it takes connections.
    fn server(&self, namespace: &str, index: usize) -> Child {
        let folder = self.work.join(format!("host-{index}"));
        std::fs::create_dir_all(&folder).unwrap();
        let script = include_str!("host.sh");
        let mut command = Command::new("ip");
        command.args(["netns", "exec", namespace, "sh", "-ec", script, "host"]).arg(&folder).arg(&self.work);
        let mut server = command.stderr(Stdio::piped()).spawn().unwrap();
        let mut said = Vec::new();
        let mut lines = BufReader::new(server.stderr.take().unwrap()).lines();
        loop {
            let line = lines.next().unwrap_or_else(|| panic!("no ssh server: {said:?}")).unwrap();
            if line.contains("listening on") {
                break;
            }
            said.push(line);
        }
        // What it says later must find a reader, or it stops.
        std::thread::spawn(move || lines.for_each(drop));
        server
    }

    /// A command that reaches the hosts.
    pub fn command(&self, program: &Path) -> Command {
        let mut command = Command::new("ip");
        command.args(["netns", "exec", &self.namespace()]).arg(program);
        command
    }

    /// Runs a command on a host; what it prints.
    pub fn on(&self, address: &str, words: &str) -> String {
        let key = self.work.join("key");
        let output = self
            .command(Path::new("ssh"))
            .args(["-i", key.to_str().unwrap(), "-o", "StrictHostKeyChecking=no"])
            .args(["-o", "UserKnownHostsFile=/dev/null", "-o", "LogLevel=ERROR"])
            .args([&format!("root@{address}"), words])
            .output()
            .unwrap();
        assert!(output.status.success(), "{words}: {}", String::from_utf8_lossy(&output.stderr));
        String::from_utf8(output.stdout).unwrap()
    }

    /// Switches a host off: all that runs there ends.
    pub fn switch_off(&mut self, index: usize) {
        self.hosts[index].end();
    }
}

impl Host {
    fn end(&mut self) {
        let running = Command::new("ip").args(["netns", "pids", &self.namespace]).output();
        let running = String::from_utf8(running.unwrap().stdout).unwrap();
        for process in running.lines() {
            // One that has ended meanwhile is no fault.
            let _ = Command::new("kill").args(["-KILL", process]).output();
        }
        let _ = self.server.wait();
    }
}

impl Drop for Network {
    fn drop(&mut self) {
        for host in &mut self.hosts {
            host.end();
            let _ = Command::new("ip").args(["netns", "delete", &host.namespace]).status();
        }
        let _ = Command::new("ip").args(["netns", "delete", &self.namespace()]).status();
    }
}
