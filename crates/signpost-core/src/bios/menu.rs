//! What of a menu plain code can start: the boot sector of a partition that can be active.

use signpost_facts::change::{Change, SectorWrite};
use signpost_facts::{DiskNumber, VolumeNumber};
use signpost_place::Look;

use super::sector::{Wanted, Which, plan};
use crate::rehearse::{Rehearsal, rehearse_in_order};
use crate::resolve::{ResolvedEntry, StartTarget};

/// The boot sector whose partition has to be active for an entry to start; or why it cannot be active.
pub(crate) fn activated(look: &Look, entry: &ResolvedEntry<'_>) -> Result<Which, String> {
    let volume = match &entry.target {
        Err(fault) => return Err(fault.to_string()),
        Ok(StartTarget::Sector { volume, file: None, .. }) => *volume,
        Ok(StartTarget::Sector { file: Some(_), .. }) => {
            return Err("its boot sector lies in a file, where plain code does not look".into());
        }
        Ok(_) => {
            return Err(format!(
                "plain code starts no {}, but boot sectors alone",
                entry.entry.starts.word()
            ));
        }
    };
    let number = VolumeNumber::of_index(volume);
    let sector = look.survey.boot_sector_of(number).filter(|sector| sector.entry.is_some());
    let index = sector.and_then(|sector| {
        look.survey.boot_sectors.partitions.iter().position(|other| std::ptr::eq(other, sector))
    });
    index.map(Which::Partition).ok_or_else(|| {
        format!("{} has no entry in the table itself, so that it cannot be active", look.survey.name(number))
    })
}

/// A start where the firmware tries the disks in this order, and the partition of this entry were the active one.
///
/// # Errors
/// Where making it so would not start it: why.
pub fn rehearse_entry(
    look: &Look,
    order: &[DiskNumber],
    entry: &ResolvedEntry<'_>,
) -> Result<Rehearsal, String> {
    let which = activated(look, entry)?;
    let planned = plan(look, &which, &Wanted::Active).map_err(|error| error.to_string())?;
    let writes: Vec<SectorWrite> = planned.writes.iter().filter_map(Change::sectors).cloned().collect();
    Ok(rehearse_in_order(look, order, &writes, None))
}
