//! A frame's own pixels, held against a stack that is there already: those that it does not confirm are missing.
//!
//! What a first stack of interpolated values has rejected is known on the canvas, and spread by the interpolation. Pixels
//! that are dropped onto the canvas must be judged as the camera gave them: each is held against what the first stack has at
//! its place, by the same noise; what light changes by within a pixel is allowed, since a sharp star looks another in every
//! frame whose pixels fall otherwise. Trails go as the shapes that they were found as.

use std::cell::RefCell;
use std::sync::atomic::{AtomicU64, Ordering};

use super::light::Light;
use super::streak::Streak;
use crate::balance::Balance;
use crate::doors::{DoorError, FrameSource};
use crate::number::Convert;
use crate::placement::{Placement, RowPlaces};
use crate::space::{CanvasPx, Point, Rect, Size};

/// A frame whose pixels are held against a stack.
pub struct Vetted<'a, S> {
    /// The frame.
    pub source: S,
    /// Where it lies.
    pub placement: &'a Placement,
    /// How it is matched.
    pub balance: &'a Balance,
    /// Its noise.
    pub light: &'a Light,
    /// The stack, on the canvas.
    pub first: &'a dyn FrameSource,
    /// The level of its sky.
    pub sky: f32,
    /// The limits below and above, in noise widths; none where all pixels are believed.
    pub limits: Option<(f32, f32)>,
    /// Trails in the frame.
    pub streaks: &'a [Streak],
    /// Pixels that were looked at, and those that went.
    pub counts: (AtomicU64, AtomicU64),
}

/// Where light changes within a pixel a value may differ by this part of it, besides what its seeing allows.
const OF_CHANGE: f32 = 0.5;

thread_local! {
    static FIRST: RefCell<Vec<f32>> = RefCell::default();
}

impl<S: FrameSource> FrameSource for Vetted<'_, S> {
    fn size(&self) -> Size {
        self.source.size()
    }

    fn read(&self, rect: Rect, out: &mut [f32]) -> Result<(), DoorError> {
        self.source.read(rect, out)?;
        let Some(limits) = self.limits else {
            return Ok(());
        };
        let back = self.placement.invert();
        // What of the stack lies around the window, with the neighbours of its outermost pixels.
        let corners = [
            (rect.x, rect.y),
            (rect.right(), rect.y),
            (rect.right(), rect.bottom()),
            (rect.x, rect.bottom()),
        ];
        let corners = corners.map(|(x, y)| back.apply(Point::new(x.real(), y.real())));
        let around = Rect::around(corners).grown(MARGIN);
        let around = around.intersect(self.first.size().rect());
        if around.is_empty() {
            return Ok(());
        }
        FIRST.with_borrow_mut(|first| {
            first.resize(around.area(), 0.0);
            self.first.read(around, first)?;
            self.vet(rect, out, (around, first), limits);
            Ok(())
        })
    }
}

/// A lens bends a window's edge by less.
const MARGIN: usize = 12;

impl<S> Vetted<'_, S> {
    /// Pixels that were looked at, windows that overlap counted twice, and how many of them went.
    pub fn counted(&self) -> (u64, u64) {
        let (seen, gone) = &self.counts;
        (seen.load(Ordering::Relaxed), gone.load(Ordering::Relaxed))
    }
}

impl<S: FrameSource> Vetted<'_, S> {
    /// Makes those of a window's values missing that the stack does not confirm.
    fn vet(&self, rect: Rect, out: &mut [f32], first: (Rect, &[f32]), limits: (f32, f32)) {
        let back = self.placement.invert();
        let mut places = RowPlaces::default();
        let (mut seen, mut gone) = (0u64, 0u64);
        for (y, row) in (rect.y..).zip(out.chunks_exact_mut(rect.width.max(1))) {
            places.fill(&back, (rect.x, y), row.len());
            for (x, value) in row.iter_mut().enumerate().filter(|(_, v)| v.is_finite()) {
                let (at, scale) = places.at(x);
                seen += 1;
                if self.is_refuted(*value, (at, scale), first, limits) {
                    *value = f32::NAN;
                    gone += 1;
                }
            }
        }
        self.counts.0.fetch_add(seen, Ordering::Relaxed);
        self.counts.1.fetch_add(gone, Ordering::Relaxed);
    }

    fn is_refuted(
        &self,
        value: f32,
        (at, scale): (Point<CanvasPx>, f64),
        (around, first): (Rect, &[f32]),
        (below, above): (f32, f32),
    ) -> bool {
        let (cx, cy) = (at.x.round().whole(), at.y.round().whole());
        let pixel = Rect {
            x: cx,
            y: cy,
            width: 1,
            height: 1,
        };
        if self.streaks.iter().any(|s| s.span(cy, pixel).is_some()) {
            return true;
        }
        let there = |x: i64, y: i64| {
            let inside =
                x >= around.x && y >= around.y && x < around.right() && y < around.bottom();
            inside.then(|| first[(y - around.y).index() * around.width + (x - around.x).index()])
        };
        let Some(expected) = there(cx, cy).filter(|v| v.is_finite()) else {
            return false;
        };
        // As far around as the frame's pixel and its neighbours reach.
        let reach = scale.ceil().whole();
        let (mut low, mut high) = (expected, expected);
        for y in cy - reach..=cy + reach {
            for v in (cx - reach..=cx + reach)
                .filter_map(|x| there(x, y))
                .filter(|v| v.is_finite())
            {
                (low, high) = (low.min(v), high.max(v));
            }
        }
        let balanced = self.balance.apply(f64::from(value), at).single();
        let light = (expected - self.sky).max(0.0);
        let sigma = self.light.noise.at(at.x.single(), at.y.single());
        let allowed =
            (OF_CHANGE + self.light.of_change) * (high - low) + self.light.of_light * light;
        let noise = self.light.variance(sigma, light).sqrt();
        let off = balanced - expected;
        off > allowed + above * noise || -off > allowed + below * noise
    }
}
