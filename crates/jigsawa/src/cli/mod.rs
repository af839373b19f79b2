//! What is typed: commands and options, as close to the keyboard as possible.

mod brief;
mod by_filter;
mod calibrate;
mod compose;
mod finish;
mod hdr;
mod mosaic;
mod normalize;
mod register;
mod run;
mod show;
mod stack;
mod stars;
mod survey;

use jigsawa_core::number::Convert;
use std::path::{Path, PathBuf};

use jigsawa_core::canvas::Extent;
use jigsawa_core::resample::Shape;
use jigsawa_work::frames::Filters;
use jigsawa_work::register::{CanvasSettings, RegisterSettings};
use jigsawa_work::start::{Start, start};
use jigsawa_work::trouble::Trouble;

use clap::builder::styling::{AnsiColor, Styles};
use clap::{Args, Parser, Subcommand, ValueEnum};

pub use brief::command;
pub use by_filter::by_filter;
pub use calibrate::CalibrateArgs;
pub use compose::{ComposeArgs, StretchArg};
pub use finish::{CropArg, FinishArgs, GradientArg, LinkArg, PatchArg, PointArg, WhiteArg};
pub use hdr::{ExrArg, HdrArgs};
pub use mosaic::{ExtentArg, MosaicArgs};
pub use normalize::{NormalizeArgs, SurfaceArg, WeighArg, hints, off_canvas};
pub use register::RegisterArgs;
pub use run::{CheckArgs, RunArgs, WhatArgs};
pub use show::ShowArgs;
pub use stack::StackArgs;
pub use stars::StarsArgs;
pub use survey::SurveyArgs;

/// Headings and names stand out; clap leaves colour out where `NO_COLOR` is set or nobody looks.
const STYLES: Styles = Styles::styled()
    .header(AnsiColor::Yellow.on_default().bold())
    .usage(AnsiColor::Yellow.on_default().bold())
    .literal(AnsiColor::Cyan.on_default())
    .placeholder(AnsiColor::Green.on_default());

/// Measures, registers, balances and merges deep-sky frames into colour pictures.
///
/// Frames are FITS files (plain, .gz or .fz), raw files of photographic cameras, and linear TIFF and PNG files that are named. Originals are never changed, nothing is cropped or
/// overwritten unless you ask for it, and every pixel is interpolated once.
#[derive(Debug, Parser)]
#[command(name = "jigsawa", version, styles = STYLES, max_term_width = 100)]
#[command(
    after_help = "Start with:\n  jigsawa demo\n  jigsawa run night/ --palettes SHO\n  jigsawa survey night/ --out look\n  jigsawa compose ha.fits oiii.fits sii.fits --palette SHO --out result --name reef"
)]
pub struct Cli {
    #[command(subcommand)]
    pub command: Command,
    #[command(flatten)]
    pub common: Common,
}

/// Heading of the options that every command has.
const COMMON: &str = "Options of every command";

/// Options that mean the same for every command.
// Each is a switch of its own on the command line.
#[allow(clippy::struct_excessive_bools)]
#[derive(Debug, Args, Clone)]
pub struct Common {
    /// Print the account as one JSON document on standard output, and nothing else there
    #[arg(long, global = true, help_heading = COMMON)]
    pub json: bool,
    /// Say more on standard error: -v what is done, -vv details
    #[arg(short, long, global = true, help_heading = COMMON, action = clap::ArgAction::Count)]
    pub verbose: u8,
    /// Say nothing but errors
    #[arg(short, long, global = true, help_heading = COMMON, conflicts_with = "verbose")]
    pub quiet: bool,
    /// End with exit code 3 when a frame had to be left out
    #[arg(long, global = true, help_heading = COMMON)]
    pub strict: bool,
    /// Threads to use [default: all cores]
    #[arg(long, global = true, help_heading = COMMON, value_name = "N", value_parser = clap::value_parser!(u16).range(1..))]
    pub threads: Option<u16>,
    /// Measure every frame anew, and keep no cache beside the results
    #[arg(long, global = true, help_heading = COMMON)]
    pub no_cache: bool,
    /// Memory for tiles in flight, or for the frames that a survey measures at once, as in 500M or 2G;
    /// other commands measure one frame at a time, which comes on top
    #[arg(long, global = true, help_heading = COMMON, value_name = "SIZE", default_value = "512M", value_parser = bytes)]
    pub memory: usize,
}

