//! The built program, driven as a person drives it: on benches in temporary folders.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

mod bad_input;
mod bios;
mod bios_menu;
mod bios_sectors;
mod boot_host;
mod breadth;
mod by_hand;
mod causes;
mod check;
mod checked;
mod commands;
mod cuts;
mod docs;
mod draft_menu;
mod edit;
mod first_minutes;
mod forecast;
#[cfg(feature = "real-tools")]
mod fsck;
mod harness;
mod homes;
mod look;
mod one_answer;
mod own_entries;
mod plan_apply;
mod plugged_in;
mod policy;
#[cfg(feature = "real-tools")]
mod power_cuts;
mod promises;
mod reach;
mod refresh;
mod rehearsal;
mod report;
mod strange_names;
mod survey;
mod tide;
mod tries;
mod unsafe_disks;
mod upkeep;
mod year;
