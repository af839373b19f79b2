//! Sentences that take more than a line: what is near to what was meant, and what would help.

use std::fmt::Write as _;
use std::path::PathBuf;

use jigsawa_core::balance::BalanceError;
use jigsawa_core::colour::Palette;
use jigsawa_core::colour::mix::MixError;
use jigsawa_core::filter::Filter;
use jigsawa_core::finish::white::WhiteError;
use jigsawa_core::finish::{OverviewError, PlanError};
use jigsawa_core::matching::MatchError;
use jigsawa_core::survey::condition::ConditionError;
use jigsawa_core::survey::quantity::QUANTITIES;
use jigsawa_formats::error::FileError;

use super::parts::{Sentence, did_you_mean, list, marked, plain};

/// What a first look has found wrong, with the channel's name.
pub(super) fn overview_words(error: &OverviewError) -> String {
    let channel = |c: &usize| ["red", "green", "blue"].get(*c).copied().unwrap_or("?");
    match error {
        OverviewError::Empty(c) => format!("its {} channel has no value at all", channel(c)),
        OverviewError::Constant(c) => {
            format!("its {} channel has one value everywhere", channel(c))
        }
        other => other.to_string(),
    }
}

pub(super) fn finish_hint(error: &PlanError) -> &'static str {
    match error {
        PlanError::White(WhiteError::DarkPatch) => {
            "Choose a patch with light: --white X,Y,W,H; or take the stars: --white stars"
        }
        PlanError::White(WhiteError::FewKnown(_)) => {
            "Does the catalogue cover this field, and is the WCS right? Else --white stars"
        }
        PlanError::White(_) => "Use --white none, or a patch that should be white: --white X,Y,W,H",
        PlanError::NoWcs => "Give the frames a WCS before composing, or use --white stars",
        PlanError::Outside => "Use --crop covered, or a rectangle within the picture.",
        PlanError::Nothing | PlanError::Source(_) => {
            "No part is covered by all channels: use --crop none, or leave out the frame that lies apart."
        }
    }
}

pub(super) fn keep_sentence(text: &str, error: &ConditionError) -> Sentence {
    let names = || QUANTITIES.iter().map(|q| q.name);
    match error {
        ConditionError::Name(name) => {
            // The nearest names first.
            let mut sorted: Vec<&str> = names().collect();
            sorted.sort_by_key(|n| strsim::damerau_levenshtein(n, &name.text.to_lowercase()));
            plain(format!(
                "--keep asks for '{}', which no frame has\n{}",
                name.text,
                marked(text, name.column)
            ))
            .mend(format!(
                "{}There are {}.",
                did_you_mean(&name.text, names()),
                sorted.join(", ")
            ))
        }
        ConditionError::Text(e) => plain(format!(
            "--keep cannot be understood: {e}\n{}",
            marked(text, e.column)
        ))
        .mend("Write it as in \"fwhm < 3.2 px and elongation < 1.3 and clouds < 20%\"."),
        ConditionError::Units { .. } => plain(format!("--keep: {error}"))
            .mend("Lengths are in px or arcsec, times in s, angles in deg, parts in %; a number without unit fits all."),
        ConditionError::Words(_) | ConditionError::NotACondition(_) => {
            plain(format!("--keep: {error}")).mend("As in \"filter == Ha\" or \"fwhm < 3.2 px\".")
        }
    }
}

pub(super) fn known_filters() -> Vec<String> {
    Filter::all_names().map(str::to_owned).collect()
}

pub(super) fn files_sentence(files: &[(PathBuf, FileError)]) -> Sentence {
    let mut message = String::new();
    for (i, (path, error)) in files.iter().enumerate() {
        let line = if i == 0 { "" } else { "\njigsawa: " };
        let _ = write!(
            message,
            "{line}'{}' cannot be used: {error}",
            path.display()
        );
    }
    let hint = match &files[0].1 {
        FileError::Io { error, .. } if error.kind() == std::io::ErrorKind::NotFound => {
            "Check the name and the folder."
        }
        FileError::Io { .. } => "Check that you may read it.",
        FileError::Empty | FileError::Truncated { .. } => {
            "Copy or make the file again: part of it is lost."
        }
        FileError::NotFits { .. } => {
            "Give FITS files (.fits, .fit, .fts, .fits.gz, .fits.fz), a camera's raw files, or linear TIFF and PNG files."
        }
        FileError::Image(_) => "Save it again as TIFF of 16 or 32 bits, or as FITS.",
        FileError::NoImage => "Give a file that holds an image.",
        FileError::NoSuchImage { .. } => {
            "Count images with pixels from 1 on, or name one by its EXTNAME."
        }
        FileError::Shape { .. } => "Give images of one plane, or colour images of three.",
        _ => "Look at the file in any FITS viewer; it may be damaged.",
    };
    plain(message)
        .on(files[0].0.display().to_string())
        .mend(hint)
}

pub(super) fn filters_sentence(frames: &[(String, Option<String>)]) -> Sentence {
    let mut message = String::from("the filter is not known of");
    for (file, card) in frames {
        let says = card
            .as_ref()
            .map_or("has no filter".to_owned(), |c| format!("says '{c}'"));
        let _ = write!(message, "\n  {file}: its header {says}");
    }
    plain(message).on(frames[0].0.clone()).mend(format!(
        "Say what it is: --filter NAME={}\nwhere NAME is one of {}.",
        frames[0].0,
        list(&known_filters())
    ))
}

