//! What `jigsawa hdr` takes.

use std::path::PathBuf;

use clap::{Args, ValueEnum};

use super::normalize::SurfaceArg;
use super::{GivenArgs, KernelArg, OutputArgs, PlacingArgs};

#[derive(Debug, Args)]
#[command(after_help = "Examples:
  jigsawa hdr ha_300s.fits ha_030s.fits ha_003s.fits --out result --name heart
  jigsawa hdr *.fits --out result --name heart --palette HOO       (exposures of several lines to a finished picture)
  jigsawa hdr long.fits short.fits --exposure long=300 --exposure short=5 --saturation long=58000
  jigsawa hdr work/heart.layout.json --out result --sigma --exr=half

Frames of one filter are merged into one linear frame each, all filters on one canvas. The longest exposure gives the
faint light, shorter ones what is full in it. docs/hdr.md says how, and what the map tells.")]
pub struct HdrArgs {
    /// FITS files of several exposures, of one filter or of several; or one layout that an earlier run has written
    #[arg(required = true, value_name = "FRAME|LAYOUT")]
    pub frames: Vec<PathBuf>,
    #[command(flatten)]
    pub given: GivenArgs,
    /// Say how long a frame was exposed, where its header does not
    #[arg(help_heading = "Exposures", long = "exposure", value_name = "FRAME=SECONDS", value_parser = number_of)]
    pub exposures: Vec<(String, f64)>,
    /// Say from which value a frame's pixels are full [default: by its header, or where its pixels pile up]
    #[arg(help_heading = "Exposures", long = "saturation", value_name = "FRAME=VALUE", value_parser = number_of)]
    pub saturations: Vec<(String, f64)>,
    /// The surface between two skies: level, plane, poly:N (degree 1 to 8) or spline [default: the stiffest
    /// that patches left out in turn call for]
    #[arg(help_heading = "Exposures", long, value_name = "KIND")]
    pub surface: Option<SurfaceArg>,
    #[command(flatten)]
    pub placing: PlacingArgs,
    /// How pixels are interpolated
    #[arg(help_heading = "Canvas", long, value_enum, default_value_t)]
    pub kernel: KernelArg,
    /// Go on to a colour picture of the merged filters with this palette
    #[arg(
        help_heading = "Results",
        long,
        value_name = "PALETTE",
        conflicts_with = "linear_only"
    )]
    pub palette: Option<String>,
    /// Write each pixel's error, too
    #[arg(help_heading = "Results", long)]
    pub sigma: bool,
    /// Write each result as EXR, too: its values in units of what fills the longest exposure
    #[arg(help_heading = "Results", long, value_enum, value_name = "NUMBERS", num_args = 0..=1, require_equals = true, default_missing_value = "float")]
    pub exr: Option<ExrArg>,
    /// Write linear results alone, and no picture to look at
    #[arg(help_heading = "Results", long)]
    pub linear_only: bool,
    /// Write no report page
    #[arg(help_heading = "Results", long)]
    pub no_report: bool,
    #[command(flatten)]
    pub output: OutputArgs,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum ExrArg {
    /// 16-bit float: half the size, known to a two-thousandth
    Half,
    /// 32-bit float: the values themselves
    Float,
}

/// FRAME=NUMBER, a number above zero.
fn number_of(text: &str) -> Result<(String, f64), String> {
    let wrong = || "write it as FRAME=NUMBER, as in ha_300s.fits=300".to_owned();
    let (frame, number) = text.rsplit_once('=').ok_or_else(wrong)?;
    match number.trim().parse::<f64>() {
        Ok(n) if n > 0.0 && n.is_finite() && !frame.trim().is_empty() => {
            Ok((frame.trim().to_owned(), n))
        }
        _ => Err(wrong()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_frames_number_is_above_zero() {
        assert_eq!(number_of("a=b.fits=2.5"), Ok(("a=b.fits".to_owned(), 2.5)));
        assert!(number_of("a.fits=0").is_err() && number_of("a.fits").is_err());
        assert!(number_of("=3").is_err() && number_of("a=inf").is_err());
    }
}
