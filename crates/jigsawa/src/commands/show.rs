//! `jigsawa show`: frames as quick-look pictures.

use crate::account::Ending;
use crate::cli::{Common, ShowArgs};
use crate::tell::Trouble;

pub fn show(_args: &ShowArgs, _common: &Common) -> Result<Ending, Trouble> {
    Ok(Ending::Whole)
}
