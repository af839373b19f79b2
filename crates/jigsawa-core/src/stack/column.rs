//! The values of one pixel in all frames, and what is usual among them.

use super::rule::{Rejection, Rule};
use crate::number::Convert;
use crate::robust::MAD_TO_SIGMA;

/// Values of a pixel, from low to high once they are judged, with their frames.
#[derive(Debug, Default)]
pub(super) struct Column {
    pub(super) values: Vec<(f32, u32)>,
    spare: Vec<f32>,
}

/// What is usual among the values of a pixel.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) struct Usual {
    /// The value that others are held against.
    pub(super) centre: f32,
    /// The least noise that any of them is predicted to have.
    pub(super) sigma: f32,
    /// Their own scatter; 0 for a rule that does not ask for it.
    pub(super) scatter: f32,
    /// Values below and above go, wherever the centre is.
    pub(super) bounds: (f32, f32),
    /// How values go with the width of their frame's stars, from the middle width on; none where that was not asked.
    pub(super) slope: Option<(f32, f32)>,
}

impl Usual {
    /// Values around a centre whose scatter nobody asked for.
    pub(super) const fn about(centre: f32) -> Self {
        Self {
            centre,
            sigma: 0.0,
            scatter: 0.0,
            bounds: (f32::NEG_INFINITY, f32::INFINITY),
            slope: None,
        }
    }

    /// What a frame whose stars are so wide would usually show, above the centre.
    pub(super) fn of_width(&self, width: f32) -> f32 {
        self.slope
            .map_or(0.0, |(slope, middle)| slope * (width - middle))
    }
}

/// Values are drawn in to so many widths (Huber 1981), and what that takes from the scatter of normal noise.
const DRAWN_IN: f32 = 1.5;
const OF_DRAWN_IN: f32 = 1.134;

/// Of fewer values all pairs tell how they go with the seeing.
const ALL_PAIRS: usize = 12;

/// Clipping and drawing in have settled long before.
const MOST_ROUNDS: usize = 12;

impl Column {
    /// What is usual among the values, of which there is one at the least. `sigma` is a value's predicted noise: no rule
    /// takes their scatter for less.
    pub(super) fn usual(&mut self, how: &Rejection, sigma: f32) -> Usual {
        self.values
            .sort_unstable_by(|a, b| a.0.total_cmp(&b.0).then(a.1.cmp(&b.1)));
        let n = self.values.len();
        let value = |i: usize| self.values[i].0;
        // Of an even number the lower one: what spoils a frame is mostly light.
        let middle = value((n - 1) / 2);
        let by = |(centre, scatter)| Usual {
            sigma,
            scatter,
            ..Usual::about(centre)
        };
        match how.rule {
            Rule::None | Rule::Noise => by((middle, 0.0)),
            Rule::Median => by((middle, self.deviation(middle))),
            Rule::Winsorized => by(self.drawn_in(middle, sigma)),
            Rule::Sigma => by(self.clipped(how, middle, sigma)),
            Rule::Percentile | Rule::Extremes => {
                let (low, high) = how.ranks(n);
                Usual {
                    bounds: (value(low), value(n - 1 - high)),
                    ..Usual::about(middle)
                }
            }
        }
    }

    /// The same of values that go with their frame's seeing, as a star's flank does: sharp frames show less of it, and more of
    /// its core. The slope is the median of those between any two frames (Theil 1950), which one outlier of five does not move
    /// far; of many frames, between those of the sharper half and of the softer (his incomplete pairs): a quarter. It is not
    /// steeper than `most`.
    pub(super) fn usual_by_width(
        &mut self,
        how: &Rejection,
        sigma: f32,
        width: impl Fn(u32) -> f32,
        most: f32,
    ) -> Usual {
        let by_width =
            |a: &(f32, u32), b: &(f32, u32)| width(a.1).total_cmp(&width(b.1)).then(a.1.cmp(&b.1));
        self.values.sort_unstable_by(by_width);
        let half = self.values.len() / 2;
        self.spare.clear();
        let mut pair = |a: &(f32, u32), b: &(f32, u32)| {
            let wider = width(b.1) - width(a.1);
            if wider > 0.0 {
                self.spare.push((b.0 - a.0) / wider);
            }
        };
        if self.values.len() < ALL_PAIRS {
            for (i, a) in self.values.iter().enumerate() {
                self.values[i + 1..].iter().for_each(|b| pair(a, b));
            }
        } else {
            let (sharp, soft) = self.values.split_at(half);
            sharp.iter().zip(soft).for_each(|(a, b)| pair(a, b));
        }
        let middle = self.values.get(half).map_or(0.0, |v| width(v.1));
        let slope = crate::robust::median(&mut self.spare);
        let slope = if slope.is_finite() {
            slope.clamp(-most, most)
        } else {
            0.0
        };
        for (v, k) in &mut self.values {
            *v -= slope * (width(*k) - middle);
        }
        Usual {
            slope: Some((slope, middle)),
            ..self.usual(how, sigma)
        }
    }

    /// The width of normal noise by the median absolute deviation.
    fn deviation(&mut self, centre: f32) -> f32 {
        self.spare.clear();
        self.spare.extend(self.values.iter().map(|v| v.0));
        crate::robust::mad(&mut self.spare, centre) * MAD_TO_SIGMA.single()
    }

