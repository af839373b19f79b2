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
mod perform;
mod project;
mod raw;
mod register;
mod run;
mod shell;
mod show;
mod stack;
mod stars;
mod survey;
mod swatches;
mod watch;

pub use calibrate::calibrate;
pub use check::check;
pub use compose::compose;
pub use demo::demo;
pub use finish::finish;
pub use hdr::hdr;
pub use mosaic::mosaic;
pub use normalize::normalize;
pub use register::register;
pub use shell::{completions, manual};
pub use show::show;
pub use stack::stack;
pub use stars::stars;
pub use survey::survey;
pub use watch::run;
