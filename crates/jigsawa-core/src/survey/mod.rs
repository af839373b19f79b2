//! Survey: what each frame of a night is worth.
//!
//! [`measure`] looks at one frame (its pixels in, [`Measures`] out), over an [`Area`]; [`group`] sorts
//! frames by their facts; [`compare`](mod@compare) sets lights against each other, and from that come
//! [`score`], [`outlier`]s the [`reference`](mod@reference)
//! and the verdicts ([`judge`](mod@judge)). [`quantity`] is the table of all that
//! is known by name, which tables, reports and the user's own [`condition`] read. Nothing here reads
//! a file; measures can be kept and compared again.

mod area;
mod beside;
pub mod compare;
pub mod condition;
mod doubts;
pub(crate) mod gradient;
pub mod group;
mod halo;
pub mod judge;
mod judged;
mod measure;
pub mod outlier;
pub mod quantity;
pub mod reference;
pub mod score;
mod trails;

pub use area::{Area, BoxPx, LEAST_SIDE};
pub use beside::stars_and_trails;
pub use measure::{Cell, Course, Measures, Middle, SETTINGS, Spot, measure, measure_even};
pub use trails::{Trail, trails};
