//! What a Linux system mounts: its `/etc/fstab` (fstab(5)), and mistakes in it that keep the system from starting.

use signpost_menu::place::VolumeRef;

use super::Look;
use super::contents::Contents;
use super::facts::Finding;
use crate::code::Code;

pub(super) const FSTAB: &str = "/etc/fstab";
/// Mount points that a start depends on.
const POINTS: [&str; 5] = ["/", "/boot", "/boot/efi", "/efi", "/usr"];

/// A line that says what is mounted where.
#[derive(Clone, Debug, PartialEq, Eq)]
struct Mount<'a> {
    line: usize,
    what: &'a str,
    at: &'a str,
    options: &'a str,
}

fn parse(text: &str) -> Vec<Mount<'_>> {
    let lines = (1..).zip(text.lines()).filter(|(_, line)| !line.trim_start().starts_with('#'));
    lines
        .filter_map(|(line, text)| {
            let mut fields = text.split_whitespace();
            let (what, at) = (fields.next()?, fields.next()?);
            Some(Mount { line, what, at, options: fields.nth(1).unwrap_or_default() })
        })
        .collect()
}

/// The volume that a line's first field names; `None` for what is no stable name.
fn named(what: &str) -> Option<VolumeRef> {
    let unquoted = |value: &str| value.trim_matches('"').to_string();
    if let Some((kind, value)) = what.split_once('=') {
        return Some(match kind {
            "UUID" => VolumeRef::Uuid(unquoted(value)),
            "LABEL" => VolumeRef::Label(unquoted(value)),
            "PARTUUID" => VolumeRef::PartUuid(unquoted(value)),
            "PARTLABEL" => VolumeRef::PartLabel(unquoted(value)),
            _ => return None,
        });
    }
    let by_folder = [
        ("/dev/disk/by-uuid/", VolumeRef::Uuid as fn(String) -> VolumeRef),
        ("/dev/disk/by-label/", VolumeRef::Label),
        ("/dev/disk/by-partuuid/", VolumeRef::PartUuid),
    ];
    if let Some((value, kind)) =
        by_folder.iter().find_map(|(folder, kind)| Some((what.strip_prefix(folder)?, kind)))
    {
        return Some(kind(value.to_string()));
    }
    let mapped = what.strip_prefix("/dev/mapper/").map(|name| name.replace("--", "\0"));
    if let Some((group, name)) = mapped.as_ref().and_then(|name| name.split_once('-')) {
        return Some(VolumeRef::Lv(group.replace('\0', "-"), name.replace('\0', "-")));
    }
    None
}

/// Takes in which volume each system mounts at `/boot`, and notes what cannot be mounted.
///
/// The systems are those of all roots, in their order.
pub(super) fn read(look: &mut Look<'_>, contents: &[Contents]) {
    let mut findings = Vec::new();
    let roots = contents.iter().flat_map(|found| &found.roots);
    for (index, root) in roots.enumerate() {
        let Some((path, text)) = &root.fstab else { continue };
        let system = &look.survey.systems[index];
        let mut boot = None;
        for mount in parse(text).into_iter().filter(|mount| POINTS.contains(&mount.at)) {
            let Some(volume) = named(mount.what) else { continue };
            let place = format!("{}: {path} line {}", system.title, mount.line);
            match look.resolve(&volume) {
                Ok(found) if mount.at == "/" && system.root != Some(found + 1) => findings.push(finding(
                    format!(
                        "{place} mounts v{} as its root, and the system lies on v{}",
                        found + 1,
                        system.root.unwrap_or(0)
                    ),
                    "a copy of a system? name its own volume there before it is started",
                )),
                Ok(found) if mount.at == "/boot" => boot = Some(found + 1),
                Ok(_) => {}
                Err(_) if mount.options.split(',').any(|option| option == "nofail" || option == "noauto") => {
                }
                Err(why) => findings.push(finding(
                    format!("{place} mounts {} from {}: {why}", mount.at, mount.what),
                    "the system waits for it at its start and may stop there; correct the line",
                )),
            }
        }
        look.survey.systems[index].boot = boot;
    }
    look.survey.findings.extend(findings);
}

fn finding(message: String, help: &str) -> Finding {
    Finding { code: Code::FstabWrong, message, help: help.into() }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_and_names_are_read() {
        let text = "# comment\n\nUUID=\"ab-cd\"  / ext4 defaults 0 1\n/dev/mapper/tide--bench-home /home xfs nofail\n";
        let mounts = parse(text);
        assert_eq!((mounts.len(), mounts[0].line, mounts[0].at), (2, 3, "/"));
        assert_eq!(mounts[1].options, "nofail");
        assert_eq!(named(mounts[0].what), Some(VolumeRef::Uuid("ab-cd".into())));
        assert_eq!(named(mounts[1].what), Some(VolumeRef::Lv("tide-bench".into(), "home".into())));
        assert_eq!(named("/dev/sda1"), None);
        assert_eq!(named("/dev/disk/by-label/TIDE"), Some(VolumeRef::Label("TIDE".into())));
    }
}
