//! What `jigsawa show` takes.

use std::path::PathBuf;

use clap::Args;
use jigsawa_core::survey::BoxPx;

use super::OutputArgs;

// Options are as many as the user's wishes; none of them excludes another here.
#[allow(clippy::struct_excessive_bools)]
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  jigsawa show master.fits
  jigsawa show sub_012.fits --region 1200,800,400,300 --zoom 3 --stars
  jigsawa show ha.fits oiii.fits --together
  jigsawa show sub_001.fits sub_002.fits --difference
  jigsawa show night/*.fits --flip 4
  jigsawa show work/reef.layout.json light_003")]
pub struct ShowArgs {
    /// FITS files; or a layout, whose frames are shown as they are read through it, and names of some of them
    #[arg(required = true, value_name = "FRAME")]
    pub frames: Vec<PathBuf>,
    /// Show only this part: X,Y,W,H in pixels of the file
    #[arg(long, value_name = "X,Y,W,H", value_parser = region)]
    pub region: Option<BoxPx>,
    /// Screen pixels for a pixel of the frame: 2 enlarges, 0.5 makes smaller [default: what fits 1600
    /// pixels, never above 1]
    #[arg(long, value_name = "N", value_parser = zoom)]
    pub zoom: Option<f64>,
    /// Mark the stars and number them from bright to faint
    #[arg(long)]
    pub stars: bool,
    /// Stretch each frame by its own light [default: all as the first]
    #[arg(long)]
    pub own_stretch: bool,
    /// One picture with all frames side by side
    #[arg(help_heading = "Several frames", long, conflicts_with_all = ["difference", "flip"])]
    pub together: bool,
    /// What each frame has more (lighter) or less (darker) than the first, brought onto it by its stars
    #[arg(help_heading = "Several frames", long, conflicts_with = "flip")]
    pub difference: bool,
    /// One animated PNG that flips through the frames, so many a second [default: 2]
    #[arg(help_heading = "Several frames", long, value_name = "N", num_args = 0..=1, default_missing_value = "2", value_parser = rate)]
    pub flip: Option<f64>,
    #[command(flatten)]
    pub output: OutputArgs,
}

fn region(text: &str) -> Result<BoxPx, String> {
    use jigsawa_core::survey::Area;
    match text.parse() {
        Ok(Area::Box(b)) => Ok(b),
        _ => Err("write it as X,Y,W,H in pixels, as in 1000,800,600,400".to_owned()),
    }
}

fn zoom(text: &str) -> Result<f64, String> {
    match text.parse() {
        Ok(z) if (0.01..=32.0).contains(&z) => Ok(z),
        _ => Err("it must lie between 0.01 and 32".to_owned()),
    }
}

fn rate(text: &str) -> Result<f64, String> {
    match text.parse() {
        Ok(r) if (0.1..=50.0).contains(&r) => Ok(r),
        _ => Err("it must lie between 0.1 and 50 frames a second".to_owned()),
    }
}
