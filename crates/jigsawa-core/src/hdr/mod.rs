//! HDR: several exposures of one filter into one linear frame, from the faintest light to the brightest core.
//!
//! 1. [`saturation`](mod@saturation) says from which value a frame's pixels are full, and [`Mask`] marks where they are, with what
//!    bleeds around them.
//! 2. [`Light`] samples what a frame shows of smooth light; [`respond`] compares the samples of two exposures: the
//!    factor between them, and from which value the longer one bends.
//!    An [`Exposure`] is a frame with all of that.
//! 3. [`join`](fn@join) ties every exposure to the longest, by the surest [`chain`](fn@chain), and matches their skies; where seeing
//!    differs, [`Reprofiled`] gives full stars one profile.
//! 4. [`Cascade`] merges: each pixel by the noise of all exposures that are valid there, and by the next shorter ones
//!    where the longer fade out.
//!
//! Weights that are the inverse of a variance go back to Robertson, Borman & Stevenson (2003, J. Electronic Imaging 12,
//! 219); here the noise is measured on the frames themselves.

mod blocks;
mod cascade;
mod chain;
mod exposure;
mod join;
mod light;
mod mask;
mod profile;
mod response;
pub mod saturation;

pub use cascade::{Cascade, EVERYWHERE_FULL, Part};
pub use chain::{Link, chain};
pub use exposure::Exposure;
pub use join::{HdrError, Joined, join};
pub use light::{Light, LightGrid};
pub use mask::{Border, Mask};
pub use profile::{Disc, Profile, Reprofile, Reprofiled};
pub use response::{Response, Seen, respond};
pub use saturation::{Saturation, SaturationBy, saturation};
