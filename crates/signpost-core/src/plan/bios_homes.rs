//! On which disks with BIOS firmware boot program and menu are put: home, and where the menu wants two of them, a second one.

use signpost_facts::sectors::FirstSector;
use signpost_facts::{DiskNumber, Error, Result};
use signpost_firmware::bios::code::FirstCode;
use signpost_menu::slot::newest;
use signpost_place::Look;
use signpost_place::home::{identity_in, machine_id, slots_in};

use super::planned::Wishes;
use crate::bios::{self, Which};
use crate::resolve::{ResolvedEntry, StartTarget};

/// The homes, of which the first is home.
pub(super) struct Homes<'l> {
    /// Their first sectors.
    pub(super) disks: Vec<&'l FirstSector>,
    /// By what slots call them; nothing where there is but one.
    pub(super) identities: Vec<String>,
    /// What is to be said of them.
    pub(super) notes: Vec<String>,
}

/// Chooses them. `used` tells how many sectors of somebody else's lie where the boot program would go; nothing, where it has no room.
///
/// # Errors
/// Where no disk can be had, or what is asked for is none.
pub(super) fn of<'l>(
    look: &'l Look,
    wants_two: bool,
    (wishes, resolved): (&Wishes, &[ResolvedEntry<'_>]),
    used: impl Fn(&FirstSector) -> Option<u64>,
) -> Result<Homes<'l>> {
    let sectors = &look.survey.boot_sectors;
    let asked = |name: &Option<String>, option: &str| {
        name.as_deref().map(|name| asked_for(look, name, option)).transpose()
    };
    let by_order = || sectors.order.iter().find_map(|disk| sectors.first_of(*disk));
    let first = asked(&wishes.home, "--home")?.or_else(|| sectors.home()).or_else(by_order);
    let first =
        first.ok_or_else(|| Error::Unusable { place: "home".into(), why: "no disk can be read".into() })?;
    let mut homes = Homes { disks: vec![first], identities: Vec::new(), notes: Vec::new() };
    if !wants_two {
        return Ok(homes);
    }
    let own = identity_in(look, first.disk).to_string();
    let named = partner(look, first.disk);
    homes.identities.push(own);
    if let Some(second) =
        asked(&wishes.second_home, "--second-home")?.filter(|second| second.disk != first.disk)
    {
        homes.disks.push(second);
    } else if let Some(name) = named {
        let left = match sectors.first.iter().find(|other| identity_in(look, other.disk) == name) {
            Some(second) if used(second).is_some() => {
                homes.disks.push(second);
                None
            }
            Some(_) => Some("has no room for it any more"),
            None => Some("is not attached or cannot be read"),
        };
        if let Some(why) = left {
            homes.notes.push(format!(
                "homes = 2: the disk of the second home {why}, and stays as it is; `signpost apply` and `signpost hold` bring it up to \
                 date once that is over, and --second-home names another disk"
            ));
            homes.identities.push(name);
            return Ok(homes);
        }
    } else if !wishes.stays {
        let can_be = |other: &&FirstSector| {
            other.disk != first.disk
                && can_be(look, other, &homes.identities)
                && !is_started(look, other.disk, resolved)
        };
        let other = sectors.order.iter().filter_map(|disk| sectors.first_of(*disk));
        match other.filter(can_be).find(|other| used(other) == Some(0)) {
            Some(second) => homes.disks.push(second),
            None => homes.notes.push(
                "homes = 2: no other disk has room for the second home and plain code in its first sector; --second-home names one to use"
                    .into(),
            ),
        }
    }
    if let Some(second) = homes.disks.get(1) {
        homes.identities.push(identity_in(look, second.disk).to_string());
    }
    Ok(homes)
}

/// The disk that a person names by an option.
fn asked_for<'l>(look: &'l Look, asked: &str, option: &str) -> Result<&'l FirstSector> {
    let sectors = &look.survey.boot_sectors;
    let first = match bios::which(look, asked) {
        Ok(Which::First(disk)) => sectors.first_of(disk),
        _ => None,
    };
    first.ok_or_else(|| {
        let disks: Vec<String> = sectors.first.iter().map(|first| format!("d{}", first.disk)).collect();
        let why = format!("there is no disk {asked} that can be read; there are {}", disks.join(", "));
        Error::Unusable { place: option.into(), why }
    })
}

/// The other home's identity, as the menu says that was put on both.
fn partner(look: &Look, disk: DiskNumber) -> Option<String> {
    let own = identity_in(look, disk);
    let firsts = &look.survey.boot_sectors.first;
    let others = firsts.iter().map(|first| first.disk).filter(|other| *other != disk);
    let menus = std::iter::once(disk).chain(others).filter_map(|disk| {
        let slots = slots_in(look, disk);
        newest(&slots).map(|(_, slot)| slot.clone())
    });
    let machine = machine_id(look);
    let mut of_both =
        menus.filter(|slot| slot.machine == machine && slot.homes.iter().any(|name| name == own));
    of_both.next()?.homes.into_iter().find(|name| name != own)
}

/// Whether the menu at home was put on another disk too, which is not attached or cannot be read.
pub(crate) fn is_one_away(look: &Look) -> bool {
    let firsts = &look.survey.boot_sectors.first;
    let other = look.survey.boot_sectors.home().and_then(|home| partner(look, home.disk));
    other.is_some_and(|name| !firsts.iter().any(|first| identity_in(look, first.disk) == name))
}

/// Whether nothing is lost where our code goes into a disk's first sector, and the disk stays in the machine.
fn can_be(look: &Look, other: &FirstSector, taken: &[String]) -> bool {
    let name = identity_in(look, other.disk);
    let is_free =
        matches!(other.code, FirstCode::Empty | FirstCode::Plain | FirstCode::OurPlain | FirstCode::OurMenu);
    let takes_part = look.survey.disk(other.disk).is_some_and(|disk| disk.takes_part);
    is_free && takes_part && !name.is_empty() && !taken.iter().any(|own| own == name)
}

/// Whether an entry of the menu starts a disk by its first sector.
fn is_started(look: &Look, disk: DiskNumber, resolved: &[ResolvedEntry<'_>]) -> bool {
    resolved.iter().any(|entry| match &entry.target {
        Ok(StartTarget::Sector { volume, manner, .. }) => {
            manner.first_sector && look.survey.volumes[*volume].disk == disk
        }
        _ => false,
    })
}
