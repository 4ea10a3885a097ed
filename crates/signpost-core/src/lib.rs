//! Decisions: what starts next, problems, by which ways systems can be started; drafts, plans, edits, undoing.
//!
//! In come facts and volumes that can be looked into, out come facts and planned changes. Nothing here prints, opens a
//! device, or writes.

pub mod bios;
pub mod check;
pub mod confirm;
pub mod draft;
pub mod edit;
mod findings;
pub mod firmware;
pub mod history;
pub mod hold;
mod home;
pub mod mend;
pub mod menu_file;
pub mod menu_rows;
mod menu_text;
pub mod named;
pub mod news;
pub mod once;
pub mod plan;
pub mod preview;
pub mod prompt;
pub mod recipe;
pub mod rehearse;
pub mod report;
pub mod resolve;
mod sectors;
mod starts_next;
pub mod undo;
pub mod ways;

pub use home::volume_of;
use signpost_place::Look;

/// Decides what a survey leaves open: what starts next, problems with entries and their order, by which ways each system can
/// be started.
pub fn decide(mut look: Look) -> Look {
    let rehearsal = rehearse::rehearse(&look);
    look.survey.firmware.starts_next = starts_next::starts_next(&look, &rehearsal);
    let more = findings::all(&look, &rehearsal);
    look.survey.findings.extend(more);
    look.survey.findings.sort_by_key(|finding| finding.code);
    let ways = ways::ways(&look, rehearse::State::of(&look));
    for system in &mut look.survey.systems {
        let own = ways.iter().filter(|way| way.system == system.id);
        system.ways = own.map(|way| way.through.clone()).collect();
    }
    look
}
