//! What `jigsawa stack` takes.

use std::path::PathBuf;

use clap::{Args, ValueEnum};
use jigsawa_core::filter::Filter;
use jigsawa_core::resample::{DropShape, Drops};
use jigsawa_core::stack::Rule;
use jigsawa_core::survey::judge::KeepBest;
use jigsawa_work::stack::{CompareArg, Exposures, FollowArg, StackSettings};

use super::by_filter::{Choice, OfFilter, by_filter, of_filter};
use super::survey::keep_best;
use super::{GivenArgs, KernelArg, OutputArgs, PlacingArgs, WeighArg};

#[derive(Debug, Args)]
#[command(after_help = "Examples:
  jigsawa stack work/reef.layout.json --out work --name reef       (lights that 'calibrate' has prepared)
  jigsawa stack night1/ night2/ --out work --name reef             (frames that are calibrated already)
  jigsawa stack --into work/reef-stack.layout.json tonight/        (more of the same)
  jigsawa stack night/ --keep-best 90% --out work                  (surveyed first)
  jigsawa stack work/reef.layout.json --scale 2 --drop 0.7 --out work  (undersampled, well dithered frames)
  jigsawa stack ha_*.fits --reject winsorized --reject-high 3 --weigh sharpness

Every filter becomes one master, all on one canvas, so that 'compose' can go on with them. Each pixel is read, calibrated,
placed and balanced once. docs/stack.md says how values are judged, and how to read the map.")]
pub struct StackArgs {
    /// FITS files, folders or patterns of sub-frames; or one layout: of calibrate, survey, register or normalize
    #[arg(required = true, value_name = "FRAME|LAYOUT")]
    pub frames: Vec<PathBuf>,
    #[command(flatten)]
    pub given: GivenArgs,
    /// Add these frames to a stack that is there: its layout, its masters and its report are brought up to date, and only the
    /// new frames are measured
    #[arg(long, value_name = "LAYOUT", conflicts_with_all = ["out", "name"])]
    pub into: Option<PathBuf>,
    /// Leave out frames that stand far apart from the others, as a survey does
    #[arg(help_heading = "Choice", long)]
    pub survey: bool,
    /// Keep the frames that fulfil this condition, as in "fwhm < 3.2 px and clouds < 20%"
    #[arg(help_heading = "Choice", long, value_name = "CONDITION")]
    pub keep: Option<String>,
    /// Keep the best frames of each filter by score: so many, or so many per cent; of one filter as in OIII=90%
    #[arg(help_heading = "Choice", long, value_name = "N|N%", value_parser = |t: &str| of_filter(t, keep_best))]
    pub keep_best: Vec<OfFilter<KeepBest>>,
    /// How values are told that only single frames show (trails, cosmic rays); of one filter as in OIII=median [default: by the
    /// number of frames]
    #[arg(help_heading = "Stacking", long, value_name = "RULE", value_parser = Choice::<RejectArg>::new())]
    pub reject: Vec<OfFilter<RejectArg>>,
    /// The rule's limit for values that are too low; of one filter as in OIII=5 [default: 4 noise widths; 10 % of the values; 1
    /// value]
    #[arg(help_heading = "Stacking", long, value_name = "LIMIT", value_parser = |t: &str| of_filter(t, limit))]
    pub reject_low: Vec<OfFilter<f32>>,
    /// The same for values that are too high [default: 3.5 noise widths; 10 % of the values; 1 value]
    #[arg(help_heading = "Stacking", long, value_name = "LIMIT", value_parser = |t: &str| of_filter(t, limit))]
    pub reject_high: Vec<OfFilter<f32>>,
    /// What a frame's weight is made of [default: as the layout has it, else by noise]
    #[arg(help_heading = "Stacking", long, value_enum)]
    pub weigh: Option<WeighArg>,
    /// Count a frame so many times as much as its weight says, as in ha3=0.5; may be given again
    #[arg(help_heading = "Stacking", long = "weight", value_name = "FRAME=FACTOR", value_parser = factor_of)]
    pub weights: Vec<(String, f64)>,
    /// Whether exposures of a filter become one master [default: apart where one is at least four times the next, for an
    /// HDR merge; else together]
    #[arg(help_heading = "Stacking", long, value_enum)]
    pub exposures: Option<ExposuresArg>,
    /// Show in the report what the best few frames give against all, with the noise that is measured, as in 1,10,all
    #[arg(
        help_heading = "Results",
        long,
        value_name = "N,N,all",
        conflicts_with = "no_report"
    )]
    pub compare: Option<CompareArg>,
    /// Hold a comet or an asteroid still, and let the stars be rejected: where it is in a frame, in pixels from 1 as FITS viewers
    /// count; given for two frames or more
    #[arg(help_heading = "Stacking", long, value_name = "FRAME:x,y")]
    pub follow: Vec<FollowArg>,
    /// Drop pixels onto the canvas, shrunk to this part of their side, instead of interpolating them: for many dithered frames and
    /// a finer canvas, as in --scale 2 --drop 0.7
    #[arg(help_heading = "Drops", long = "drop", value_name = "SIDE", value_parser = drop_side)]
    pub drop_px: Option<f64>,
    /// The shape of the drops
    #[arg(
        help_heading = "Drops",
        long,
        value_enum,
        default_value_t,
        requires = "drop_px"
    )]
    pub drop_shape: DropShapeArg,
    /// Pixels of a colour camera: each colour's own, dropped where they lie, or made up in between [default: own from 15
    /// frames on]
    #[arg(help_heading = "Drops", long, value_enum)]
    pub colours: Option<ColoursArg>,
    #[command(flatten)]
    pub placing: PlacingArgs,
    /// How pixels are interpolated
    #[arg(help_heading = "Canvas", long, value_enum, default_value_t)]
    pub kernel: KernelArg,
    /// Write no report page
    #[arg(help_heading = "Results", long)]
    pub no_report: bool,
    #[command(flatten)]
    pub output: OutputArgs,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum RejectArg {
    /// Nothing
    None,
    /// Off the median by widths of the predicted noise: 3 to 5 frames
    Noise,
    /// Off the median by widths of the median absolute deviation
    Median,
    /// Off mean and scatter of values that are drawn in to 1.5 widths: 6 to 14 frames
    Winsorized,
    /// Off mean and scatter of what stays, until nothing more goes: 15 frames and more
    Sigma,
    /// A part of the values from either end
    Percentile,
    /// So many values from either end
    Extremes,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum ExposuresArg {
    /// One master for each filter, whatever the exposures
    Together,
    /// One for each exposure
    Apart,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, ValueEnum)]
