//! Which load option the firmware tries next, and what becomes of it (UEFI 2.10, 3.1).

use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec;
use alloc::vec::Vec;

use super::{DiskMatch, End, Hardware, Program, Reason, Start, Step, Target, Untraced, Verdict};
use crate::boot_variables::BootVariables;
use crate::device_path::{DevicePath, HardDrive, View};
use crate::load_option::LoadOption;

/// Follows a start on this hardware with these variables.
pub fn follow(boot: &BootVariables, hardware: &impl Hardware) -> Start {
    let mut walk = Walk { hardware, steps: Vec::new(), possible: Vec::new(), covered: Vec::new() };
    let end = walk.next_boot(boot).or_else(|| walk.order(boot)).or_else(|| walk.made_by_firmware());
    Start { steps: walk.steps, possible: walk.possible, end: end.unwrap_or(End::Nothing) }
}

struct Walk<'a, H> {
    hardware: &'a H,
    steps: Vec<Step>,
    possible: Vec<End>,
    /// Disks for which the order holds an entry of the firmware's own.
    covered: Vec<usize>,
}

impl<H: Hardware> Walk<'_, H> {
    /// `BootNext` is used up whatever comes of it, and starts an option that is not in use too.
    fn next_boot(&mut self, boot: &BootVariables) -> Option<End> {
        let number = boot.next?;
        self.option(boot, number, Reason::NextBoot)
    }

    fn order(&mut self, boot: &BootVariables) -> Option<End> {
        let mut place = 0usize;
        boot.order.iter().find_map(|number| {
            place = place.saturating_add(1);
            self.option(boot, *number, Reason::Order(place))
        })
    }

    /// Behind all others the firmware makes an entry for each disk that has none yet.
    fn made_by_firmware(&mut self) -> Option<End> {
        let hardware = self.hardware;
        hardware
            .disks()
            .iter()
            .filter(|disk| !self.covered.contains(disk))
            .copied()
            .collect::<Vec<_>>()
            .into_iter()
            .find_map(|disk| {
                let verdict = Search { hardware, data: &[] }.fallback_path_of_disk(disk);
                self.step(Reason::MadeForDisk(disk), None, None, verdict)
            })
    }

    fn option(&mut self, boot: &BootVariables, number: u16, reason: Reason) -> Option<End> {
        let (label, verdict) = match boot.options.get(&number).map(|option| &option.decoded) {
            None => (None, Verdict::NoVariable),
            Some(Err(fault)) => (None, Verdict::Malformed(fault.to_string())),
            Some(Ok(option)) => (Some(option.description.to_string()), self.judge(option, reason)),
        };
        self.step(reason, Some(number), label, verdict)
    }

    /// Notes the step; the end, where this step is it.
    fn step(
        &mut self,
        reason: Reason,
        option: Option<u16>,
        label: Option<String>,
        verdict: Verdict,
    ) -> Option<End> {
        let end = match &verdict {
            Verdict::Starts(targets) => Some(End::Starts { option, targets: targets.clone() }),
            Verdict::BuiltIn(program) => option.map(|option| End::BuiltIn { option, program: *program }),
            Verdict::Hangs { target, why } => {
                Some(End::Hangs { option, target: target.clone(), why: why.clone() })
            }
            Verdict::MayStart(target, _) => {
                self.possible.push(End::Starts { option, targets: vec![target.clone()] });
                None
            }
            _ => None,
        };
        self.steps.push(Step { reason, option, label, verdict });
        end
    }

    fn judge(&mut self, option: &LoadOption, reason: Reason) -> Verdict {
        let label = option.description.to_string();
        if option.is_made_by_firmware() {
            match self.hardware.disk_of(&option.path, &label) {
                DiskMatch::Disk(disk) => self.covered.push(disk),
                DiskMatch::Gone => return Verdict::Deleted,
                DiskMatch::Unknown => {}
            }
        }
        if reason != Reason::NextBoot {
            if !option.is_active() {
                return Verdict::NotActive;
            }
            if !option.is_for_booting() {
                return Verdict::Category;
            }
        }
        locate(option, self.hardware)
    }
}

/// What comes of an option, wherever it stands: the file that it leads to, or why none.
pub fn locate(option: &LoadOption, hardware: &impl Hardware) -> Verdict {
    Search { hardware, data: &option.optional_data }.locate(&option.path, &option.description.to_string())
}

/// Looking for what a device path leads to.
struct Search<'a, H> {
    hardware: &'a H,
    /// Handed to the program.
    data: &'a [u8],
}

