//! Progress with a time estimate, on a terminal only.

use std::time::Duration;

use indicatif::{ProgressBar, ProgressStyle};

use jigsawa_work::run::{Run, Stage, Unwatched, Watch};

use crate::cli::Common;

/// What a job may use, and who watches it: nobody with -q, or under `--json`.
pub fn run(common: &Common) -> Run<'static> {
    Run {
        memory: common.memory,
        keep_cache: !common.no_cache,
        watch: if common.quiet || common.json {
            &Unwatched
        } else {
            &Watching
        },
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
