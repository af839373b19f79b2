//! The report of a mosaic, and the plan of its panels as a drawing of its own.

mod maps;
mod marks;
mod page;
mod plan;

pub use page::{MosaicPage, write};
pub use plan::Plan;
