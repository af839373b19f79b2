//! What happened to a finished picture: one record that the terminal and `--json` read.

use jigsawa_core::balance::flatten::Ground;
use jigsawa_core::finish::{FinishSettings, Overview, Plan, Step, WhiteFrom, looks_stretched};
use jigsawa_core::number::Convert;
use serde::Serialize;

use jigsawa_core::survey::quantity::{digits_for, in_units as in_units_shown};
use jigsawa_work::finish::LinearFile;
use jigsawa_work::words::ground_words;

use jigsawa_work::clock::{Clock, Output, in_units, round};
use jigsawa_work::foreign::name_of;

use super::Outcome;

/// The account of `finish`.
pub type FinishAccount = Outcome<Finished>;

/// A finished picture.
#[derive(Debug, Serialize)]
pub struct Finished {
    pub picture: PictureRow,
    pub steps: Vec<StepRow>,
}

#[derive(Debug, Serialize)]
pub struct PictureRow {
    pub file: String,
    /// Pixels of the file.
    pub width: usize,
    pub height: usize,
    /// What stays of it: left, top, width and height in pixels of the file, from 0.
    pub kept: [usize; 4],
    pub stars: usize,
    pub fwhm_px: f64,
    /// Noise of a pixel's brightness, in the file's units.
    pub noise: f64,
}

/// One step and what it did.
#[derive(Debug, Serialize)]
pub struct StepRow {
    pub step: &'static str,
    /// Did it change anything?
    pub acts: bool,
    pub said: String,
}

/// The account of a picture.
pub fn account(
    linear: &LinearFile,
    plan: &Plan,
    settings: &FinishSettings,
    stars: usize,
    outputs: Vec<Output>,
    warnings: Vec<String>,
    clock: &Clock,
) -> FinishAccount {
    let size = linear.file.size();
    let rect = plan.rect;
    let own = Finished {
        picture: PictureRow {
            file: name_of(&linear.path),
            width: size.width(),
            height: size.height(),
            kept: [rect.x.index(), rect.y.index(), rect.width, rect.height],
            stars,
            fwhm_px: round(plan.found.fwhm_px, 2),
            noise: in_units(f64::from(plan.found.noise), 4),
        },
        steps: steps(plan, settings, (size.width(), size.height())),
    };
    Outcome::new("finish", own, outputs, warnings, clock)
}

const COLOURS: [&str; 3] = ["red", "green", "blue"];

/// Every step in its order, with what it found or why it does nothing.
pub fn steps(plan: &Plan, settings: &FinishSettings, size: (usize, usize)) -> Vec<StepRow> {
    let row = |step, acts, said| StepRow { step, acts, said };
    let rect = plan.rect;
    let whole = (rect.width, rect.height) == size;
    let mut all = vec![row(
        "crop",
        !whole,
        if whole {
            "nothing to cut off".to_owned()
        } else {
            format!(
                "{} x {} of {} x {} pixels stay",
                rect.width, rect.height, size.0, size.1
            )
        },
    )];
    for step in Step::ALL {
        if step == Step::Contrast {
            let said = if settings.linear {
                "none: the picture ends in linear light".to_owned()
            } else {
                stretch_said(plan, settings)
            };
            all.push(row("stretch", !settings.linear, said));
        }
        let said = match step {
            Step::Start => continue,
            Step::Gradient => gradient_said(plan, settings),
            Step::Neutral => neutral_said(plan, settings),
            Step::White => white_said(plan, settings),
            Step::Green => percent_said(
                settings.green,
                "of what is greener than red and blue is held down",
            ),
            Step::Denoise => format!(
                "{} of the brightness's and {} of the colours' is taken; a pixel's was {:.3}",
                percent(settings.quiet.brightness),
                percent(settings.quiet.colour),
                plan.found.noise
            ),
            Step::Deconvolve if settings.deconvolution_rounds == 0 => "not asked for".to_owned(),
            Step::Deconvolve => format!(
                "{} rounds with stars of {:.2} px",
                settings.deconvolution_rounds, plan.found.fwhm_px
            ),
            Step::Range if settings.range_compression > 0.0 && !plan.acts(step) => {
                "nothing is much brighter than the rest: left as it is".to_owned()
            }
            Step::Range => percent_said(
                settings.range_compression,
                "of what bright surroundings have more is held back",
            ),
            Step::Contrast => percent_said(
                settings.contrast,
                "is added to structures of 8 to 64 pixels",
            ),
            Step::Saturation => saturation_said(settings),
            Step::Stars if settings.stars == 1.0 => "as they are".to_owned(),
            Step::Stars => format!("{} of their light stays", percent(settings.stars)),
            Step::Sharpen => percent_said(settings.sharpen, "is added to small detail"),
        };
        let said = if step == Step::Denoise && !plan.acts(step) {
            "left as it is".to_owned()
        } else {
            said
        };
        all.push(row(step.name(), plan.acts(step), said));
    }
    all
}

fn percent(part: f32) -> String {
    format!("{:.0}%", 100.0 * part)
}

fn percent_said(part: f32, what: &str) -> String {
    if part > 0.0 {
        format!("{} {what}", percent(part))
    } else {
        "left as it is".to_owned()
    }
}

