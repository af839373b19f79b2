//! What `jigsawa survey` takes.

use std::path::PathBuf;

use clap::Args;
use jigsawa_core::survey::Area;
use jigsawa_core::survey::judge::KeepBest;
use jigsawa_core::survey::score::Weights;

use super::OutputArgs;
use super::by_filter::{OfFilter, of_filter};

// Options are as many as the user's wishes; none of them excludes another here.
#[allow(clippy::struct_excessive_bools)]
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  jigsawa survey night/ --out look
  jigsawa survey night/*.fits --area centre --keep \"fwhm < 3.2 px and clouds < 20%\"
  jigsawa survey work/reef.layout.json --layout --out work
  jigsawa survey night/ --keep-best 90% --copy good/ --dry-run

Without --keep and --keep-best, frames that stand far apart from the others are left out, each with
its reason. docs/survey.md has all names for --keep, --sort and --columns, docs/score.md the score.")]
pub struct SurveyArgs {
    /// Folders (with all below them), files, or patterns with * and ?; or a layout, whose frames are read through it
    #[arg(required = true, value_name = "FOLDER|FILE|PATTERN")]
    pub frames: Vec<PathBuf>,
    /// Measure only this part of each frame: centre (the middle third of each side), half (the middle
    /// half of the area), or X,Y,W,H in pixels [default: the whole frame]
    #[arg(
        long,
        value_name = "AREA",
        default_value = "whole",
        hide_default_value = true
    )]
    pub area: Area,
    /// Keep the lights that fulfil this condition, as in "fwhm < 3.2 px and clouds < 20%"
    #[arg(help_heading = "Choice", long, value_name = "CONDITION")]
    pub keep: Option<String>,
    /// Keep the best lights of each filter by score: so many, or so many per cent; of one filter as in OIII=90%
    #[arg(help_heading = "Choice", long, value_name = "N|N%", value_parser = |t: &str| of_filter(t, keep_best))]
    pub keep_best: Vec<OfFilter<KeepBest>>,
    /// Weights of the score's parts, as in "sharpness=2,quiet=0.5" [default: sharpness 1, roundness 2,
    /// transparency 1, quiet 1]
    #[arg(help_heading = "Choice", long, value_name = "PART=N,…", value_parser = weights)]
    pub weights: Option<Weights>,
    /// Copy the lights that are kept into this folder
    #[arg(
        help_heading = "Choice",
        long,
        value_name = "FOLDER",
        conflicts_with = "move_rest"
    )]
    pub copy: Option<PathBuf>,
    /// Move the lights that are left out into this folder
    #[arg(help_heading = "Choice", long, value_name = "FOLDER")]
    pub move_rest: Option<PathBuf>,
    /// Say what --copy or --move-rest would do, and do not do it
    #[arg(help_heading = "Choice", long)]
    pub dry_run: bool,
    /// Sort the table by this column; with a minus before it, from high to low
    #[arg(
        help_heading = "Table",
        long,
        value_name = "COLUMN",
        allow_hyphen_values = true
    )]
    pub sort: Option<String>,
    /// Columns of the table, as in file,fwhm,score
    #[arg(
        help_heading = "Table",
        long,
        value_name = "COLUMN,…",
        value_delimiter = ','
    )]
    pub columns: Vec<String>,
    /// Write all that is known of each frame as a CSV table
    #[arg(help_heading = "Results", long)]
    pub csv: bool,
    /// Write a layout with verdicts and reference, for the commands that follow
    #[arg(help_heading = "Results", long)]
    pub layout: bool,
    /// Write no report page
    #[arg(help_heading = "Results", long)]
    pub no_report: bool,
    /// Keep the report's pictures at full size however large the page gets, for 1:1 at any place
    #[arg(help_heading = "Results", long)]
    pub full_size: bool,
    #[command(flatten)]
    pub output: OutputArgs,
}

/// `20` or `90%`.
pub(super) fn keep_best(text: &str) -> Result<KeepBest, String> {
    let wrong = || "write it as a number of frames (20) or as a part of them (90%)".to_owned();
    if let Some(part) = text.trim().strip_suffix('%') {
        let part: f64 = part.trim().parse().map_err(|_| wrong())?;
        return if part > 0.0 && part <= 100.0 {
            Ok(KeepBest::Part(part / 100.0))
        } else {
            Err(wrong())
        };
    }
    match text.trim().parse() {
        Ok(n) if n > 0 => Ok(KeepBest::Count(n)),
        _ => Err(wrong()),
    }
}

/// `sharpness=2,quiet=0.5`.
fn weights(text: &str) -> Result<Weights, String> {
    let mut w = Weights::default();
    for part in text.split(',') {
        let wrong = || {
            format!(
                "'{part}': write each as PART=NUMBER, where PART is sharpness, roundness, transparency or quiet, \
                 and NUMBER is 0 to 10"
            )
        };
        let (name, value) = part.split_once('=').ok_or_else(wrong)?;
        let value: f64 = value.trim().parse().map_err(|_| wrong())?;
        if !(0.0..=10.0).contains(&value) {
            return Err(wrong());
        }
        match name.trim() {
            "sharpness" => w.sharpness = value,
            "roundness" => w.roundness = value,
            "transparency" => w.transparency = value,
            "quiet" => w.quiet = value,
            _ => return Err(wrong()),
        }
    }
    Ok(w)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_best_are_a_number_or_a_part() {
        assert_eq!(keep_best("20"), Ok(KeepBest::Count(20)));
        assert_eq!(keep_best("90 %"), Ok(KeepBest::Part(0.9)));
        for text in ["0", "-3", "120%", "0%", "many", "%"] {
            assert!(keep_best(text).is_err(), "{text}");
        }
    }

    #[test]
    fn weights_are_set_by_name() {
        let w = weights("sharpness=2, quiet=0").unwrap();
        assert_eq!((w.sharpness, w.roundness, w.quiet), (2.0, 2.0, 0.0));
        for text in ["2", "beauty=1", "quiet=-1", "quiet=x"] {
            assert!(weights(text).is_err(), "{text}");
        }
    }
}
