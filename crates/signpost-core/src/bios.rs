//! Machines that start by BIOS: plans that change their sectors.

mod held;
mod menu;
mod note;
mod remember;
mod sector;

pub use held::{Held, held};
pub(crate) use menu::activated;
pub use menu::rehearse_entry;
pub use note::Note;
pub(crate) use remember::remember;
pub(crate) use sector::identity;
pub use sector::{SectorPlan, Wanted, Which, plan, which};
