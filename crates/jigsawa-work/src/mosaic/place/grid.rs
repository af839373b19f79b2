//! The canvas of a mosaic: around all panels, inside of them, or grown around one that is there.

use jigsawa_core::canvas::{Canvas, Extent, Grid};
use jigsawa_core::layout::Layout;
use jigsawa_core::mosaic::border::Coverage;
use jigsawa_core::mosaic::cells::Cells;
use jigsawa_core::mosaic::seams::inner;
use jigsawa_core::mosaic::share::share;
use jigsawa_core::number::Convert;
use jigsawa_core::placement::{Placement, Registration};
use jigsawa_core::space::{FramePx, Point, Size};
use jigsawa_core::wcs::{Projection, Wcs};

use super::{SAME_PANEL, Solved};
use crate::mosaic::seams_file::seams_side;
use crate::mosaic::settings::MosaicSettings;
use crate::trouble::Trouble;

/// A field wider than this, in degrees, is not shown on a tangent plane.
const WIDE_DEG: f64 = 15.0;

impl Solved<'_> {
    /// A tangent plane, unless the field is so wide that one stretches its corners.
    pub(super) fn usual_projection(&self) -> Projection {
        let known = self.problem.curvature.is_some();
        let far = (0..self.frames().len())
            .filter_map(|i| {
                let size = self.problem.frames[i].size;
                let corners = size.corners::<FramePx>();
                let places = corners
                    .into_iter()
                    .filter_map(|p| self.solution.place(self.problem, i, p));
                places
                    .map(|p| {
                        (p.distance(self.centre()) * self.solution.curvature.sqrt())
                            .atan()
                            .to_degrees()
                    })
                    .reduce(f64::max)
            })
            .fold(0.0, f64::max);
        if known && 2.0 * far > WIDE_DEG {
            Projection::Stereographic
        } else {
            Projection::Tangent
        }
    }

    pub(super) fn canvas(
        &self,
        wanted: &MosaicSettings<'_>,
        kept: Option<&Layout>,
        maps: &[Option<Registration>],
        sky: Option<&Wcs>,
    ) -> Result<Canvas, Trouble> {
        let facts = &self.frames()[self.problem.reference].facts;
        let list: Vec<(Registration, Size)> = maps
            .iter()
            .zip(self.problem.frames)
            .filter_map(|(m, f)| Some((m.clone()?, f.size)))
            .collect();
        if let Some(layout) = kept {
            // By whole cells, so that the seams that are there stay where they are.
            let cell = wanted.into.and_then(seams_side).unwrap_or(1);
            return grown(&layout.canvas, &self.beside(layout, maps), cell.whole());
        }
        let grid = if wanted.north_up {
            let north = sky
                .and_then(|s| s.north(self.centre()))
                .ok_or(Trouble::NoNorth)?;
            Grid::with_up(north, wanted.scale, facts.row_order)
        } else {
            Grid {
                scale: wanted.scale,
                ..Grid::REFERENCE
            }
        };
        let union = Canvas::new(Extent::Union, grid, facts.size, facts.row_order, &list)
            .map_err(Trouble::Canvas)?;
        if wanted.inner {
            self.inner(union, maps)
        } else {
            Ok(union)
        }
    }

    /// The new frames that show no panel which is there: the canvas grows for them, and not for the dither of a filter.
    pub(super) fn beside(
        &self,
        layout: &Layout,
        maps: &[Option<Registration>],
    ) -> Vec<(Registration, Size)> {
        let Some(to_reference) = layout.canvas.to_reference() else {
            return Vec::new();
        };
        let old: Vec<(Placement, Size)> = layout
            .frames
            .iter()
            .filter_map(|f| Some((f.placement.as_ref()?.placement()?, f.size)))
            .collect();
        (layout.frames.len()..maps.len())
            .filter_map(|i| Some((maps[i].clone()?, self.frames()[i].facts.size)))
            .filter(|(map, size)| {
                let new = to_reference.then(map);
                let on = |(p, s): &(Placement, Size)| {
                    new.as_ref().map_or(0.0, |new| {
                        share(new, *size, p, *s).min(share(p, *s, new, *size))
                    })
                };
                old.iter().all(|o| on(o) < SAME_PANEL)
            })
            .collect()
    }

    /// The largest rectangle that every filter covers everywhere, without the panels' ragged borders: their pixels are read.
    pub(super) fn inner(
        &self,
        union: Canvas,
        maps: &[Option<Registration>],
    ) -> Result<Canvas, Trouble> {
        let empty = Trouble::Canvas(jigsawa_core::canvas::CanvasError::NothingInCommon);
        let Some(to_reference) = union.to_reference() else {
            return Err(empty);
        };
        let side = union.size.width().max(union.size.height()).div_ceil(1000);
        let cells = Cells::of_side(union.size, side);
        let mut filters: Vec<_> = Vec::new();
        for f in self.frames() {
            if !filters.contains(&&f.filter) {
                filters.push(&f.filter);
            }
        }
        let coverage: Vec<Coverage> = self
            .frames()
            .iter()
            .map(|f| {
                let plane = f.read_plane(Vec::new());
                plane
                    .map(|plane| Coverage::of(&plane))
                    .map_err(|e| Trouble::Files(vec![(f.path.clone(), e)]))
            })
            .collect::<Result<_, _>>()?;
        let covered = |c: usize, r: usize| {
            let half = 0.5 * (side.real() - 1.0);
            let m = cells.middle(c, r);
            let corners = [(-half, -half), (half, -half), (half, half), (-half, half)];
            filters.iter().all(|filter| {
                corners.iter().all(|(dx, dy)| {
                    let at = to_reference.apply(Point::new(m.x + dx, m.y + dy));
                    let shown = self.frames().iter().zip(maps).zip(&coverage);
                    shown
                        .filter(|((f, _), _)| f.filter == **filter)
                        .any(|((_, map), coverage)| {
                            map.as_ref().is_some_and(|m| coverage.holds(m.apply(at)))
                        })
                })
            })
        };
        let labels: Vec<u8> = (0..cells.count())
            .map(|i| u8::from(covered(i % cells.columns, i / cells.columns)))
            .collect();
        let rect = inner(&labels, cells);
        let size = Size::new(rect.width, rect.height).ok_or(empty)?;
        let origin = to_reference.apply(Point::new(rect.x.real(), rect.y.real()));
        Ok(Canvas {
            size,
            origin: [origin.x, origin.y],
            ..union
        })
    }
}

