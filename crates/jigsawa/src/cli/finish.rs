//! What `jigsawa finish` takes.

use std::path::PathBuf;
use std::str::FromStr;

use clap::{Args, ValueEnum};

use jigsawa_core::finish::saturation::HUES;
use jigsawa_core::space::Rect;
use jigsawa_core::survey::{Area, BoxPx};

use super::normalize::{SampleArg, SurfaceArg, circle};

#[derive(Debug, Clone, Args)]
#[command(after_help = "Examples:
  jigsawa finish result/reef-SHO.fits --out result
  jigsawa finish result/reef-*.fits --out result
  jigsawa finish result/reef-RGB.fits --out reef.tif --out reef.jpg --size 2400 --caption
  jigsawa finish result/reef-SHO.fits --saturation 1.3,teal=0.8 --stars 60% --contrast 40%
  jigsawa finish result/reef-RGB.fits --white stars.csv --gradient none --denoise 30%,80%

The steps and their order: crop, gradient, neutral, white, green, denoise, deconvolve, compress-range, stretch,
contrast, saturation, stars, sharpen. Each is measured; docs/finish.md says how, and what each option changes.")]
pub struct FinishArgs {
    /// Linear results of compose, hdr or mosaic: FITS of three planes, or of one; each becomes a picture of its own
    #[arg(value_name = "LINEAR", required = true)]
    pub frames: Vec<PathBuf>,
    /// A folder, or files by their endings: .tif, .png, .jxl (16 bits), .jpg, .exr, .fits; may be given again
    /// [default: .tif and .png beside each other in the current folder]
    #[arg(help_heading = "Results", short, long, value_name = "FOLDER|FILE")]
    pub out: Vec<PathBuf>,
    /// Start of every result's name in a folder [default: that of the linear file]
    #[arg(help_heading = "Results", long)]
    pub name: Option<String>,
    /// Replace results that exist already
    #[arg(help_heading = "Results", long)]
    pub overwrite: bool,
    /// Make the picture smaller: its longer side in pixels
    #[arg(help_heading = "Results", long, value_name = "PIXELS", value_parser = clap::value_parser!(u32).range(16..))]
    pub size: Option<u32>,
    /// TIFF as 32-bit float
    #[arg(help_heading = "Results", long)]
    pub float: bool,
    /// A strip with words below the picture; {target}, {palette}, {filters}, {time} and {date} are filled in
    #[arg(help_heading = "Results", long, value_name = "WORDS", num_args = 0..=1, default_missing_value = "{target} · {palette} · {filters} · {time}")]
    pub caption: Option<String>,
    /// Write no report page
    #[arg(help_heading = "Results", long)]
    pub no_report: bool,
    /// Cut off what not all channels cover, keep only X,Y,W,H in pixels of the file, or cut nothing
    #[arg(
        help_heading = "Steps in linear light",
        long,
        value_name = "covered|X,Y,W,H|none",
        default_value = "covered"
    )]
    pub crop: CropArg,
    /// The leftover gradient: auto, none, or its shape: level, plane, poly:N, spline
    #[arg(
        help_heading = "Steps in linear light",
        long,
        value_name = "KIND",
        default_value = "auto"
    )]
    pub gradient: GradientArg,
    /// A place that is sky, add:X,Y, or none, drop:X,Y, in pixels from 1; may be given again
    #[arg(help_heading = "Steps in linear light", long, value_name = "PLACE")]
    pub sample: Vec<SampleArg>,
    /// A circle without any sky, X,Y,RADIUS; may be given again
    #[arg(help_heading = "Steps in linear light", long, value_name = "CIRCLE", value_parser = circle)]
    pub protect: Vec<[f64; 3]>,
    /// Sky made neutral: by the darkest patches, by the patch X,Y,W,H, or not
    #[arg(
        help_heading = "Steps in linear light",
        long,
        value_name = "auto|X,Y,W,H|none",
        default_value = "auto"
    )]
    pub neutral: PatchArg,
    /// White: auto (from the stars for broadband, none for narrowband), stars, a patch X,Y,W,H, a catalogue
    /// (CSV with ra, dec and B, V or BP, RP), or none
    #[arg(
        help_heading = "Steps in linear light",
        long,
        value_name = "WHITE",
        default_value = "auto"
    )]
    pub white: WhiteArg,
    /// The part of a green cast that is held down [default: 80% for broadband, none for narrowband]
    #[arg(help_heading = "Steps in linear light", long, value_name = "PERCENT", value_parser = percent)]
    pub green: Option<f32>,
    /// The part of the noise that is taken out of brightness and, after a comma, of colour
    #[arg(help_heading = "Steps in linear light", long, value_name = "PERCENT[,PERCENT]", default_value = "60%,90%", value_parser = two_percent)]
    pub denoise: (f32, f32),
    /// Take blur back, in so many rounds; 10 to 30 suit most pictures
    #[arg(help_heading = "Steps in linear light", long, value_name = "ROUNDS", default_value_t = 0, value_parser = clap::value_parser!(u16).range(0..=200))]
    pub deconvolve: u16,
    /// Channels alike, each by its own light, or none to end in linear light [default: each for narrowband,
    /// linked for the rest]
    #[arg(help_heading = "Steps on the screen", long, value_enum)]
    pub stretch: Option<LinkArg>,
    /// How bright the sky becomes
    #[arg(help_heading = "Steps on the screen", long, value_name = "PERCENT", default_value = "8%", value_parser = sky)]
    pub sky: f32,
    /// What becomes black: so many sigma below the sky, or the level that so many per cent of pixels are below
    #[arg(
        help_heading = "Steps on the screen",
        long,
        value_name = "SIGMA|PERCENT",
        default_value = "3"
    )]
    pub black: PointArg,
    /// What becomes white: the level that so many per cent of pixels are below, or so many sigma above the sky [default: a
    /// little above the brightest nebula or galaxy, at most 99.98%]
    #[arg(
        help_heading = "Steps on the screen",
        long,
        value_name = "PERCENT|SIGMA"
    )]
    pub full: Option<PointArg>,
    /// Show a bright core and faint light in one picture: how far bright surroundings are held back, at several scales;
    /// --compress-range alone for all the way, --compress-range=60% for less
    #[arg(help_heading = "Steps on the screen", long, value_name = "PERCENT", default_value = "0%", num_args = 0..=1, require_equals = true, default_missing_value = "100%", value_parser = percent)]
    pub compress_range: f32,
    /// Local contrast: the part by which structures of 8 to 64 pixels are lifted
    #[arg(help_heading = "Steps on the screen", long, value_name = "PERCENT", default_value = "30%", value_parser = percent)]
    pub contrast: f32,
    /// Factor of all colours, and of hues (red, gold, yellow, green, teal, blue, violet), as in 1.2,teal=0.7
    #[arg(
        help_heading = "Steps on the screen",
        long,
        value_name = "FACTORS",
        default_value = "1"
    )]
    pub saturation: SaturationArg,
    /// The part of the stars' light that stays: 100% as they are, 50% smaller, 0% none
    #[arg(help_heading = "Steps on the screen", long, value_name = "PERCENT", default_value = "100%", value_parser = percent)]
    pub stars: f32,
    /// Write the stars' light, as it is taken out, into this file: linear, .fits
    #[arg(help_heading = "Steps on the screen", long, value_name = "FILE")]
    pub stars_file: Option<PathBuf>,
    /// The part by which small detail is lifted
    #[arg(help_heading = "Steps on the screen", long, value_name = "PERCENT", default_value = "25%", value_parser = percent)]
    pub sharpen: f32,
}

