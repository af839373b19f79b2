//! `jigsawa finish`: a linear result into a picture worth showing.

use jigsawa_core::number::Convert;
use std::path::{Path, PathBuf};

use jigsawa_core::doors::DoorError;
use jigsawa_core::finish::{FinishSettings, Plan, PlanError, Sources, develop, overview};
use jigsawa_core::frame::RowOrder;
use jigsawa_formats::about::About;
use jigsawa_formats::facts::{CutOut, wcs_records};
use jigsawa_formats::fits::{Cards, Depth, FitsWriter};
use jigsawa_formats::whole::Unfinished;
use serde::Serialize;

use super::stars::cards;
use crate::account::{
    Ending, FinishAccount, finish_account as account, gradient_doubt, linear_doubt, steps,
};
use crate::cli::{Common, FinishArgs};
use crate::report::{FinishPage, write_finish};
use crate::settings::{all_new, finish_settings, page_path, targets};
use crate::tell::in_words;
use crate::terminal::{Own, complain, say, tell, watch};
use jigsawa_work::clock::Clock;
use jigsawa_work::finish::{LinearFile, doors, measure_stars, own_doors, take_out};
use jigsawa_work::foreign::name_of;
use jigsawa_work::frames::stem;
use jigsawa_work::outputs::{begin, finish_first, make_folder};
use jigsawa_work::picture::{Caption, Format, Shrink, encode, strip_height};
use jigsawa_work::trouble::Trouble;

pub use crate::settings::PNG;

/// What the account calls the report.
pub const REPORT: &str = "report";

/// Longer side of the finished picture in the report.
const PAGE_WIDTH: usize = 1400;

/// Runs the command and prints its account.
pub fn finish(args: &FinishArgs, common: &Common) -> Result<Ending, Trouble> {
    if args.frames.len() > 1 {
        return several(args, common);
    }
    Ok(tell(&make(args, common)?, common))
}

/// The account of several pictures, each finished by itself.
#[derive(Debug, Serialize)]
struct SeveralAccount {
    jigsawa: &'static str,
    command: &'static str,
    pictures: Vec<FinishAccount>,
    /// Files that could not be finished, and why.
    left_out: Vec<LeftOutRow>,
}

#[derive(Debug, Serialize)]
struct LeftOutRow {
    file: String,
    reason: String,
    hint: Option<String>,
}

/// Finishes one file after the other; one that cannot be finished does not keep the others from it.
fn several(args: &FinishArgs, common: &Common) -> Result<Ending, Trouble> {
    go_together(args)?;
    let mut account = SeveralAccount {
        jigsawa: env!("CARGO_PKG_VERSION"),
        command: "finish",
        pictures: Vec::new(),
        left_out: Vec::new(),
    };
    let mut first = None;
    for frame in &args.frames {
        let one = FinishArgs {
            frames: vec![frame.clone()],
            ..args.clone()
        };
        match make(&one, common) {
            Ok(done) => {
                if !common.json && !common.quiet {
                    let apart = if account.pictures.is_empty() {
                        ""
                    } else {
                        "\n"
                    };
                    say(&format!("{apart}{}", Own::text(&done).trim_end()));
                }
                account.pictures.push(done);
            }
            Err(trouble) => {
                let (reason, hint) = in_words(&trouble);
                account.left_out.push(LeftOutRow {
                    file: name_of(frame),
                    reason,
                    hint,
                });
                first = first.or(Some(trouble));
            }
        }
    }
    if let Some(trouble) = first.filter(|_| account.pictures.is_empty()) {
        return Err(trouble);
    }
    for row in account.left_out.iter().filter(|_| !common.json) {
        complain(&format!("left out   {}: {}", row.file, row.reason));
        complain(row.hint.as_deref().unwrap_or_default());
    }
    if common.json {
        say(&serde_json::to_string_pretty(&account).unwrap_or_default());
    }
    Ok(Ending::of(!account.left_out.is_empty()))
}

/// Options of one result do not go with several files; nor do files whose results would have one name.
fn go_together(args: &FinishArgs) -> Result<(), Trouble> {
    let is_file = |p: &PathBuf| p.extension().is_some() && !p.is_dir();
    if args.name.is_some() || args.stars_file.is_some() || args.out.iter().any(is_file) {
        return Err(Trouble::Options(
            "--name, --stars-file and an --out that is one file are for one linear file: give a folder as --out",
        ));
    }
    let mut stems: Vec<String> = args.frames.iter().map(|f| stem(f)).collect();
    stems.sort();
    if stems.windows(2).any(|w| w[0] == w[1]) {
        return Err(Trouble::Options(
            "two of the linear files have one name, and so would their results: finish them into folders of their own",
        ));
    }
    Ok(())
}

