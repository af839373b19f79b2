//! A night's files, measured and compared: what the survey's table, files and report show.

mod carry;
mod csv;
mod journal;
mod layout;
mod look;
mod night;
mod places;
mod transfer;

pub use carry::{Plan, carry, plan};
pub use csv::write as write_csv;
pub use journal::{Journal, Resumed};
pub use layout::layout;
pub use look::{Looked, Through, Way, cut, look_at_all, recall};
pub use night::{Night, Wishes};
pub use places::Places;
