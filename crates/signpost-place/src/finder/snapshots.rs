//! Snapshots: copies of a root as that was once. They are not systems of their own; what they lack is their origin's.

use alloc::format;
use alloc::string::{String, ToString};
use alloc::vec::Vec;

use signpost_menu::linux_files::{mounts, subvolume_argument};

use super::found_system::{FoundSystem, SystemKernel};
use super::owners::Owner;
use super::roots::Root;

/// Marks the roots of a volume that are copies of another one: that was made as one, or whose own table of mounts puts
/// another one in its place.
pub(super) fn mark(roots: &mut [Root]) {
    let paths: Vec<String> = roots.iter().map(|root| root.path.trim_matches('/').to_string()).collect();
    for root in roots.iter_mut().filter(|root| !root.is_default) {
        let Some((_, fstab)) = &root.fstab else { continue };
        let named = mounts(fstab)
            .into_iter()
            .find(|mount| mount.at == "/")
            .and_then(|mount| mount.options.split(',').find_map(|option| option.strip_prefix("subvol=")));
        let (own, named) = (root.path.trim_matches('/'), named.map(|named| named.trim_matches('/')));
        let is_copy = named
            .is_some_and(|named| named != own && !named.is_empty() && paths.iter().any(|path| path == named));
        root.is_snapshot = is_copy || root.is_snapshot && named != Some(own);
    }
    // A system that was put in place by a snapshot, and whose origin is gone, is a system.
    for index in 0..roots.len() {
        let Some(root) = roots.get(index).filter(|root| root.is_snapshot) else { continue };
        let has_origin = roots.iter().any(|other| !other.is_snapshot && other.id == root.id);
        let is_newest = roots.iter().all(|other| other.id != root.id || other.made <= root.made);
        if !has_origin
            && is_newest
            && let Some(root) = roots.get_mut(index)
        {
            root.is_snapshot = false;
        }
    }
}

/// A snapshot whose kernels lie on another volume has those of its origin that it has modules of.
pub(super) fn give_kernels(owners: &[Owner<'_>], systems: &mut [FoundSystem]) {
    for index in 0..systems.len() {
        let (Some(owner), Some(system)) = (owners.get(index), systems.get(index)) else { continue };
        if system.snapshot.is_none() || !system.kernels.is_empty() {
            continue;
        }
        let Some(origin) = origin_of(systems, system) else { continue };
        let has_modules = |own: &&SystemKernel| owner.root.modules.contains(&own.kernel.version);
        let kernels = origin.kernels.iter().filter(has_modules).cloned().collect();
        if let Some(system) = systems.get_mut(index) {
            system.kernels = kernels;
        }
    }
}

/// A snapshot is started as its origin is, with itself as the root.
pub(super) fn take_arguments(systems: &mut [FoundSystem]) {
    for index in 0..systems.len() {
        let Some(system) = systems.get(index).filter(|system| system.snapshot.is_some()) else { continue };
        let from = origin_of(systems, system).and_then(|origin| origin.arguments.clone());
        let Some(mut arguments) = from.or_else(|| system.arguments.clone()) else { continue };
        arguments.text = with_subvolume(&arguments.text, system.root_path.trim_start_matches('/'));
        if let Some(system) = systems.get_mut(index) {
            system.arguments = Some(arguments);
            system.kernels.iter_mut().for_each(|own| own.arguments = None);
        }
    }
}

/// Titles of snapshots say of when they are.
pub(super) fn name(systems: &mut [FoundSystem]) {
    for index in 0..systems.len() {
        let Some((system, made)) = systems.get(index).and_then(|system| Some((system, system.snapshot?)))
        else {
            continue;
        };
        let of = origin_of(systems, system).map_or(system.title.as_str(), |origin| origin.title.as_str());
        let title = format!("{of}, snapshot of {}", date(made).unwrap_or_else(|| system.root_path.clone()));
        let is_taken = systems.iter().any(|other| other.title == title);
        let title = if is_taken { format!("{title}, {}", system.root_path) } else { title };
        if let Some(system) = systems.get_mut(index) {
            system.title = title;
        }
    }
}

/// The system that a snapshot is a copy of: on the same volume, under the same id.
fn origin_of<'s>(systems: &'s [FoundSystem], snapshot: &FoundSystem) -> Option<&'s FoundSystem> {
    let volume = snapshot.root?.0;
    systems.iter().find(|system| {
        system.snapshot.is_none()
            && system.root.is_some_and(|root| root.0 == volume)
            && system.id == snapshot.id
    })
}

