//! A boot file that is lost: what it was, where the same stands still, and what else brings its system up.

use signpost_facts::cause::{Act, Cause, Cure, Effect};
use signpost_facts::{BootFile, Code, Role, Subject, System, VolumeNumber};

use super::{Seen, cause, ids};

/// A place where the same file stands, and how that is known.
struct Twin {
    volume: VolumeNumber,
    path: String,
    evidence: String,
}

/// The cause that a loader is gone or damaged, with its cures; `volume` and `path` are where it should be.
pub(super) fn loader_lost(
    seen: &Seen<'_>,
    (volume, path): (VolumeNumber, &str),
    systems: &[&System],
    (subject, effect): (Subject, Effect),
    is_damaged: bool,
) -> Cause {
    let whose = match systems {
        [] => "a loader".to_string(),
        [system] => format!("the loader of {}", system.title),
        several => {
            let titles: Vec<&str> = several.iter().map(|system| system.title.as_str()).collect();
            format!("the loader of {}", titles.join(" and "))
        }
    };
    let place = seen.look.survey.at(volume, path);
    let state = if is_damaged { "is damaged" } else { "is gone" };
    let message = format!("{whose} {state}: {place}");
    let mut lost = cause(Code::LoaderGone, effect, Some(subject), message);
    lost.systems = ids(systems);
    let known = seen.look.identities.get(volume.index()).and_then(|own| seen.look.known.file(own, path));
    if let Some(known) = known {
        lost.evidence.push(format!("it was there on {}", known.seen));
    }
    if let Some(twin) = twin(seen, (volume, path), systems, is_damaged) {
        lost.evidence.push(twin.evidence);
        lost.cures.push(Cure {
            name: "copy-back",
            what: format!("copy {} to {place}", seen.look.survey.at(twin.volume, &twin.path)),
            acts: vec![Act::Copy { from: (twin.volume, twin.path), to: (volume, path.to_string()) }],
        });
    }
    lost.cures.extend(kernel_directly(seen, systems));
    if lost.cures.is_empty() {
        lost.by_hand = Some(
            "start that system's own installation or recovery medium and let it write its loader again"
                .into(),
        );
    }
    lost
}

/// The systems that a lost file started: those of its folder, of the last survey, or of the same file elsewhere. A system that shows by
/// its loader alone is gone with it.
pub(super) fn systems_of_lost<'s>(
    seen: &'s Seen<'_>,
    (volume, path): (VolumeNumber, &str),
    by_folder: Vec<&'s System>,
) -> Vec<&'s System> {
    if !by_folder.is_empty() {
        return by_folder;
    }
    let look = seen.look;
    let known = look.identities.get(volume.index()).and_then(|own| look.known.file(own, path));
    let Some(known) = known else { return Vec::new() };
    let by_survey: Vec<&System> = known.systems.iter().filter_map(|id| look.survey.system(id)).collect();
    if !by_survey.is_empty() {
        return by_survey;
    }
    let same = look.survey.boot_files.iter().filter(|file| file.sha256.as_ref() == Some(&known.sha256));
    let mut systems: Vec<&System> =
        same.flat_map(BootFile::owners).filter_map(|id| look.survey.system(id)).collect();
    systems.dedup_by(|one, other| one.id == other.id);
    systems
}

/// Whether a file was there at the last survey.
pub(super) fn was_there(seen: &Seen<'_>, (volume, path): (VolumeNumber, &str)) -> bool {
    let own = seen.look.identities.get(volume.index());
    own.is_some_and(|own| seen.look.known.file(own, path).is_some())
}

/// Where the same file stands: by its digest at the last survey, else on the fallback path of its volume, where that starts the same
/// system. A damaged file is only replaced by what is known to be the same.
fn twin(
    seen: &Seen<'_>,
    (volume, path): (VolumeNumber, &str),
    systems: &[&System],
    is_damaged: bool,
) -> Option<Twin> {
    let look = seen.look;
    let files = || look.survey.boot_files.iter().filter(|file| look.survey.takes_part(file.volume));
    let is_elsewhere = |file: &&BootFile| file.volume != volume || !file.path.eq_ignore_ascii_case(path);
    let own = look.identities.get(volume.index()).and_then(|own| look.known.file(own, path));
    let elsewhere = || look.known.files_elsewhere(&look.identities, path).next();
    if let Some(known) = own.or_else(elsewhere) {
        let same = || files().filter(is_elsewhere).filter(|file| file.sha256.as_ref() == Some(&known.sha256));
        let near = same().find(|file| file.volume == volume).or_else(|| same().next());
        if let Some(file) = near {
            return Some(Twin {
                volume: file.volume,
                path: file.path.clone(),
                evidence: format!("{} has the same content", look.survey.at(file.volume, &file.path)),
            });
        }
    }
    if is_damaged {
        return None;
    }
    let serves = |file: &&BootFile| {
        file.role == Role::FallbackPath
            && file.volume == volume
            && !file.is_ours()
            && file.owners().any(|owner| systems.iter().any(|system| system.id == *owner))
    };
    let fallback = files().filter(serves).find(is_elsewhere)?;
    Some(Twin {
        volume,
        path: fallback.path.clone(),
        evidence: format!(
            "{}, the fallback path, starts the same system",
            look.survey.at(volume, &fallback.path)
        ),
    })
}

/// The kernel of a system started by our menu, where there is one that can be.
pub(super) fn kernel_directly(seen: &Seen<'_>, systems: &[&System]) -> Option<Cure> {
    let has_kernel = systems.iter().any(|system| !system.kernels.is_empty());
    let can = seen.case.program.is_some() && has_kernel;
    can.then(|| Cure {
        name: "start-kernel",
        what: "start its kernel directly, by a menu of ours".into(),
        acts: vec![Act::Redraft],
    })
}
