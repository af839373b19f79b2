//! How a job is run: what it may use, and whom it tells how far it is.

use crate::cache::Store;
use crate::clock::Clock;
use crate::trouble::Trouble;

/// One run of a command: what its jobs may use, what they hand on to each other, and who watches them.
pub struct Run<'a> {
    /// Bytes for tiles in flight, or for frames that are measured at once.
    pub memory: usize,
    /// What is measured of frames: no job measures again what one before it has.
    pub store: Store,
    /// How long each stage takes.
    pub clock: Clock,
    /// Sees how far it is.
    pub watch: &'a dyn Watch,
}

/// Sees how far a job is.
pub trait Watch: Sync {
    /// A stage of so many steps begins; it ends when what is returned is dropped.
    fn begin(&self, stage: &'static str, steps: usize) -> Box<dyn Stage>;
}

/// A stage that is under way.
pub trait Stage: Send + Sync {
    /// So many of so many steps are done.
    fn of(&self, done: usize, all: usize);
    /// One more step is done.
    fn step(&self);
}

/// Nobody watches.
#[derive(Debug, Clone, Copy, Default)]
pub struct Unwatched;

impl Watch for Unwatched {
    fn begin(&self, _: &'static str, _: usize) -> Box<dyn Stage> {
        Box::new(Self)
    }
}

impl Stage for Unwatched {
    fn of(&self, _: usize, _: usize) {}
    fn step(&self) {}
}

impl Run<'static> {
    /// A run that nobody watches, of which nothing is kept for later ones.
    ///
    /// # Errors
    /// When there is no place for temporary files.
    pub fn unwatched(memory: usize) -> Result<Self, Trouble> {
        Ok(Self {
            memory,
            store: Store::passing()?,
            clock: Clock::start(),
            watch: &Unwatched,
        })
    }
}

impl Run<'_> {
    /// A stage of so many steps begins.
    pub fn begin(&self, stage: &'static str, steps: usize) -> Box<dyn Stage> {
        self.watch.begin(stage, steps)
    }
}
