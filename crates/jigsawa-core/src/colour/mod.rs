//! Colour: mixes of frames into channels, palettes of mixes, and the merge that makes a composite.

mod composite;
mod lines;
mod luminance;
pub mod mix;
mod palette;
mod starlight;

pub use composite::{Composite, Part, Source, White};
pub use lines::{Lines, strengths};
pub use luminance::{Luminance, with_luminance};
pub use palette::{Palette, PaletteError, Written, WrittenError, WrittenStars};
pub use starlight::{MergedFrame, star_light};