/// No filter has two frames: perhaps their filters are wrong, or most were left out.
pub(super) fn one_light(sets: &[(String, usize)], left_out: &[(String, String)]) -> Sentence {
    let each: Vec<String> = sets
        .iter()
        .map(|(name, frames)| format!("{frames} of {name}"))
        .collect();
    let lost: Vec<String> = left_out
        .iter()
        .map(|(file, why)| format!(". '{file}' is left out: {why}"))
        .collect();
    let lost = lost.concat();
    let have = if each.is_empty() {
        "no frame is left".to_owned()
    } else {
        format!("there is {}", list(&each))
    };
    let told = plain(format!("nothing to stack: {have}{lost}")).mend(match left_out.is_empty() {
        true if sets.len() > 1 => "Are the filters right? --filter NAME=FRAME says what a frame's is. Filters are merged by compose.",
        true => "Give two or more frames of the same filter. One alone goes on to finish.",
        false => "Say what you know of their places: --hint and --pair of jigsawa register; its layout goes on here.",
    });
    match left_out.first() {
        Some((file, _)) => told.on(file.clone()),
        None => told,
    }
}

pub(super) fn palette_sentence(name: &str) -> Sentence {
    let names = Palette::all_names();
    plain(format!("there is no palette '{name}'")).mend(format!(
        "{}There are RGB, LRGB, and any three letters of the lines S, H, O and N, as in SHO, HOO or HSO, and more: \
         compose --list-palettes. For a mix of your own use --red, --green and --blue.",
        did_you_mean(name, names.iter().map(String::as_str))
    ))
}

pub(super) fn palette_needs_sentence(
    palette: &str,
    missing: &[String],
    have: &[String],
) -> Sentence {
    let would_do: Vec<String> = Palette::all_names()
        .into_iter()
        .filter(|n| {
            // One line in all three channels is no colour picture.
            let first = n.chars().next();
            n.chars().any(|c| Some(c) != first)
        })
        .filter(|n| {
            Palette::by_name(n).is_ok_and(|p| {
                p.mixes()
                    .flat_map(jigsawa_core::colour::mix::Mix::names)
                    .all(|n| have.contains(&n.text))
            })
        })
        .take(4)
        .collect();
    let instead = if would_do.is_empty() {
        "or mix your own with --red, --green and --blue".to_owned()
    } else {
        format!("or use one of {}", list(&would_do))
    };
    plain(format!(
        "the palette {palette} needs {}, and there are only {}",
        list(missing),
        list(have)
    ))
    .mend(format!("Give a frame of {}, {instead}.", missing[0]))
}

pub(super) fn mix_hint(error: &MixError) -> String {
    use jigsawa_core::colour::mix::{Mix, Problem};
    match &error.problem {
        Problem::Function(name) => format!(
            "{}There are {}.",
            did_you_mean(name, Mix::functions().map(|f| f.0)),
            Mix::functions().map(|f| f.0).collect::<Vec<_>>().join(", ")
        ),
        Problem::Trailing(_) => {
            "Write + or another operator between two names; put a name with blanks \
                                 in quotes."
                .to_owned()
        }
        _ => "Write a mix as in \"70% OIII + 30% Ha\"; docs/mix.md has the whole language."
            .to_owned(),
    }
}

pub(super) fn match_sentence(file: &str, reference: &str, error: &MatchError) -> Sentence {
    let hint = match error {
        MatchError::TooFewStars {
            in_reference: true, ..
        } => "Give a reference with more stars: --reference FRAME",
        MatchError::TooFewStars { .. } => {
            "Use a deeper master of this filter, or a mix that does not need it."
        }
        MatchError::NoPattern { .. } => {
            "Check that it shows the same field; say what you know of its place to register: --hint, or \
             three times --pair"
        }
        MatchError::NoMatch { .. } => {
            "Check that it shows the same field; if it does, another reference may share more stars with \
             it: --reference FRAME"
        }
        MatchError::TooLoose { .. } => {
            "Its matched stars are few or lie in one part of it; use a deeper frame, or a reference that shares \
             more of the field with it: --reference FRAME"
        }
        MatchError::TooRough { .. } => {
            "Its field is distorted against the reference's; another reference may be nearer to both: \
             --reference FRAME"
        }
    };
    plain(format!("cannot place '{file}' on '{reference}': {error}"))
        .on(file)
        .mend(hint)
}

/// What helps when values cannot be matched.
pub(super) fn balance_hint(error: BalanceError) -> &'static str {
    match error {
        BalanceError::NoCommonSky => {
            "Give a reference that lies on the same sky: --reference FRAME"
        }
        BalanceError::FewStars(_) | BalanceError::NoSignal | BalanceError::NoExposure => {
            "Find the scale in another way: --match stars, exposure, noise, signal or none"
        }
        BalanceError::NoNoise => "Leave scales as they are: --match none",
        BalanceError::NoLevel => {
            "Take the gradient off instead of dividing by it: --flatten=subtract"
        }
    }
}
