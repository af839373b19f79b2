//! What a mosaic begins with: frames, the layout of an earlier one, or both.

use std::path::PathBuf;

use jigsawa_core::layout::{Layout, LayoutFrame};
use jigsawa_formats::inputs;

use crate::cli::MosaicArgs;
use jigsawa_work::frames::{Filters, Frame, Spoilt};
use jigsawa_work::layout_file;
use jigsawa_work::start::{Start, refuse_known};
use jigsawa_work::trouble::Trouble;

/// What a run begins with.
pub(super) struct Begun {
    /// All frames, those of the earlier layout first.
    pub(super) frames: Vec<Frame>,
    /// How many of them are new.
    pub(super) new: usize,
    /// The layout whose frames stay.
    pub(super) kept: Option<Layout>,
    /// Its file; nothing without one.
    pub(super) layout: PathBuf,
    pub(super) left_out: Vec<LayoutFrame>,
    pub(super) spoilt: Vec<Spoilt>,
}

/// Frames as given; those of a mosaic's layout; or both, where frames are added.
pub(super) fn begin_with(args: &MosaicArgs) -> Result<Begun, Trouble> {
    let (given, out) = (&args.given, &args.output.out);
    let start = match &args.into {
        Some(_) => given.start_new(&args.frames, Filters::Known, out)?,
        None => given.start(&args.frames, Filters::Known, out)?,
    };
    let Start {
        frames,
        placed,
        left_out,
        spoilt,
        ..
    } = start;
    if let Some(path) = &args.into {
        if placed.is_some() {
            return Err(Trouble::AlreadyPlaced(args.frames[0].clone()));
        }
        let (mut all, layout) = layout_file::open(path, &args.given.relocate)?;
        inputs::update(path);
        if layout.mosaic.is_none() {
            return Err(Trouble::NoMosaic(path.clone()));
        }
        refuse_canvas(args)?;
        refuse_known(path, &all, &frames)?;
        let new = frames.len();
        all.extend(frames);
        return Ok(Begun {
            frames: all,
            new,
            kept: Some(layout),
            layout: path.clone(),
            left_out,
            spoilt,
        });
    }
    // A layout of another command says which frames there are; panels are solved all together anew.
    let kept = placed.filter(|l| l.mosaic.is_some());
    if kept.is_some() {
        refuse_canvas(args)?;
        let option = match () {
            () if args.reference.is_some() => Some("--reference"),
            () if !args.panels.is_empty() => Some("--panel"),
            () if args.panel_names.is_some() => Some("--panel-names"),
            () => None,
        };
        if let Some(option) = option {
            return Err(Trouble::NotWithLayout(option));
        }
        inputs::update(&args.frames[0]);
    }
    Ok(Begun {
        new: frames.len(),
        frames,
        layout: if kept.is_some() {
            args.frames[0].clone()
        } else {
            PathBuf::new()
        },
        kept,
        left_out,
        spoilt,
    })
}

/// A layout has its canvas.
fn refuse_canvas(args: &MosaicArgs) -> Result<(), Trouble> {
    let option = match () {
        () if args.canvas != crate::cli::ExtentArg::default() => "--canvas",
        () if args.scale != 1.0 => "--scale",
        () if args.north_up => "--north-up",
        () if args.projection.asked().is_some() => "--projection",
        () => return Ok(()),
    };
    Err(Trouble::NotWithLayout(option))
}
