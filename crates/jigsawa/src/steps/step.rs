//! A step of a run: a command with what it reads.

use std::ffi::OsString;
use std::path::PathBuf;

use jigsawa_core::filter::Filter;

/// What a step reads.
#[derive(Debug, Clone, PartialEq)]
pub enum Input {
    /// A file.
    File(PathBuf),
    /// What another step has made, by its number and the kind of the result.
    Made(usize, &'static str),
    /// The same of one filter.
    MadeOf(usize, &'static str, Filter),
}

/// A step.
#[derive(Debug, Clone)]
pub struct Step {
    /// What it is called: `stack`, `compose SHO`.
    pub id: String,
    /// The command.
    pub command: &'static str,
    /// What it reads.
    pub inputs: Vec<Input>,
    /// Its options, besides where results go.
    pub options: Vec<OsString>,
    /// Start of its results' names.
    pub name: String,
    /// Pixels that it goes through, in millions: for the estimate of its time.
    pub megapixels: f64,
}
