//! What the sectors that BIOS firmware starts by hold, in words.

use serde::Serialize;
use signpost_facts::TableKind;
use signpost_firmware::bios::{SECTOR, active};
use signpost_place::Look;

use crate::rehearse::first_in_words;

/// A sector with what it holds, in words.
#[derive(Clone, Debug, Serialize)]
pub struct Held {
    /// Its name: `d1`, `d1p2`.
    pub name: String,
    /// What it is.
    pub what: String,
    /// What else is worth knowing of it.
    pub notes: Vec<String>,
    /// The start of the SHA-256 of its code.
    pub digest: String,
}

/// All sectors that code may stand in, in the order of the disk.
pub fn held(look: &Look) -> Vec<Held> {
    let sectors = &look.survey.boot_sectors;
    let mut all = Vec::new();
    for first in &sectors.first {
        let mut notes = Vec::new();
        let is_gpt = look.survey.disk(first.disk).is_some_and(|disk| disk.table.kind == Some(TableKind::Gpt));
        match active(&first.bytes).count() {
            0 if is_gpt => {
                notes.push("GPT; some firmware asks for an active entry, which is the protective one".into());
            }
            _ if is_gpt => {
                notes.push("GPT; the protective entry is active, which some firmware does not take".into());
            }
            0 => notes.push("no partition is active".to_string()),
            1 => {}
            count => notes.push(format!("{count} partitions are active")),
        }
        notes.push(match (first.gap, first.gap_used) {
            (gap, 0) => format!("{gap} sectors before the first partition, all empty"),
            (gap, used) => format!("{gap} sectors before the first partition, {used} of them used"),
        });
        let name = format!("d{}", first.disk);
        all.push(Held { name, what: first_in_words(first), notes, digest: short(&first.sha256) });
        let active = active(&first.bytes).next();
        for sector in sectors.partitions.iter().filter(|sector| sector.disk == first.disk) {
            let is_active = active.is_some() && sector.entry == active;
            let mut notes: Vec<String> = is_active.then(|| "active".to_string()).into_iter().collect();
            notes.extend(sector.says_before.map(|says| {
                format!(
                    "it says that {says} sectors lie before it, and there are {}",
                    sector.start / SECTOR as u64
                )
            }));
            notes.extend(sector.says_geometry.map(|[heads, sectors]| {
                format!(
                    "it counts with {heads} heads and {sectors} sectors a track, and the table with others"
                )
            }));
            notes.extend(sector.backup.as_ref().map(|copy| match copy.is_same {
                true => format!("its copy in sector {} is the same", copy.sector),
                false => format!("its copy in sector {} is another", copy.sector),
            }));
            notes.extend(sector.holds_table.then(|| "the table of the logical partitions".to_string()));
            let what = sector.known.clone().unwrap_or_else(|| sector.code.words().to_string());
            let name = sector.name.clone();
            all.push(Held { name, what, notes, digest: short(&sector.sha256) });
        }
    }
    all
}

fn short(digest: &str) -> String {
    digest.chars().take(8).collect()
}
