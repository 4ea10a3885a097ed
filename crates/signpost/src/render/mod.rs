//! The core's facts as text for people.

pub mod check;
pub mod detail;
pub mod disks;
pub mod draft;
pub mod firmware;
pub mod hold;
pub mod mend;
pub mod menu;
pub mod out;
pub mod plan;
pub mod policy;
pub mod preview;
pub mod rehearse;
pub mod report;
pub mod sector;
pub mod short;
pub mod sixel;
pub mod size;
pub mod style;
pub mod survey;
pub mod table;
pub mod tune;
pub mod width;
