//! The menu's scene, drawn pixel by pixel: letters, symbols, colours.
//!
//! In comes a scene of `signpost-menu` with the size of a screen; out come pixels. The boot program puts them on the screen, the
//! desk into a picture, so that both are equal. Whole numbers alone are computed with, and no screen and no file is known here.
#![no_std]
#![forbid(unsafe_code)]

extern crate alloc;

mod band;
pub mod letters;
pub mod metrics;
pub mod painter;
pub mod picture;
mod symbols;
pub mod turned;

pub use band::Area;
pub use metrics::Metrics;
pub use painter::Painter;
pub use picture::Picture;
