//! What `jigsawa compose` takes.

use std::path::PathBuf;

use clap::{Args, ValueEnum};

use jigsawa_core::colour::Lines;
use jigsawa_work::compose::{Colours, LuminanceWeight};

use super::finish::percent;
use super::{GivenArgs, KernelArg, OutputArgs, PlacingArgs};

// Options are as many as the user's wishes; none of them excludes another here.
#[allow(clippy::struct_excessive_bools)]
#[derive(Debug, Args, Clone)]
#[command(after_help = "Examples:
  jigsawa compose ha.fits oiii.fits sii.fits --palette SHO --out result --name reef
  jigsawa compose night/ --palette HOO --out result --name reef  (raw lights with darks and flats: calibrated and stacked first)
  jigsawa compose *.fits --try all --out look                    (one small picture each, and a sheet to compare them)
  jigsawa compose *.fits --try all --pick 7 --out result         (the full picture of number 7)
  jigsawa compose r.fits g.fits b.fits ha.fits --red \"90% R + 10% Ha\" --green G --blue B
  jigsawa compose result/reef.layout.json --palette mine.toml#glow   (from a layout: nothing is measured again)
  jigsawa compose sho.fits rgb.fits --each \"lighter(sho, rgb)\"   (two pictures in layers)

Mixes name filters, or frames by their file's name without ending, in quotes where it is not a plain
word. See docs/mix.md and docs/palettes.md.")]
pub struct ComposeArgs {
    /// FITS files, or one layout that an earlier run has written; several frames of one filter are merged by
    /// their weights. A folder of raw lights with their darks and flats, or the layout that calibrate has made of it, is
    /// stacked first
    #[arg(required_unless_present = "list_palettes", value_name = "FRAME|LAYOUT")]
    pub frames: Vec<PathBuf>,
    /// A palette by name, all of a file (mine.toml) or one of it (mine.toml#glow); give several to compare them
    #[arg(help_heading = "Colours", long, short, required_unless_present_any = ["red", "green", "blue", "each", "attempt", "list_palettes"])]
    pub palette: Vec<String>,
    /// Show the palettes that there are; with --out, write a picture of them
    #[arg(help_heading = "Colours", long)]
    pub list_palettes: bool,
    /// Try every palette that the frames allow: one small picture each, and a sheet to compare them
    #[arg(
        help_heading = "Colours",
        long = "try",
        value_enum,
        value_name = "WHICH"
    )]
    pub attempt: Option<TryArg>,
    /// Make the full picture of this number on the comparison sheet
    #[arg(help_heading = "Colours", long, value_name = "N", value_parser = clap::value_parser!(u16).range(1..))]
    pub pick: Option<u16>,
    /// Mix of the red channel, as in "90% R + 10% Ha"
    #[arg(help_heading = "Colours", long, value_name = "MIX", requires_all = ["green", "blue"], conflicts_with_all = ["palette", "attempt"])]
    pub red: Option<String>,
    /// Mix of the green channel
    #[arg(help_heading = "Colours", long, value_name = "MIX", requires_all = ["red", "blue"], conflicts_with_all = ["palette", "attempt"])]
    pub green: Option<String>,
    /// Mix of the blue channel
    #[arg(help_heading = "Colours", long, value_name = "MIX", requires_all = ["red", "green"], conflicts_with_all = ["palette", "attempt"])]
    pub blue: Option<String>,
    /// One mix for every channel, over colour pictures: in red their red is meant, and so on
    #[arg(help_heading = "Colours", long, value_name = "MIX", conflicts_with_all = ["palette", "attempt", "red", "luminance"])]
    pub each: Option<String>,
    /// Mix that gives the brightness, while the channels give the colour; all for the noise-weighted mean of
    /// all filters, none for a palette without its own
    #[arg(help_heading = "Colours", long, value_name = "MIX|all|none")]
    pub luminance: Option<String>,
    /// How much of the brightness it gives, or noise for as much as its noise is worth against the channels' own
    #[arg(
        help_heading = "Colours",
        long,
        value_name = "PERCENT|noise",
        default_value = "100%",
        value_parser = luminance_weight
    )]
    pub luminance_weight: LuminanceWeight,
    /// What makes narrowband lines comparable before they are mixed [default: equal-signal for palettes,
    /// equal-noise for mixes of your own]
    #[arg(help_heading = "Colours", long, value_enum, value_name = "RULE")]
    pub lines: Option<LinesArg>,
    /// Take the starlight of a broad filter out of a line, as much as the stars show; may be given again
    #[arg(help_heading = "Colours", long, value_name = "LINE=BROAD", value_parser = two_names)]
    pub continuum: Vec<(String, String)>,
    /// Put the stars of this linear composite in the place of those that the palette gives
    #[arg(help_heading = "Stars", long, value_name = "FILE", conflicts_with_all = ["attempt", "each"])]
    pub stars_from: Option<PathBuf>,
    /// Make stars as wide in every filter as in the widest, so that they get no coloured rims; on stars only
    #[arg(help_heading = "Stars", long)]
    pub match_seeing: bool,
    #[command(flatten)]
    pub given: GivenArgs,
    #[command(flatten)]
    pub placing: PlacingArgs,
    /// How pixels are interpolated
    #[arg(help_heading = "Canvas", long, value_enum, default_value_t)]
    pub kernel: KernelArg,
    /// How linear light becomes a picture [default: each for narrowband, linked for the rest]
    #[arg(help_heading = "Results", long, value_enum)]
    pub stretch: Option<StretchArg>,
    /// Write the linear result alone, for finish to go on with
    #[arg(help_heading = "Results", long, conflicts_with = "stretch")]
    pub linear_only: bool,
    #[command(flatten)]
    pub output: OutputArgs,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum TryArg {
    /// All that come with the program and that the frames allow
    All,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum LinesArg {
    /// Their noise becomes equal: weak lines stay weak, and clean
    EqualNoise,
    /// Their light becomes equal: weak lines stand beside strong ones
    EqualSignal,
    /// Nothing is done: the units of the files, as far as they are known
    AsIs,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum StretchArg {
    /// All channels alike: colours as measured
    Linked,
    /// Each channel by its own light: weak lines beside strong ones
    Each,
    /// Linear: a straight ramp in the PNG, the values themselves as 32-bit float in the TIFF
    None,
}

/// The options alone, as the parser fills them in.
#[derive(Debug, clap::Parser)]
struct Alone {
    #[command(flatten)]
    args: ComposeArgs,
}

impl ComposeArgs {
    /// What these words say, the command's name being the first; another command has made them.
    ///
    /// # Panics
    /// When they make no command line.
    pub fn typed(words: &[String]) -> Self {
        use clap::Parser as _;
        Alone::parse_from(words).args
    }

    /// How strong lines are made where nobody says it: as bright as each other in palettes; in mixes, whose numbers mean
    /// what they say, as noisy.
    pub fn lines(&self) -> Lines {
        let typed = self.red.is_some() || self.each.is_some();
        match self.lines {
            Some(LinesArg::AsIs) => Lines::AsIs,
            Some(LinesArg::EqualNoise) => Lines::EqualNoise,
            None if typed => Lines::EqualNoise,
            Some(LinesArg::EqualSignal) | None => Lines::EqualSignal,
        }
    }

    /// Which colours are wanted.
    pub fn colours(&self) -> Colours<'_> {
        let mixes = match (&self.red, &self.green, &self.blue) {
            (Some(r), Some(g), Some(b)) => Some([r.as_str(), g, b]),
            _ => None,
        };
        Colours {
            palettes: &self.palette,
            all_fitting: self.attempt == Some(TryArg::All),
            pick: self.pick,
            mixes,
            each: self.each.as_deref(),
            luminance: self.luminance.as_deref(),
        }
    }
}

/// How much of the brightness the luminance gives.
fn luminance_weight(text: &str) -> Result<LuminanceWeight, String> {
    match text.trim() {
        "noise" => Ok(LuminanceWeight::Noise),
        other => percent(other)
            .map(LuminanceWeight::Part)
            .map_err(|_| "write it as 0% to 100%, or noise".to_owned()),
    }
}

/// LINE=BROAD.
fn two_names(text: &str) -> Result<(String, String), String> {
    match text.split_once('=') {
        Some((a, b)) if !a.trim().is_empty() && !b.trim().is_empty() => {
            Ok((a.trim().to_owned(), b.trim().to_owned()))
        }
        _ => Err("write it as LINE=BROAD, as in Ha=R".to_owned()),
    }
}
