//! What `jigsawa register` takes.

use std::path::PathBuf;

use clap::{Args, ValueEnum};

use jigsawa_core::placement::Model;

use super::{GivenArgs, KernelArg, OutputArgs, PlacingArgs};
use jigsawa_work::register::{HintArg, PairArg};

#[derive(Debug, Args)]
#[command(after_help = "Examples:
  jigsawa register ha.fits oiii.fits sii.fits --out work --name reef
  jigsawa register night/*.fits --reference sub_012.fits --write-frames placed/
  jigsawa register tonight/*.fits --into work/reef.layout.json
  jigsawa register ha.fits oiii.fits --hint oiii.fits:rotate=180 --out work
  jigsawa register ha.fits faint.fits --pair faint.fits:102,87=411,390 --pair … --pair … --out work
  jigsawa compose work/reef.layout.json --palette SHO --out result")]
pub struct RegisterArgs {
    /// FITS files of one field, through any filters; or one layout that a survey has written
    #[arg(required = true, value_name = "FRAME")]
    pub frames: Vec<PathBuf>,
    #[command(flatten)]
    pub given: GivenArgs,
    /// The kind of map from the reference to each frame [default: the simplest that its stars justify]
    #[arg(help_heading = "Finding places", long, value_enum, default_value_t)]
    pub model: ModelArg,
    /// Least height of a star over the noise, in sigma; lower finds more stars in a poor frame
    #[arg(help_heading = "Finding places", long, value_name = "SIGMA", default_value_t = 5.0, value_parser = sigma)]
    pub detect_sigma: f64,
    /// What you know of a frame's place: FRAME:rotate=180 (degrees), FRAME:shift=12.5,-3 (pixels),
    /// FRAME:scale=0.5, FRAME:mirrored; may be given again
    #[arg(help_heading = "Finding places", long, value_name = "HINT")]
    pub hint: Vec<HintArg>,
    /// A point of a frame and the same point of the reference, in pixels from 1 as FITS viewers count:
    /// FRAME:x,y=X,Y; three or more for a frame
    #[arg(help_heading = "Finding places", long, value_name = "POINTS")]
    pub pair: Vec<PairArg>,
    #[command(flatten)]
    pub placing: PlacingArgs,
    /// Add the frames to this layout, on its reference and canvas; nothing that stands in it is moved
    #[arg(long, value_name = "LAYOUT", conflicts_with_all = ["reference", "canvas", "scale", "north_up", "out", "name"])]
    pub into: Option<PathBuf>,
    /// Write each used frame on the canvas into this folder, as linear float FITS, NaN where it has no
    /// data
    #[arg(help_heading = "Results", long, value_name = "FOLDER")]
    pub write_frames: Option<PathBuf>,
    /// How pixels of the written frames are interpolated
    #[arg(
        help_heading = "Results",
        long,
        value_enum,
        default_value_t,
        requires = "write_frames"
    )]
    pub kernel: KernelArg,
    /// Keep each star's flux in the written frames where the canvas is finer or coarser, instead of
    /// the level of the sky
    #[arg(help_heading = "Results", long, requires = "write_frames")]
    pub keep_flux: bool,
    /// Write no report page
    #[arg(help_heading = "Results", long)]
    pub no_report: bool,
    #[command(flatten)]
    pub output: OutputArgs,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, ValueEnum)]
pub enum ModelArg {
    /// The simplest that the stars justify
    #[default]
    Auto,
    /// Moved only
    Shift,
    /// Moved, turned, mirrored, enlarged
    Similarity,
    /// Stretched and sheared, too
    Affine,
    /// Seen in perspective
    Homography,
    /// Bent smoothly, as by lenses and flatteners
    Smooth,
}

impl ModelArg {
    /// The model that all maps are to have, if one is.
    pub fn model(self) -> Option<Model> {
        match self {
            Self::Auto => None,
            Self::Shift => Some(Model::Shift),
            Self::Similarity => Some(Model::Similarity),
            Self::Affine => Some(Model::Affine),
            Self::Homography => Some(Model::Homography),
            Self::Smooth => Some(Model::Smooth(3)),
        }
    }
}

/// A threshold in sigma.
fn sigma(text: &str) -> Result<f64, String> {
    match text.trim().parse::<f64>() {
        Ok(s) if (2.5..=100.0).contains(&s) => Ok(s),
        _ => Err("a threshold is a number of sigma from 2.5 to 100".to_owned()),
    }
}
