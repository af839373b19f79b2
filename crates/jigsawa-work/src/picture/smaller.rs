//! A picture made smaller while its rows go by: each pixel the mean over its area.

use jigsawa_core::number::Convert;

/// Shrinks rows of a picture to a given width and height.
pub struct Shrink {
    from: (usize, usize),
    to: (usize, usize),
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
        Self {
            from,
            to,
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
        let mut line = vec![0.0f32; 3 * self.to.0];
        let ratio = self.from.1.real() / self.to.1.real();
        for row in rows.chunks_exact(3 * self.from.0) {
            self.narrow(row, &mut line);
            // A row lies in one row of the result, or in two.
            let (top, bottom) = (self.row.real(), self.row.real() + 1.0);
            self.row += 1;
            let end = (self.made + 1).real() * ratio;
            let here = (bottom.min(end) - top).single();
            for (s, v) in self.sum.iter_mut().zip(&line) {
                *s += here * v;
            }
            if bottom >= end - 1e-9 && self.made < self.to.1 {
                out.extend(self.sum.iter().map(|s| s / ratio.single()));
                self.made += 1;
                let rest = (bottom - end).max(0.0).single();
                for (s, v) in self.sum.iter_mut().zip(&line) {
                    *s = rest * v;
                }
            }
        }
    }

    fn narrow(&self, row: &[f32], out: &mut [f32]) {
        let ratio = self.from.0.real() / self.to.0.real();
        for (i, o) in out.chunks_exact_mut(3).enumerate() {
            let (left, right) = (i.real() * ratio, (i + 1).real() * ratio);
            let mut sum = [0.0f32; 3];
            let last = right.ceil().index().min(self.from.0);
            for x in left.index()..last {
                let part = ((x.real() + 1.0).min(right) - x.real().max(left))
                    .max(0.0)
                    .single();
                for (s, v) in sum.iter_mut().zip(&row[3 * x..3 * x + 3]) {
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