/// Arguments with another subvolume as the root.
fn with_subvolume(text: &str, subvolume: &str) -> String {
    let mut words: Vec<String> = Vec::new();
    let mut flags: Vec<&str> = Vec::new();
    for word in text.split_whitespace() {
        match word.strip_prefix("rootflags=") {
            Some(more) => flags.extend(more.split(',').filter(|flag| !flag.starts_with("subvol"))),
            None => words.push(word.to_string()),
        }
    }
    let behind_root =
        words.iter().position(|word| word.starts_with("root=")).map_or(0, |at| at.saturating_add(1));
    let mut argument = subvolume_argument(subvolume);
    for flag in flags {
        let end = argument.strip_suffix('"').map_or(argument.len(), str::len);
        argument.insert_str(end, &format!(",{flag}"));
    }
    words.insert(behind_root, argument);
    words.join(" ")
}

/// A time in seconds since 1970 as a date and a time of day, in UTC; `None` before 1970, and where it is none.
fn date(seconds: i64) -> Option<String> {
    const DAY: i64 = 86_400;
    let (days, rest) = (seconds.checked_div(DAY).filter(|_| seconds > 0)?, seconds.checked_rem(DAY)?);
    let (year, month, day) = civil(days)?;
    Some(format!(
        "{year}-{month:02}-{day:02} {:02}:{:02}",
        rest.checked_div(3600)?,
        rest.checked_rem(3600)?.checked_div(60)?
    ))
}

/// The day of the Gregorian calendar that is so many days after 1970-01-01. Counted from a March, leap days come last.
fn civil(days: i64) -> Option<(i64, i64, i64)> {
    const DAYS_IN_400_YEARS: i64 = 146_097;
    const FROM_MARCH_OF_0: i64 = 719_468;
    let days = days.checked_add(FROM_MARCH_OF_0)?;
    let (era, day) = (days.checked_div(DAYS_IN_400_YEARS)?, days.checked_rem(DAYS_IN_400_YEARS)?);
    let leaps = (day / 1460).checked_sub(day / 36_524)?.checked_add(day / 146_096)?;
    let year = day.checked_sub(leaps)?.checked_div(365)?;
    let before = year.checked_mul(365)?.checked_add(year / 4)?.checked_sub(year / 100)?;
    let of_year = day.checked_sub(before)?;
    let month = of_year.checked_mul(5)?.checked_add(2)?.checked_div(153)?;
    let of_month =
        of_year.checked_sub(month.checked_mul(153)?.checked_add(2)?.checked_div(5)?)?.checked_add(1)?;
    let month = if month < 10 { month.checked_add(3)? } else { month.checked_sub(9)? };
    let year = era.checked_mul(400)?.checked_add(year)?.checked_add(i64::from(month <= 2))?;
    Some((year, month, of_month))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn dates_are_those_of_the_calendar() {
        for (seconds, said) in [
            (1, "1970-01-01 00:00"),
            (951_782_400, "2000-02-29 00:00"),
            (1_772_323_199, "2026-02-28 23:59"),
            (1_772_323_200, "2026-03-01 00:00"),
            (4_107_542_340, "2100-02-28 23:59"),
            (4_107_542_400, "2100-03-01 00:00"),
        ] {
            assert_eq!(date(seconds).as_deref(), Some(said));
        }
        assert_eq!((date(0), date(-5)), (None, None));
    }

    #[test]
    fn a_snapshot_takes_its_origins_place_in_the_arguments() {
        for (text, subvolume, with) in [
            (
                "root=UUID=1 rootflags=subvol=@ ro quiet",
                "@snap/1",
                "root=UUID=1 rootflags=subvol=@snap/1 ro quiet",
            ),
            (
                "root=UUID=1 ro rootflags=noatime,subvol=@,subvolid=256",
                "@a",
                "root=UUID=1 rootflags=subvol=@a,noatime ro",
            ),
            ("ro root=UUID=1", "a b", "ro root=UUID=1 rootflags=\"subvol=a b\""),
        ] {
            assert_eq!(with_subvolume(text, subvolume), with);
        }
    }
}