/// The options alone, as the parser fills them in.
#[derive(Debug, clap::Parser)]
struct Alone {
    #[command(flatten)]
    args: FinishArgs,
}

impl FinishArgs {
    /// Every option at its default.
    pub fn usual() -> Self {
        use clap::Parser as _;
        Alone::parse_from(["finish", "LINEAR"]).args
    }
}

/// What `--crop` says.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum CropArg {
    Covered,
    None,
    To(Rect),
}

impl FromStr for CropArg {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        match text {
            "covered" => Ok(Self::Covered),
            "none" => Ok(Self::None),
            other => rect(other).map(Self::To),
        }
    }
}

/// What `--gradient` says.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum GradientArg {
    Auto,
    None,
    Shape(SurfaceArg),
}

impl FromStr for GradientArg {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        match text {
            "auto" => Ok(Self::Auto),
            "none" => Ok(Self::None),
            other => other.parse().map(Self::Shape).map_err(|_| {
                "write auto, none, level, plane, poly:N with N from 1 to 8, or spline".to_owned()
            }),
        }
    }
}

/// What `--neutral` says.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum PatchArg {
    Auto,
    None,
    Patch(Rect),
}

impl FromStr for PatchArg {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        match text {
            "auto" => Ok(Self::Auto),
            "none" => Ok(Self::None),
            other => rect(other).map(Self::Patch),
        }
    }
}

/// What `--white` says.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum WhiteArg {
    Auto,
    None,
    Stars,
    Patch(Rect),
    Catalogue(PathBuf),
}

impl FromStr for WhiteArg {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        match text {
            "auto" => Ok(Self::Auto),
            "none" => Ok(Self::None),
            "stars" => Ok(Self::Stars),
            file if file.to_lowercase().ends_with(".csv") => Ok(Self::Catalogue(file.into())),
            other => rect(other).map(Self::Patch).map_err(|_| {
                "write auto, none, stars, a patch X,Y,W,H, or a catalogue's file that ends in .csv".to_owned()
            }),
        }
    }
}

