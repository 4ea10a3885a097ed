//! What a Linux system mounts: its `/etc/fstab` (fstab(5)), and mistakes in it that keep the system from starting.

use signpost_facts::{Code, Finding, Subject, VolumeNumber};
use signpost_place::Look;
use signpost_place::finder::mounted;

/// Mount points that a start depends on.
const POINTS: [&str; 5] = ["/", "/boot", "/boot/efi", "/efi", "/usr"];

/// Takes in which ESP each system mounts, and notes what cannot be mounted. Systems stand in the order in which the finder
/// found them.
pub(crate) fn read(look: &mut Look) {
    let (mut esps, mut findings) = (Vec::new(), Vec::new());
    for (index, found) in look.systems.list.iter().enumerate() {
        let root = found.root.and_then(|(volume, root)| look.systems.found.get(volume)?.roots.get(root));
        let Some((root, (path, _))) = root.and_then(|root| Some((root, root.fstab.as_ref()?))) else {
            continue;
        };
        let on = found.root.map(|(volume, _)| volume);
        for mount in mounted(root, &look.identities) {
            if !POINTS.contains(&mount.at) {
                continue;
            }
            let place = format!("{}: {path} line {}", found.title, mount.line);
            let system = look.survey.systems.get(index).map(|system| system.id.clone()).unwrap_or_default();
            let finding = |message: String, help: &str| {
                Finding::new(Code::FstabWrong, message, help).about(Subject::System(system.clone()))
            };
            match mount.volume {
                Ok(volume) if mount.at == "/" && on != Some(volume) => {
                    findings.push(finding(
                        format!(
                            "{place} mounts {} as its root, and the system is on {}",
                            look.survey.volumes[volume].name,
                            on.map_or("", |on| &look.survey.volumes[on].name)
                        ),
                        "a copy of a system? name its own volume there before it is started",
                    ));
                }
                // A system may mount its ESP at /boot itself.
                Ok(volume) if look.survey.volumes[volume].is_esp && mount.at != "/" => {
                    esps.push((index, VolumeNumber::of_index(volume)));
                }
                Ok(_) => {}
                Err(_) if mount.options.split(',').any(|option| option == "nofail" || option == "noauto") => {
                }
                // What a copy mounts is its origin's to mend.
                Err(_) if found.snapshot.is_some() => {}
                Err(why) => findings.push(finding(
                    format!("{place} mounts {} from {}: {why}", mount.at, mount.what),
                    "the system waits for it at its start and may stop there; correct the line",
                )),
            }
        }
    }
    for (index, esp) in esps {
        look.survey.systems[index].esp = Some(esp);
    }
    look.survey.findings.extend(findings);
}
