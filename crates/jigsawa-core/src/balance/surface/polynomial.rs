//! A polynomial of both coordinates up to a total degree.

use crate::number::Convert;
use serde::{Deserialize, Serialize};
use std::array;

use super::{Domain, add_horner};
use crate::space::{CanvasPx, Point};

/// The highest degree: beyond, a polynomial swings at the edges more than any sky does.
pub const MOST_DEGREE: usize = 8;

/// Sum of `terms` times u^i v^j over i + j up to the degree, (u, v) being canvas coordinates over the domain.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Polynomial {
    domain: Domain,
    degree: usize,
    /// In the order of [`powers`].
    terms: Vec<f64>,
}

/// The exponents (i, j) of all terms: 1, u, v, u^2, u v, v^2, …
fn powers(degree: usize) -> impl Iterator<Item = (usize, usize)> {
    (0..=degree).flat_map(|n| (0..=n).map(move |j| (n - j, j)))
}

impl Polynomial {
    /// Terms of a polynomial of this degree.
    pub(crate) const fn count(degree: usize) -> usize {
        (degree + 1) * (degree + 2) / 2
    }

    pub(crate) const fn new(domain: Domain, degree: usize, terms: Vec<f64>) -> Self {
        Self {
            domain,
            degree,
            terms,
        }
    }

    /// The value of each term's power at a place.
    pub(crate) fn row(
        domain: Domain,
        degree: usize,
        p: Point<CanvasPx>,
    ) -> impl Iterator<Item = f64> {
        let (u, v) = domain.to(p);
        let of = |at: f64| -> [f64; MOST_DEGREE + 1] { array::from_fn(|n| at.powi(n.i32())) };
        let (u, v) = (of(u), of(v));
        powers(degree).map(move |(i, j)| u[i] * v[j])
    }

    /// The highest sum of exponents.
    pub const fn degree(&self) -> usize {
        self.degree
    }

    pub(super) fn at(&self, p: Point<CanvasPx>) -> f64 {
        let row = Self::row(self.domain, self.degree, p);
        row.zip(&self.terms).map(|(r, t)| r * t).sum()
    }

    pub(super) fn is_sound(&self) -> bool {
        self.domain.is_sound()
            && self.degree <= MOST_DEGREE
            && self.terms.len() == Self::count(self.degree)
            && self.terms.iter().all(|t| t.is_finite())
    }

    pub(super) fn scaled(&self, k: f64) -> Self {
        let terms = self.terms.iter().map(|t| k * t).collect();
        Self {
            terms,
            ..self.clone()
        }
    }

    pub(super) fn moved(&self, x: f64, y: f64) -> Self {
        let [cx, cy] = self.domain.centre;
        Self {
            domain: Domain {
                centre: [cx - x, cy - y],
                ..self.domain
            },
            ..self.clone()
        }
    }

    pub(super) fn raise(&mut self, by: f64) {
        // The first term is the constant.
        if let Some(t) = self.terms.first_mut() {
            *t += by;
        }
    }

    pub(super) fn add_to_row(&self, x: i64, y: i64, row: &mut [f32]) {
        // Along a row v is fixed: what is left is a polynomial of u alone.
        let (u, v) = self.domain.to(Point::new(x.real(), y.real()));
        let mut of_u = vec![0.0f64; self.degree + 1];
        for ((i, j), t) in powers(self.degree).zip(&self.terms) {
            of_u[i] += t * v.powi(j.i32());
        }
        let of_u: Vec<f32> = of_u.into_iter().map(Convert::single).collect();
        add_horner(&of_u, u.single(), (1.0 / self.domain.half).single(), row);
    }
}
