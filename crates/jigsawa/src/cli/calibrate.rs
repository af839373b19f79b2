//! What `jigsawa calibrate` takes.

use std::path::PathBuf;

use clap::Args;
use jigsawa_core::calibrate::pattern::Pattern;

use super::OutputArgs;

#[derive(Debug, Args)]
#[command(after_help = "Examples:
  jigsawa calibrate night/ --out work --name reef
  jigsawa calibrate night1/ night2/ darks/ --library ~/masters --out work --name reef
  jigsawa calibrate night/ --cosmic-rays --out work --name reef
  jigsawa calibrate night/ --use light-Ha-300s=flat-Slot_3 --out work --name reef
  jigsawa stack work/reef.layout.json --out work --name reef
  jigsawa calibrate biases/ darks/ --library ~/masters

Nothing is written but masters and a layout, through which every other command reads calibrated pixels.
docs/calibrate.md says what fits what, and why.")]
pub struct CalibrateArgs {
    /// Folders (with all below them), files, or patterns: lights with their biases, darks, flats and dark-flats
    #[arg(required = true, value_name = "FOLDER|FILE|PATTERN")]
    pub frames: Vec<PathBuf>,
    /// Where masters are kept for all nights [default: the folder 'library' among the results]
    #[arg(help_heading = "Masters", long, value_name = "FOLDER")]
    pub library: Option<PathBuf>,
    /// Colours before the pixels of a colour camera, from the first pixel stored, where no card says them
    #[arg(long, value_name = "RGGB", value_parser = pattern)]
    pub pattern: Option<Pattern>,
    /// Say what a frame's filter is, where its header does not, or calls it by a slot; a name or a pattern
    #[arg(long = "filter", value_name = "NAME=FRAME", value_parser = super::pair)]
    pub filters: Vec<(String, String)>,
    /// Look for cosmic rays in each light, and fill what they have hit. A stack of five and more finds them better
    #[arg(long)]
    pub cosmic_rays: bool,
    /// Give a group of lights another set than the one that was found, by the names that the account has; 'no-dark',
    /// 'no-flat' or 'no-bias' for none
    #[arg(help_heading = "Masters", long = "use", value_name = "LIGHTS=SET", value_parser = uses)]
    pub uses: Vec<(String, String)>,
    /// Write each calibrated light into this folder, as linear float FITS, for other programs
    #[arg(help_heading = "Results", long, value_name = "FOLDER")]
    pub write_frames: Option<PathBuf>,
    /// Write no report page
    #[arg(help_heading = "Results", long)]
    pub no_report: bool,
    #[command(flatten)]
    pub output: OutputArgs,
}

/// Four letters.
fn pattern(text: &str) -> Result<Pattern, String> {
    Pattern::from_letters(text.trim())
        .ok_or_else(|| "a pattern is RGGB, BGGR, GRBG or GBRG".to_owned())
}

/// LIGHTS=SET.
fn uses(text: &str) -> Result<(String, String), String> {
    match text.split_once('=') {
        Some((a, b)) if !a.trim().is_empty() && !b.trim().is_empty() => {
            Ok((a.trim().to_owned(), b.trim().to_owned()))
        }
        _ => Err("write it as LIGHTS=SET, as in light-Ha-300s=dark-600s".to_owned()),
    }
}
