//! Composites: which palettes are wanted (`choose`), what their names stand for (`bind`), how strong lines are
//! (`lines`), where frames lie (`laid`, and `layers` for pictures on one canvas), `brightness` from a mix of its own, the merge (`full`), stars of another composite (`stars`), small pictures of many palettes (`variants`), and the
//! header of the result (`cards`).

mod bind;
mod brightness;
mod cards;
mod choose;
mod full;
mod laid;
mod layers;
mod lines;
mod stars;
mod swatches;
mod variants;

pub use bind::{Bound, bind, find};
pub use brightness::{Ground, luminance, with_blend};
pub use cards::{cards, file_name, frame_line};
pub use choose::{choose, list};
pub use full::{Inputs, composite, linear};
pub use laid::{has_colours, lay_out};
pub use lines::{LineRow, strengths};
pub use stars::{Twin, with_stars};
pub use swatches::swatches;
pub use variants::{FLIP, Paths, SHEET, Variant, variants};