/// How channels are stretched.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum LinkArg {
    /// All channels alike: colours as measured
    Linked,
    /// Each channel by its own light: weak lines beside strong ones
    Each,
    /// Not at all: the linear steps alone, as 32-bit float for further work
    None,
}

/// A level: a number of sigma, or per cent of the pixels.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum PointArg {
    Sigma(f32),
    Percent(f64),
}

impl FromStr for PointArg {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let wrong =
            || "write a number of sigma, as in 3, or per cent of the pixels, as in 0.5%".to_owned();
        if let Some(part) = text.trim().strip_suffix('%') {
            return match part.trim().parse::<f64>() {
                Ok(p) if (0.0..=100.0).contains(&p) => Ok(Self::Percent(p)),
                _ => Err(wrong()),
            };
        }
        match text.trim().trim_end_matches("sigma").trim().parse::<f32>() {
            Ok(k) if k.is_finite() && (0.0..=1e6).contains(&k) => Ok(Self::Sigma(k)),
            _ => Err(wrong()),
        }
    }
}

/// Factors of colours.
#[derive(Debug, Clone, PartialEq)]
pub struct SaturationArg {
    pub all: f32,
    pub hues: Vec<(usize, f32)>,
}

impl FromStr for SaturationArg {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let mut asked = Self {
            all: 1.0,
            hues: Vec::new(),
        };
        for part in text.split(',') {
            let (name, number) = match part.split_once('=') {
                Some((name, number)) => (Some(name.trim()), number),
                None => (None, part),
            };
            let factor = match number.trim().parse::<f32>() {
                Ok(k) if (0.0..=5.0).contains(&k) => k,
                _ => return Err("a factor lies between 0 and 5, as in 1.2,teal=0.7".to_owned()),
            };
            match name {
                None => asked.all = factor,
                Some(name) => {
                    let known = HUES.iter().position(|(n, _)| *n == name);
                    let names: Vec<&str> = HUES.iter().map(|(n, _)| *n).collect();
                    let hue =
                        known.ok_or_else(|| format!("a hue is one of {}", names.join(", ")))?;
                    asked.hues.push((hue, factor));
                }
            }
        }
        Ok(asked)
    }
}

/// X,Y,W,H in pixels of the file, from 0.
fn rect(text: &str) -> Result<Rect, String> {
    match text.parse() {
        Ok(Area::Box(BoxPx {
            x,
            y,
            width,
            height,
        })) if width > 0 && height > 0 => Ok(Rect {
            x: i64::from(x),
            y: i64::from(y),
            width: width as usize,
            height: height as usize,
        }),
        _ => Err("write it as X,Y,W,H in pixels, as in 1000,800,600,400".to_owned()),
    }
}

/// 0% to 100%, as a part.
pub fn percent(text: &str) -> Result<f32, String> {
    let number = text.trim().trim_end_matches('%').trim();
    match number.parse::<f32>() {
        Ok(p) if (0.0..=100.0).contains(&p) => Ok(p / 100.0),
        _ => Err("write it as 0% to 100%".to_owned()),
    }
}

fn two_percent(text: &str) -> Result<(f32, f32), String> {
    match text.split_once(',') {
        Some((a, b)) => Ok((percent(a)?, percent(b)?)),
        None => percent(text).map(|p| (p, p)),
    }
}

fn sky(text: &str) -> Result<f32, String> {
    match percent(text) {
        Ok(p) if (0.005..=0.6).contains(&p) => Ok(p),
        _ => Err("the sky's brightness lies between 0.5% and 60%".to_owned()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_typed_is_read() {
        assert_eq!("covered".parse(), Ok(CropArg::Covered));
        assert!("1,2,3".parse::<CropArg>().is_err());
        assert_eq!("2.5".parse(), Ok(PointArg::Sigma(2.5)));
        assert_eq!("0.5 %".parse(), Ok(PointArg::Percent(0.5)));
        assert!("-1".parse::<PointArg>().is_err() && "120%".parse::<PointArg>().is_err());
        let s: SaturationArg = "1.2,teal=0.7".parse().unwrap();
        assert_eq!((s.all, s.hues), (1.2, vec![(4, 0.7)]));
        assert!(
            "1.2,pink=2"
                .parse::<SaturationArg>()
                .unwrap_err()
                .contains("violet")
        );
        assert_eq!(two_percent("60%,90"), Ok((0.6, 0.9)));
        assert_eq!("a/b.CSV".parse(), Ok(WhiteArg::Catalogue("a/b.CSV".into())));
        assert!(matches!(
            "spline".parse(),
            Ok(GradientArg::Shape(SurfaceArg::Spline))
        ));
    }
}