pub enum DropShapeArg {
    /// Even over its area
    #[default]
    Square,
    /// Falling off from its middle: smoother, stars a little wider
    Gaussian,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum ColoursArg {
    /// Each colour's own pixels alone
    Own,
    /// All pixels of all colours, made up from their neighbours where they are of another
    Interpolated,
}

impl StackArgs {
    /// The option that asks for a choice among the frames, if there is one.
    pub const fn choice(&self) -> Option<&'static str> {
        match self {
            Self { keep: Some(_), .. } => Some("--keep"),
            Self { keep_best, .. } if !keep_best.is_empty() => Some("--keep-best"),
            Self { survey: true, .. } => Some("--survey"),
            _ => None,
        }
    }

    /// Do its options go together?
    pub fn check(&self) -> Result<(), &'static str> {
        let rule = by_filter(&self.reject)?;
        let (low, high) = (by_filter(&self.reject_low)?, by_filter(&self.reject_high)?);
        by_filter(&self.keep_best)?;
        // A limit for all may stand beside a filter without a rule; one of its own may not.
        let all = rule.of(None) == Some(&RejectArg::None) && rule.own.is_empty();
        let own = low.own.iter().chain(&high.own);
        let own = own.map(|(filter, _)| rule.of(Some(filter)));
        let limits = low.all.is_some() || high.all.is_some();
        if all && limits || own.into_iter().any(|r| r == Some(&RejectArg::None)) {
            return Err("--reject-low and --reject-high have no effect with --reject none");
        }
        Ok(())
    }

    /// The filters that options name.
    pub fn filters(&self) -> impl Iterator<Item = (&'static str, &Filter)> {
        fn named<T>(all: &[OfFilter<T>]) -> impl Iterator<Item = &Filter> {
            all.iter().filter_map(|one| one.filter.as_ref())
        }
        let reject = named(&self.reject).map(|f| ("--reject", f));
        let low = named(&self.reject_low).map(|f| ("--reject-low", f));
        let high = named(&self.reject_high).map(|f| ("--reject-high", f));
        let best = named(&self.keep_best).map(|f| ("--keep-best", f));
        reject.chain(low).chain(high).chain(best)
    }

    /// How frames of a filter are stacked.
    pub fn stacking(&self, filter: Option<&Filter>) -> StackSettings {
        fn of<T: Copy>(all: &[OfFilter<T>], filter: Option<&Filter>) -> Option<T> {
            by_filter(all).ok()?.of(filter).copied()
        }
        StackSettings {
            rule: of(&self.reject, filter).map(|r| match r {
                RejectArg::None => Rule::None,
                RejectArg::Noise => Rule::Noise,
                RejectArg::Median => Rule::Median,
                RejectArg::Winsorized => Rule::Winsorized,
                RejectArg::Sigma => Rule::Sigma,
                RejectArg::Percentile => Rule::Percentile,
                RejectArg::Extremes => Rule::Extremes,
            }),
            limits: (of(&self.reject_low, filter), of(&self.reject_high, filter)),
            drops: self.drop_px.map(|side_px| Drops {
                side_px,
                shape: match self.drop_shape {
                    DropShapeArg::Square => DropShape::Square,
                    DropShapeArg::Gaussian => DropShape::Gaussian,
                },
            }),
            own_pixels: self.colours.map(|c| c == ColoursArg::Own),
        }
    }

    /// How exposures are sorted.
    pub fn exposures(&self) -> Exposures {
        match self.exposures {
            None => Exposures::ByRatio,
            Some(ExposuresArg::Together) => Exposures::Together,
            Some(ExposuresArg::Apart) => Exposures::Apart,
        }
    }
}

/// FRAME=FACTOR.
fn factor_of(text: &str) -> Result<(String, f64), String> {
    let wrong = || "write it as FRAME=FACTOR, above 0, as in ha_003.fits=0.5".to_owned();
    let (frame, factor) = text.rsplit_once('=').ok_or_else(wrong)?;
    match factor.trim().parse::<f64>() {
        Ok(f) if f > 0.0 && f <= 1e6 && !frame.trim().is_empty() => {
            Ok((frame.trim().to_owned(), f))
        }
        _ => Err(wrong()),
    }
}

/// A drop's side.
fn drop_side(text: &str) -> Result<f64, String> {
    match text.trim().parse::<f64>() {
        Ok(v) if (0.1..=2.0).contains(&v) => Ok(v),
        _ => Err("a drop's side is from 0.1 to 2 pixels".to_owned()),
    }
}

/// A limit of a rule.
fn limit(text: &str) -> Result<f32, String> {
    match text.trim().parse::<f32>() {
        Ok(v) if (0.0..=1000.0).contains(&v) => Ok(v),
        _ => Err("a limit is a number from 0 to 1000, in what the rule counts".to_owned()),
    }
}
