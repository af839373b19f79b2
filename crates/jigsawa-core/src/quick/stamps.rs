//! One star in two frames, side by side, and what differs: the eye's own check of a placement.
//!
//! Each frame is shown from its own sky to the star's own peak, so that filters and exposures do not
//! matter. The difference is in parts of the peak: a star that is well placed leaves a symmetric ring
//! where widths differ, a displaced one a dark and a light side.

use super::Picture;
use crate::frame::RowOrder;
use crate::number::Convert;
use crate::plane::Plane;
use crate::robust::{MAD_TO_SIGMA, mad, median};

/// Strength of the curve between sky and peak: a tenth of the peak is half-way to white.
const STRENGTH: f32 = 30.0;

/// Grey of the sky.
const SKY_GREY: f32 = 0.1;

/// This part of the peak more or less is white or black in the difference.
const FULL_DIFFERENCE: f32 = 0.4;

/// Pixels above so many noise widths tell the ratio of both frames' light.
const TELLING_SIGMA: f32 = 4.0;

/// The three pictures of one star.
pub struct Stamps {
    /// In the reference.
    pub reference: Picture,
    /// In the frame, placed.
    pub frame: Picture,
    /// The frame less the reference, mid grey where they are the same.
    pub difference: Picture,
}

/// Light above the sky of a small plane.
struct Light {
    sky: f32,
    noise: f32,
    peak: f32,
}

impl Light {
    fn of(plane: &Plane) -> Option<Self> {
        let finite: Vec<f32> = plane
            .data()
            .iter()
            .copied()
            .filter(|v| v.is_finite())
            .collect();
        let sky = median(&mut finite.clone());
        let noise = mad(&mut finite.clone(), sky) * MAD_TO_SIGMA.single();
        let top = finite.iter().copied().fold(f32::NEG_INFINITY, f32::max);
        (!finite.is_empty()).then(|| Self {
            sky,
            noise,
            peak: (top - sky).max(8.0 * noise).max(f32::MIN_POSITIVE),
        })
    }

    fn grey(&self, value: f32) -> f32 {
        let part = (value - self.sky) / self.peak;
        SKY_GREY + (1.0 - SKY_GREY) * (STRENGTH * part).asinh() / STRENGTH.asinh()
    }
}

/// The pictures of two small planes of one size on one grid. `None` when the sizes differ or one has no data.
pub fn stamps(reference: &Plane, frame: &Plane, order: RowOrder) -> Option<Stamps> {
    if reference.size() != frame.size() {
        return None;
    }
    let (of_reference, of_frame) = (Light::of(reference)?, Light::of(frame)?);
    let pairs = || {
        let both = reference.data().iter().zip(frame.data());
        both.map(|(r, f)| (r - of_reference.sky, f - of_frame.sky))
    };
    let (mut product, mut square) = (0.0, 0.0);
    for (r, f) in pairs().filter(|(_, f)| *f > TELLING_SIGMA * of_frame.noise) {
        if r.is_finite() {
            product += r * f;
            square += f * f;
        }
    }
    // Without common light each frame's own peak is the measure.
    let factor = if product > 0.0 && square > 0.0 {
        product / square
    } else {
        of_reference.peak / of_frame.peak
    };
    let differences: Vec<f32> = pairs()
        .map(|(r, f)| 0.5 + 0.5 * (factor * f - r) / (FULL_DIFFERENCE * of_reference.peak))
        .collect();
    let size = reference.size();
    let drawn = |grey: &dyn Fn(usize) -> f32| {
        let mut out = Picture::filled(size.width(), size.height(), [0, 0, 0]);
        for i in 0..size.area() {
            let (x, y) = (i % size.width(), i / size.width());
            let shown = match order {
                RowOrder::BottomUp => size.height() - 1 - y,
                RowOrder::TopDown => y,
            };
            let g = grey(i);
            if g.is_finite() {
                let level = (255.0 * g.clamp(0.0, 1.0)).round().byte();
                out.set(x.whole(), shown.whole(), [level; 3]);
            }
        }
        out
    };
    Some(Stamps {
        reference: drawn(&|i| of_reference.grey(reference.data()[i])),
        frame: drawn(&|i| of_frame.grey(frame.data()[i])),
        difference: drawn(&|i| differences[i]),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::space::Size;

    fn star(x0: f32, height: f32, sky: f32) -> Plane {
        Plane::from_fn(Size::new(31, 31).unwrap(), |x, y| {
            let d2 = (x.single() - x0).powi(2) + (y.single() - 15.0).powi(2);
            let noise = ((x * 7 + y * 13) % 5).single() - 2.0;
            sky + noise + height * (-d2 / 6.0).exp()
        })
    }

    fn spread(p: &Picture) -> u8 {
        let all = p.rgb();
        all.iter().max().unwrap() - all.iter().min().unwrap()
    }

    #[test]
    fn the_same_star_through_another_filter_leaves_grey() {
        let s = stamps(
            &star(15.0, 1000.0, 100.0),
            &star(15.0, 300.0, 900.0),
            RowOrder::TopDown,
        );
        let s = s.unwrap();
        assert!(spread(&s.difference) < 12, "{}", spread(&s.difference));
        assert!(s.reference.get(15, 15).unwrap()[0] > 240);
        assert!(s.frame.get(15, 15).unwrap()[0] > 240);
        assert!(s.frame.get(2, 2).unwrap()[0] < 80);
    }

    #[test]
    fn a_displaced_star_leaves_a_dark_and_a_light_side() {
        let s = stamps(
            &star(15.0, 1000.0, 100.0),
            &star(16.0, 1000.0, 100.0),
            RowOrder::TopDown,
        );
        let d = s.unwrap().difference;
        assert!(d.get(13, 15).unwrap()[0] < 80 && d.get(18, 15).unwrap()[0] > 175);
        let other = Plane::filled(Size::new(5, 5).unwrap(), 1.0);
        assert!(stamps(&other, &star(15.0, 1.0, 1.0), RowOrder::TopDown).is_none());
        let none = Plane::filled(Size::new(31, 31).unwrap(), f32::NAN);
        assert!(stamps(&none, &star(15.0, 1.0, 1.0), RowOrder::TopDown).is_none());
    }
}
