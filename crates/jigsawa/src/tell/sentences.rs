//! One sentence, one place and one way out for each trouble.

use std::fmt::Write as _;
use std::path::PathBuf;

use jigsawa_core::balance::BalanceError;
use jigsawa_core::colour::Palette;
use jigsawa_core::colour::mix::MixError;
use jigsawa_core::filter::Filter;
use jigsawa_core::finish::white::WhiteError;
use jigsawa_core::finish::{LookError, PlanError};
use jigsawa_core::layout::LayoutError;
use jigsawa_core::matching::MatchError;
use jigsawa_core::survey::condition::ConditionError;
use jigsawa_core::survey::quantity::QUANTITIES;
use jigsawa_formats::error::FileError;

use super::Trouble;

/// What a failed run leaves.
const NOTHING_LEFT: &str = "Nothing half-written is left. Is the disk full, or the file damaged?";

/// A sentence in parts.
pub(super) struct Told {
    pub(super) message: String,
    pub(super) file: Option<String>,
    pub(super) hint: Option<String>,
}

/// One of several, or the words for one.
fn list(items: &[String]) -> String {
    items.join(", ")
}

/// The nearest of some names, when it is near enough to be a slip.
fn nearest<'a>(name: &str, known: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    let wanted = name.to_lowercase();
    known
        .into_iter()
        .map(|k| (strsim::damerau_levenshtein(&wanted, &k.to_lowercase()), k))
        .filter(|(d, k)| *d <= 1 + k.chars().count() / 4)
        .min_by_key(|(d, _)| *d)
        .map(|(_, k)| k)
}

fn did_you_mean<'a>(name: &str, known: impl IntoIterator<Item = &'a str>) -> String {
    nearest(name, known).map_or(String::new(), |n| format!("Did you mean {n}? "))
}

/// A mix with a mark under the place that is meant.
fn marked(text: &str, column: usize) -> String {
    format!("  {text}\n  {}^", " ".repeat(column.saturating_sub(1)))
}

fn plain(message: String) -> Told {
    Told {
        message,
        file: None,
        hint: None,
    }
}

impl Told {
    fn on(mut self, file: impl Into<String>) -> Self {
        self.file = Some(file.into());
        self
    }

    fn mend(mut self, hint: impl Into<String>) -> Self {
        self.hint = Some(hint.into());
        self
    }
}

/// What a first look has found wrong, with the channel's name.
fn look_words(error: &LookError) -> String {
    let channel = |c: &usize| ["red", "green", "blue"].get(*c).copied().unwrap_or("?");
    match error {
        LookError::Empty(c) => format!("its {} channel has no value at all", channel(c)),
        LookError::Constant(c) => format!("its {} channel has one value everywhere", channel(c)),
        other => other.to_string(),
    }
}

fn finish_hint(error: &PlanError) -> &'static str {
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

