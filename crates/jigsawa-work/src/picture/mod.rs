//! Pictures as files: `encode` writes any number of formats at once from bands of rows, `quick` makes a composite's first
//! pictures, `text` and `caption` write words on them, `smaller` shrinks them.

mod caption;
mod encode;
mod letters;
mod quick;
mod smaller;
mod text;

pub use caption::{Caption, FIELDS, strip_height};
pub use encode::{Format, encode};
pub use quick::{Tone, write};
pub use smaller::Shrink;
pub use text::{Words, write_words};
