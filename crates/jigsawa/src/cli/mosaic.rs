//! What `jigsawa mosaic` takes.

use std::path::PathBuf;

use clap::{Args, ValueEnum};
use jigsawa_core::mosaic::blend::Share;
use jigsawa_core::wcs::Projection;

use super::{GivenArgs, KernelArg, OutputArgs, scale};

// Each is a switch of its own on the command line.
#[allow(clippy::struct_excessive_bools)]
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  jigsawa mosaic panels/*.fits --plan                              (who neighbours whom, before the long work)
  jigsawa mosaic panels/*.fits --out result --name reef            (one large frame for each filter)
  jigsawa mosaic new_A3_Ha.fits --into result/reef-mosaic.layout.json
  jigsawa mosaic panels/*.fits --palette HOO --out result         (and on to a finished colour picture)

All panels of all filters are placed together by the stars that they share, brought to one scale and one sky, and
joined along seams that keep away from stars. docs/mosaic.md says how, and what to do when a panel is left out.")]
pub struct MosaicArgs {
    /// FITS files of all panels and filters; or one layout that an earlier run has written
    #[arg(required = true, value_name = "FRAME|LAYOUT")]
    pub frames: Vec<PathBuf>,
    #[command(flatten)]
    pub given: GivenArgs,
    /// The frame on whose pixels all others are placed [default: one in the middle]
    #[arg(long, value_name = "FRAME")]
    pub reference: Option<String>,
    /// Draw the plan of the panels and write the layout, and stop
    #[arg(help_heading = "Panels", long)]
    pub plan: bool,
    /// Add the frames to the mosaic of this layout, beside it and under its name; what is there does not move
    #[arg(help_heading = "Panels", long, value_name = "LAYOUT", conflicts_with_all = ["reference", "plan", "out", "name", "overwrite"])]
    pub into: Option<PathBuf>,
    /// Say which panel a frame shows [default: by a PANEL card, by the files' names, or else by rows and columns]
    #[arg(help_heading = "Panels", long = "panel", value_name = "FRAME=NAME", value_parser = named)]
    pub panels: Vec<(String, String)>,
    /// Where files' names have the panel's: PANEL stands for it and * for anything, as in `reef_PANEL_*`
    #[arg(help_heading = "Panels", long, value_name = "PATTERN", value_parser = with_panel)]
    pub panel_names: Option<String>,
    /// What is done where panels overlap
    #[arg(help_heading = "Panels", long, value_enum, default_value_t)]
    pub overlap: OverlapArg,
    /// How much the canvas covers
    #[arg(help_heading = "Canvas", long, value_enum, default_value_t)]
    pub canvas: ExtentArg,
    /// Canvas pixels for one pixel of the reference, as in 0.5 for a canvas half as fine
    #[arg(help_heading = "Canvas", long, value_name = "FACTOR", default_value_t = 1.0, value_parser = scale)]
    pub scale: f64,
    /// Turn the canvas so that north is up, by the WCS of the frames
    #[arg(help_heading = "Canvas", long)]
    pub north_up: bool,
    /// The kind of plane that the sky is shown on
    #[arg(help_heading = "Canvas", long, value_enum, default_value_t)]
    pub projection: ProjectionArg,
    /// How pixels are interpolated
    #[arg(help_heading = "Canvas", long, value_enum, default_value_t)]
    pub kernel: KernelArg,
    /// Write a map for each filter, too: each pixel's panel, noise, and number of frames
    #[arg(help_heading = "Results", long)]
    pub map: bool,
    /// Go on to a colour picture of the joined filters with this palette
    #[arg(
        help_heading = "Results",
        long,
        value_name = "PALETTE",
        conflicts_with_all = ["linear_only", "plan"]
    )]
    pub palette: Option<String>,
    /// Write linear results alone, and no picture to look at
    #[arg(help_heading = "Results", long)]
    pub linear_only: bool,
    /// Write no report page
    #[arg(help_heading = "Results", long)]
    pub no_report: bool,
    #[command(flatten)]
    pub output: OutputArgs,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, ValueEnum)]
pub enum OverlapArg {
    /// One panel at a place, changed along seams through dark sky: one noise, and each star from one panel
    #[default]
    Seam,
    /// The mean of all panels by their noise: for photometry
    Average,
}

impl OverlapArg {
    pub const fn share(self) -> Share {
        match self {
            Self::Seam => Share::Seam,
            Self::Average => Share::Average,
        }
    }
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, ValueEnum)]
pub enum ExtentArg {
    /// All that any panel covers; nothing (NaN) outside
    #[default]
    Union,
    /// The largest rectangle that is covered everywhere
    Inner,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, ValueEnum)]
pub enum ProjectionArg {
    /// A tangent plane; for fields above 15 degrees a stereographic one
    #[default]
    Auto,
    /// A tangent plane (TAN)
    Tangent,
    /// Stereographic (STG): small shapes stay what they are
    Stereographic,
    /// Equal area (ZEA): surface brightness stays flux
    EqualArea,
}

impl ProjectionArg {
    /// The one that is asked for, if one is.
    pub const fn asked(self) -> Option<Projection> {
        match self {
            Self::Auto => None,
            Self::Tangent => Some(Projection::Tangent),
            Self::Stereographic => Some(Projection::Stereographic),
            Self::EqualArea => Some(Projection::EqualArea),
        }
    }
}

/// FRAME=NAME.
fn named(text: &str) -> Result<(String, String), String> {
    match text.rsplit_once('=') {
        Some((a, b)) if !a.trim().is_empty() && !b.trim().is_empty() => {
            Ok((a.trim().to_owned(), b.trim().to_owned()))
        }
        _ => Err("write it as FRAME=NAME, as in master7.fits=A2".to_owned()),
    }
}

/// A pattern with PANEL in it.
fn with_panel(text: &str) -> Result<String, String> {
    if text.matches("PANEL").count() == 1 {
        Ok(text.to_owned())
    } else {
        Err("PANEL must stand in it once, as in 'reef_PANEL_*'".to_owned())
    }
}