/// The trouble in words.
// One arm a trouble: a table, which is read by looking up, not from start to end.
#[allow(clippy::too_many_lines)]
pub(super) fn tell(trouble: &Trouble) -> Told {
    match trouble {
        Trouble::Files(files) => files_told(files),
        Trouble::Filters(frames) => filters_told(frames),
        Trouble::FilterName(name) => plain(format!("'{name}' cannot be the name of a filter"))
            .mend(format!(
                "Use one of {}, or one word of letters and digits.",
                list(&known_filters())
            )),
        Trouble::FilterOfColour(file) => plain(format!(
            "'{file}' is a colour image: its planes are R, G and B"
        ))
        .on(file.clone())
        .mend("Leave out --filter for it."),
        Trouble::NoSuchFrame {
            option,
            name,
            frames,
        } => plain(format!(
            "{option} names '{name}', which is not among the frames"
        ))
        .mend(format!(
            "{}The frames are {}.",
            did_you_mean(name, frames.iter().map(String::as_str)),
            list(frames)
        )),
        Trouble::PaletteFile { file, error } => plain(format!(
            "the palettes of '{}' cannot be used: {error}",
            file.display()
        ))
        .on(file.display().to_string())
        .mend("A palette is a table [name] with red, green and blue, as in red = \"70% Ha + 30% SII\"; docs/palettes.md has the form."),
        Trouble::NoSuchVariant { number, of } => plain(format!(
            "--pick {number} is none of the {of} variants"
        ))
        .mend(format!("Use a number from 1 to {of}, as on the comparison sheet.")),
        Trouble::NothingToTry(have) => plain(format!(
            "no palette can be made of {}",
            list(have)
        ))
        .mend("Give frames of more filters, or mix your own with --red, --green and --blue."),
        Trouble::NoContinuum { line, broad, stars } => plain(format!(
            "--continuum {line}={broad}: only {stars} stars show how much of {broad} is in {line}"
        ))
        .mend("Say it: a mix with the difference, as in --red \"Ha - 5% R\"."),
        Trouble::OtherCanvas { file, size, canvas } => plain(format!(
            "'{file}' has {} x {} pixels, and the composite {} x {}: its stars cannot be put there",
            size.0, size.1, canvas.0, canvas.1
        ))
        .on(file.clone())
        .mend("Make both from one layout; or give the frames of both and use a palette with stars, as lantern or SHO-RGB."),
        Trouble::Twice(file) => plain(format!("'{file}' is given twice"))
            .on(file.clone())
            .mend("Give each frame once."),
        Trouble::NotTheSky { file, kind } => plain(format!(
            "'{file}' is a {kind} frame by its header, not one of the sky"
        ))
        .on(file.clone())
        .mend("Leave it out, or correct its IMAGETYP card."),
        Trouble::Palette(name) => palette_told(name),
        Trouble::PaletteNeeds {
            palette,
            missing,
            have,
        } => palette_needs_told(palette, missing, have),
        Trouble::Mix {
            channel,
            text,
            error,
        } => plain(format!(
            "the {channel} mix cannot be understood: {error}\n{}",
            marked(text, error.column)
        ))
        .mend(mix_hint(error)),
        Trouble::MixName {
            channel,
            text,
            name,
            column,
            known,
        } => plain(format!(
            "the {channel} mix names '{name}', and no frame has that filter or name\n{}",
            marked(text, *column)
        ))
        .mend(format!(
            "{}There are {}.",
            did_you_mean(name, known.iter().map(String::as_str)),
            list(known)
        )),
        Trouble::Measure { file, error } => plain(format!("'{file}' cannot be measured: {error}"))
            .on(file.clone())
            .mend("Look at the file in any FITS viewer: it may be a failed download."),
        Trouble::Match {
            file,
            reference,
            error,
        } => match_told(file, reference, error),
        Trouble::Balance {
            file,
            reference,
            error,
        } => plain(if file == reference {
            format!("the gradient of '{file}' cannot be taken out: {error}")
        } else {
            format!("'{file}' cannot be matched to '{reference}': {error}")
        })
        .on(file.clone())
        .mend(balance_hint(*error)),
        Trouble::OffCanvas {
            option,
            place: [x, y],
            canvas: (w, h),
        } => plain(format!(
            "{option} names the place {x},{y}, and the canvas has {w} x {h} pixels"
        ))
        .mend("Places are counted on the canvas, from 1,1."),
        Trouble::Options(why) => plain((*why).to_owned()),
        Trouble::TwoLevels { filter, files } => plain(format!(
            "--reference names {} frames of filter {filter}: {}",
            files.len(),
            list(files)
        ))
        .mend("Frames of one filter are matched to one of them: name one for each filter."),
        Trouble::Canvas(error) => plain(format!("there is no canvas: {error}"))
            .mend("Use --canvas reference, or leave out the frame that lies apart."),
        Trouble::LayoutText { file, error } => plain(format!(
            "the layout '{}' cannot be read: {error}",
            file.display()
        ))
        .on(file.display().to_string())
        .mend("Mend that place, or make the layout anew from the frames."),
        Trouble::Layout { file, line, error } => plain(format!(
            "the layout '{}' cannot be used{}: {error}",
            file.display(),
            line.map_or(String::new(), |n| format!(", line {n}"))
        ))
        .on(file.display().to_string())
        .mend(if matches!(error, LayoutError::Newer(_)) {
            "Use the version of the program that wrote it, or make it anew from the frames."
        } else {
            "Mend that place, or make the layout anew from the frames."
        }),
        Trouble::Moved { layout, files } => {
            let names: Vec<String> = files.iter().map(|f| format!("'{}'", f.display())).collect();
            let folder = files[0].parent().filter(|f| !f.as_os_str().is_empty());
            let (old, new) = match folder {
                Some(folder) => (folder, "NEW_FOLDER"),
                None => (files[0].as_path(), "NEW_FILE"),
            };
            plain(format!(
                "frames of the layout '{}' are not where it says: {}",
                layout.display(),
                list(&names)
            ))
            .on(files[0].display().to_string())
            .mend(format!("Say where they are now: --relocate {}={new}", old.display()))
        }
        Trouble::Relocation { old, file } => plain(format!(
            "--relocate names '{old}', where no frame of the layout lies"
        ))
        .mend(format!("Write the start of a path as the layout has it; its first frame is '{file}'.")),
        Trouble::FewPairs {
            file,
            count,
            needed,
        } => plain(format!("'{file}' has {count} of the {needed} pairs of points that are needed"))
            .on(file.clone())
            .mend("Give more: --pair FRAME:x,y=X,Y, far apart and not on a line."),
        Trouble::NoNorth => plain("no frame that is used says where north is".to_owned())
            .mend("Leave out --north-up, or give a frame whose header has a WCS (CTYPE1, CRVAL1, CD1_1 …)."),
        Trouble::NoStars { file } => plain("no frame has a star to go by".to_owned())
            .on(file.clone())
            .mend(
                "Name the reference, and frames are compared by their pattern: --reference FRAME; or find \
                 fainter stars: --detect-sigma 4",
            ),
        Trouble::OnlyWithLayout(option) => plain(format!("{option} has no effect on frames"))
            .mend("It goes with a layout, whose frames may have moved."),
        Trouble::LayoutFrame {
            layout,
            file,
            problem,
        } => plain(format!(
            "'{file}' is not what the layout '{}' says: {problem}",
            layout.display()
        ))
        .on(file.clone())
        .mend("Make the layout anew from the frames."),
        Trouble::LeftOut { file, reason } => plain(format!(
            "the mix needs '{file}', which the layout leaves out: {reason}"
        ))
        .on(file.clone())
        .mend("Use a mix without it, or make the layout anew with better frames."),
        Trouble::NotWithLayout(option) => plain(format!(
            "{option} has no effect on a layout, which is already made"
        ))
        .mend("Give the frames instead of the layout, or leave the option out."),
        Trouble::AlreadyPlaced(file) => plain(format!(
            "the frames of '{}' are placed already",
            file.display()
        ))
        .on(file.display().to_string())
        .mend("Give it to compose; or add frames to it: jigsawa register FRAMES --into LAYOUT"),
        Trouble::NotPlaced(file) => plain(format!(
            "'{}' is a survey's layout: it has no canvas to add frames to",
            file.display()
        ))
        .on(file.display().to_string())
        .mend(format!("Register its frames first: jigsawa register {} --out FOLDER", file.display())),
        Trouble::InTheLayout { layout, file } => plain(format!(
            "'{file}' stands in the layout '{}' already",
            layout.display()
        ))
        .on(file.clone())
        .mend("Give only the frames that are new."),
        Trouble::LayoutAlone => plain("a layout is given together with other files".to_owned())
            .mend("Give one layout alone, or frames only."),
        Trouble::Exist(files) => {
            let names: Vec<String> = files.iter().map(|f| format!("'{}'", f.display())).collect();
            let verb = if names.len() == 1 { "exists" } else { "exist" };
            plain(format!("{} {verb} already", list(&names)))
                .on(files[0].display().to_string())
                .mend("Nothing was changed. Use --overwrite, or another --name or --out.")
        }
        Trouble::OutsideOf { option, rect: [x, y, w, h], file, size } => plain(format!(
            "{option} {x},{y},{w},{h} reaches over the edges of '{file}', which has {} x {} pixels",
            size.0, size.1
        ))
        .on(file.clone())
        .mend("X,Y is its lower left pixel as FITS viewers show it, counted from 0,0; W,H are its sides."),
        Trouble::StarList { file, error } => plain(format!(
            "the catalogue '{}' cannot be used: {error}",
            file.display()
        ))
        .on(file.display().to_string())
        .mend("It is a CSV file with a line of names: ra, dec in degrees, and B, V or BP, RP in magnitudes."),
        Trouble::Unreadable { file, error } => plain(format!("'{file}' cannot be read: {error}"))
            .on(file.clone())
            .mend(NOTHING_LEFT),
        Trouble::Look { file, error } => plain(format!("'{file}' cannot be finished: {}", look_words(error)))
            .on(file.clone())
            .mend("Look at it in any FITS viewer; make the composite anew if it is not what it should be."),
        Trouble::Finish { file, error } => plain(format!("'{file}' cannot be finished: {error}"))
            .on(file.clone())
            .mend(finish_hint(error)),
        Trouble::CaptionField(name) => plain(format!("the caption names {{{name}}}, which is nothing it can say"))
            .mend(format!("It can say {{{}}}.", crate::picture::FIELDS.join("}, {"))),
        Trouble::Ending(ending) => plain(format!("no picture is written as .{ending}"))
            .mend("Use .tif, .png, .jpg, .exr or .fits, or name a folder."),
        Trouble::Folder { folder, error } => plain(format!(
            "the folder '{}' takes no files: {error}",
            folder.display()
        ))
        .on(folder.display().to_string())
        .mend("Use a folder that you may write into: --out FOLDER"),
        Trouble::Name(name) => plain(format!("'{name}' cannot be part of a file's name"))
            .mend("Use letters, digits, - and _ in --name."),
        Trouble::Write { file, error } => {
            plain(format!("'{}' cannot be written: {error}", file.display()))
                .on(file.display().to_string())
                .mend(NOTHING_LEFT)
        }
        Trouble::Merge { file, message } => Told {
            message: message.clone(),
            file: file.clone(),
            hint: Some(NOTHING_LEFT.to_owned()),
        },
        Trouble::NoFrames { place, others } => plain(format!(
            "there is no FITS file in '{place}'{}",
            if *others > 0 {
                format!(" ({others} files of other kinds)")
            } else {
                String::new()
            }
        ))
        .on(place.clone())
        .mend("Give a folder with .fits, .fit or .fts files (also .gz and .fz), or a pattern that fits some."),
        Trouble::Pattern { pattern, error } => {
            plain(format!("the pattern '{pattern}' cannot be understood: {error}"))
                .on(pattern.clone())
                .mend("Use * for any letters, ? for one, ** for folders.")
        }
        Trouble::NoneReadable(files) => {
            let mut message = "no file can be read".to_owned();
            for (file, why) in files.iter().take(10) {
                let _ = write!(message, "\n  {file}: {why}");
            }
            if files.len() > 10 {
                let _ = write!(message, "\n  and {} more", files.len() - 10);
            }
            plain(message)
                .on(files[0].0.clone())
                .mend("Check the names; give FITS files or a folder with such.")
        }
        Trouble::Keep { text, error } => keep_told(text, error),
        Trouble::Column { option, name } => {
            let names = || QUANTITIES.iter().map(|q| q.name);
            plain(format!("{option} names '{name}', and there is no such column")).mend(format!(
                "{}There are {}.",
                did_you_mean(name, names()),
                names().collect::<Vec<_>>().join(", ")
            ))
        }
        Trouble::DryRunOfNothing => plain("--dry-run has nothing to try".to_owned())
            .mend("Use it with --copy FOLDER or --move-rest FOLDER."),
        Trouble::NoReference => plain("no frame can be the reference: none that is kept has stars in common with others".to_owned())
            .mend("Leave out --layout, or keep more frames."),
        Trouble::InTheWay(files) => {
            let names: Vec<String> = files.iter().take(5).map(|f| format!("'{}'", f.display())).collect();
            plain(format!(
                "{} files are in the way: {}{}",
                files.len(),
                list(&names),
                if files.len() > 5 { ", …" } else { "" }
            ))
            .on(files[0].display().to_string())
            .mend("Nothing was copied or moved. Use another folder.")
        }
        Trouble::SameName(file) => plain(format!("two frames would become '{}'", file.display()))
            .on(file.display().to_string())
            .mend("Nothing was copied or moved. Survey the folder above both, which keeps their subfolders."),
        Trouble::NeedsTwo(option) => plain(format!("{option} needs at least two frames"))
            .mend("Give more frames, or leave the option out."),
        Trouble::SamePicture(file) => plain(format!("two frames would become '{}'", file.display()))
            .on(file.display().to_string())
            .mend("Use --name, which numbers the pictures."),
        Trouble::Region { file, region, width, height } => plain(format!(
            "the region {region} lies outside of '{file}', which has {width} x {height} pixels"
        ))
        .on(file.clone())
        .mend("Give X,Y of its first pixel and its width and height, counted from 0 in the file's order."),
        Trouble::Sizes { file, other, sizes: [a, b] } => plain(format!(
            "'{file}' ({} x {}) and '{other}' ({} x {}) have different sizes",
            a.0, a.1, b.0, b.1
        ))
        .on(file.clone())
        .mend("Their stars do not match either, so they cannot be compared; use --together."),
        Trouble::Carry { from, to, error, done, of } => plain(format!(
            "'{}' cannot become '{}': {error}",
            from.display(),
            to.display()
        ))
        .on(from.display().to_string())
        .mend(format!("{done} of {of} frames were done before; none is lost. Mend the cause and run it again with another folder.")),
        Trouble::Nothing => plain("the frames share no pixel: the composite is empty".to_owned())
            .mend("Use --canvas union, and check that the frames show the same field."),
    }
}

