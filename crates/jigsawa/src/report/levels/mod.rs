//! The report of normalizing: are scales and skies right?
//!
//! For each frame: its stars against the reference's, the patches of sky that both show before and after, the
//! surface between them, cuts through it, and pictures of the frame before and after with one stretch.

mod cuts;
mod page;
mod plots;

pub use page::{LevelPage, write};
