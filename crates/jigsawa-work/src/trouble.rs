//! Everything that can stop a job, as data: the program turns it into sentences.
//!
//! Variants are named after what is in the way, and carry what is needed to say where it is and how to mend it.

use std::path::PathBuf;

use jigsawa_core::balance::BalanceError;
use jigsawa_core::canvas::CanvasError;
use jigsawa_core::colour::mix::MixError;
use jigsawa_core::finish::{OverviewError, PlanError};
use jigsawa_core::hdr::HdrError;
use jigsawa_core::layout::LayoutError;
use jigsawa_core::matching::MatchError;
use jigsawa_core::space::Size;
use jigsawa_core::stars::DetectError;
use jigsawa_core::survey::condition::ConditionError;
use jigsawa_formats::error::FileError;

use crate::pattern::PatternError;

/// Whatever stops a job.
// Fields are called what they are; the line of each variant says the rest.
#[allow(missing_docs)]
#[derive(Debug)]
pub enum Trouble {
    /// Files that cannot be read.
    Files(Vec<(PathBuf, FileError)>),
    /// A calibration master of another size than the frames that need it.
    MasterSize {
        file: PathBuf,
        is: Size,
        wanted: Size,
    },
    /// A list of defects that cannot be used.
    DefectList { file: PathBuf, error: String },
    /// Nothing to calibrate, and nothing to make masters of: so many frames are none.
    NothingToCalibrate(usize),
    /// `--use` names a group that there is not, or one of the wrong kind.
    NoSuchGroup { name: String, groups: Vec<String> },
    /// Frames whose filter is not known, with what their headers say.
    Filters(Vec<(String, Option<String>)>),
    /// `--filter` with a name that cannot stand in a mix.
    FilterName(String),
    /// `--filter` for a colour image, whose planes are R, G and B.
    FilterOfColour(String),
    /// An option names a frame that is not among those given.
    NoSuchFrame {
        option: &'static str,
        name: String,
        frames: Vec<String>,
    },
    /// An option names a filter that no frame has.
    NoSuchFilter {
        option: &'static str,
        name: String,
        filters: Vec<String>,
    },
    /// A file of palettes that cannot be used.
    PaletteFile { file: PathBuf, error: String },
    /// `--pick` with a number that no variant has.
    NoSuchVariant { number: usize, of: usize },
    /// `--try all` with frames that no palette fits.
    NothingToTry(Vec<String>),
    /// Too few stars tell how much of a broad filter a line lets through.
    NoContinuum {
        line: String,
        broad: String,
        stars: usize,
    },
    /// A picture whose stars are wanted and that lies on another canvas.
    OtherCanvas {
        file: String,
        size: (usize, usize),
        canvas: (usize, usize),
    },
    /// Stars are to come from a file that has no colours.
    GreyStars(String),
    /// A file given twice.
    Twice(String),
    /// A frame that shows no sky.
    NotTheSky { file: String, kind: &'static str },
    /// No such palette.
    Palette(String),
    /// A palette's filters are not all there.
    PaletteNeeds {
        palette: String,
        missing: Vec<String>,
        have: Vec<String>,
    },
    /// A mix that cannot be understood.
    Mix {
        channel: &'static str,
        text: String,
        error: MixError,
    },
    /// A name in a mix that stands for no frame.
    MixName {
        channel: &'static str,
        text: String,
        name: String,
        column: usize,
        known: Vec<String>,
    },
    /// A frame without anything to measure.
    Measure { file: String, error: DetectError },
    /// A frame that is needed cannot be placed.
    Match {
        file: String,
        reference: String,
        error: MatchError,
    },
    /// A frame that is needed cannot be balanced.
    Balance {
        file: String,
        reference: String,
        error: BalanceError,
    },
    /// A place of the canvas that it does not have.
    OffCanvas {
        option: &'static str,
        place: [f64; 2],
        canvas: (usize, usize),
    },
    /// Options that fight, in words.
    Options(&'static str),
    /// Two frames of one filter, each of which is to be the one that the others are matched to.
    TwoLevels { filter: String, files: Vec<String> },
    /// Frames whose exposure is not known.
    NoExposure(Vec<String>),
    /// One exposure of each filter, by filter and file.
    OneExposure {
        sets: Vec<(String, String)>,
        /// Frames that are left out, and why.
        left_out: Vec<(String, String)>,
        /// Some of them because they could not be placed.
        unplaced: bool,
    },
    /// More exposures than can be merged.
    ManyExposures {
        filter: String,
        count: usize,
        most: usize,
    },
    /// A frame that is full nearly everywhere.
    AllFull { file: String, limit: f32 },
    /// An exposure that cannot be tied to the longest.
    Hdr {
        file: String,
        longest: String,
        error: HdrError,
    },
    /// Panels of which no two hang together.
    NothingTied {
        files: Vec<String>,
        /// Why stars that some do share place none of them.
        refused: Vec<String>,
        /// The drawing of how their headers say that they lie.
        plan: Option<PathBuf>,
    },
    /// A frame that cannot follow what moves: it has no place, or no time.
    Follow { file: String, placed: bool },
    /// What moves is shown at one time only.
    FollowOnce,
    /// No filter has two frames to be stacked.
    OneLight {
        /// Each set with its frames.
        sets: Vec<(String, usize)>,
        /// Frames that were left out, and why.
        left_out: Vec<(String, String)>,
    },
    /// A layout that no mosaic has made.
    NoMosaic(PathBuf),
    /// No canvas.
    Canvas(CanvasError),
    /// The layout cannot be read.
    LayoutText { file: PathBuf, error: String },
    /// The layout cannot be used; the line that says so, where it can be told.
    Layout {
        file: PathBuf,
        line: Option<usize>,
        error: LayoutError,
    },
    /// Frames of a layout that are not where it says.
    Moved {
        layout: PathBuf,
        files: Vec<PathBuf>,
    },
    /// `--relocate` with a place that no frame of the layout lies in.
    Relocation { old: String, file: String },
    /// Too few pairs by hand.
    FewPairs {
        file: String,
        count: usize,
        needed: usize,
    },
    /// No frame says where north is.
    NoNorth,
    /// No frame has a single star.
    NoStars { file: String },
    /// An option that only a layout gives a meaning.
    OnlyWithLayout(&'static str),
    /// A frame is not what the layout says.
    LayoutFrame {
        layout: PathBuf,
        file: String,
        problem: String,
    },
    /// A frame that a mix needs is left out in the layout.
    LeftOut { file: String, reason: String },
    /// An option that has no meaning for a layout.
    NotWithLayout(&'static str),
    /// A layout whose frames are placed already.
    AlreadyPlaced(PathBuf),
    /// A layout whose frames are not placed yet.
    NotPlaced(PathBuf),
    /// A frame that is in the layout already.
    InTheLayout {
        layout: PathBuf,
        file: String,
        /// What the layout calls it.
        known: String,
    },
    /// A layout among several arguments.
    LayoutAlone,
    /// Masters of raw lights that an earlier run has made in a folder.
    MastersThere(PathBuf),
    /// Results that exist already.
    Exist(Vec<PathBuf>),
    /// A folder that a demo has been written into.
    DemoThere(PathBuf),
    /// A result that would replace a file that is read.
    IsInput { output: PathBuf, input: PathBuf },
    /// A folder that takes no files.
    Folder {
        folder: PathBuf,
        error: std::io::Error,
    },
    /// A name that cannot be part of a file's name.
    Name(String),
    /// A result cannot be written.
    Write { file: PathBuf, error: FileError },
    /// The merge stopped.
    Merge {
        file: Option<String>,
        message: String,
    },
    /// The result has no pixel with all channels.
    Nothing,
    /// A channel has no value in any pixel.
    EmptyChannel(&'static str),
    /// Nothing to survey in a place.
    NoFrames { place: String, others: usize },
    /// A pattern that cannot be understood.
    Pattern {
        pattern: String,
        error: PatternError,
    },
    /// Not one file can be read.
    NoneReadable(Vec<(String, String)>),
    /// `--keep` cannot be understood.
    Keep { text: String, error: ConditionError },
    /// A column that does not exist.
    Column { option: &'static str, name: String },
    /// `--dry-run` without anything that would be done.
    DryRunOfNothing,
    /// No frame can be the reference.
    NoReference,
    /// Files that a copy or a move would replace.
    InTheWay(Vec<PathBuf>),
    /// Two frames would get one name.
    SameName(PathBuf),
    /// An option that compares frames, and one frame.
    NeedsTwo(&'static str),
    /// Two frames would get one picture.
    SamePicture(PathBuf),
    /// A region outside of its frame.
    Region {
        file: String,
        region: String,
        width: usize,
        height: usize,
    },
    /// Frames of different sizes where pixels are compared.
    Sizes {
        file: String,
        other: String,
        sizes: [(usize, usize); 2],
    },
    /// A rectangle that an option names and that does not lie in its picture.
    OutsideOf {
        option: &'static str,
        rect: [i64; 4],
        file: String,
        size: (usize, usize),
    },
    /// A catalogue of stars that cannot be used.
    StarList { file: PathBuf, error: String },
    /// A file that fails in the middle of the work.
    Unreadable { file: String, error: String },
    /// A picture that shows nothing to finish.
    Overview { file: String, error: OverviewError },
    /// A recipe, or a person's defaults, that cannot be used.
    Recipe { file: PathBuf, error: String },
    /// A recipe that was made by a run and that somebody has changed since.
    RecipeEdited(PathBuf),
    /// Nothing is given to run, and there is no recipe here.
    NothingGiven,
    /// Frames of several targets, with how many name each; or a target that none names.
    Targets {
        wanted: Option<String>,
        targets: Vec<(String, usize)>,
    },
    /// So many frames were found, and none of them is a light or a master.
    NoLights(usize),
    /// Another run is under way in this folder.
    RunUnderWay(PathBuf),
    /// `--again` names a step that there is not.
    NoSuchStep { step: String, steps: Vec<String> },
    /// A step of a run that there is nothing for.
    StepReadsNothing(String),
    /// Options of a step that its command refuses.
    StepOptions { step: String, error: String },
    /// A picture that cannot be finished as it is wanted.
    Finish { file: String, error: PlanError },
    /// A caption that names what there is not.
    CaptionField(String),
    /// A result's ending that stands for no format.
    Ending(String),
    /// A copy or a move that failed.
    Carry {
        from: PathBuf,
        to: PathBuf,
        error: String,
        done: usize,
        of: usize,
        /// Where it is written down what is still to be moved.
        journal: Option<PathBuf>,
    },
    /// Another run moves files into this folder.
    MovesUnderWay(PathBuf),
    /// What an interrupted run has written down of its moves cannot be read.
    Journal { file: PathBuf, error: String },
    /// Whatever stopped a command after it had moved originals.
    AfterMoving {
        moved: usize,
        folder: PathBuf,
        trouble: Box<Trouble>,
    },
}
