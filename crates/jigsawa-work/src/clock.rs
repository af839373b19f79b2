//! What was written and how long it took; and numbers as people read them.

use std::time::Instant;

use jigsawa_core::survey::quantity::digits_for;
use serde::Serialize;

/// A file that was written.
#[derive(Debug, Serialize)]
pub struct Output {
    /// Its path.
    pub file: String,
    /// What it is, in words.
    pub kind: &'static str,
}

/// A part of the work and how long it took.
#[derive(Debug, Serialize)]
pub struct Stage {
    /// Its name.
    #[serde(rename = "stage")]
    pub name: &'static str,
    /// How long it took.
    pub seconds: f64,
}

/// Measures the stages of a job.
pub struct Clock {
    start: Instant,
    last: Instant,
    stages: Vec<Stage>,
}

impl Clock {
    /// Begins now.
    pub fn start() -> Self {
        let now = Instant::now();
        Self {
            start: now,
            last: now,
            stages: Vec::new(),
        }
    }

    /// Ends a stage; the next begins.
    pub fn lap(&mut self, name: &'static str) {
        let now = Instant::now();
        let seconds = round((now - self.last).as_secs_f64(), 3);
        self.stages.push(Stage { name, seconds });
        self.last = now;
    }

    /// All stages, and the seconds in all.
    pub fn stop(self) -> (Vec<Stage>, f64) {
        (self.stages, round(self.start.elapsed().as_secs_f64(), 3))
    }
}

/// A value in the units of a file: rounded, with digits enough where these go from 0 to 1.
pub fn in_units(v: f64, places: usize) -> f64 {
    // Two digits more than are shown.
    let places = match digits_for(v, 0) {
        0 => places,
        n => places.max(n + 2),
    };
    round(v, places as i32)
}

/// A number as people want to read it.
pub fn round(v: f64, places: i32) -> f64 {
    let k = 10f64.powi(places);
    let r = (v * k).round() / k;
    // Adding zero turns -0 into 0.
    if r.is_finite() { r + 0.0 } else { v }
}
