//! One file a command: settings, open, measure, write, tell.

mod calibrate;
mod check;
mod colour;
mod compose;
mod demo;
mod finish;
mod hdr;
mod mosaic;
mod normalize;
mod project;
mod raw;
mod register;
mod run;
mod show;
mod stack;
mod stars;
mod survey;
mod swatches;
mod watch;

pub use calibrate::{calibrate, make as calibrate_made};
pub use check::check;
pub use compose::{compose, make as compose_made};
pub use demo::demo;
pub use finish::{finish, make as finish_made};
pub use hdr::{hdr, make as hdr_made};
pub use mosaic::{make as mosaic_made, mosaic};
pub use normalize::normalize;
pub use register::register;
pub use run::run;
pub use show::show;
pub use stack::{make as stack_made, stack};
pub use stars::stars;
pub use survey::{make as survey_made, survey};
