//! Distortion polynomials of a WCS (SIP): what is added to pixel offsets before the matrix.

use serde::{Deserialize, Serialize};

use crate::placement::{powers_of, terms};

/// The highest order that is read and written.
pub(super) const MOST_ORDER: u8 = 9;

/// Distortion of pixel offsets (u, v) from the reference pixel: u + A(u, v), v + B(u, v).
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Sip {
    /// The highest power.
    pub order: u8,
    /// Coefficients of A: of 1, u, v, u^2, u v, v^2, u^3 ... as many as the order has.
    pub a: Vec<f64>,
    /// Those of B.
    pub b: Vec<f64>,
}

impl Sip {
    /// Are the numbers finite, and as many as the order has?
    pub fn is_sound(&self) -> bool {
        let complete = |c: &[f64]| c.len() == terms(self.order) && c.iter().all(|v| v.is_finite());
        (1..=MOST_ORDER).contains(&self.order) && complete(&self.a) && complete(&self.b)
    }

    /// The coefficient of u^p v^q in a list.
    pub fn at(&self, list: &[f64], p: usize, q: usize) -> f64 {
        list.get(place(p, q)).copied().unwrap_or(0.0)
    }

    /// The polynomials of these coefficients: (p, q, of A, of B).
    pub fn from_terms(order: u8, of: impl Fn(usize, usize) -> (f64, f64)) -> Self {
        let (mut a, mut b) = (vec![0.0; terms(order)], vec![0.0; terms(order)]);
        for n in 0..=order as usize {
            for q in 0..=n {
                (a[place(n - q, q)], b[place(n - q, q)]) = of(n - q, q);
            }
        }
        Self { order, a, b }
    }

    pub(super) fn apply(&self, u: f64, v: f64) -> (f64, f64) {
        let mut powers = [0.0; terms(MOST_ORDER)];
        powers_of(u, v, self.order, &mut powers);
        let sum = |c: &[f64]| c.iter().zip(powers).map(|(c, p)| c * p).sum::<f64>();
        (u + sum(&self.a), v + sum(&self.b))
    }

    /// The offsets that are distorted to these, by taking the distortion off again and again.
    pub(super) fn undo(&self, u: f64, v: f64) -> (f64, f64) {
        let (mut p, mut q) = (u, v);
        for _ in 0..100 {
            let (x, y) = self.apply(p, q);
            let (dx, dy) = (u - x, v - y);
            (p, q) = (p + dx, q + dy);
            if dx.abs().max(dy.abs()) < 1e-10 {
                return (p, q);
            }
        }
        // Far outside of the frame the polynomials may have no inverse.
        (f64::NAN, f64::NAN)
    }
}

/// Where the coefficient of u^p v^q stands.
pub(super) const fn place(p: usize, q: usize) -> usize {
    let n = p + q;
    n * (n + 1) / 2 + q
}
