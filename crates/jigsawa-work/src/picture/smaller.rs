//! A picture made smaller while its rows go by: each pixel the mean over its area.

use jigsawa_core::number::Convert;
use rayon::prelude::*;

/// Shrinks rows of a picture to a given width and height.
pub struct Shrink {
    from: (usize, usize),
    to: (usize, usize),
    /// Of each column of the result the first of the picture, and the parts of this and the next ones.
    columns: Vec<(usize, Vec<f32>)>,
    /// Rows of the picture at work, as narrow as the result.
    narrow: Vec<f32>,
    /// Rows that have come.
    row: usize,
    /// The row in the making, and how much of its height has come.
    sum: Vec<f32>,
    made: usize,
}

impl Shrink {
    /// From a picture of this shape to one whose longer side has at most `longest` pixels; never larger.
    pub fn new(from: (usize, usize), longest: usize) -> Self {
        let k = (longest.real() / from.0.max(from.1).real()).min(1.0);
        let side = |n: usize| (n.real() * k).round().index().max(1);
        let to = (side(from.0), side(from.1));
        let ratio = from.0.real() / to.0.real();
        let column = |i: usize| {
            let (left, right) = (i.real() * ratio, (i + 1).real() * ratio);
            let covered = left.index()..right.ceil().index().min(from.0);
            let part = |x: usize| (x.real() + 1.0).min(right) - x.real().max(left);
            let parts = covered.clone().map(|x| part(x).max(0.0).single());
            (covered.start, parts.collect())
        };
        Self {
            from,
            to,
            columns: (0..to.0).map(column).collect(),
            narrow: Vec::new(),
            row: 0,
            sum: vec![0.0; 3 * to.0],
            made: 0,
        }
    }

    /// Width and height of the smaller picture.
    pub const fn shape(&self) -> (usize, usize) {
        self.to
    }

    /// Takes rows of the picture (red, green, blue of each pixel); what is finished goes to the end of `out`.
    pub fn rows(&mut self, rows: &[f32], out: &mut Vec<f32>) {
        let ratio = self.from.1.real() / self.to.1.real();
        let mut narrow = std::mem::take(&mut self.narrow);
        narrow.resize(rows.len() / self.from.0 * self.to.0, 0.0);
        narrow
            .par_chunks_exact_mut(3 * self.to.0)
            .zip(rows.par_chunks_exact(3 * self.from.0))
            .for_each(|(line, row)| self.narrow(row, line));
        for line in narrow.chunks_exact(3 * self.to.0) {
            // A row lies in one row of the result, or in two.
            let (top, bottom) = (self.row.real(), self.row.real() + 1.0);
            self.row += 1;
            let end = (self.made + 1).real() * ratio;
            let here = (bottom.min(end) - top).single();
            for (s, v) in self.sum.iter_mut().zip(line) {
                *s += here * v;
            }
            if bottom >= end - 1e-9 && self.made < self.to.1 {
                out.extend(self.sum.iter().map(|s| s / ratio.single()));
                self.made += 1;
                let rest = (bottom - end).max(0.0).single();
                for (s, v) in self.sum.iter_mut().zip(line) {
                    *s = rest * v;
                }
            }
        }
        self.narrow = narrow;
    }

    fn narrow(&self, row: &[f32], out: &mut [f32]) {
        let ratio = self.from.0.real() / self.to.0.real();
        for (o, (first, parts)) in out.chunks_exact_mut(3).zip(&self.columns) {
            let mut sum = [0.0f32; 3];
            for (pixel, part) in row[3 * first..].chunks_exact(3).zip(parts) {
                for (s, v) in sum.iter_mut().zip(pixel) {
                    *s += part * v;
                }
            }
            for (o, s) in o.iter_mut().zip(sum) {
                *o = s / ratio.single();
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn light_is_kept_and_nothing_grows() {
        let (w, h) = (97, 53);
        let rows: Vec<f32> = (0..3 * w * h).map(|i| ((i * 37) % 101).single()).collect();
        let mut shrink = Shrink::new((w, h), 40);
        assert_eq!(shrink.shape(), (40, 22));
        let mut out = Vec::new();
        for band in rows.chunks(3 * w * 7) {
            shrink.rows(band, &mut out);
        }
        assert_eq!(out.len(), 3 * 40 * 22);
        let mean = |v: &[f32]| v.iter().sum::<f32>() / v.len().single();
        assert!((mean(&out) / mean(&rows) - 1.0).abs() < 1e-3);
        assert_eq!(Shrink::new((30, 20), 100).shape(), (30, 20));
    }
}
