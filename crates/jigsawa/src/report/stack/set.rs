//! What the page shows of one master, gathered while its file is at hand.

use jigsawa_core::binned;
use jigsawa_core::doors::{DoorError, FrameSource};
use jigsawa_core::finish::Shade;
use jigsawa_core::frame::RowOrder;
use jigsawa_core::layout::Layout;
use jigsawa_core::number::Convert;
use jigsawa_core::plane::Plane;
use jigsawa_core::quick::Picture;
use jigsawa_core::space::{Rect, Size};
use jigsawa_formats::fits::FitsFrame;

use jigsawa_work::compose::file_name;
use jigsawa_work::stack::{Compared, Master, OfFrame, Set};
use jigsawa_work::trouble::Trouble;

/// What the page shows of one master.
pub struct StackSet {
    pub name: String,
    /// The whole master, small and stretched.
    pub whole: Option<Picture>,
    /// Its middle at its own size: stretched, and as its values are.
    pub middle: Vec<(&'static str, Picture)>,
    /// The middle from some of the frames, all shown alike.
    pub compared: Vec<(usize, Picture)>,
    /// What was rejected of the frames that lost most.
    pub rejected: Vec<(String, f64, Picture)>,
}

/// Longest side of the small picture.
const SIDE: usize = 840;

/// The part of the middle that is shown.
const MIDDLE: (usize, usize) = (420, 300);

/// So many frames' rejections are shown.
const FRAMES: usize = 10;

/// A block is white when so many of its pixels were rejected: a trail fills an eighth of those that it crosses.
const WHITE: f32 = 12.0;

/// Rows that are read at a time: whole blocks of the small picture.
const ROWS: usize = 64;

impl StackSet {
    /// Gathers it.
    pub fn new(
        set: &Set,
        master: &Master,
        layout: &Layout,
        compared: &[Compared],
    ) -> Result<Self, Trouble> {
        let unreadable = |e: &dyn std::fmt::Display| Trouble::Unreadable {
            file: master.file.target().display().to_string(),
            error: e.to_string(),
        };
        let file = FitsFrame::open(master.file.path()).map_err(|e| unreadable(&e))?;
        let plane = file.plane(set.planes.len() / 2);
        let order = layout.canvas.row_order;
        let small = smaller(&plane).map_err(|e| unreadable(&e))?;
        let shade = Shade::measure(small.data());
        let near = middle(&plane).map_err(|e| unreadable(&e))?;
        let shown = near
            .as_ref()
            .zip(Shade::measure(near.as_ref().map_or(&[], Plane::data)));
        let middle = shown.map_or_else(Vec::new, |(near, shade)| {
            vec![
                (
                    "the middle at 1:1, stretched",
                    Picture::grey(near, order, &shade),
                ),
                (
                    "the same as its values are: black to the brightest",
                    linear(near, order),
                ),
            ]
        });
        // Shown as all of the frames are: what the others lack is seen.
        let alike = compared.last().and_then(|c| Shade::measure(c.part.data()));
        let picture =
            |c: &Compared| Some((c.frames, Picture::grey(&c.part, order, alike.as_ref()?)));
        Ok(Self {
            compared: compared.iter().filter_map(picture).collect(),
            name: set.name(),
            whole: shade.map(|s| Picture::grey(&small, order, &s)),
            middle,
            rejected: rejected(set, master, layout),
        })
    }
}

/// Frames that lost most, with what and where.
fn rejected(set: &Set, master: &Master, layout: &Layout) -> Vec<(String, f64, Picture)> {
    let plane = set.planes.len() / 2;
    let own = plane * set.frames()..(plane + 1) * set.frames();
    let mut frames: Vec<&OfFrame> = master.frames[own].iter().collect();
    frames.sort_by(|a, b| b.part_rejected().total_cmp(&a.part_rejected()));
    let some = frames.into_iter().filter(|f| f.part_rejected() > 0.0);
    some.take(FRAMES)
        .map(|f| {
            let name = file_name(&layout.frames[f.frame].file);
            let picture = grey(&f.picture, layout.canvas.row_order, (0.0, WHITE));
            (name, 100.0 * f.part_rejected(), picture)
        })
        .collect()
}

/// A plane between black and white.
fn grey(plane: &Plane, order: RowOrder, (black, white): (f32, f32)) -> Picture {
    let (w, h) = (plane.size().width(), plane.size().height());
    let mut picture = Picture::filled(w, h, [0; 3]);
    for y in 0..h {
        let to = match order {
            RowOrder::BottomUp => h - 1 - y,
            RowOrder::TopDown => y,
        };
        for (x, v) in plane
            .row(y)
            .iter()
            .enumerate()
            .filter(|(_, v)| v.is_finite())
        {
            let level = (255.0 * (v - black) / (white - black).max(f32::MIN_POSITIVE)).byte();
            picture.set(x.whole(), to.whole(), [level; 3]);
        }
    }
    picture
}

/// As values are, from the lowest usual one to the brightest.
fn linear(plane: &Plane, order: RowOrder) -> Picture {
    let mut known: Vec<f32> = plane
        .data()
        .iter()
        .copied()
        .filter(|v| v.is_finite())
        .collect();
    let black = jigsawa_core::robust::quantile(&mut known, 0.01);
    let white = known.iter().copied().fold(black, f32::max);
    grey(plane, order, (black, white))
}

/// The whole made small, a few rows at a time.
fn smaller(source: &dyn FrameSource) -> Result<Plane, DoorError> {
    let size = source.size();
    let factor = size.width().max(size.height()).div_ceil(SIDE).max(1);
    let (w, h) = (
        (size.width() / factor).max(1),
        (size.height() / factor).max(1),
    );
    let small = Size::new(w, h).unwrap_or(size);
    let mut out: Vec<f32> = Vec::with_capacity(small.area());
    let rows = ROWS.div_ceil(factor) * factor;
    for y in (0..h * factor).step_by(rows) {
        let height = rows.min(h * factor - y);
        let band = Size::new(size.width(), height).unwrap_or(size);
        let mut plane = Plane::filled(band, 0.0);
        let rect = Rect {
            x: 0,
            y: y.whole(),
            width: size.width(),
            height,
        };
        source.read(rect, plane.data_mut())?;
        out.extend_from_slice(binned(&plane, factor).data());
    }
    Ok(Plane::new(small, out).unwrap_or_else(|| Plane::filled(small, f32::NAN)))
}

/// The middle at its own size.
fn middle(source: &dyn FrameSource) -> Result<Option<Plane>, DoorError> {
    let size = source.size();
    let (w, h) = (MIDDLE.0.min(size.width()), MIDDLE.1.min(size.height()));
    let rect = Rect {
        x: ((size.width() - w) / 2).whole(),
        y: ((size.height() - h) / 2).whole(),
        width: w,
        height: h,
    };
    let mut data = vec![0.0; rect.area()];
    source.read(rect, &mut data)?;
    Ok(Size::new(w, h).and_then(|s| Plane::new(s, data)))
}
