//! From a recipe to its results, step by step: each is a command of its own, and is done again only where its frames or
//! its options have changed.
//!
//! `look` says what there is, `plan` what is to be done with it, `state` what has been done already; a command does them.

pub mod estimate;
mod field;
mod look;
mod plan;
mod state;

pub use field::{Field, by_headers, by_stars};
pub use look::{Found, Part, look};
pub use plan::{Input, Plan, Step, plan, with_survey};
pub use state::{Lock, State, StepRecord, settings};
