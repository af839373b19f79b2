//! The recipe: a project of one target as a text that a person reads and writes.
//!
//! `model` is what it says, `read` and `write` are the text, `options` what each command takes, by its own command line.

mod model;
mod options;
mod read;
mod schema;
mod write;

pub use model::{FORMAT, Options, Picture, Recipe, over, straight};
pub use options::{BY_FILTER, words, words_of};
pub use read::read;
pub use schema::schema;
pub use write::written;

/// Commands whose options may be others for one filter or one panel: `[stack.for.OIII]`.
pub const FOR_PARTS: [&str; 3] = ["calibrate", "survey", "stack"];

/// Sections that hold the options of a command, in the order in which commands come.
pub const COMMANDS: [&str; 9] = [
    "calibrate",
    "survey",
    "stack",
    "hdr",
    "mosaic",
    "register",
    "normalize",
    "compose",
    "finish",
];