fn gradient_said(plan: &Plan, settings: &FinishSettings) -> String {
    if settings.gradient.is_none() {
        return "left as it is".to_owned();
    }
    let words = plan.found.skies.iter().zip(COLOURS).map(|(s, c)| {
        if s.gradient.is_zero() {
            let why = match s.ground {
                Some(g) if g.is_unsure() => ": nothing is surely sky",
                _ => "",
            };
            format!("{c} none{why}")
        } else {
            let (span, error) = (f64::from(s.span), f64::from(s.error));
            let shape = s.shape.words();
            // Masters may go from 0 to 1.
            let digits = if error < 0.01 {
                digits_for(error, 2)
            } else {
                2
            };
            format!("{c} {shape} of {span:.digits$}, known to {error:.digits$}")
        }
    });
    words.collect::<Vec<_>>().join(", ")
}

/// What should be known of a picture that is no linear one any more.
pub fn linear_doubt(seen: &Overview, name: &str) -> Option<String> {
    looks_stretched(seen).then(|| {
        format!(
            "'{name}' looks stretched already: its sky is far above black. Give the linear result, the .fits of compose, \
             instead"
        )
    })
}

/// What should be known of the gradient: where no sky was found, why, and how to show some; or that a shape which was asked
/// for rests on none.
pub fn gradient_doubt(plan: &Plan, settings: &FinishSettings) -> Option<String> {
    let unsure: Vec<(&str, Ground)> = plan
        .found
        .skies
        .iter()
        .zip(COLOURS)
        .filter_map(|(s, c)| Some((c, s.ground.filter(|g| g.is_unsure())?)))
        .collect();
    let (_, first) = unsure.first()?;
    let of = if unsure.len() == COLOURS.len() {
        String::new()
    } else {
        let names: Vec<&str> = unsure.iter().map(|u| u.0).collect();
        format!(" of {}", names.join(" and "))
    };
    let why = ground_words(*first);
    let show = "Show places of dark sky with --sample add:X,Y, once for each";
    Some(match settings.gradient.as_ref().and_then(|g| g.shape) {
        Some(_) => format!("the gradient{of} that was asked for rests on little: {why}. {show}"),
        None => format!(
            "the gradient{of} was left: {why}. {show}, or name its shape with --gradient plane"
        ),
    })
}

fn neutral_said(plan: &Plan, settings: &FinishSettings) -> String {
    let words = plan
        .found
        .skies
        .iter()
        .zip(COLOURS)
        .map(|(s, c)| format!("{c} {}", in_units_shown(f64::from(s.level), 2)));
    let levels = words.collect::<Vec<_>>().join(", ");
    if settings.neutral.is_none() {
        return format!("left as it is; the skies are {levels}");
    }
    format!("the skies were {levels}")
}

fn white_said(plan: &Plan, settings: &FinishSettings) -> String {
    let Some(w) = &plan.found.white else {
        let few = settings.white == WhiteFrom::Stars;
        let why = if few {
            ": too few stars show their colour clearly"
        } else {
            ""
        };
        return format!("left as it is{why}");
    };
    let by = match &settings.white {
        WhiteFrom::AsItIs => String::new(),
        WhiteFrom::Patch(_) => "from a patch".to_owned(),
        WhiteFrom::Stars => {
            let [red, blue] = w.scatter;
            let known = red.max(blue) / w.stars.real().sqrt();
            format!(
                "from the typical of {} stars, known to {known:.3} mag",
                w.stars
            )
        }
        WhiteFrom::Catalogue { index, .. } => {
            format!("from {} stars of known {}", w.stars, index.name())
        }
    };
    let [r, g, b] = w.gains;
    let cores = match plan.found.cores {
        0 => String::new(),
        n => format!("; {n} saturated cores take the colour of their wings"),
    };
    let kind = w.redder.map(kind_said).unwrap_or_default();
    format!("{by}: red x {r:.3}, green x {g:.3}, blue x {b:.3}{kind}{cores}")
}

/// A difference of bright and faint stars this large, in magnitudes and in its errors, tells of giants or of hot stars.
const APART_MAG: f64 = 0.08;
const APART_ERRORS: f64 = 2.5;

/// What the stars were that a typical white rests on, and what is not known of them.
fn kind_said((redder, error): (f64, f64)) -> String {
    let bar = APART_MAG.max(APART_ERRORS * error);
    let (off, of, white) = if redder > bar {
        (redder, "redder", "giants among them make white too blue")
    } else if redder < -bar {
        (-redder, "bluer", "hot ones among them make white too red")
    } else {
        return format!(
            "; bright and faint ones agree to {bar:.2} mag, so no giants are seen, but what colour they truly are is not known: --white \
             with a list of stars tells"
        );
    };
    format!(
        "; the brighter half of them is {off:.2} mag {of} than the fainter: {white}, by up to that much; --white with a list of stars \
         tells"
    )
}

fn stretch_said(plan: &Plan, settings: &FinishSettings) -> String {
    let how = match settings.tone.link {
        jigsawa_core::finish::Link::Linked => "channels alike",
        jigsawa_core::finish::Link::Each => "each channel by its own light",
    };
    let points = plan.found.points.iter().zip(COLOURS);
    let words: Vec<String> = points
        .map(|((black, full), c)| format!("{c} {black:.1} to {full:.0}"))
        .collect();
    format!(
        "{how}, the sky at {}: {} above the sky",
        percent(settings.tone.sky),
        words.join(", ")
    )
}

fn saturation_said(settings: &FinishSettings) -> String {
    use jigsawa_core::finish::saturation::HUES;
    let hues = settings
        .hues
        .iter()
        .map(|(k, by)| format!("{} x {by}", HUES[*k].0));
    let mut words = vec![format!("all x {}", settings.saturation)];
    words.extend(hues);
    if settings.saturation == 1.0 && settings.hues.is_empty() {
        return "left as it is".to_owned();
    }
    words.join(", ")
}
