//! Ways on a machine with BIOS firmware: what the first sector of its first disk leads to.

use std::collections::BTreeSet;

use signpost_facts::change::SectorWrite;
use signpost_facts::way::{Through, Way};
use signpost_place::Look;

use crate::rehearse::{entries_that_start, rehearse_bios};

/// The ways that work after these writes: the entries of our menu, where the first sector goes to that, else the active partition.
pub(super) fn ways(look: &Look, planned: &[SectorWrite]) -> BTreeSet<Way> {
    let Some(disk) = look.survey.boot_sectors.order.first() else { return BTreeSet::new() };
    match entries_that_start(look, planned) {
        Some(entries) => {
            let way = |(id, system)| Way { system, through: Through::Menu(id) };
            entries.into_iter().map(way).collect()
        }
        None => {
            let outcome = rehearse_bios(look, planned, None).outcome;
            let system = outcome.system.clone().filter(|_| outcome.is_start());
            let through = || Through::ActivePartition(*disk);
            system.into_iter().map(|system| Way { system, through: through() }).collect()
        }
    }
}
