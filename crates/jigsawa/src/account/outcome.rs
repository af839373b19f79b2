//! What a command did: what the accounts of all commands have in common, around what is a command's own.

use jigsawa_work::clock::{Clock, Output, Stage};
use serde::Serialize;

/// What a command did, in the form that `--json` prints.
#[derive(Debug, Serialize)]
pub struct Outcome<T> {
    /// Version of the program.
    pub jigsawa: &'static str,
    pub command: &'static str,
    pub seconds: f64,
    /// What only this command has.
    #[serde(flatten)]
    pub own: T,
    pub outputs: Vec<Output>,
    pub stages: Vec<Stage>,
    pub warnings: Vec<String>,
}

impl<T> Outcome<T> {
    /// The outcome of a command that ends now.
    pub fn new(
        command: &'static str,
        own: T,
        outputs: Vec<Output>,
        warnings: Vec<String>,
        clock: &Clock,
    ) -> Self {
        let (stages, seconds) = clock.stages();
        Self {
            jigsawa: env!("CARGO_PKG_VERSION"),
            command,
            seconds,
            own,
            outputs,
            stages,
            warnings,
        }
    }
}
