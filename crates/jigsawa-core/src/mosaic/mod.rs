//! Mosaic: panels in several filters placed, balanced and cut all together.
//!
//! 1. [`matching::ties`](crate::matching::ties) says which frames show the same stars; [`tracks`] follows each star
//!    through all frames that show it.
//! 2. [`solve`] finds all places at once by least squares over those stars, with one lens for each camera and one
//!    sphere for all (`sphere`); [`place`](mod@place) turns them into placements on the canvas.
//! 3. [`border`] says up to where a frame is covered, [`share`](mod@share) how much of it lies on another, [`levels`] brings the panels of a filter to one scale and
//!    one sky, all overlaps together.
//! 4. [`seams`] cuts the overlaps where it hurts least, [`blend`] joins the panels along the cuts.

mod flow;
mod sphere;

pub mod blend;
pub mod border;
pub mod cells;
pub mod levels;
pub mod place;
pub mod seams;
pub mod share;
pub mod solve;
pub mod tracks;
