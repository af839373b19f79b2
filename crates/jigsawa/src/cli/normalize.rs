//! What `jigsawa normalize` takes.

use std::path::PathBuf;
use std::str::FromStr;

use clap::{Args, ValueEnum};

use jigsawa_core::balance::flatten::{Flatten, Hints, Way};
use jigsawa_core::balance::{BalanceSettings, ScaleBy, Shape, Weigh};
use jigsawa_core::space::{CanvasPx, FramePx, Point, Size};

use super::{GivenArgs, KernelArg, OutputArgs};

#[derive(Debug, Args)]
#[command(after_help = "Examples:
  jigsawa normalize work/reef.layout.json
  jigsawa normalize ha_*.fits --out work --name reef --write-frames matched/
  jigsawa normalize work/reef.layout.json --reference ha_07.fits --reference oiii_03.fits
  jigsawa normalize work/reef.layout.json --flatten --protect 960,640,300
  jigsawa normalize work/reef.layout.json --surface spline --stiffness 0.5")]
pub struct NormalizeArgs {
    /// The layout of `register`, which is brought up to date; or FITS files of one field, which are
    /// registered first
    #[arg(required = true, value_name = "LAYOUT|FRAME")]
    pub frames: Vec<PathBuf>,
    #[command(flatten)]
    pub given: GivenArgs,
    /// The frame that the others of its filter are matched to; one for each filter [default: of the good ones
    /// that with the least gradient]
    #[arg(long, value_name = "FRAME")]
    pub reference: Vec<String>,
    /// How scales are found [default: within a filter by stars, or else by what there is; between filters
    /// they are left as they are]
    #[arg(
        help_heading = "Matching",
        long = "match",
        value_enum,
        value_name = "WAY"
    )]
    pub scale_by: Option<MatchArg>,
    /// The surface between two skies: level, plane, poly:N (degree 1 to 8) or spline [default: the stiffest
    /// that patches left out in turn call for]
    #[arg(help_heading = "Matching", long, value_name = "KIND")]
    pub surface: Option<SurfaceArg>,
    /// The shortest waves that the spline follows, in parts of the canvas's shorter side: 0.1 soft, 2 stiff
    #[arg(help_heading = "Matching", long, value_name = "PART", value_parser = stiffness)]
    pub stiffness: Option<f64>,
    /// What a frame's weight is made of
    #[arg(help_heading = "Matching", long, value_enum, default_value_t)]
    pub weigh: WeighArg,
    /// Take out the gradient that is left in the references themselves: subtract what the sky adds, or divide
    /// by what the optics hold back
    #[arg(help_heading = "The references' own gradient", long, value_enum, value_name = "WAY", num_args = 0..=1, default_missing_value = "subtract", require_equals = true)]
    pub flatten: Option<WayArg>,
    /// A place of the canvas that is sky, add:X,Y, or none, drop:X,Y, in pixels from 1 as FITS viewers count;
    /// may be given again
    #[arg(
        help_heading = "The references' own gradient",
        long,
        value_name = "PLACE",
        requires = "flatten"
    )]
    pub sample: Vec<SampleArg>,
    /// A circle of the canvas without any sky, X,Y,RADIUS; may be given again
    #[arg(help_heading = "The references' own gradient", long, value_name = "CIRCLE", value_parser = circle, requires = "flatten")]
    pub protect: Vec<[f64; 3]>,
    /// Write each used frame on the canvas, placed and matched, into this folder, as linear float FITS
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
    /// Write each frame's surface into this folder, as FITS on the canvas
    #[arg(help_heading = "Results", long, value_name = "FOLDER")]
    pub write_surfaces: Option<PathBuf>,
    /// Write no report page
    #[arg(help_heading = "Results", long)]
    pub no_report: bool,
    #[command(flatten)]
    pub output: OutputArgs,
}

impl WeighArg {
    /// The same for the core.
    pub const fn weigh(self) -> Weigh {
        match self {
            Self::Noise => Weigh::Noise,
            Self::Sharpness => Weigh::Sharpness,
            Self::Equal => Weigh::Equal,
        }
    }
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum MatchArg {
    /// By the fluxes of common stars
    Stars,
    /// By exposure, gain and transparency
    Exposure,
    /// By the noise of the sky
    Noise,
    /// By the brightness of the nebula
    Signal,
    /// Not at all
    None,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, ValueEnum)]
pub enum WeighArg {
    /// The noise after scaling: best for faint light
    #[default]
    Noise,
    /// And the width of the stars: best for stars
    Sharpness,
    /// All frames count the same
    Equal,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum WayArg {
    /// Take it off: sky glow
    Subtract,
    /// Divide by it: vignetting
    Divide,
}

/// A kind of surface; of a spline without its stiffness.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum SurfaceArg {
    Level,
    Plane,
    Polynomial(usize),
    Spline,
}

impl FromStr for SurfaceArg {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let wrong = || "write level, plane, poly:N with N from 1 to 8, or spline".to_owned();
        match text.trim().to_lowercase().as_str() {
            "level" => Ok(Self::Level),
            "plane" => Ok(Self::Plane),
            "spline" => Ok(Self::Spline),
            other => {
                let degree = other.strip_prefix("poly:").ok_or_else(wrong)?;
                let degree = degree.parse().map_err(|_| wrong())?;
                let shape = Shape::Polynomial { degree };
                shape.check().map_err(|e| e.to_string())?;
                Ok(Self::Polynomial(degree))
            }
        }
    }
}

/// A place that is sky, or is none; from 1.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum SampleArg {
    Add([f64; 2]),
    Drop([f64; 2]),
}