/// Finishes the picture.
pub fn make(args: &FinishArgs, common: &Common) -> Result<FinishAccount, Trouble> {
    let clock = Clock::start();
    let linear = LinearFile::open(&args.frames[0])?;
    let settings = finish_settings(args, &linear)?;
    let caption = linear.caption();
    let words = args
        .caption
        .as_ref()
        .map(|template| caption.filled(template).map_err(Trouble::CaptionField))
        .transpose()?;
    let targets = targets(args, &linear)?;
    let page = page_path(args, &linear, &targets)?;
    let begun = all_new(&targets, page.as_deref(), args)?;
    let name = linear.path.display().to_string();
    let planes = linear.planes();
    let sources = doors(&planes);
    let seen = overview(sources).map_err(|error| Trouble::Overview {
        file: name.clone(),
        error,
    })?;
    clock.lap("overview");
    let mut warnings: Vec<String> = linear.facts.notes();
    warnings.extend(linear_doubt(&seen, &name));
    let plan = Plan::measure(sources, &seen, &settings, linear.facts.wcs.as_ref())
        .map_err(|error| planless(&name, error))?;
    warnings.extend(gradient_doubt(&plan, &settings));
    clock.lap("measure");
    let (behind, taken) = stars_apart(&plan, &linear, &targets[0].path, args, common)?;
    if behind.is_some() {
        clock.lap("stars");
    }
    let fewer = behind.as_ref().filter(|_| plan.stars != 1.0);
    let opened = fewer.map(|f| LinearFile::open(f.path())).transpose()?;
    let behind_planes = opened.as_ref().map(LinearFile::planes);
    let starless = behind_planes.as_ref().map(doors);
    let developing = Developing {
        plan: &plan,
        sources,
        starless,
        order: linear.facts.row_order,
        file: &name,
        longest: args.size.map(|n| n as usize),
        words: words.as_deref(),
    };
    let files: Vec<(Unfinished, Format)> = begun
        .into_iter()
        .zip(&targets)
        .map(|(file, t)| (file, developing.described(&t.format, &linear, &settings)))
        .collect();
    let about = about(&caption, &linear, &plan);
    let mut preview = page
        .as_ref()
        .map(|_| (Shrink::new(developing.shape(), PAGE_WIDTH), Vec::new()));
    let done = developing.write(files, &about, preview.as_mut(), common)?;
    clock.lap("picture");
    let mut files: Vec<(Unfinished, &'static str)> = done
        .into_iter()
        .zip(targets.iter().map(|t| t.kind))
        .collect();
    files.extend(taken.map(|file| (file, "stars alone")));
    if let Some(path) = &page {
        let page = FinishPage {
            title: &caption.target,
            linear: &linear,
            plan: &plan,
            settings: &settings,
            overview: &seen,
            starless,
            after: preview
                .as_ref()
                .map_or((0, &[]), |(s, rows)| (s.shape().0, rows)),
        };
        files.push((write_finish(path, &page, args.overwrite)?, REPORT));
        clock.lap("report");
    }
    let mut outputs = Vec::new();
    finish_first(files, &mut outputs)?;
    let stars = seen.stars.as_ref().map_or(0, |s| s.stars.len());
    Ok(account(
        &linear, &plan, &settings, stars, outputs, warnings, &clock,
    ))
}

/// A picture on its way from the linear file to its files.
struct Developing<'a> {
    plan: &'a Plan,
    sources: Sources<'a>,
    starless: Option<Sources<'a>>,
    order: RowOrder,
    /// What is read, as it was typed.
    file: &'a str,
    /// The longer side that is wanted.
    longest: Option<usize>,
    /// Words of the strip below it.
    words: Option<&'a str>,
}

impl Developing<'_> {
    /// Width and height of what stays of the linear file.
    fn shape(&self) -> (usize, usize) {
        (self.plan.rect.width, self.plan.rect.height)
    }

    /// Width and height of the picture itself.
    fn picture(&self) -> (usize, usize) {
        let shape = self.shape();
        self.longest
            .map_or(shape, |n| Shrink::new(shape, n).shape())
    }

    /// Rows of the strip of words.
    fn strip(&self) -> usize {
        self.words.map_or(0, |_| strip_height(self.picture()))
    }

    /// Develops the picture into all files, and into a small copy for the report.
    fn write(
        &self,
        files: Vec<(Unfinished, Format)>,
        about: &About,
        mut preview: Option<&mut (Shrink, Vec<f32>)>,
        common: &Common,
    ) -> Result<Vec<Unfinished>, Trouble> {
        let shape = self.shape();
        let mut shrink = self.longest.map(|n| Shrink::new(shape, n));
        let (picture, strip) = (self.picture(), self.strip());
        let progress = watch(common).begin("finish", shape.1);
        encode(files, (picture.0, picture.1 + strip), about, |out| {
            let (mut small, mut rows_done) = (Vec::new(), 0);
            let developed = develop(
                self.plan,
                self.sources,
                self.starless,
                self.order,
                |rows, n| {
                    if let Some((shrink, after)) = preview.as_deref_mut() {
                        shrink.rows(rows, after);
                    }
                    let going = match &mut shrink {
                        None => out.rows(rows),
                        Some(s) => {
                            small.clear();
                            s.rows(rows, &mut small);
                            small.is_empty() || out.rows(&small)
                        }
                    };
                    rows_done += n;
                    progress.of(rows_done, shape.1);
                    if going { Ok(()) } else { Err(Stop::Encoder) }
                },
            );
            match developed {
                Ok(()) => {
                    if let Some(words) = self.words {
                        out.rows(&Caption::strip(words, (picture.0, strip)));
                    }
                    Ok(())
                }
                // The encoder that takes no more tells why itself.
                Err(Stop::Encoder) => Ok(()),
                Err(Stop::Source(e)) => Err(Trouble::Unreadable {
                    file: self.file.to_owned(),
                    error: e.to_string(),
                }),
            }
        })
    }
}

