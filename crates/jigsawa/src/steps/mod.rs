//! From a recipe to its results, step by step: each is a command of its own, and is done again only where its frames or
//! its options have changed.
//!
//! `contents` says what there is, `plan` what is to be done with it, `state` what has been done already; a command does them.

mod contents;
pub mod estimate;
mod field;
mod pictures;
mod plan;
mod state;
mod step;

pub use contents::{Found, Part, contents};
pub use field::{Field, by_headers, by_stars};
pub use plan::{Plan, plan, with_survey};
pub use state::{Lock, State, StepRecord, settings};
pub use step::{Input, Step};