    /// Mean and scatter of values that are drawn in to one and a half widths, until they stay.
    fn drawn_in(&mut self, middle: f32, sigma: f32) -> (f32, f32) {
        let mut width = self.deviation(middle).max(sigma);
        let mut centre = middle;
        for _ in 0..MOST_ROUNDS {
            let (low, high) = (centre - DRAWN_IN * width, centre + DRAWN_IN * width);
            let (mean, scatter) = moments(self.values.iter().map(|v| v.0.clamp(low, high)));
            let next = (OF_DRAWN_IN * scatter).max(sigma);
            let settled = (next - width).abs() < 0.005 * width;
            (centre, width) = (mean, next);
            if settled {
                break;
            }
        }
        (centre, width)
    }

    /// Mean and scatter of what is within the limits, until nothing more goes.
    fn clipped(&mut self, how: &Rejection, middle: f32, sigma: f32) -> (f32, f32) {
        let (mut centre, mut width) = (middle, self.deviation(middle).max(sigma));
        let mut last = self.values.len() + 1;
        for _ in 0..MOST_ROUNDS {
            let (low, high) = (centre - how.low * width, centre + how.high * width);
            let kept = || {
                self.values
                    .iter()
                    .map(|v| v.0)
                    .filter(|v| (low..=high).contains(v))
            };
            let count = kept().count();
            if count == 0 || count >= last {
                break;
            }
            last = count;
            let (mean, scatter) = moments(kept());
            (centre, width) = (mean, scatter.max(sigma));
        }
        (centre, width)
    }
}

/// Mean and standard deviation.
fn moments(values: impl Iterator<Item = f32> + Clone) -> (f32, f32) {
    let (mut n, mut sum) = (0.0f64, 0.0f64);
    for v in values.clone() {
        n += 1.0;
        sum += f64::from(v);
    }
    let mean = sum / n.max(1.0);
    let squares: f64 = values.map(|v| (f64::from(v) - mean).powi(2)).sum();
    (
        mean.single(),
        (squares / (n - 1.0).max(1.0)).sqrt().single(),
    )
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    /// Values of normal noise of width 10 around 500: quantiles, so that they are the same each time.
    fn column(n: u32, outliers: &[f32]) -> Column {
        let normal = |p: f64| {
            // Logistic quantiles, as wide as the normal ones: near enough for a median and a scatter.
            500.0 + 10.0 * 0.5513 * (p / (1.0 - p)).ln()
        };
        let all = (0..n).map(|i| normal((f64::from(i) + 0.5) / f64::from(n)).single());
        let all = all.chain(outliers.iter().copied());
        Column {
            values: all.zip(0..).collect(),
            spare: Vec::new(),
        }
    }

    #[rstest]
    #[case(Rule::Median, 3.0, 0.25)]
    // Values that are drawn in still pull: half a noise width for a sixth of them on one side.
    #[case(Rule::Winsorized, 5.0, 0.6)]
    #[case(Rule::Sigma, 2.0, 0.15)]
    fn a_sixth_of_outliers_hardly_moves_centre_and_scatter(
        #[case] rule: Rule,
        #[case] centre: f32,
        #[case] scatter: f32,
    ) {
        let how = Rejection::new(rule, None, None);
        let usual = column(20, &[900.0, 2000.0, 760.0, 3000.0]).usual(&how, 2.0);
        assert!((usual.centre - 500.0).abs() < centre, "{usual:?}");
        assert!((usual.scatter / 10.0 - 1.0).abs() < scatter, "{usual:?}");
    }

    #[test]
    fn scatter_is_never_less_than_the_noise_that_is_predicted() {
        for rule in [Rule::Winsorized, Rule::Sigma] {
            let how = Rejection::new(rule, None, None);
            assert_eq!(column(9, &[]).usual(&how, 40.0).scatter, 40.0);
        }
    }

    #[test]
    fn a_stars_flank_goes_with_the_seeing_and_a_ray_on_it_does_not() {
        let widths = [7.6f32, 5.7, 8.0, 12.2, 9.2, 6.4, 10.8, 9.8, 7.1, 11.8, 10.6];
        let ray = 5;
        let values = widths.iter().zip(0u32..).map(|(w, k)| {
            let wobble = if k % 2 == 0 { 6.0 } else { -6.0 };
            let of_ray = if k == ray { 600.0 } else { 0.0 };
            (900.0 + 60.0 * (w - 8.0) + wobble + of_ray, k)
        });
        let mut column = Column {
            values: values.collect(),
            spare: Vec::new(),
        };
        let how = Rejection::new(Rule::Noise, None, None);
        let usual = column.usual_by_width(&how, 10.0, |k| widths[k.index()], 100.0);
        let (slope, middle) = usual.slope.unwrap();
        assert!((slope - 60.0).abs() < 6.0, "{usual:?}");
        for (k, w) in widths.iter().enumerate() {
            let expected = usual.centre + usual.of_width(*w);
            let truth = 900.0 + 60.0 * (w - 8.0);
            assert!(
                (expected - truth).abs() < 25.0,
                "{k}: {expected} {truth} {middle}"
            );
        }
    }

    #[test]
    fn ranks_have_bounds_and_the_median_of_four_is_the_lower() {
        let mut four = Column {
            values: vec![(4.0, 0), (1.0, 1), (900.0, 2), (3.0, 3)],
            spare: Vec::new(),
        };
        let usual = four.usual(&Rejection::new(Rule::Extremes, None, None), 1.0);
        assert_eq!((usual.centre, usual.bounds), (3.0, (3.0, 4.0)));
        assert_eq!(four.values[3], (900.0, 2));
    }
}
