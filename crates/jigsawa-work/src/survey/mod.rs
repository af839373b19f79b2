//! A night's files, measured and compared: what the survey's table, files and report show.

mod carry;
mod csv;
mod file;
mod journal;
mod layout;
mod night;
mod places;
mod transfer;

pub use carry::{Plan, carry, plan};
pub use csv::write as write_csv;
pub use file::{SurveyedFile, Through, Way, cut, recall, survey_files};
pub use journal::{Journal, Resumed};
pub use layout::layout;
pub use night::{JudgeSettings, Night};
pub use places::Places;