#[derive(Debug, Subcommand)]
pub enum Command {
    /// From any folder of frames to finished pictures; again, only what has changed
    Run(Box<RunArgs>),
    /// Say what 'run' would do, what is missing or doubtful, and how long it would take
    Check(Box<CheckArgs>),
    /// Make masters of biases, darks and flats, and say what each light needs
    Calibrate(Box<CalibrateArgs>),
    /// Measure the frames of a night: table, score, verdicts, report with plots and pictures
    Survey(Box<SurveyArgs>),
    /// Find where frames of one field lie on a common canvas
    Register(Box<RegisterArgs>),
    /// Match the values of registered frames: scale, sky and gradients; adds balances to the layout
    Normalize(Box<NormalizeArgs>),
    /// Make a quick-look picture of frames, or one that flips through them
    Show(Box<ShowArgs>),
    /// Merge many frames of each filter into one master, without what single frames show
    Stack(Box<StackArgs>),
    /// Merge masters of several filters into a colour picture
    Compose(Box<ComposeArgs>),
    /// Merge several exposures into one linear frame that holds faint shell and bright core
    Hdr(Box<HdrArgs>),
    /// Join panels into one large linear frame for each filter
    Mosaic(Box<MosaicArgs>),
    /// Turn a linear result into a finished picture
    Finish(Box<FinishArgs>),
    /// Take a frame apart into its stars and what lies behind them
    Stars(StarsArgs),
    /// Write made-up sample frames and run the whole example on them
    Demo(DemoArgs),
    /// Print what a shell completes commands, options and values by
    Completions(CompletionsArgs),
    /// Write manual pages, one of each command
    Manual(ManualArgs),
}

#[derive(Debug, Args, Clone)]
pub struct OutputArgs {
    /// Folder of the results; made if it is not there
    #[arg(
        help_heading = "Results",
        short,
        long,
        value_name = "FOLDER",
        default_value = "."
    )]
    pub out: PathBuf,
    /// Start of every result's name [default: the target's name, or the folder's]
    #[arg(help_heading = "Results", long)]
    pub name: Option<String>,
    /// Replace results that exist already
    #[arg(help_heading = "Results", long)]
    pub overwrite: bool,
}

#[derive(Debug, Args)]
#[command(after_help = "Examples:
  jigsawa completions bash > ~/.local/share/bash-completion/completions/jigsawa
  jigsawa completions zsh  > ~/.zfunc/_jigsawa                (with 'fpath+=~/.zfunc' before compinit in ~/.zshrc)
  jigsawa completions fish > ~/.config/fish/completions/jigsawa.fish
  jigsawa completions powershell >> $PROFILE")]
pub struct CompletionsArgs {
    /// The shell
    #[arg(value_enum)]
    pub shell: clap_complete::Shell,
}

#[derive(Debug, Args)]
#[command(after_help = "Example:
  jigsawa manual ~/.local/share/man/man1      (then: man jigsawa-stack)")]
pub struct ManualArgs {
    /// Folder of the pages; made if it is not there
    #[arg(value_name = "FOLDER")]
    pub folder: PathBuf,
    /// Replace pages that exist already
    #[arg(long)]
    pub overwrite: bool,
}

#[derive(Debug, Args)]
pub struct DemoArgs {
    /// Folder of the demo; made if it is not there
    #[arg(value_name = "FOLDER", default_value = "jigsawa-demo")]
    pub folder: PathBuf,
    /// The rest, too: a survey's night, exposures for HDR, panels of a mosaic, a second field, and a sheet of all palettes
    #[arg(long)]
    pub all: bool,
    /// Write the frames and their truth, and stop
    #[arg(long)]
    pub data_only: bool,
    /// Replace what an earlier demo has written
    #[arg(long)]
    pub overwrite: bool,
}

/// What is known of frames besides what their headers or their layout say.
#[derive(Debug, Args, Clone, Default)]
pub struct GivenArgs {
    /// Say what a frame's filter is, where its header does not
    #[arg(long = "filter", value_name = "NAME=FRAME", value_parser = pair)]
    pub filters: Vec<(String, String)>,
    /// Where frames of the layout are now: the old start of their paths and the new one
    #[arg(long, value_name = "OLD=NEW", value_parser = relocation)]
    pub relocate: Vec<(String, String)>,
}

