//! What the firmware's rules found, in words.

use signpost_firmware::start::{Target, Verdict};

use crate::survey::Look;

/// A verdict's one-word kind, for programs that read JSON.
pub(crate) fn kind(verdict: &Verdict) -> &'static str {
    match verdict {
        Verdict::NoVariable => "no-entry",
        Verdict::Malformed(_) => "broken",
        Verdict::NotActive => "not-in-use",
        Verdict::Category => "application",
        Verdict::Deleted => "deleted",
        Verdict::NoPartition { .. } => "no-partition",
        Verdict::NoDevice => "no-device",
        Verdict::NoFile { .. } => "no-file",
        Verdict::Unreadable { .. } => "unreadable",
        Verdict::Unfit { .. } => "unfit",
        Verdict::Network => "network",
        Verdict::CannotFollow(_) => "cannot-follow",
        Verdict::BuiltIn(_) => "built-in",
        Verdict::Starts(_) => "starts",
        Verdict::MayStart(..) => "may-start",
    }
}

/// A verdict as a sentence's worth of words.
pub(crate) fn verdict(look: &Look<'_>, verdict: &Verdict) -> String {
    match verdict {
        Verdict::NoVariable => "there is no entry of this number".into(),
        Verdict::Malformed(why) => format!("broken: {why}"),
        Verdict::NotActive => "not in use".into(),
        Verdict::Category => "an application, which the order skips".into(),
        Verdict::Deleted => {
            "its disk is gone: the firmware made this entry, and deletes it at the next start".into()
        }
        Verdict::NoPartition { number, signature, renumbered } => match renumbered.first() {
            Some(volume) => {
                let now = look.survey.volumes[*volume].partition.unwrap_or(0);
                format!(
                    "its partition now has number {now}, the entry says {number}: the firmware does not find it"
                )
            }
            None => format!("its partition is gone, number {number} with the identity {signature}"),
        },
        Verdict::NoDevice => "its disk is gone".into(),
        Verdict::NoFile { path, .. } if path.contains('/') => {
            format!("the path {path} is written with slashes; firmware takes backslashes alone")
        }
        Verdict::NoFile { path, partitions } => match partitions[..] {
            [] => format!("no volume that the firmware reads has {path}"),
            [volume] => format!("{} has no file {path}", look.survey.volumes[volume].where_it_is()),
            _ => format!("none of {} volumes has {path}", partitions.len()),
        },
        Verdict::Unreadable { partition } => {
            let volume = &look.survey.volumes[*partition];
            // What firmware does not read anyway, is not the worse for being broken.
            let fault = volume.fault.clone().filter(|_| volume.holds_fat());
            let why = fault.unwrap_or_else(|| format!("holds {}, which firmware does not read", volume.kind));
            format!("{}: {why}", volume.where_it_is())
        }
        Verdict::Unfit { target, why } => format!("{}: {why}", place(look, target)),
        Verdict::Network => "a network start; taken to get no answer".into(),
        Verdict::CannotFollow(why) => format!("cannot be followed: {why}"),
        Verdict::BuiltIn(_) => "a program inside the firmware".into(),
        Verdict::Starts(targets) => {
            let all: Vec<String> = targets.iter().map(|target| titled(look, target)).collect();
            all.join(", or ")
        }
        Verdict::MayStart(target, why) => format!("{}: {why}", titled(look, target)),
    }
}

/// A file and whose it is.
pub(crate) fn titled(look: &Look<'_>, target: &Target) -> String {
    match title(look, target) {
        Some(title) => format!("{title}: {}", place(look, target)),
        None => place(look, target),
    }
}

/// Where a file is: `disk 1 partition 1, /EFI/larkspur/lkload.efi`.
pub(crate) fn place(look: &Look<'_>, target: &Target) -> String {
    format!("{}, {}", look.survey.volumes[target.partition].where_it_is(), volume_path(&target.path))
}

/// Path of a target as volumes write it: with slashes, from the root.
pub(crate) fn volume_path(path: &str) -> String {
    ["/", path.trim_start_matches('\\')].concat().replace('\\', "/")
}

/// The title of the system, or of what the file is else.
pub(crate) fn title(look: &Look<'_>, target: &Target) -> Option<String> {
    let index = look.survey.startup_file(target.partition, &volume_path(&target.path))?;
    let file = &look.survey.startup_files[index];
    let system = file.system.as_ref().and_then(|id| look.survey.system(id));
    Some(system.map_or_else(|| file.description.clone(), |system| system.title.clone()))
}