impl FromStr for SampleArg {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let wrong = || "write add:X,Y or drop:X,Y".to_owned();
        let (what, place) = text.split_once(':').ok_or_else(wrong)?;
        let [x, y] = numbers(place).ok_or_else(wrong)?;
        match what.trim() {
            "add" => Ok(Self::Add([x, y])),
            "drop" => Ok(Self::Drop([x, y])),
            _ => Err(wrong()),
        }
    }
}

/// So many finite numbers with commas between them.
fn numbers<const N: usize>(text: &str) -> Option<[f64; N]> {
    let all: Vec<f64> = text
        .split(',')
        .map(|v| v.trim().parse::<f64>().ok().filter(|v| v.is_finite()))
        .collect::<Option<_>>()?;
    all.try_into().ok()
}

pub fn circle(text: &str) -> Result<[f64; 3], String> {
    numbers(text)
        .filter(|[_, _, r]| *r > 0.0)
        .ok_or_else(|| "write X,Y,RADIUS with a radius above 0".to_owned())
}

fn stiffness(text: &str) -> Result<f64, String> {
    let stiffness = text.trim().parse::<f64>().map_err(|e| e.to_string())?;
    let shape = Shape::Spline { stiffness };
    shape.check().map(|_| stiffness).map_err(|e| e.to_string())
}

/// The stiffness of a spline that is asked for without one.
const USUAL_STIFFNESS: f64 = 0.5;

/// What the user knows of the sky; places are typed from 1.
pub fn hints(samples: &[SampleArg], circles: &[[f64; 3]]) -> Hints {
    let place = |[x, y]: [f64; 2]| -> Point<CanvasPx> { Point::new(x - 1.0, y - 1.0) };
    let mut hints = Hints::default();
    for s in samples {
        match s {
            SampleArg::Add(at) => hints.add.push(place(*at)),
            SampleArg::Drop(at) => hints.drop.push(place(*at)),
        }
    }
    hints.protect = circles
        .iter()
        .map(|[x, y, r]| (place([*x, *y]), *r))
        .collect();
    hints
}

/// The first place that is told and does not lie on pixels of this size, with its option.
pub fn off_canvas(
    samples: &[SampleArg],
    circles: &[[f64; 3]],
    size: Size,
) -> Option<(&'static str, [f64; 2])> {
    let samples = samples.iter().map(|s| match s {
        SampleArg::Add(at) | SampleArg::Drop(at) => ("--sample", *at),
    });
    let circles = circles.iter().map(|[x, y, _]| ("--protect", [*x, *y]));
    let inside = |[x, y]: [f64; 2]| size.holds(Point::<FramePx>::new(x - 1.0, y - 1.0));
    samples.chain(circles).find(|(_, at)| !inside(*at))
}

impl NormalizeArgs {
    /// Scale and surface as they are wanted.
    ///
    /// # Errors
    /// In words, when options fight.
    pub fn settings(&self) -> Result<BalanceSettings, &'static str> {
        let spline = |stiffness: Option<f64>| Shape::Spline {
            stiffness: stiffness.unwrap_or(USUAL_STIFFNESS),
        };
        let shape = match (self.surface, self.stiffness) {
            (None, None) => None,
            (None | Some(SurfaceArg::Spline), stiffness) => Some(spline(stiffness)),
            (Some(_), Some(_)) => return Err("--stiffness is for a spline only"),
            (Some(SurfaceArg::Level), None) => Some(Shape::Level),
            (Some(SurfaceArg::Plane), None) => Some(Shape::Plane),
            (Some(SurfaceArg::Polynomial(degree)), None) => Some(Shape::Polynomial { degree }),
        };
        let scale_by = self.scale_by.map(|m| match m {
            MatchArg::Stars => ScaleBy::Stars,
            MatchArg::Exposure => ScaleBy::Exposure,
            MatchArg::Noise => ScaleBy::Noise,
            MatchArg::Signal => ScaleBy::Signal,
            MatchArg::None => ScaleBy::None,
        });
        Ok(BalanceSettings { scale_by, shape })
    }

    /// How the references' own gradients are to be taken out.
    pub fn flatten(&self) -> Option<Flatten> {
        let hints = hints(&self.sample, &self.protect);
        self.flatten.map(|way| Flatten {
            way: match way {
                WayArg::Subtract => Way::Subtract,
                WayArg::Divide => Way::Divide,
            },
            hints,
        })
    }

    /// The first place that is told and does not lie on a canvas of this size, with its option.
    pub fn off_canvas(&self, size: Size) -> Option<(&'static str, [f64; 2])> {
        off_canvas(&self.sample, &self.protect, size)
    }

    /// What weights are made of.
    pub const fn weigh(&self) -> Weigh {
        self.weigh.weigh()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn surfaces_and_places_are_read_as_they_are_written() {
        assert_eq!("poly:3".parse(), Ok(SurfaceArg::Polynomial(3)));
        assert_eq!(" Plane".parse(), Ok(SurfaceArg::Plane));
        assert!("poly:9".parse::<SurfaceArg>().is_err());
        assert!("poly".parse::<SurfaceArg>().is_err());
        assert_eq!("add:10,20.5".parse(), Ok(SampleArg::Add([10.0, 20.5])));
        assert!("add:10".parse::<SampleArg>().is_err());
        assert!("keep:1,2".parse::<SampleArg>().is_err());
        assert_eq!(circle("1,2,30"), Ok([1.0, 2.0, 30.0]));
        assert!(circle("1,2,0").is_err() && circle("1,nan,4").is_err());
        assert!(stiffness("0.01").is_err() && stiffness("0.5") == Ok(0.5));
    }
}
