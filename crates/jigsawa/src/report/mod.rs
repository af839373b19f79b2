//! Reports: pages that need nothing but themselves, and look alike.
//!
//! `page` is what all have in common, `table`, `chart`, `picture`, `map` and `vectors` what they show; each command's own page
//! is put together from these in a module of its own.

mod calibrate;
mod chart;
mod finish;
mod hdr;
mod index;
mod levels;
mod map;
mod mosaic;
mod page;
mod picture;
mod places;
mod stack;
mod survey;
mod table;
mod variants;
mod vectors;

pub use calibrate::write as write_calibration;
pub use finish::{FinishPage, write as write_finish};
pub use hdr::{HdrPage, HdrSet, write as write_hdr};
pub use index::{Entry as IndexEntry, write as write_index};
pub use levels::{LevelPage, write as write_levels};
pub use mosaic::{MosaicPage, Plan, write as write_mosaic};
pub use places::{Places, write as write_places};
pub use stack::{StackPage, StackSet, write as write_stack};
pub use survey::write as write_survey;
pub use variants::write_variants;
