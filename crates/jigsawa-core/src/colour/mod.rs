//! Colour: mixes of frames into channels, palettes of mixes, and the merge that makes a composite.

mod composite;
mod luminance;
pub mod mix;
mod palette;

pub use composite::{Composite, White};
pub use palette::{Palette, PaletteError};
