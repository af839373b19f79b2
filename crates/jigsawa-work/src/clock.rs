//! What was written and how long it took; and numbers as people read them.

use jigsawa_core::number::Convert;
use std::sync::{Mutex, PoisonError};
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
#[derive(Debug, Clone, Serialize)]
pub struct Stage {
    /// Its name.
    #[serde(rename = "stage")]
    pub name: &'static str,
    /// How long it took.
    pub seconds: f64,
}

/// Measures the stages of a run.
pub struct Clock {
    start: Instant,
    /// When the last stage ended, and all of them.
    laps: Mutex<(Instant, Vec<Stage>)>,
}

impl Clock {
    /// Begins now.
    pub fn start() -> Self {
        let now = Instant::now();
        Self {
            start: now,
            laps: Mutex::new((now, Vec::new())),
        }
    }

    /// Ends a stage; the next begins.
    pub fn lap(&self, name: &'static str) {
        let now = Instant::now();
        let mut laps = self.laps.lock().unwrap_or_else(PoisonError::into_inner);
        let seconds = round((now - laps.0).as_secs_f64(), 3);
        laps.1.push(Stage { name, seconds });
        laps.0 = now;
    }

    /// All stages up to now, and the seconds in all.
    pub fn stages(&self) -> (Vec<Stage>, f64) {
        let laps = self.laps.lock().unwrap_or_else(PoisonError::into_inner);
        let seconds = round(self.start.elapsed().as_secs_f64(), 3);
        (laps.1.clone(), seconds)
    }
}

/// A value in the units of a file: rounded, with digits enough where these go from 0 to 1.
pub fn in_units(v: f64, places: usize) -> f64 {
    // Two digits more than are shown.
    let places = match digits_for(v, 0) {
        0 => places,
        n => places.max(n + 2),
    };
    round(v, places.i32())
}

/// A number as people want to read it.
pub fn round(v: f64, places: i32) -> f64 {
    let k = 10f64.powi(places);
    let r = (v * k).round() / k;
    // Adding zero turns -0 into 0.
    if r.is_finite() { r + 0.0 } else { v }
}
