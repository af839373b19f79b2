//! Panels into one field: names, places, one look at each frame, levels, seams, and the joined files.

mod assemble;
mod join;
mod measured;
mod names;
mod place;
mod seams_file;
mod settings;
mod skies;
mod sky;

pub use assemble::{Assembled, FilterPart, assemble, panel_name};
pub use join::{Joined, Paths, ToJoin, join_filter};
pub use names::Panel;
pub use place::{Placed, Vector, place};
pub use seams_file::write_seams;
pub use settings::MosaicSettings;
