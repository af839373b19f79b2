//! The nebula of Lantern Reef: light of each line over the plane, and the dust before the stars.
//!
//! A hot star has blown a bubble, the lantern: oxygen glows inside, hydrogen on its wall, sulphur just
//! outside where the gas cools. Below it lies the reef, a ridge of dense clouds whose crests shine
//! where they face the lantern, with dark lanes and pillars before it. A thin veil fades outwards to
//! the empty sky. The model is sampled once on a grid of 2 units, whose cubic B-spline *is* the
//! nebula from then on: a smooth function that is cheap to evaluate anywhere.

use jigsawa_core::number::Convert;
use rayon::prelude::*;

use crate::fields::{Field, Light};
use crate::nodes::TILES;
use crate::noise::{bell, billows, ridges, step};

/// Surface brightness of the lines and of reflected starlight, and the part of the light from behind
/// that the dust lets through.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct Glow {
    /// Hydrogen alpha; about 1 on the lantern's wall.
    pub ha: f64,
    /// Doubly ionised oxygen.
    pub oiii: f64,
    /// Ionised sulphur.
    pub sii: f64,
    /// Starlight scattered by dust, bluish.
    pub dust: f64,
    /// 0..=1.
    pub transmission: f64,
    /// Light of old stars too many to be seen apart, yellowish.
    pub old: f64,
}

/// Where the lantern's star stands, in units of the plane, and the bubble's radius.
const CENTRE: (f64, f64) = (1010.0, 640.0);
const RADIUS: f64 = 300.0;

/// The formula of the nebula at a place of the plane.
fn formula(x: f64, y: f64) -> Light {
    let (u, v) = ((x - CENTRE.0) / RADIUS, (y - CENTRE.1) / RADIUS);
    // Turbulence bends everything: the place is read from where its gas came from.
    let bend = |seed| billows(0.9 * u + 3.7, 0.9 * v - 1.2, 5, seed);
    let (bx, by) = (bend(11), bend(23));
    let (p, q) = (u + 0.42 * bx, v + 0.42 * by);
    let r = (p * 0.92).hypot(q * 1.06);
    let folds = ridges(1.7 * p + 0.8, 1.7 * q + 5.1, 5, 31);
    let fine = ridges(3.1 * p - 2.2, 3.1 * q + 0.4, 4, 47);
    let fog = billows(0.8 * p + 9.0, 0.8 * q - 4.0, 4, 59);

    // The bubble: bright below, torn open above right.
    let facing = 0.62 + 0.38 * (q * -0.7 - p * 0.35).clamp(-1.0, 1.0);
    let wall = bell(r - 1.0, 0.16) * (0.25 + 1.2 * folds * folds) * facing;
    let skin = bell(r - 1.13, 0.10) * (0.10 + 1.5 * fine * folds) * facing;
    let inside = (1.0 - step(0.55, 1.12, r)) * (0.42 + 0.75 * fine * folds)
        + 0.75 * bell(r - 0.88, 0.15) * (0.3 + folds);

    // The reef: below a wavy shore line, lit by the lantern. Its gas thins out downwards, so that
    // the empty sky comes back at the frame's foot.
    let shore = -0.78 + 0.30 * billows(0.9 * p + 1.0, 2.0, 3, 71) + 0.10 * p;
    let depth = shore - q;
    let lit = 1.0 / (1.0 + 0.32 * (u * u + v * v));
    let body = step(-0.12, 0.35, depth) * (1.0 - step(0.7, 2.1, depth + 0.25 * fog));
    let reach = bell(u + 0.4, 2.3);
    let crest = bell(depth - 0.04, 0.15) * (0.3 + folds) * reach;
    let cloud = body * (0.22 + 0.9 * folds * (0.4 + 0.6 * fine)) * lit * reach;

    // A patchy veil around all, gone at two and a half radii.
    let veil = (1.0 - step(0.9, 2.45, r)) * step(-0.1, 0.6, fog) * (0.35 + 0.65 * folds);

    // Dust: lanes in the reef, a few tongues before the bubble.
    let lanes = ridges(1.05 * p - 7.0, 1.35 * q + 2.0, 5, 83);
    let dust = step(0.62, 0.86, lanes) * (0.9 * body + 0.5 * (1.0 - step(0.7, 1.6, r)));
    let through = (-2.1 * dust).exp();

    [
        (1.0 * wall + 0.9 * crest + 0.8 * cloud + 0.17 * inside + 0.20 * veil) * through,
        (0.62 * inside + 0.10 * wall + 0.05 * veil + 0.06 * crest) * through,
        (0.44 * skin + 0.50 * crest * fine.sqrt() + 0.46 * cloud * folds + 0.02 * veil) * through,
        0.30 * body * fine * lit * reach * through + 0.05 * veil + 0.10 * inside * through,
        through,
        0.0,
    ]
}

/// The brightest of the heart, in units of the wall's light.
const HEART: f64 = 300.0;

