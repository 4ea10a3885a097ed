use super::*;
use crate::boot_variables::{BootVariables, boot_next, boot_option, boot_order};
use crate::device_path::{HardDrive, Node};
use crate::load_option::{LoadOption, LoadOptionAttributes};
use crate::variable::Contents;
use alloc::vec;
use uguid::guid;

const FIRST: Guid = guid!("11111111-0000-4000-8000-000000000001");
const SECOND: Guid = guid!("22222222-0000-4000-8000-000000000002");
const GONE: Guid = guid!("99999999-0000-4000-8000-000000000009");
const FIRMWARE_MADE: Guid = guid!("8108ac4e-9f11-4d59-850e-e21a522c59b2");

/// Two disks with an ESP each, and a list of the files on them, in lower case.
struct Bench {
    partitions: Vec<PartitionSeen>,
    files: Vec<(usize, &'static str, Program)>,
}

impl Bench {
    fn new() -> Self {
        let partition = |id, guid, readable| PartitionSeen {
            id,
            disk: id / 10,
            number: 1 + (id % 10) as u32,
            signature: PartitionSignature::Guid(guid),
            readable,
        };
        let files = vec![
            (0, "efi\\lark\\start.efi", Program::Starts),
            (0, "efi\\lark\\old.efi", Program::Unfit("built for x86".into())),
            (10, "efi\\boot\\bootx64.efi", Program::Starts),
            (10, "efi\\meridian\\start.efi", Program::CannotTell("Secure Boot".into())),
        ];
        let rest = guid!("33333333-0000-4000-8000-000000000003");
        Self {
            partitions: vec![
                partition(0, FIRST, true),
                partition(1, rest, false),
                partition(10, SECOND, true),
            ],
            files,
        }
    }
}

impl Hardware for Bench {
    fn partitions(&self) -> &[PartitionSeen] {
        &self.partitions
    }
    fn disks(&self) -> &[usize] {
        &[0, 1]
    }
    fn program(&self, partition: usize, path: &str, _: &[u8]) -> Program {
        let path = path.to_lowercase();
        let found = self.files.iter().find(|file| (file.0, file.1) == (partition, path.as_str()));
        found.map_or(Program::Missing, |file| file.2.clone())
    }
    fn disk_of(&self, _: &DevicePath, label: &str) -> DiskMatch {
        match label {
            "disk two" => DiskMatch::Disk(1),
            "lost disk" => DiskMatch::Gone,
            _ => DiskMatch::Unknown,
        }
    }
    fn fallback_file_name(&self) -> &str {
        "BOOTX64.EFI"
    }
}

fn drive(guid: Guid, number: u32) -> Node {
    // Start and size are wrong on purpose: firmware does not look at them.
    Node::hard_drive(&HardDrive { number, start: 7, size: 9, signature: PartitionSignature::Guid(guid) })
}

fn on(guid: Guid, file: &str) -> LoadOption {
    LoadOption::new("entry", DevicePath::new(vec![drive(guid, 1), Node::file_path(file)]), vec![])
}

fn controller(label: &str) -> LoadOption {
    let pci = Node { kind: 1, sub_kind: 1, data: vec![0, 3] };
    LoadOption::new(label, DevicePath::new(vec![pci]), FIRMWARE_MADE.to_bytes().to_vec())
}

fn run(options: &[LoadOption], next: Option<u16>) -> Start {
    let numbers: Vec<u16> = (0..options.len() as u16).collect();
    let mut contents = Contents::default();
    contents.variables.push(boot_order(&numbers));
    contents.variables.extend(next.map(boot_next));
    for (number, option) in numbers.iter().zip(options) {
        contents.variables.push(boot_option(*number, option));
    }
    follow(&BootVariables::read(&contents), &Bench::new())
}

fn first_verdict(option: LoadOption) -> Verdict {
    run(&[option], None).steps.swap_remove(0).verdict
}

fn starts(partition: usize, path: &str) -> Verdict {
    Verdict::Starts(vec![Target { partition, path: path.into() }])
}

#[test]
fn a_partition_is_matched_by_identity_and_number_and_case_does_not_matter() {
    assert_eq!(first_verdict(on(FIRST, "\\EFI\\LARK\\start.EFI")), starts(0, "\\EFI\\LARK\\start.EFI"));
    assert_eq!(first_verdict(on(FIRST, "EFI\\lark\\start.efi")), starts(0, "EFI\\lark\\start.efi"));
    assert!(matches!(first_verdict(on(FIRST, "/EFI/lark/start.efi")), Verdict::NoFile { .. }));
    assert!(matches!(first_verdict(on(GONE, "\\EFI\\lark\\start.efi")), Verdict::NoPartition { .. }));
    let path = DevicePath::new(vec![drive(FIRST, 2), Node::file_path("\\EFI\\lark\\start.efi")]);
    let renumbered = first_verdict(LoadOption::new("entry", path, vec![]));
    assert!(matches!(renumbered, Verdict::NoPartition { renumbered, .. } if renumbered == [0]));
}

#[test]
fn a_partition_without_a_file_means_the_fallback_path() {
    let path = DevicePath::new(vec![drive(SECOND, 1)]);
    assert_eq!(first_verdict(LoadOption::new("entry", path, vec![])), starts(10, "\\EFI\\BOOT\\BOOTX64.EFI"));
}

#[test]
fn a_file_alone_is_looked_for_on_every_volume() {
    let path = DevicePath::new(vec![Node::file_path("\\EFI\\BOOT\\BOOTX64.EFI")]);
    assert_eq!(first_verdict(LoadOption::new("entry", path, vec![])), starts(10, "\\EFI\\BOOT\\BOOTX64.EFI"));
}

#[test]
fn options_that_are_not_in_use_are_skipped_but_for_the_next_boot() {
    let good = on(FIRST, "\\EFI\\lark\\start.efi");
    let mut unused = good.clone();
    unused.attributes = LoadOptionAttributes::empty();
    let mut category = good.clone();
    category.attributes |= LoadOptionAttributes::CATEGORY_APP;
    let start = run(&[unused.clone(), category, good], None);
    let verdicts: Vec<_> = start.steps.iter().map(|step| step.verdict.clone()).collect();
    assert_eq!(verdicts, [Verdict::NotActive, Verdict::Category, starts(0, "\\EFI\\lark\\start.efi")]);
    let next = run(&[unused], Some(0));
    assert_eq!((next.steps.len(), next.steps[0].reason), (1, Reason::NextBoot));
    assert!(matches!(next.end, End::Starts { option: Some(0), .. }));
}

#[test]
fn a_next_boot_to_a_missing_number_goes_on_to_the_order() {
    let start = run(&[on(FIRST, "\\EFI\\lark\\start.efi")], Some(0x77));
    assert_eq!(start.steps[0].verdict, Verdict::NoVariable);
    assert!(matches!(start.end, End::Starts { option: Some(0), .. }));
}

#[test]
fn an_entry_that_cannot_start_goes_on_to_the_next() {
    let start = run(&[on(FIRST, "\\EFI\\lark\\old.efi"), on(FIRST, "\\EFI\\lark\\start.efi")], None);
    assert!(matches!(&start.steps[0].verdict, Verdict::Unfit { why, .. } if why == "built for x86"));
    assert!(matches!(start.end, End::Starts { option: Some(1), .. }));
}

#[test]
fn what_cannot_be_told_is_kept_beside_the_sure_end() {
    let start = run(&[on(SECOND, "\\EFI\\meridian\\start.efi"), on(FIRST, "\\EFI\\lark\\start.efi")], None);
    assert!(matches!(start.possible[..], [End::Starts { option: Some(0), .. }]));
    assert!(matches!(start.end, End::Starts { option: Some(1), .. }));
}

#[test]
fn behind_all_others_the_firmware_makes_an_entry_for_each_disk() {
    let start = run(&[on(GONE, "\\EFI\\lark\\start.efi")], None);
    let reasons: Vec<_> = start.steps.iter().map(|step| step.reason).collect();
    assert_eq!(reasons, [Reason::Order(1), Reason::MadeForDisk(0), Reason::MadeForDisk(1)]);
    assert!(matches!(&start.end, End::Starts { option: None, targets } if targets[0].partition == 10));
}

#[test]
fn entries_of_the_firmware_are_deleted_with_their_device_and_not_made_twice() {
    let start = run(&[controller("lost disk"), controller("disk two")], None);
    assert_eq!(start.steps[0].verdict, Verdict::Deleted);
    assert_eq!(start.steps[1].verdict, starts(10, "\\EFI\\BOOT\\BOOTX64.EFI"));
    let mut unused = controller("disk two");
    unused.attributes = LoadOptionAttributes::empty();
    let start = run(&[unused], None);
    assert_eq!(start.end, End::Nothing, "an unused entry of the firmware's own keeps it from making another");
}

#[test]
fn a_built_in_program_ends_the_order_before_the_fallback_paths() {
    let shell = guid!("7c04a583-9e3e-4f1c-ad65-e05268d0b4d1");
    let file = Node { kind: 4, sub_kind: 6, data: shell.to_bytes().to_vec() };
    let start = run(&[LoadOption::new("built-in", DevicePath::new(vec![file]), vec![])], None);
    assert_eq!(start.end, End::BuiltIn { option: 0, program: shell });
    assert_eq!(start.steps.len(), 1);
}

#[test]
fn network_and_unknown_devices_are_passed() {
    let mac = Node { kind: 3, sub_kind: 11, data: vec![2; 33] };
    let network = LoadOption::new("network", DevicePath::new(vec![mac]), vec![]);
    let start = run(&[network, controller("something")], None);
    assert_eq!(start.steps[0].verdict, Verdict::Network);
    assert!(matches!(start.steps[1].verdict, Verdict::UnknownDevice));
}

#[test]
fn clones_leave_it_open_which_one_starts() {
    let mut bench = Bench::new();
    bench.partitions.push(PartitionSeen { id: 20, disk: 2, ..bench.partitions[0].clone() });
    bench.files.push((20, "efi\\lark\\start.efi", Program::Starts));
    let contents =
        Contents::from(vec![boot_order(&[0]), boot_option(0, &on(FIRST, "\\EFI\\lark\\start.efi"))]);
    let start = follow(&BootVariables::read(&contents), &bench);
    let End::Starts { targets, .. } = start.end else { panic!("{start:?}") };
    assert_eq!(targets.iter().map(|target| target.partition).collect::<Vec<_>>(), [0, 20]);
}
