//! Progress with a time estimate, on a terminal only.

use std::time::Duration;

use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};

use crate::cli::Common;

/// The progress of one stage.
pub struct Progress(ProgressBar);

impl Progress {
    /// Begins a stage of so many steps. Nothing is drawn where nobody looks, with -q, or under
    /// `--json`.
    pub fn begin(stage: &'static str, steps: usize, common: &Common) -> Self {
        let bar = ProgressBar::new(steps as u64);
        if common.quiet || common.json {
            bar.set_draw_target(ProgressDrawTarget::hidden());
        }
        let style = ProgressStyle::with_template("{msg:<10} [{bar:30}] {pos}/{len}  {eta} left")
            .unwrap_or_else(|_| ProgressStyle::default_bar());
        bar.set_style(style.progress_chars("=> "));
        bar.set_message(stage);
        bar.enable_steady_tick(Duration::from_millis(200));
        Self(bar)
    }

    /// So many of so many steps are done.
    pub fn of(&self, done: usize, all: usize) {
        self.0.set_length(all as u64);
        self.0.set_position(done as u64);
    }

    /// One more step is done.
    pub fn step(&self) {
        self.0.inc(1);
    }
}

impl Drop for Progress {
    fn drop(&mut self) {
        self.0.finish_and_clear();
    }
}
