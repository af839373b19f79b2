//! Progress with a time estimate, on a terminal only.

use std::path::Path;
use std::time::Duration;

use indicatif::{ProgressBar, ProgressStyle};

use jigsawa_work::cache::Store;
use jigsawa_work::clock::Clock;
use jigsawa_work::run::{Run, Stage, Unwatched, Watch};
use jigsawa_work::trouble::Trouble;

use crate::cli::Common;

/// What a command's jobs may use and hand on, with results in this folder. The clock has run since the command began.
pub fn run(common: &Common, folder: &Path, clock: Clock) -> Result<Run<'static>, Trouble> {
    Ok(Run {
        memory: common.memory,
        store: Store::open(folder, !common.no_cache)?,
        clock,
        watch: watch(common),
    })
}

/// Who watches jobs: nobody with -q, or under `--json`.
pub fn watch(common: &Common) -> &'static dyn Watch {
    if common.quiet || common.json {
        &Unwatched
    } else {
        &Watching
    }
}

/// Says which step of a run begins, on a terminal; its own stages show what is left of it.
pub fn begin_step(words: &str, common: &Common) {
    if std::io::IsTerminal::is_terminal(&std::io::stderr()) && !common.quiet && !common.json {
        super::complain(words);
    }
}

/// Shows the progress of jobs.
#[derive(Debug)]
struct Watching;

/// The progress of one stage.
struct Progress(ProgressBar);

impl Watch for Watching {
    /// Nothing is drawn where nobody looks.
    fn begin(&self, stage: &'static str, steps: usize) -> Box<dyn Stage> {
        let bar = ProgressBar::new(steps as u64);
        let style = ProgressStyle::with_template("{msg:<10} [{bar:30}] {pos}/{len}  {eta} left")
            .unwrap_or_else(|_| ProgressStyle::default_bar());
        bar.set_style(style.progress_chars("=> "));
        bar.set_message(stage);
        bar.enable_steady_tick(Duration::from_millis(200));
        Box::new(Progress(bar))
    }
}

impl Stage for Progress {
    fn of(&self, done: usize, all: usize) {
        self.0.set_length(all as u64);
        self.0.set_position(done as u64);
    }

    fn step(&self) {
        self.0.inc(1);
    }
}

impl Drop for Progress {
    fn drop(&mut self) {
        self.0.finish_and_clear();
    }
}
