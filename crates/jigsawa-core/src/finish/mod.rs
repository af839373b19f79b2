//! Finishing: from linear values to a picture for the eye. `stretch` is the only door between both.
//!
//! [`overview()`] reads a picture once; [`Plan::measure`] turns settings into measured steps; [`develop()`] carries them out
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
mod neutral;
mod opening;
mod overview;
mod plan;
mod range;
pub mod saturation;
mod settings;
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

pub use covered::covered_rect;
pub(crate) use deconvolve::gaussian;
pub use denoise::Quiet;
pub use develop::{BAND_ROWS, develop, develop_part};
pub use green::{LUMINANCE, luminance};
pub use neutral::{ChannelSky, GradientSettings, SkyFrom, flatten};
pub use overview::{Overview, OverviewError, Sources, overview, overview_with};
pub use plan::{Found, Plan};
pub use settings::{Crop, FinishSettings, PlanError, WhiteFrom};
pub use shade::{Shade, ShadeTable};
pub(crate) use starlet::smooth;
pub use step::Step;
pub use stretch::{
    Display, Link, Point as TonePoint, Ramp, SKY_GREY, Stretch, Tone, sky_and_noise,
};
pub use stretched::{are_stretched, looks_stretched};
pub use tile::Tile;