fn keep_told(text: &str, error: &ConditionError) -> Told {
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

fn known_filters() -> Vec<String> {
    Filter::all_names().map(str::to_owned).collect()
}

fn files_told(files: &[(PathBuf, FileError)]) -> Told {
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
        FileError::NotFits { .. } => "Give FITS files (.fits, .fit, .fts, .fits.gz, .fits.fz).",
        FileError::NoImage => "Give a file that holds an image.",
        FileError::Shape { .. } => "Give images of one plane, or colour images of three.",
        _ => "Look at the file in any FITS viewer; it may be damaged.",
    };
    plain(message)
        .on(files[0].0.display().to_string())
        .mend(hint)
}

fn filters_told(frames: &[(String, Option<String>)]) -> Told {
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

fn palette_told(name: &str) -> Told {
    let names = Palette::all_names();
    plain(format!("there is no palette '{name}'")).mend(format!(
        "{}There are RGB, LRGB, and any three letters of the lines S, H, O and N, as in SHO, HOO or HSO. \
         For a mix of your own use --red, --green and --blue.",
        did_you_mean(name, names.iter().map(String::as_str))
    ))
}

fn palette_needs_told(palette: &str, missing: &[String], have: &[String]) -> Told {
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

fn mix_hint(error: &MixError) -> String {
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

/// Why a frame is left out, and what would help.
pub fn why_left_out(error: &MatchError) -> String {
    let help = match error {
        MatchError::TooFewStars { .. } | MatchError::NoPattern { .. } => {
            "lower --detect-sigma, a --hint, three times --pair, or another --reference may help"
        }
        MatchError::NoMatch { .. } => {
            "if it shows the same field, another --reference or a --hint may help"
        }
        MatchError::TooLoose { .. } => {
            "more stars (lower --detect-sigma), a stiffer --model or another --reference may help"
        }
        MatchError::TooRough { .. } => "--model smooth or another --reference may help",
    };
    format!("{error}; {help}")
}

fn match_told(file: &str, reference: &str, error: &MatchError) -> Told {
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
fn balance_hint(error: BalanceError) -> &'static str {
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
