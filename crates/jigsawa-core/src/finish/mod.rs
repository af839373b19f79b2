//! Finishing: from linear values to a picture for the eye. `stretch` is the only door between both.

mod shade;
mod stretch;

pub use shade::{Shade, ShadeTable};
pub use stretch::{Display, Link, Ramp, Stretch};
