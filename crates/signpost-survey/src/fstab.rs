//! What a Linux system mounts: its `/etc/fstab` (fstab(5)), and mistakes in it that keep the system from starting.

use signpost_facts::{Code, Finding, VolumeNumber};
use signpost_menu::linux_files::{mounts, named};
use signpost_place::Look;

use super::found::Contents;

/// Mount points that a start depends on.
const POINTS: [&str; 5] = ["/", "/boot", "/boot/efi", "/efi", "/usr"];

/// Takes in which volume each system mounts at `/boot`, and notes what cannot be mounted.
///
/// The systems are those of all roots, in their order.
pub(crate) fn read(look: &mut Look, contents: &[Contents]) {
    let mut findings = Vec::new();
    let roots = contents.iter().flat_map(|found| &found.roots);
    for (index, root) in roots.enumerate() {
        let Some((path, text)) = &root.fstab else { continue };
        let system = &look.survey.systems[index];
        let (mut boot, mut esp) = (None, None);
        let mut all = Vec::new();
        for mount in mounts(text) {
            let Some(volume) = named(mount.what) else { continue };
            let found = look.resolve(&volume);
            all.extend(found.as_ref().ok().copied().map(VolumeNumber::of_index));
            if !POINTS.contains(&mount.at) {
                continue;
            }
            let place = format!("{}: {path} line {}", system.title, mount.line);
            match found {
                Ok(found) if mount.at == "/" && system.root != Some(VolumeNumber::of_index(found)) => {
                    findings.push(finding(
                        format!(
                            "{place} mounts v{} as its root, and the system lies on v{}",
                            VolumeNumber::of_index(found),
                            system.root.map(|root| root.to_string()).unwrap_or_default()
                        ),
                        "a copy of a system? name its own volume there before it is started",
                    ));
                }
                Ok(found) => {
                    if mount.at == "/boot" {
                        boot = Some(VolumeNumber::of_index(found));
                    }
                    // A system may mount its ESP at /boot itself.
                    if look.survey.volumes[found].is_esp && mount.at != "/" {
                        esp = Some(VolumeNumber::of_index(found));
                    }
                }
                Err(_) if mount.options.split(',').any(|option| option == "nofail" || option == "noauto") => {
                }
                Err(why) => findings.push(finding(
                    format!("{place} mounts {} from {}: {why}", mount.at, mount.what),
                    "the system waits for it at its start and may stop there; correct the line",
                )),
            }
        }
        let system = &mut look.survey.systems[index];
        (system.boot, system.esp, system.mounts) = (boot, esp, all);
    }
    look.survey.findings.extend(findings);
}

fn finding(message: String, help: &str) -> Finding {
    Finding { code: Code::FstabWrong, message, help: help.into() }
}