impl GivenArgs {
    /// Frames as given, or those of the layout that is given.
    pub fn start(&self, frames: &[PathBuf], need: Filters, out: &Path) -> Result<Start, Trouble> {
        start(frames, &self.filters, &self.relocate, need, out)
    }

    /// Frames that are added to a layout: those that may have moved are the layout's.
    pub fn start_new(
        &self,
        frames: &[PathBuf],
        need: Filters,
        out: &Path,
    ) -> Result<Start, Trouble> {
        start(frames, &self.filters, &[], need, out)
    }
}

/// Where frames are to lie.
#[derive(Debug, Args, Clone, Default)]
pub struct PlacingArgs {
    /// The frame that all others are brought to [default: the best of all]
    #[arg(long, value_name = "FRAME")]
    pub reference: Option<String>,
    #[command(flatten)]
    pub grid: GridArgs,
}

impl PlacingArgs {
    /// These options have no effect on a layout whose frames are placed.
    pub fn refuse_if_placed(&self, start: &Start) -> Result<(), Trouble> {
        let reference = self.reference.as_ref().map(|_| "--reference");
        match reference.or_else(|| self.grid.used()) {
            Some(option) if start.placed.is_some() => Err(Trouble::NotWithLayout(option)),
            _ => Ok(()),
        }
    }

    /// As frames are to be registered.
    pub fn registering(&self) -> RegisterSettings<'_> {
        RegisterSettings {
            reference: self.reference.as_deref(),
            canvas: self.grid.canvas(),
            ..RegisterSettings::default()
        }
    }
}

/// The canvas of a new layout.
#[derive(Debug, Args, Clone)]
pub struct GridArgs {
    /// How much of the sky the canvas covers
    #[arg(help_heading = "Canvas", long, value_enum, default_value_t)]
    pub canvas: CanvasArg,
    /// Canvas pixels for one pixel of the reference, as in 2 for a grid twice as fine
    #[arg(help_heading = "Canvas", long, value_name = "FACTOR", default_value_t = 1.0, value_parser = scale)]
    pub scale: f64,
    /// Turn the canvas so that north is up, by the WCS of the frames
    #[arg(help_heading = "Canvas", long)]
    pub north_up: bool,
}

impl Default for GridArgs {
    fn default() -> Self {
        Self {
            canvas: CanvasArg::default(),
            scale: 1.0,
            north_up: false,
        }
    }
}

impl OutputArgs {
    /// The folder, and the start of every result's name.
    pub fn place(&self) -> (&Path, Option<&str>) {
        (&self.out, self.name.as_deref())
    }
}

impl GridArgs {
    /// The canvas that is wanted.
    pub fn canvas(&self) -> CanvasSettings {
        CanvasSettings {
            extent: match self.canvas {
                CanvasArg::Reference => Extent::Reference,
                CanvasArg::Union => Extent::Union,
                CanvasArg::Common => Extent::Common,
            },
            scale: self.scale,
            north_up: self.north_up,
        }
    }

    /// The first of its options that is not left at its default.
    pub fn used(&self) -> Option<&'static str> {
        match () {
            () if self.canvas != CanvasArg::default() => Some("--canvas"),
            () if self.scale != 1.0 => Some("--scale"),
            () if self.north_up => Some("--north-up"),
            () => None,
        }
    }
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, ValueEnum)]
pub enum KernelArg {
    /// The nearest pixel, unchanged
    Nearest,
    /// A triangle: never rings, and blurs
    Bilinear,
    /// Cubic convolution, between the two
    Cubic,
    /// A sinc of three lobes; its ringing is held back but in frames whose stars are no wider than two pixels
    #[default]
    Lanczos3,
    /// A sinc of four lobes: a little sharper and slower
    Lanczos4,
    /// The mean over each canvas pixel's area, for shrinking
    Area,
}

impl KernelArg {
    /// The kernel itself.
    pub fn shape(self) -> Shape {
        match self {
            Self::Nearest => Shape::Nearest,
            Self::Bilinear => Shape::Bilinear,
            Self::Cubic => Shape::Cubic,
            Self::Lanczos3 => Shape::Lanczos3,
            Self::Lanczos4 => Shape::Lanczos4,
            Self::Area => Shape::Area,
        }
    }
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, ValueEnum)]
pub enum CanvasArg {
    /// The reference's own pixels
    #[default]
    Reference,
    /// All that any frame covers
    Union,
    /// Only what all frames cover
    Common,
}