/// Why developing stopped.
enum Stop {
    Encoder,
    Source(DoorError),
}

impl From<DoorError> for Stop {
    fn from(e: DoorError) -> Self {
        Self::Source(e)
    }
}

fn planless(file: &str, error: PlanError) -> Trouble {
    match error {
        PlanError::Source(e) => Trouble::Unreadable {
            file: file.to_owned(),
            error: e.to_string(),
        },
        error => Trouble::Finish {
            file: file.to_owned(),
            error,
        },
    }
}

/// The picture without its stars, where the plan makes them fewer: a temporary file beside the results. And the stars alone,
/// where they are asked for.
///
/// They are found anew, down to four times the noise of a picture less its nebula. Had all steps gone by these, what is hardly
/// a star would have been spared by the denoising, and stood as a dark speck.
fn stars_apart(
    plan: &Plan,
    linear: &LinearFile,
    beside: &Path,
    args: &FinishArgs,
    common: &Common,
) -> Result<(Option<Unfinished>, Option<Unfinished>), Trouble> {
    if plan.stars == 1.0 && args.stars_file.is_none() {
        return Ok((None, None));
    }
    let path = beside.with_extension("starless");
    let file = begin(&path, true)?;
    let wrong = |file: &Path| {
        let file = file.to_owned();
        move |error| Trouble::Write { file, error }
    };
    let planes = linear.own_planes();
    let doors = own_doors(&planes);
    let name = linear.path.display().to_string();
    let (_, stars) = measure_stars(&doors, &name)?;
    let size = linear.file.size();
    let writer =
        |file, cards: &Cards| FitsWriter::create(file, size, planes.len(), Depth::Float, cards);
    let mut out = writer(file, &Cards::default()).map_err(wrong(&path))?;
    let mut taken = match &args.stars_file {
        Some(path) => {
            make_folder(path.parent().unwrap_or(Path::new("")))?;
            let words = cards(linear, "its stars alone");
            Some(writer(begin(path, args.overwrite)?, &words).map_err(wrong(path))?)
        }
        None => None,
    };
    take_out(
        &doors,
        &stars,
        &mut out,
        taken.as_mut(),
        &name,
        watch(common),
    )?;
    let taken = taken
        .zip(args.stars_file.as_ref())
        .map(|(t, path)| t.complete().map_err(wrong(path)))
        .transpose()?;
    Ok((Some(out.complete().map_err(wrong(&path))?), taken))
}

impl Developing<'_> {
    /// A FITS file says where it lies on the sky, as the linear file did, and all that was done to it.
    fn described(&self, format: &Format, linear: &LinearFile, settings: &FinishSettings) -> Format {
        let Format::Fits(cards, order) = format else {
            return format.clone();
        };
        let mut cards = cards.clone();
        let rect = self.plan.rect;
        let picture = self.picture();
        // The strip of words stands below the picture as it is seen.
        let below = match order {
            RowOrder::BottomUp => self.strip(),
            RowOrder::TopDown => 0,
        };
        let cut = CutOut {
            origin: [rect.x, rect.y],
            scale: [
                picture.0.real() / rect.width.real(),
                picture.1.real() / rect.height.real(),
            ],
            before: [0, below],
        };
        for record in wcs_records(linear.file.header(), &cut) {
            cards.record(&record);
        }
        let size = linear.file.size();
        for step in steps(self.plan, settings, (size.width(), size.height())) {
            if step.acts {
                cards.history(&format!("{}: {}", step.step, step.said));
            }
        }
        if picture != self.shape() {
            cards.history(&format!("size: {} x {} pixels", picture.0, picture.1));
        }
        if let Some(words) = self.words {
            cards.history(&format!("caption: {words}"));
        }
        Format::Fits(cards, *order)
    }
}

/// Words for the pictures' files.
fn about(caption: &Caption, linear: &LinearFile, plan: &Plan) -> About {
    let facts = [
        ("Filters", caption.filters.clone()),
        ("Palette", caption.palette.clone()),
        ("Exposure", caption.time.clone()),
        ("Date", caption.date.clone()),
        ("Source", linear.stem()),
        (
            "History",
            jigsawa_core::finish::Step::ALL
                .iter()
                .filter(|s| plan.acts(**s))
                .map(|s| s.name())
                .collect::<Vec<_>>()
                .join(", "),
        ),
    ];
    About {
        title: [caption.target.as_str(), caption.palette.as_str()]
            .join(" ")
            .trim()
            .to_owned(),
        lines: facts
            .into_iter()
            .filter(|(_, v)| !v.is_empty())
            .map(|(n, v)| (n.to_owned(), v))
            .collect(),
    }
}