/// The heart's light in hydrogen, oxygen and sulphur: a steep glow with curls and dark threads in it.
fn heart(x: f64, y: f64) -> [f64; 3] {
    let (dx, dy) = (x - CENTRE.0, y - CENTRE.1);
    let curl = billows(0.011 * x, 0.011 * y, 4, 131);
    let (u, v) = (dx + 26.0 * curl, 0.8 * dy - 20.0 * curl);
    let r = u.hypot(v);
    let folds = ridges(0.024 * x + 2.0, 0.024 * y, 4, 137);
    let threads = step(0.60, 0.97, ridges(0.012 * x - 3.0, 0.015 * y + 1.0, 2, 139));
    let glow = |core: f64, steep: f64| (1.0 + (r / core).powi(2)).powf(-steep);
    let texture = (0.45 + 0.85 * folds) * (1.0 - 0.55 * threads);
    [
        HEART * glow(13.0, 1.30) * texture,
        0.7 * HEART * glow(10.0, 1.38) * (0.6 + 0.6 * folds),
        0.1 * HEART * glow(16.0, 1.30) * texture,
    ]
}

/// Units of the plane between two nodes of the spline.
const STEP: f64 = 2.0;

/// The nebula over a part of the plane.
#[derive(Debug)]
pub struct Clouds {
    x0: i64,
    y0: i64,
    columns: usize,
    rows: usize,
    nodes: Vec<[f32; 6]>,
}

impl Clouds {
    /// The reef's nebula over a rectangle of the plane: (x from, y from, x to, y to).
    pub fn over(rect: (f64, f64, f64, f64)) -> Self {
        Self::of(Field::Reef, rect)
    }

    /// What a field shows over a rectangle of the plane: (x from, y from, x to, y to).
    pub fn of(field: Field, (x0, y0, x1, y1): (f64, f64, f64, f64)) -> Self {
        let light = |x: f64, y: f64| match field {
            Field::Reef => formula(x, y),
            other => other.light(x, y),
        };
        let node = |v: f64| (v / STEP).floor().whole();
        let (cx, cy) = (node(x0) - 2, node(y0) - 2);
        let columns = (node(x1) + 4 - cx).index();
        let rows = (node(y1) + 4 - cy).index();
        let at_node = |c: i64, r: i64| light(c.real() * STEP, r.real() * STEP);
        let nodes = TILES.nodes(field, (cx, cy), (columns, rows), at_node);
        Self {
            x0: cx,
            y0: cy,
            columns,
            rows,
            nodes,
        }
    }

    /// With the lantern's heart: gas around its star, hundreds of times as bright as its wall, that only short
    /// exposures show as it is.
    #[must_use]
    pub fn with_heart(mut self) -> Self {
        let (x0, y0, columns) = (self.x0, self.y0, self.columns);
        self.nodes
            .par_chunks_mut(columns)
            .enumerate()
            .for_each(|(r, row)| {
                for (c, node) in row.iter_mut().enumerate() {
                    let x = (x0 + c.whole()).real() * STEP;
                    let y = (y0 + r.whole()).real() * STEP;
                    let [ha, oiii, sii] = heart(x, y);
                    node[0] += ha.single();
                    node[1] += oiii.single();
                    node[2] += sii.single();
                }
            });
        self
    }

    /// The light at a place; beyond the rectangle that of its edge.
    pub fn at(&self, x: f64, y: f64) -> Glow {
        let (tx, ty) = (x / STEP - self.x0.real(), y / STEP - self.y0.real());
        let (i, wx) = basis(tx, self.columns);
        let (j, wy) = basis(ty, self.rows);
        let mut sum = [0.0f32; 6];
        for (dy, wy) in wy.iter().enumerate() {
            let row = &self.nodes[(j + dy) * self.columns + i..][..4];
            for (node, wx) in row.iter().zip(&wx) {
                let w = wx * wy;
                for (s, n) in sum.iter_mut().zip(node) {
                    *s += w * n;
                }
            }
        }
        let [ha, oiii, sii, dust, transmission, old] = sum.map(f64::from);
        Glow {
            ha,
            oiii,
            sii,
            dust,
            transmission,
            old,
        }
    }
}

/// First of four nodes and their weights in the uniform cubic B-spline.
fn basis(t: f64, count: usize) -> (usize, [f32; 4]) {
    let t = t.clamp(1.0, (count - 3).real());
    let i = t.index().min(count - 3);
    let f = (t - i.real()).single();
    let g = 1.0 - f;
    let weights = [
        g * g * g / 6.0,
        (3.0 * f * f * f - 6.0 * f * f + 4.0) / 6.0,
        (3.0 * g * g * g - 6.0 * g * g + 4.0) / 6.0,
        f * f * f / 6.0,
    ];
    (i - 1, weights)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_spline_is_the_same_from_any_rectangle() {
        let a = Clouds::over((800.0, 500.0, 1000.0, 600.0));
        let b = Clouds::over((850.0, 520.0, 1200.0, 700.0));
        for (x, y) in [(900.3, 555.5), (951.0, 590.9)] {
            let (a, b) = (a.at(x, y), b.at(x, y));
            assert!((a.ha - b.ha).abs() < 1e-6 && (a.oiii - b.oiii).abs() < 1e-6);
        }
    }

    #[test]
    fn the_lantern_shines_and_the_far_sky_is_dark() {
        let c = Clouds::over((0.0, 0.0, 2000.0, 1400.0));
        let inside = (-10..10).flat_map(|i| (-10..10).map(move |j| (i, j)));
        let light: f64 = inside
            .map(|(i, j)| {
                c.at(
                    CENTRE.0 + 10.0 * f64::from(i),
                    CENTRE.1 + 10.0 * f64::from(j),
                )
                .oiii
            })
            .sum();
        assert!(light / 400.0 > 0.15, "{light}");
        let far = c.at(1950.0, 1350.0);
        assert!(far.ha < 0.01 && far.oiii < 0.01 && far.transmission > 0.97);
    }
}
