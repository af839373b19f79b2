//! Where the results of `finish` go: files by their endings, or a folder.

use std::path::{Path, PathBuf};

use jigsawa_formats::fits::Cards;
use jigsawa_formats::png::Bits;
use jigsawa_formats::whole::Unfinished;

use crate::cli::{FinishArgs, LinkArg};
use jigsawa_work::finish::LinearFile;
use jigsawa_work::outputs::{are_free, begin, make_folder, plain_name};
use jigsawa_work::picture::Format;
use jigsawa_work::trouble::Trouble;

/// What the account calls the picture to look at.
pub const PNG: &str = "finished, 16 bits, to look at";

/// A file to be written.
pub struct Target {
    pub path: PathBuf,
    pub format: Format,
    pub kind: &'static str,
}

/// Where results go: files by their endings, or a folder that gets a TIFF and a PNG.
pub fn targets(args: &FinishArgs, linear: &LinearFile) -> Result<Vec<Target>, Trouble> {
    let start = match &args.name {
        Some(name) => plain_name(name)?,
        None => linear.stem(),
    };
    let here = [PathBuf::from(".")];
    let places = if args.out.is_empty() {
        &here[..]
    } else {
        &args.out
    };
    let mut targets = Vec::new();
    for place in places {
        if let Some(target) = target(place.clone(), args, linear) {
            targets.push(target);
            continue;
        }
        if let Some(ending) = place.extension().filter(|_| !place.is_dir()) {
            return Err(Trouble::Ending(ending.to_string_lossy().into_owned()));
        }
        let (endings, what): (&[&str], _) = if linear_only(args) {
            (&["fits"], "linear")
        } else {
            (&["tif", "png"], "finished")
        };
        for ending in endings {
            let path = place.join(format!("{start}-{what}.{ending}"));
            targets.extend(target(path, args, linear));
        }
    }
    let to_look_at = |t: &Target| matches!(t.format, Format::Png(_) | Format::Jpeg | Format::Jxl);
    if linear_only(args) && targets.iter().any(to_look_at) {
        return Err(Trouble::Options(
            "--stretch none ends in linear light, which .png, .jpg and .jxl cannot hold: use .fits, .tif or .exr",
        ));
    }
    Ok(targets)
}

/// Does the picture end in linear light?
fn linear_only(args: &FinishArgs) -> bool {
    args.stretch == Some(LinkArg::None)
}

/// The file that an ending asks for.
fn target(path: PathBuf, args: &FinishArgs, linear: &LinearFile) -> Option<Target> {
    let ending = path.extension()?.to_string_lossy().to_lowercase();
    let (format, kind) = match ending.as_str() {
        "tif" | "tiff" if linear_only(args) => {
            (Format::TiffFloat { encoded: false }, "linear, 32-bit float")
        }
        "tif" | "tiff" if args.float => (
            Format::TiffFloat { encoded: true },
            "finished, 32-bit float",
        ),
        "tif" | "tiff" => (Format::Tiff, "finished, 16 bits"),
        "png" => (Format::Png(Bits::Sixteen), PNG),
        "jpg" | "jpeg" => (Format::Jpeg, "finished, to share"),
        "jxl" => (Format::Jxl, "finished, 16 bits, without loss"),
        "exr" => (
            Format::Exr {
                encoded: !linear_only(args),
            },
            "finished, 32-bit float, linear light",
        ),
        "fits" | "fit" | "fts" => {
            let mut cards = Cards::default();
            for name in ["OBJECT", "FILTER", "FILTERS"] {
                if let Some(text) = linear.file.header().text(name) {
                    cards.text(name, &text, "");
                }
            }
            jigsawa_work::outputs::creator_card(&mut cards);
            let how = if linear_only(args) {
                "linear, above the sky"
            } else {
                "stretched, 0 to 1"
            };
            cards.history(&format!("finished from {}: {how}", linear.stem()));
            (
                Format::Fits(cards, linear.facts.row_order),
                "finished, 32-bit float",
            )
        }
        _ => return None,
    };
    Some(Target { path, format, kind })
}

/// Where the report goes, if one is wanted: beside the first result.
pub fn page_path(
    args: &FinishArgs,
    linear: &LinearFile,
    targets: &[Target],
) -> Result<Option<PathBuf>, Trouble> {
    // The report shows what the screen shows.
    if args.no_report || linear_only(args) {
        return Ok(None);
    }
    let folder = targets[0].path.parent().unwrap_or(Path::new("."));
    let start = match &args.name {
        Some(name) => plain_name(name)?,
        None => linear.stem(),
    };
    Ok(Some(folder.join(format!("{start}-finish.html"))))
}

/// Begins all results, or tells all that exist.
pub fn all_new(
    targets: &[Target],
    page: Option<&Path>,
    args: &FinishArgs,
) -> Result<Vec<Unfinished>, Trouble> {
    let mut paths: Vec<&Path> = targets.iter().map(|t| t.path.as_path()).collect();
    paths.extend(args.stars_file.as_deref());
    // `a.tif` and `./a.tif` are one file.
    let places: Vec<PathBuf> = paths
        .iter()
        .map(|p| std::path::absolute(p).unwrap_or_else(|_| p.to_path_buf()))
        .collect();
    for (i, p) in paths.iter().enumerate() {
        if places[..i].contains(&places[i]) {
            return Err(Trouble::Twice(p.display().to_string()));
        }
    }
    paths.extend(page);
    are_free(&paths, args.overwrite)?;
    targets
        .iter()
        .map(|t| {
            make_folder(t.path.parent().unwrap_or(Path::new("")))?;
            begin(&t.path, args.overwrite)
        })
        .collect()
}
