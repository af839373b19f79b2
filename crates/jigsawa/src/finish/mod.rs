//! Finishing a linear result: what is wanted of each step, the file and its facts, the run, and what is told of it.

mod account;
mod catalogue;
mod linear;
mod starless;
mod targets;
mod wish;

pub use account::{
    FinishAccount, account, finish_text, gradient_doubt, ground_words, linear_doubt, steps,
};
pub use linear::{BROAD, LinearFile, MIXED, NARROW, doors};
pub use starless::{measure_stars, take_out};
pub use targets::{PNG, all_new, page_path, targets};
pub use wish::{Kind, usual_wish, wish};
