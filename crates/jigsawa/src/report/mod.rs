//! Reports: pages that need nothing but themselves. `page` is the survey's, `places` that of registration.
//!
//! The survey's page is written piece by piece, each picture fetched from the store when its turn comes, so that
//! a night of hundreds of frames never lies in memory at once.

mod data;
mod finish;
mod hdr;
mod levels;
mod mosaic;
mod page;
mod places;
mod plot;
mod save;
mod scatter;
mod svg;
mod variants;

pub use finish::{FinishPage, write as write_finish};
pub use hdr::{HdrPage, HdrSet, write as write_hdr};
pub use levels::{LevelPage, write as write_levels};
pub use mosaic::{MosaicPage, Plan, write as write_mosaic};
pub use page::write;
pub use places::{Places, write as write_places};
pub use variants::write_variants;
