//! What `jigsawa run` and `jigsawa check` take.

use std::path::PathBuf;

use clap::Args;

#[derive(Debug, Args, Clone)]
#[command(after_help = "Examples:
  jigsawa run night/ --palettes SHO,HOO       (raw frames, masters, exposures, panels)
  jigsawa run result                          (again: only what has changed is done)
  jigsawa run night1/ night2/ --out reef --name reef
  jigsawa run result --again stack            (one step anew, and what follows)
  jigsawa run tonight/ --watch                (during the night: the picture grows)

All results lie in one folder: pictures, linear results, a page with everything to look at, and
jigsawa.toml, the recipe that makes exactly this again. docs/recipe.md explains it.")]
pub struct RunArgs {
    #[command(flatten)]
    pub what: WhatArgs,
    /// Do this step anew, and what follows from it: calibrate, stack, hdr, mosaic, 'compose SHO', 'finish SHO'; may be given again
    #[arg(long, value_name = "STEP")]
    pub again: Vec<String>,
    /// Wait for new frames, and bring all results up to date as they come
    #[arg(long)]
    pub watch: bool,
    /// Look for new frames so often, in seconds
    #[arg(long, value_name = "SECONDS", default_value_t = 20.0, value_parser = positive, requires = "watch")]
    pub every: f64,
    /// Stop watching after so long without a new frame, in minutes
    #[arg(long, value_name = "MINUTES", value_parser = positive, requires = "watch")]
    pub idle: Option<f64>,
    /// Replace results that no run has made, and a recipe that somebody has changed
    #[arg(help_heading = "Results", long)]
    pub overwrite: bool,
}

#[derive(Debug, Args, Clone)]
#[command(after_help = "Examples:
  jigsawa check night/                     (what 'run' would do with it)
  jigsawa check result/jigsawa.toml        (what is done, what is to be done, and how long it will take)
  jigsawa check --defaults                 (your own defaults, and where they stand)

Nothing is written.")]
pub struct CheckArgs {
    #[command(flatten)]
    pub what: WhatArgs,
    /// Show your own defaults, and the file that they stand in
    #[arg(long)]
    pub defaults: bool,
    /// Print the recipe's JSON schema, for editors
    #[arg(long)]
    pub schema: bool,
}

/// Frames or a recipe, and what is wanted of them.
#[derive(Debug, Args, Clone, Default)]
pub struct WhatArgs {
    /// Folders, files or patterns of frames of one target, raw ones with their biases, darks and flats, or masters; or one
    /// recipe [default: jigsawa.toml, where there is one]
    #[arg(value_name = "FOLDER|FILE|RECIPE")]
    pub frames: Vec<PathBuf>,
    /// Palettes, each for one picture [default: those that suit the filters]
    #[arg(long, value_name = "NAME,NAME", value_delimiter = ',')]
    pub palettes: Vec<String>,
    /// The target, where the frames show several
    #[arg(long, value_name = "NAME")]
    pub target: Option<String>,
    /// Folder of the results [default: result, or as the recipe has it]
    #[arg(help_heading = "Results", short, long, value_name = "FOLDER")]
    pub out: Option<PathBuf>,
    /// Start of every result's name [default: the target's name]
    #[arg(help_heading = "Results", long)]
    pub name: Option<String>,
}

fn positive(text: &str) -> Result<f64, String> {
    match text.trim().parse::<f64>() {
        Ok(v) if v > 0.0 && v.is_finite() => Ok(v),
        _ => Err("it is a number above 0".to_owned()),
    }
}
