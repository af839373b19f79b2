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
mod strengths;
mod variants;

pub use bind::{Bound, Channel, bind, find};
pub use brightness::{Ground, LuminanceWeight, luminance, with_blend};
pub use cards::{cards, file_name, frame_line};
pub use choose::{Colours, choose, named};
pub use full::{Inputs, composite, linear};
pub use laid::{Placing, has_colours, lay_out};
pub use lines::strengths;
pub use stars::{Twin, with_stars};
pub use strengths::{LineRow, Strengths};
pub use variants::{FLIP, Paths, SHEET, Variant, variants, write_variants};
