//! What is done to sectors: tables from their backups, and what BIOS firmware starts by.

use signpost_facts::cause::{SectorAct, SectorWhat};
use signpost_facts::change::{Change, SectorWrite};
use signpost_facts::{Code, DiskNumber, Refusal, Result};

use super::Work;
use crate::bios::{self, Wanted};

impl Work<'_> {
    /// Writes a disk's table; never while the running system uses the disk.
    pub(super) fn table(&mut self, disk: DiskNumber) {
        let survey = &self.look.survey;
        let of_disk = survey.volumes.iter().filter(|volume| survey.disks_of(volume.number).contains(&disk));
        let mut used = of_disk.filter_map(|volume| Some((volume.where_it_is(), volume.use_in_words()?)));
        if let Some((name, how)) = used.next() {
            self.refusals.push(Refusal {
                code: Code::PartitionUnsafe,
                message: format!("disk {disk} is in use: {name} {how}"),
                way: "do it from a rescue medium, where nothing of the disk is in use".into(),
            });
        }
        let own = self.look.tables.iter().filter(|(number, _)| *number == disk);
        self.sectors.extend(own.map(|(_, write)| write.clone()));
        self.tables.push(disk);
    }

    /// Changes a sector that BIOS firmware starts by; two changes of one sector go together.
    pub(super) fn sector(&mut self, act: &SectorAct) -> Result<()> {
        let name = act.partition.clone().unwrap_or_else(|| format!("d{}", act.disk));
        let wanted = match act.what {
            SectorWhat::Standard => Wanted::Standard,
            SectorWhat::Active => Wanted::Active,
            SectorWhat::Backup => Wanted::Backup,
        };
        let plan = bios::plan(self.look, &bios::which(self.look, &name)?, &wanted)?;
        // Whether something starts, and what, is judged when all of it is together.
        let is_judged = |refusal: &Refusal| matches!(refusal.code, Code::NothingStarts | Code::LastWay);
        self.refusals.extend(plan.refusals.into_iter().filter(|refusal| !is_judged(refusal)));
        for write in plan.writes.iter().filter_map(Change::sectors) {
            let is_it = |own: &&mut SectorWrite| (&own.disk, own.offset) == (&write.disk, write.offset);
            match self.sectors.iter_mut().find(is_it) {
                Some(own) => join(own, write),
                None => self.sectors.push(write.clone()),
            }
        }
        Ok(())
    }
}

/// Changes in a sector what another plan for it changes.
fn join(own: &mut SectorWrite, other: &SectorWrite) {
    let (Some(after), Some(before), Some(wanted)) = (&mut own.after, &other.before, &other.after) else {
        return;
    };
    for ((byte, before), wanted) in after.iter_mut().zip(before).zip(wanted) {
        if before != wanted {
            *byte = *wanted;
        }
    }
    own.what = format!("{}; {}", own.what, other.what);
}
