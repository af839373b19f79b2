//! What `jigsawa stack` takes.

use std::path::PathBuf;

use clap::{Args, ValueEnum};
use jigsawa_core::stack::Rule;
use jigsawa_core::survey::judge::KeepBest;
use jigsawa_work::stack::{Exposures, Stacking};

use super::survey::keep_best;
use super::{GivenArgs, KernelArg, OutputArgs, PlacingArgs, WeighArg};

#[derive(Debug, Args)]
#[command(after_help = "Examples:
  jigsawa stack work/reef.layout.json --out work --name reef       (lights that 'calibrate' has prepared)
  jigsawa stack night1/ night2/ --out work --name reef             (frames that are calibrated already)
  jigsawa stack --into work/reef-stack.layout.json tonight/        (more of the same)
  jigsawa stack night/ --keep-best 90% --out work                  (surveyed first)
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
    /// Keep the best frames of each filter by score: so many, or so many per cent
    #[arg(help_heading = "Choice", long, value_name = "N|N%", value_parser = keep_best)]
    pub keep_best: Option<KeepBest>,
    /// How values are told that only single frames show (trails, cosmic rays) [default: by the number of frames]
    #[arg(help_heading = "Stacking", long, value_enum, value_name = "RULE")]
    pub reject: Option<RejectArg>,
    /// The rule's limit for values that are too low [default: 4 noise widths; 10 % of the values; 1 value]
    #[arg(help_heading = "Stacking", long, value_name = "LIMIT", value_parser = limit)]
    pub reject_low: Option<f32>,
    /// The same for values that are too high [default: 3.5 noise widths; 10 % of the values; 1 value]
    #[arg(help_heading = "Stacking", long, value_name = "LIMIT", value_parser = limit)]
    pub reject_high: Option<f32>,
    /// What a frame's weight is made of [default: as the layout has it, else by noise]
    #[arg(help_heading = "Stacking", long, value_enum)]
    pub weigh: Option<WeighArg>,
    /// Whether exposures of a filter become one master [default: apart where one is at least four times the next, for an
    /// HDR merge; else together]
    #[arg(help_heading = "Stacking", long, value_enum)]
    pub exposures: Option<ExposuresArg>,
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

impl StackArgs {
    /// The option that asks for a choice among the frames, if there is one.
    pub const fn choice(&self) -> Option<&'static str> {
        match self {
            Self { keep: Some(_), .. } => Some("--keep"),
            Self {
                keep_best: Some(_), ..
            } => Some("--keep-best"),
            Self { survey: true, .. } => Some("--survey"),
            _ => None,
        }
    }

    /// How frames are stacked.
    pub fn stacking(&self) -> Stacking {
        Stacking {
            rule: self.reject.map(|r| match r {
                RejectArg::None => Rule::None,
                RejectArg::Noise => Rule::Noise,
                RejectArg::Median => Rule::Median,
                RejectArg::Winsorized => Rule::Winsorized,
                RejectArg::Sigma => Rule::Sigma,
                RejectArg::Percentile => Rule::Percentile,
                RejectArg::Extremes => Rule::Extremes,
            }),
            limits: (self.reject_low, self.reject_high),
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

/// A limit of a rule.
fn limit(text: &str) -> Result<f32, String> {
    match text.trim().parse::<f32>() {
        Ok(v) if (0.0..=1000.0).contains(&v) => Ok(v),
        _ => Err("a limit is a number from 0 to 1000, in what the rule counts".to_owned()),
    }
}