impl<H: Hardware> Search<'_, H> {
    fn locate(&self, path: &DevicePath, label: &str) -> Verdict {
        if let Some(drive) = path.hard_drive() {
            return self.on_partition(&drive, path.file());
        }
        if let Some(guid) = path.views().find_map(built_in) {
            return Verdict::BuiltIn(guid);
        }
        if path.views().any(|view| matches!(view, View::Mac(_) | View::Uri(_))) {
            return Verdict::Network;
        }
        if path.views().any(|view| matches!(view, View::Bbs { .. })) {
            return Verdict::CannotFollow(Untraced::LegacyClass);
        }
        match (path.file(), path.nodes().len()) {
            (_, 0) => Verdict::CannotFollow(Untraced::EmptyPath),
            (Some(file), 1) => self.on_any_volume(&file),
            _ => match self.hardware.disk_of(path, label) {
                DiskMatch::Disk(disk) => self.fallback_path_of_disk(disk),
                DiskMatch::Gone => Verdict::NoDevice,
                DiskMatch::Unknown => Verdict::UnknownDevice,
            },
        }
    }

    /// A partition is matched by identity and number; start and size are not looked at.
    fn on_partition(&self, drive: &HardDrive, file: Option<String>) -> Verdict {
        let same_identity =
            || self.hardware.partitions().iter().filter(|seen| seen.signature == drive.signature);
        let matching: Vec<_> = same_identity().filter(|seen| seen.number == drive.number).collect();
        if matching.is_empty() {
            return Verdict::NoPartition {
                number: drive.number,
                signature: drive.signature,
                renumbered: same_identity().map(|seen| seen.id).collect(),
            };
        }
        let readable: Vec<usize> = matching.iter().filter(|seen| seen.readable).map(|seen| seen.id).collect();
        if let (true, Some(first)) = (readable.is_empty(), matching.first()) {
            return Verdict::Unreadable { partition: first.id };
        }
        let path = file.unwrap_or_else(|| self.fallback_path());
        self.first_of(&readable, &path, true)
    }

    fn on_any_volume(&self, file: &str) -> Verdict {
        let readable = self.hardware.partitions().iter().filter(|seen| seen.readable);
        let readable: Vec<usize> = readable.map(|seen| seen.id).collect();
        self.first_of(&readable, file, false)
    }

    fn fallback_path_of_disk(&self, disk: usize) -> Verdict {
        let partitions = self.hardware.partitions().iter().filter(|seen| seen.disk == disk && seen.readable);
        let partitions: Vec<usize> = partitions.map(|seen| seen.id).collect();
        self.first_of(&partitions, &self.fallback_path(), false)
    }

    fn fallback_path(&self) -> String {
        format!("\\EFI\\BOOT\\{}", self.hardware.fallback_file_name())
    }

    /// The first of these partitions whose file starts. `clones`: they share an identity, and the firmware
    /// may have the last working one in mind, so all that would start are named.
    fn first_of(&self, partitions: &[usize], path: &str, clones: bool) -> Verdict {
        let mut starts = Vec::new();
        let mut other = None;
        for partition in partitions {
            let target = || Target { partition: *partition, path: String::from(path) };
            // A leading backslash may be left out; slashes name no file, nor does what ends as a folder would.
            let program = if path.contains('/') || path.ends_with('\\') {
                Program::Missing
            } else {
                self.hardware.program(*partition, path.trim_start_matches('\\'), self.data)
            };
            match program {
                Program::Starts if clones => starts.push(target()),
                Program::Starts if other.is_none() => return Verdict::Starts(vec![target()]),
                Program::Starts | Program::Missing => {}
                Program::Hangs(why) if other.is_none() && starts.is_empty() => {
                    return Verdict::Hangs { target: target(), why };
                }
                Program::Hangs(_) => {}
                Program::Unfit(why) => {
                    other = other.or_else(|| Some(Verdict::Unfit { target: target(), why }));
                }
                Program::CannotTell(why) => other = other.or_else(|| Some(Verdict::MayStart(target(), why))),
            }
        }
        if !starts.is_empty() {
            return Verdict::Starts(starts);
        }
        other.unwrap_or_else(|| Verdict::NoFile {
            path: String::from(path),
            partitions: Vec::from(partitions),
        })
    }
}

fn built_in(view: View) -> Option<uguid::Guid> {
    match view {
        View::FirmwareFile(guid) => Some(guid),
        _ => None,
    }
}