/// A canvas with the pixels that it has, and more around them as far as new frames reach; before them by whole cells.
fn grown(canvas: &Canvas, frames: &[(Registration, Size)], cell: i64) -> Result<Canvas, Trouble> {
    let none = || Trouble::Canvas(jigsawa_core::canvas::CanvasError::Scale);
    let to_reference = canvas.to_reference().ok_or_else(none)?;
    let on_canvas = to_reference.invert();
    let (w, h) = (canvas.size.width().whole(), canvas.size.height().whole());
    let (mut low, mut high) = ([0i64, 0], [w, h]);
    for (map, size) in frames {
        let back = map.invert();
        for p in size.corners::<FramePx>() {
            let at = on_canvas.apply(back.apply(p));
            for (k, v) in [at.x, at.y].into_iter().enumerate() {
                // Half a pixel of what is there already is no reason to grow.
                low[k] = low[k].min((v + 0.5).floor().whole());
                high[k] = high[k].max((v - 0.5).ceil().whole() + 1);
            }
        }
    }
    let low = low.map(|v| v.div_euclid(cell) * cell);
    let size =
        Size::new((high[0] - low[0]).index(), (high[1] - low[1]).index()).ok_or_else(none)?;
    let origin = to_reference.apply(Point::new(low[0].real(), low[1].real()));
    Ok(Canvas {
        size,
        origin: [origin.x, origin.y],
        ..*canvas
    })
}
