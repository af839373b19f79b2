//! Finishing: from linear values to a picture for the eye. `stretch` is the only door between both.

mod stretch;

pub use stretch::{Display, Link, Ramp, Stretch};