/// NAME=FRAME.
fn pair(text: &str) -> Result<(String, String), String> {
    match text.split_once('=') {
        Some((a, b)) if !a.trim().is_empty() && !b.trim().is_empty() => {
            Ok((a.trim().to_owned(), b.trim().to_owned()))
        }
        _ => Err("write it as NAME=FRAME, as in Ha=master1.fits".to_owned()),
    }
}

/// OLD=NEW.
fn relocation(text: &str) -> Result<(String, String), String> {
    match text.split_once('=') {
        Some((old, new)) if !old.trim().is_empty() && !new.trim().is_empty() => {
            Ok((old.trim().to_owned(), new.trim().to_owned()))
        }
        _ => Err("write it as OLD=NEW, as in /disk1/night=/disk2/night".to_owned()),
    }
}

/// A scale of the canvas.
fn scale(text: &str) -> Result<f64, String> {
    match text.trim().parse::<f64>() {
        Ok(s) if (0.05..=8.0).contains(&s) => Ok(s),
        _ => Err("a scale is a number from 0.05 to 8".to_owned()),
    }
}

/// A number of bytes: 500M, 2G, 1.5G.
pub fn bytes(text: &str) -> Result<usize, String> {
    let trimmed = text
        .trim()
        .trim_end_matches(['b', 'B'])
        .trim_end_matches('i');
    let (number, unit) = match trimmed.chars().last() {
        Some('k' | 'K') => (&trimmed[..trimmed.len() - 1], 1u64 << 10),
        Some('m' | 'M') => (&trimmed[..trimmed.len() - 1], 1 << 20),
        Some('g' | 'G') => (&trimmed[..trimmed.len() - 1], 1 << 30),
        _ => (trimmed, 1),
    };
    match number.trim().parse::<f64>() {
        Ok(n) if n > 0.0 && n * unit.real() < 1e15 => Ok((n * unit.real()).index()),
        _ => Err("write it as 500M or 2G".to_owned()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_command_line_is_consistent() {
        use clap::CommandFactory;
        Cli::command().debug_assert();
    }

    #[test]
    fn sizes_are_read_in_the_usual_spellings() {
        assert_eq!(bytes("500M"), Ok(500 << 20));
        assert_eq!(bytes("1.5 GiB"), Ok(3 << 29));
        assert_eq!(bytes("4096"), Ok(4096));
        assert!(bytes("much").is_err() && bytes("-1G").is_err());
    }

    /// Words of a line as a shell parts them, without what it would say to the shell itself.
    fn parted(line: &str) -> Vec<String> {
        let (mut words, mut word, mut quote) = (Vec::new(), None::<String>, None);
        for c in line.chars() {
            match (quote, c) {
                (Some(q), c) if c == q => quote = None,
                (None, '"' | '\'') => {
                    quote = Some(c);
                    word.get_or_insert_default();
                }
                (None, '#' | '>' | '|') if word.is_none() => break,
                (None, c) if c.is_whitespace() => words.extend(word.take()),
                (_, c) => word.get_or_insert_default().push(c),
            }
        }
        words.extend(word);
        words
    }

    #[test]
    fn every_line_of_the_docs_can_be_typed() {
        let root = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
        let mut pages = vec![root.join("README.md")];
        for folder in ["docs", "docs/guide"] {
            let entries = std::fs::read_dir(root.join(folder)).unwrap();
            pages.extend(entries.map(|e| e.unwrap().path()));
        }
        let (mut tried, mut wrong) = (0, Vec::new());
        for page in pages
            .iter()
            .filter(|p| p.extension().is_some_and(|e| e == "md"))
        {
            let text = std::fs::read_to_string(page).unwrap();
            let lines = text.lines().filter_map(|l| l.strip_prefix("    "));
            for line in lines.filter(|l| l.starts_with("jigsawa ")) {
                let words = parted(line)
                    .into_iter()
                    .filter(|w| !w.starts_with(['[', '…']));
                let parsed = Cli::try_parse_from(words);
                let refused = parsed.err().filter(clap::Error::use_stderr);
                wrong.extend(refused.map(|e| format!("{}: {line}\n{e}", page.display())));
                tried += 1;
            }
        }
        assert!(wrong.is_empty(), "{}", wrong.join("\n"));
        assert!(tried > 80, "{tried}");
    }
}
