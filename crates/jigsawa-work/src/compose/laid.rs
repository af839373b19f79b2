//! Frames with their places and with values as a picture wants them.

use jigsawa_core::balance::ScaleBy;
use jigsawa_core::layout::{Layout, LayoutFrame};
use jigsawa_core::verdict::Verdict;

use super::layers::{layout_of, on_one_canvas, results_on_one_canvas};
use crate::frames::Frame;
use crate::normalize::{Across, NormalizeSettings, normalize};
use crate::register::{CanvasSettings, RegisterSettings, lay};
use crate::run::Run;
use crate::start::Start;
use crate::trouble::Trouble;

/// Where frames are to lie.
#[derive(Clone, Copy)]
pub struct Placing<'a> {
    /// The reference that the user wants.
    pub reference: Option<&'a str>,
    /// The canvas; `None` where nothing was said of it, which is the reference's own.
    pub canvas: Option<CanvasSettings>,
    /// Are they finished pictures in layers, whose values stay as they are?
    pub layered: bool,
}

impl Placing<'_> {
    /// Was nothing said of reference and canvas?
    fn is_open(&self) -> bool {
        self.reference.is_none() && self.canvas.is_none()
    }
}

/// The frames with their places and balances: as the layout has them, or found now.
pub fn lay_out(
    start: Start,
    needed: &[usize],
    placing: &Placing<'_>,
    run: &Run<'_>,
) -> Result<(Vec<Frame>, Layout), Trouble> {
    if let Some(layout) = start.placed {
        let frames = start.frames;
        let layout = if has_colours(&layout) {
            layout
        } else {
            let across = Across::Colours;
            matched(&frames, layout, across, needed, run)?
        };
        return Ok((frames, layout));
    }
    // Pictures that are layered keep their scales: their colours are what somebody has made of them.
    let layered = placing.layered;
    if layered && placing.is_open() && on_one_canvas(&start.frames) {
        let mut layout = layout_of(&start.frames)?;
        layout.frames.extend(start.left_out);
        return Ok((start.frames, layout));
    }
    // Results of one layout lie on one canvas: they are taken as they are, and not resampled a second time.
    let as_they_lie = placing.is_open() && results_on_one_canvas(&start.frames);
    if as_they_lie {
        let mut layout = layout_of(&start.frames)?;
        layout.levels = None;
        for f in &mut layout.frames {
            f.balance = None;
        }
        let mut layout = matched(&start.frames, layout, Across::Colours, needed, run)?;
        layout.frames.extend(start.left_out);
        return Ok((start.frames, layout));
    }
    let wanted = RegisterSettings {
        reference: placing.reference,
        canvas: placing.canvas.unwrap_or_default(),
        needed,
        ..RegisterSettings::default()
    };
    let (frames, registered, left_out) = lay(start, wanted, run)?;
    let across = if layered {
        Across::AsItIs
    } else {
        Across::Colours
    };
    let mut layout = matched(&frames, registered.layout, across, needed, run)?;
    layout.frames.extend(left_out);
    Ok((frames, layout))
}

/// Are values matched, between filters too? What `normalize` leaves as it is between filters, a picture wants
/// brought together, unless the user has said to leave it.
pub fn has_colours(layout: &Layout) -> bool {
    let asked = layout
        .levels
        .as_ref()
        .is_some_and(|l| l.settings.scale_by.is_some());
    let left = |f: &LayoutFrame| {
        let by = f.balance.as_ref().map(|b| b.scale_by);
        f.verdict == Verdict::Used && by == Some(ScaleBy::None)
    };
    layout.is_balanced() && (asked || !layout.frames.iter().any(left))
}

/// Values matched as a picture wants them, and else as the layout's own normalizing was asked to.
fn matched(
    frames: &[Frame],
    layout: Layout,
    across: Across,
    needed: &[usize],
    run: &Run<'_>,
) -> Result<Layout, Trouble> {
    let before = layout.levels.clone().unwrap_or_default();
    let references: Vec<String> = before
        .references
        .iter()
        .filter(|r| {
            layout
                .frames
                .get(r.frame)
                .is_some_and(|f| f.verdict == Verdict::Used)
        })
        .filter_map(|r| frames.get(r.frame).map(Frame::name))
        .collect();
    let wanted = NormalizeSettings {
        references: &references,
        settings: before.settings,
        across,
        flatten: before.flatten,
        weigh: before.weigh,
        needed,
        keep: false,
    };
    normalize(frames, layout, &wanted, run).map(|n| n.layout)
}
