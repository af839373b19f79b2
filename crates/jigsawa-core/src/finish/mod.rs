//! Finishing: from linear values to a picture for the eye. `stretch` is the only door between both.
//!
//! [`look()`] reads a picture once; [`Plan::measure`] turns wishes into measured steps; [`develop()`] carries them out
//! piece by piece. Each step has its file, in the order of [`Step`].

pub mod contrast;
pub mod cores;
mod covered;
mod deconvolve;
mod denoise;
mod detail;
mod develop;
mod factors;
mod green;
mod level;
mod look;
mod neutral;
mod opening;
mod plan;
mod range;
pub mod saturation;
mod shade;
mod shrink;
mod small;
mod spared;
mod starlet;
mod step;
mod stream;
mod stretch;
mod stretched;
mod tile;
pub mod white;
mod wish;

pub use covered::covered_rect;
pub(crate) use deconvolve::gaussian;
pub use denoise::Quiet;
pub use develop::{BAND_ROWS, develop, develop_part};
pub use green::{LUMINANCE, luminance};
pub use look::{Look, LookError, Sources, look};
pub use neutral::{ChannelSky, GradientWish, SkyFrom, flatten};
pub use plan::{Found, Plan};
pub use shade::{Shade, ShadeTable};
pub(crate) use starlet::smooth;
pub use step::Step;
pub use stretch::{
    Display, Link, Point as TonePoint, Ramp, SKY_GREY, Stretch, Tone, sky_and_noise,
};
pub use stretched::{are_stretched, looks_stretched};
pub use tile::Tile;
pub use wish::{Crop, PlanError, WhiteFrom, Wish};
