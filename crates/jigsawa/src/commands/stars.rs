//! `jigsawa stars`: a frame taken apart into its stars and what lies behind them.

use std::fmt::Write as _;

use jigsawa_core::finish::overview_with;
use jigsawa_formats::fits::{Cards, Depth, FitsWriter};
use serde::Serialize;

use crate::account::{Ending, Outcome, linear_doubt};
use crate::cli::{Common, StarsArgs};
use crate::terminal::{Own, tell, watch, written};
use jigsawa_work::clock::{Clock, round};
use jigsawa_work::finish::{LinearFile, doors, measure_stars, own_doors, take_out};
use jigsawa_work::outputs::{are_free, begin, finish_first, make_folder, plain_name, recipe_card};
use jigsawa_work::trouble::Trouble;

/// The account of the command.
#[derive(Debug, Serialize)]
pub struct Apart {
    file: String,
    /// Stars that were found.
    stars: usize,
    fwhm_px: Option<f64>,
    /// Stars behind which pixels were made up; the others were taken off as they are modelled.
    filled: usize,
    /// Things that may be no stars, a galaxy's core or a knot: they stay.
    doubtful: usize,
}

/// The account of `stars`.
pub type StarsAccount = Outcome<Apart>;

impl Own for Apart {
    fn text(account: &StarsAccount) -> String {
        text(account)
    }
}

/// Runs the command and prints its account.
pub fn stars(args: &StarsArgs, common: &Common) -> Result<Ending, Trouble> {
    Ok(tell(&make(args, common)?, common))
}

/// Takes the frame apart.
pub fn make(args: &StarsArgs, common: &Common) -> Result<StarsAccount, Trouble> {
    let clock = Clock::start();
    let linear = LinearFile::open(&args.frame)?;
    let start = match &args.output.name {
        Some(name) => plain_name(name)?,
        None => linear.stem(),
    };
    let path = |part: &str| args.output.out.join(format!("{start}-{part}.fits"));
    let paths = [path("starless"), path("stars")];
    are_free(&paths, args.output.overwrite)?;
    make_folder(&args.output.out)?;
    let [behind, taken] = [&paths[0], &paths[1]].map(|p| begin(p, args.output.overwrite));
    let (behind, taken) = (behind?, taken?);
    let name = linear.path.display().to_string();
    let planes = linear.own_planes();
    let sources = own_doors(&planes);
    let mut warnings = linear.facts.notes();
    let (catalogue, stars) = measure_stars(&sources, &name)?;
    if let Ok(seen) = overview_with(doors(&linear.planes()), Some(&catalogue)) {
        warnings.extend(linear_doubt(&seen, &name));
    }
    clock.lap("measure");
    let wrong = |file| move |error| Trouble::Write { file, error };
    let writer = |file, words: &str| {
        let size = linear.file.size();
        FitsWriter::create(
            file,
            size,
            planes.len(),
            Depth::Float,
            &cards(&linear, words),
        )
    };
    let mut behind = writer(behind, "without its stars").map_err(wrong(paths[0].clone()))?;
    let mut taken = writer(taken, "its stars alone").map_err(wrong(paths[1].clone()))?;
    take_out(
        &sources,
        &stars,
        &mut behind,
        Some(&mut taken),
        &name,
        watch(common),
    )?;
    clock.lap("take out");
    let files = vec![
        (
            behind.complete().map_err(wrong(paths[0].clone()))?,
            "without stars",
        ),
        (
            taken.complete().map_err(wrong(paths[1].clone()))?,
            "stars alone",
        ),
    ];
    let mut outputs = Vec::new();
    finish_first(files, &mut outputs)?;
    let own = Apart {
        file: name,
        stars: stars.count(),
        fwhm_px: Some(round(catalogue.fwhm_px, 2)).filter(|w| w.is_finite() && stars.count() > 0),
        filled: stars.filled(),
        doubtful: stars.doubtful(),
    };
    Ok(Outcome::new("stars", own, outputs, warnings, &clock))
}

/// The header of a part: that of the frame, and what it is.
pub fn cards(linear: &LinearFile, words: &str) -> Cards {
    let mut cards = Cards::default();
    for record in linear.file.header().carried() {
        cards.record(record);
    }
    cards.history(&format!("{}: {words}", linear.stem()));
    recipe_card(&mut cards);
    cards
}

fn text(a: &StarsAccount) -> String {
    let mut out = match a.own.fwhm_px {
        Some(width) => format!(
            "frame      {}, {} stars of {width:.2} px\nfilled     {} places; the other stars were taken off as they are modelled\n\n",
            a.own.file, a.own.stars, a.own.filled
        ),
        None => format!("frame      {}, no stars: it stays as it is\n\n", a.own.file),
    };
    if a.own.doubtful > 0 {
        let (things, are) = if a.own.doubtful == 1 {
            ("thing", "is")
        } else {
            ("things", "are")
        };
        let _ = writeln!(
            out,
            "doubtful   {} {things} that {are} wider than any star here stayed: cores of galaxies, comets, knots\n",
            a.own.doubtful
        );
    }
    for w in &a.warnings {
        let _ = writeln!(out, "note       {w}");
    }
    out.push_str(&written(&a.outputs, &a.stages, a.seconds));
    out
}
