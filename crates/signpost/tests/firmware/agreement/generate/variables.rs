//! The firmware's variables of a machine, and what somebody does to them.

use signpost_facts::ours::OurVariables;
use signpost_menu::ours;

use super::*;

impl Maker {
    /// What somebody does to the firmware's entries before the start, in half of the machines.
    pub(super) fn changes(&mut self, present: &[DiskSpec]) -> Vec<Vec<String>> {
        let loader = "/EFI/sys/load.efi";
        let has_loader =
            |disk: &&DiskSpec| disk.partitions[0].content.files().iter().any(|(path, _)| path == loader);
        let with_gpt = |disk: &&DiskSpec| {
            let index = IMAGES.iter().position(|name| *name == disk.image);
            index.is_some_and(|index| !self.has_mbr[index])
        };
        let esps: Vec<Guid> =
            present.iter().filter(has_loader).filter(with_gpt).map(|disk| disk.partitions[0].guid).collect();
        let mut changes = Vec::new();
        for _ in 0..self.dice.below(3) {
            let number = self.dice.below(4).to_string();
            let change = match (self.dice.below(6), esps.first()) {
                (0, Some(esp)) => {
                    let place = ["--first", "--last", "--disabled"][self.dice.below(3)];
                    vec![
                        "add".into(),
                        "Added".into(),
                        format!("partuuid:{esp}{loader}"),
                        "--args=from a seed".into(),
                        place.into(),
                    ]
                }
                (0 | 1, _) => vec!["order".into(), number],
                (2, _) => vec!["next".into(), number],
                (3, _) => vec![["enable", "disable"][self.dice.below(2)].into(), number],
                (4, _) => vec!["remove".into(), number],
                _ => vec!["tidy".into()],
            };
            changes.push(change);
        }
        changes
    }

    /// The device path of a file of a disk's ESP, or of the partition alone.
    fn path_to(&self, disk: &DiskSpec, index: usize, file: Option<&str>) -> DevicePath {
        let path = disk.path_to(1, file.unwrap_or_default());
        let mut drive = path.hard_drive().unwrap();
        if self.has_mbr[index] {
            drive.signature = PartitionSignature::Mbr(mbr_signature(index));
        }
        let mut nodes = vec![Node::hard_drive(&drive)];
        nodes.extend(file.map(Node::file_path));
        DevicePath::new(nodes)
    }

    /// What the installers of the systems left in the firmware.
    pub(super) fn installed(&self, disks: &[DiskSpec]) -> Vec<Variable> {
        let with_loader = (0..disks.len())
            .filter(|index| self.esp[*index].iter().any(|(path, _)| path.ends_with("load.efi")));
        let options = with_loader.map(|index| {
            LoadOption::new(
                "Larkspur",
                self.path_to(&disks[index], index, Some("\\EFI\\larkspur\\load.efi")),
                vec![],
            )
        });
        let mut variables: Vec<Variable> =
            (0..).zip(options).map(|(number, option)| boot_option(number, &option)).collect();
        let numbers: Vec<u16> = (0..variables.len() as u16).collect();
        variables.push(boot_order(&numbers));
        variables
    }

    pub(super) fn variables(&mut self, disks: &[DiskSpec], home: usize) -> Vec<Variable> {
        let program =
            disks[home].partitions[0].content.files().iter().find(|(path, _)| path.ends_with(".EFI"));
        let path = program.unwrap().0.replace('/', "\\");
        let own = self.path_to(&disks[home], home, Some(&path));
        let mut options = vec![LoadOption::new("Signpost", own, vec![])];
        if self.dice.one_in(3) {
            let mut gone = disks[home].clone();
            gone.partitions[0].guid = Guid::from_random_bytes([0xee; 16]);
            options.insert(0, LoadOption::new("Stale", gone.path_to(1, "\\EFI\\x.efi"), vec![]));
        }
        if self.dice.one_in(4) {
            let path = self.path_to(&disks[0], 0, Some("\\EFI\\sys\\load.efi"));
            let mut unused = LoadOption::new("Unused", path, vec![]);
            unused.attributes = LoadOptionAttributes::empty();
            options.insert(0, unused);
        }
        if self.dice.one_in(3) {
            let index = self.dice.below(disks.len());
            options.push(LoadOption::new("Short", self.path_to(&disks[index], index, None), vec![]));
        }
        if self.dice.one_in(6) {
            // Of a category that the boot order skips.
            let mut tool = LoadOption::new("Tool", self.path_to(&disks[home], home, Some(&path)), vec![]);
            tool.attributes |= LoadOptionAttributes::from_bits_retain(0x0200);
            options.insert(0, tool);
        }
        let numbers: Vec<u16> = (0..options.len() as u16).collect();
        let mut variables: Vec<Variable> =
            numbers.iter().zip(&options).map(|(number, option)| boot_option(*number, option)).collect();
        variables.push(boot_order(&numbers));
        if self.dice.one_in(6) {
            variables.push(boot_next(if self.dice.one_in(2) { 0x77 } else { 0 }));
        }
        for (name, odds) in [("SignpostOnce", 5), ("SignpostDefault", 5), ("SignpostLast", 3)] {
            if self.dice.one_in(odds) {
                let at = self.dice.below(self.entries.len());
                let id =
                    if name == "SignpostOnce" && self.dice.one_in(3) { "menu" } else { &self.entries[at].0 };
                let name = OurVariables::name(name);
                variables.push(Variable { name, attributes: Attributes::BOOT, data: id.as_bytes().to_vec() });
            }
        }
        if self.dice.one_in(2) {
            let counts = (0..self.entries.len()).map(|_| self.dice.below(4)).collect::<Vec<usize>>();
            let counted = self.entries.iter().zip(counts).filter(|(_, starts)| *starts > 0);
            let words: Vec<String> = counted.map(|((id, _), starts)| format!("{id}={starts}")).collect();
            let name = OurVariables::name(ours::TRIES);
            let data = words.join(" ").into_bytes();
            variables.push(Variable { name, attributes: Attributes::BOOT, data });
        }
        variables
    }
}
