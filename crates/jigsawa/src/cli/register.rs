//! What `jigsawa register` takes.

use std::path::PathBuf;

use clap::Args;

use super::{CanvasArg, OutputArgs, pair};

#[derive(Debug, Args)]
#[command(after_help = "Examples:
  jigsawa register ha.fits oiii.fits sii.fits --out work --name reef
  jigsawa register night/*.fits --reference sub_012.fits --write-frames placed/
  jigsawa register tonight/*.fits --into work/reef.layout.json
  jigsawa compose work/reef.layout.json --palette SHO --out result")]
pub struct RegisterArgs {
    /// FITS files of one field, through any filters; or one layout that a survey has written
    #[arg(required = true, value_name = "FRAME")]
    pub frames: Vec<PathBuf>,
    /// Say what a frame's filter is, where its header does not
    #[arg(long = "filter", value_name = "NAME=FRAME", value_parser = pair)]
    pub filters: Vec<(String, String)>,
    /// The frame that all others are brought to [default: the best of all]
    #[arg(long, value_name = "FRAME")]
    pub reference: Option<String>,
    /// How much of the sky the canvas covers
    #[arg(long, value_enum, default_value_t)]
    pub canvas: CanvasArg,
    /// Add the frames to this layout, on its reference and canvas; nothing that stands in it is moved
    #[arg(long, value_name = "LAYOUT", conflicts_with_all = ["reference", "canvas", "out", "name"])]
    pub into: Option<PathBuf>,
    /// Write each used frame on the canvas into this folder, as linear float FITS, NaN where it has no
    /// data
    #[arg(help_heading = "Results", long, value_name = "FOLDER")]
    pub write_frames: Option<PathBuf>,
    #[command(flatten)]
    pub output: OutputArgs,
}
