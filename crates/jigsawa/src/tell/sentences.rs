//! One sentence, one place and one way out for each trouble.

use std::fmt::Write as _;

use jigsawa_core::hdr::HdrError;
use jigsawa_core::survey::quantity::QUANTITIES;
use jigsawa_formats::error::FileError;

use super::Trouble;
use super::hints::{
    balance_hint, files_sentence, filters_sentence, finish_hint, keep_sentence, known_filters,
    match_sentence, mix_hint, one_light, overview_words, palette_needs_sentence, palette_sentence,
};
use super::layouts::of_layout;
use super::parts::{Sentence, did_you_mean, list, marked, plain};
use super::running::of_run;

/// What a failed run leaves.
const NOTHING_LEFT: &str = "Nothing half-written is left. Is the disk full, or the file damaged?";

/// What mends a picture that its format cannot hold.
const OTHER_FORMAT: &str = "Nothing half-written is left. Choose another format by the file's ending, as in --out picture.png.";

/// The trouble in words.
// One arm a trouble: a table, which is read by looking up, not from start to end.
#[allow(clippy::too_many_lines)]
pub(super) fn tell(trouble: &Trouble) -> Sentence {
    match trouble {
        Trouble::Recipe { .. }
        | Trouble::RecipeEdited(_)
        | Trouble::NothingGiven
        | Trouble::Targets { .. }
        | Trouble::NoLights(_)
        | Trouble::RunUnderWay(_)
        | Trouble::NoSuchStep { .. }
        | Trouble::StepReadsNothing(_)
        | Trouble::StepOptions { .. } => of_run(trouble),
        Trouble::LayoutText { .. }
        | Trouble::Layout { .. }
        | Trouble::Moved { .. }
        | Trouble::Relocation { .. }
        | Trouble::OnlyWithLayout(_)
        | Trouble::LayoutFrame { .. }
        | Trouble::NotWithLayout(_)
        | Trouble::AlreadyPlaced(_)
        | Trouble::NotPlaced(_)
        | Trouble::InTheLayout { .. }
        | Trouble::LayoutAlone => of_layout(trouble),
        Trouble::Files(files) => files_sentence(files),
        Trouble::MasterSize { file, is, wanted } => plain(format!(
            "the master '{}' has {} x {} pixels, the frames that need it {} x {}",
            file.display(),
            is.width(),
            is.height(),
            wanted.width(),
            wanted.height()
        ))
        .on(file.display().to_string())
        .mend("Run 'jigsawa calibrate' anew, which makes masters of the right size."),
        Trouble::DefectList { file, error } => plain(format!(
            "the list of defects '{}' cannot be used: {error}",
            file.display()
        ))
        .on(file.display().to_string())
        .mend("It is a table of x, y (from 1) and a flaw; 'jigsawa calibrate' writes it anew."),
        Trouble::NothingToCalibrate(found) => plain(format!(
            "nothing to calibrate: none of the {found} frames that were found is a raw one"
        ))
        .mend("Raw frames have one plane and are no masters: give the folders of lights, biases, darks and flats."),
        Trouble::NoSuchGroup { name, groups } => plain(format!(
            "--use names '{name}', which is no group of that kind"
        ))
        .mend(format!(
            "{}The groups are {}.",
            did_you_mean(name, groups.iter().map(String::as_str)),
            list(groups)
        )),
        Trouble::Filters(frames) => filters_sentence(frames),
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
        Trouble::NoSuchFilter {
            option,
            name,
            filters,
        } => plain(format!("{option} is given for {name}, of which there is no frame"))
            .mend(format!("The filters are {}.", list(filters))),
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
        Trouble::GreyStars(file) => plain(format!(
            "'{file}' has one plane: stars in natural colour need a linear file of three"
        ))
        .on(file.clone())
        .mend("Compose R, G and B on the same layout (--palette RGB) and give the linear file of that."),
        Trouble::Twice(file) => plain(format!("'{file}' is given twice"))
            .on(file.clone())
            .mend("Give each file once."),
        Trouble::NotTheSky { file, kind } => plain(format!(
            "'{file}' is a {kind} frame by its header, not one of the sky"
        ))
        .on(file.clone())
        .mend("Leave it out, or correct its IMAGETYP card. Lights that still need darks and flats go through jigsawa calibrate first."),
        Trouble::Palette(name) => palette_sentence(name),
        Trouble::PaletteNeeds {
            palette,
            missing,
            have,
        } => palette_needs_sentence(palette, missing, have),
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
        } => match_sentence(file, reference, error),
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
        Trouble::NothingTied {
            files,
            refused,
            plan,
        } => {
            let drawn = plan.as_ref().map_or(String::new(), |p| {
                format!(" How their headers say that they lie is drawn in '{}'.", p.display())
            });
            let names = list(&files.iter().map(|f| format!("'{f}'")).collect::<Vec<_>>());
            let said = if refused.is_empty() {
                format!("no two of these panels have stars in common, and no headers say that they overlap: {names}")
            } else {
                format!("no two of these panels are tied surely: {}", refused.join("; "))
            };
            plain(said)
            .on(files.first().cloned().unwrap_or_default())
            .mend(format!(
                "Panels must overlap by some 5 % of their sides.{drawn} If they do overlap and show few stars: a WCS in \
                 their headers places them."
            ))
        }
        Trouble::NoMosaic(file) => plain(format!(
            "'{}' is not the layout of a mosaic: panels cannot be added to it",
            file.display()
        ))
        .on(file.display().to_string())
        .mend("Make one of its frames first: jigsawa mosaic FRAMES --out FOLDER"),
        Trouble::Canvas(error) => plain(format!("there is no canvas: {error}"))
            .mend("Use --canvas reference, or leave out the frame that lies apart."),
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
        Trouble::LeftOut { file, reason } => plain(format!(
            "the mix needs '{file}', which the layout leaves out: {reason}"
        ))
        .on(file.clone())
        .mend("Use a mix without it, or make the layout anew with better frames."),
        Trouble::DemoThere(folder) => plain(format!(
            "files of a demo exist already in '{}'",
            folder.display()
        ))
        .mend("Nothing was changed. Use --overwrite to make them anew, or name another folder."),
        Trouble::Exist(files) => {
            let names: Vec<String> = files.iter().map(|f| format!("'{}'", f.display())).collect();
            let verb = if names.len() == 1 { "exists" } else { "exist" };
            plain(format!("{} {verb} already", list(&names)))
                .on(files[0].display().to_string())
                .mend("Nothing was changed. Use --overwrite, or another --name or --out.")
        }
        Trouble::IsInput { output, input } => {
            let same = if output == input {
                String::new()
            } else {
                format!(" (it is the same file as '{}')", input.display())
            };
            plain(format!("'{}' is read by this command{same}: it cannot be its result, too", output.display()))
                .on(output.display().to_string())
                .mend("Nothing was changed. An input is never written over: use another --name or --out.")
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
        Trouble::Overview { file, error } => plain(format!("'{file}' cannot be finished: {}", overview_words(error)))
            .on(file.clone())
            .mend("Look at it in any FITS viewer; make the composite anew if it is not what it should be."),
        Trouble::Finish { file, error } => plain(format!("'{file}' cannot be finished: {error}"))
            .on(file.clone())
            .mend(finish_hint(error)),
        Trouble::CaptionField(name) => plain(format!("the caption names {{{name}}}, which is nothing it can say"))
            .mend(format!("It can say {{{}}}.", jigsawa_work::picture::FIELDS.join("}, {"))),
        Trouble::Ending(ending) => plain(format!("no picture is written as .{ending}"))
            .mend("Use .tif, .png, .jxl, .jpg, .exr or .fits, or name a folder."),
        Trouble::Folder { folder, error } => plain(format!(
            "the folder '{}' takes no files: {error}",
            folder.display()
        ))
        .on(folder.display().to_string())
        .mend("Use a folder that you may write into: --out FOLDER"),
        Trouble::Name(name) => plain(format!("'{name}' cannot be part of a file's name"))
            .mend("Use letters, digits, - and _ in --name, 150 at most."),
        Trouble::Write { file, error } => {
            let hint = match error {
                FileError::Picture(_) => OTHER_FORMAT,
                _ => NOTHING_LEFT,
            };
            plain(format!("'{}' cannot be written: {error}", file.display()))
                .on(file.display().to_string())
                .mend(hint)
        }
        Trouble::Merge { file, message } => Sentence {
            message: message.clone(),
            file: file.clone(),
            hint: Some(NOTHING_LEFT.to_owned()),
        },
        Trouble::NoExposure(files) => plain(format!(
            "the exposure is not known of {}",
            list(&files.iter().map(|f| format!("'{f}'")).collect::<Vec<_>>())
        ))
        .on(files[0].clone())
        .mend(format!("Say how many seconds: --exposure {}=SECONDS", files[0])),
        Trouble::OneExposure { sets, left_out, unplaced } => {
            let each: Vec<String> = sets.iter().map(|(filter, file)| format!("{filter} ('{file}')")).collect();
            let lost: Vec<String> = left_out.iter().map(|(file, why)| format!("'{file}' is left out: {why}")).collect();
            let because = if lost.is_empty() { String::new() } else { format!(". {}", lost.join(". ")) };
            plain(format!("there is only one exposure of {}: nothing to merge{because}", list(&each)))
                .on(left_out.first().map_or_else(|| sets[0].1.clone(), |(file, _)| file.clone()))
                .mend(if *unplaced {
                    "Say what you know of its place: --hint and --pair of jigsawa register; its layout goes on here."
                } else if sets.len() > 1 {
                    "Are the filters right? --filter NAME=FRAME says what a frame's is. Filters are merged by compose, exposures of one filter by hdr."
                } else {
                    "Give two or more exposures of the same filter."
                })
        }
        Trouble::Follow { file, placed } => plain(format!(
            "'{file}' cannot follow what moves: {}",
            if *placed { "no card says when it was taken (DATE-OBS)" } else { "it has no place" }
        ))
        .on(file.clone())
        .mend(if *placed {
            "Leave it out, or add its DATE-OBS card."
        } else {
            "Show what moves in a frame that is used."
        }),
        Trouble::FollowOnce => plain("what moves is shown at one time only, which tells nothing of its pace".to_owned())
            .mend("Show it in two frames, best in the first and in the last: --follow FRAME:x,y --follow FRAME:x,y"),
        Trouble::MastersThere(folder) => plain(format!(
            "an earlier run has calibrated and stacked into '{}' already", folder.display()
        ))
        .mend(format!(
            "Go on from its masters: jigsawa compose {}/*-master.fits --palette …; or make all anew: --overwrite", folder.display()
        )),
        Trouble::OneLight { sets, left_out } => one_light(sets, left_out),
        Trouble::ManyExposures { filter, count, most } => plain(format!(
            "there are {count} frames of {filter}, and {most} can be merged at once"
        ))
        .mend("Stack the sub-frames of each exposure first: hdr merges masters."),
        Trouble::AllFull { file, limit } => plain(format!(
            "'{file}' is full nearly everywhere (from {limit:.1} on)"
        ))
        .on(file.clone())
        .mend("Leave it out; or, if that is not what fills it: --saturation FRAME=VALUE"),
        Trouble::Hdr { file, longest, error } => plain(format!(
            "'{file}' cannot be tied to '{longest}', the longest exposure: {error}"
        ))
        .on(file.clone())
        .mend(match error {
            HdrError::Untied(_) => "Say how long both were exposed: --exposure FRAME=SECONDS; or add an exposure between the two.",
            HdrError::Sky(..) => "Check that both show the same field; --surface level asks the least of their skies.",
        }),
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
        Trouble::Keep { text, error } => keep_sentence(text, error),
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
        Trouble::MovesUnderWay(folder) => plain(format!(
            "another run moves frames to '{}' just now",
            folder.display()
        ))
        .on(folder.display().to_string())
        .mend("Nothing was moved. Wait until it has ended, and run this again."),
        Trouble::Journal { file, error } => plain(format!(
            "an interrupted run has left '{}', in which stands what it wanted to move, and which cannot be read: {error}",
            file.display()
        ))
        .on(file.display().to_string())
        .mend("Nothing was moved. Look where the frames are; then remove that file."),
        Trouble::AfterMoving { moved, folder, trouble } => {
            let Sentence { message, file, hint } = tell(trouble);
            Sentence {
                message: format!("{message}; {moved} frames were moved to '{}' before", folder.display()),
                file,
                hint,
            }
        }
        Trouble::Carry { from, to, error, done, of, journal } => plain(format!(
            "'{}' cannot become '{}': {error}",
            from.display(),
            to.display()
        ))
        .on(from.display().to_string())
        .mend(match journal {
            Some(journal) => format!(
                "{done} of {of} frames were done before; none is lost, and what is still to go where stands in '{}'. Mend the cause and run the same command again: it goes on from there.",
                journal.display()
            ),
            None => format!("{done} of {of} frames were done before. Mend the cause and run the same command again: what is copied stays."),
        }),
        Trouble::EmptyChannel(name) => plain(format!("no pixel of the {name} channel has a value: the composite is empty"))
            .mend("Either its mix leaves the range of numbers, as in (1e15*Ha)^3, or its frames show nothing of the canvas: --canvas union."),
        Trouble::Nothing => plain("the frames share no pixel: the composite is empty".to_owned())
            .mend("Use --canvas union, and check that the frames show the same field."),
    }
}
