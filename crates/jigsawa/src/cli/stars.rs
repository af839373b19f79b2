//! What `jigsawa stars` takes.

use std::path::PathBuf;

use clap::Args;

use super::OutputArgs;

#[derive(Debug, Args)]
#[command(after_help = "Examples:
  jigsawa stars result/reef-SHO.fits --out result
  jigsawa stars ha.fits --out parts --name ha

The two parts add up to the frame. Work on one, then put them together again:
  jigsawa compose reef-SHO-starless.fits reef-RGB-stars.fits --each \"'reef-SHO-starless' + 'reef-RGB-stars'\"")]
pub struct StarsArgs {
    /// A linear frame or result: FITS of one plane or three
    #[arg(value_name = "FRAME")]
    pub frame: PathBuf,
    #[command(flatten)]
    pub output: OutputArgs,
}
