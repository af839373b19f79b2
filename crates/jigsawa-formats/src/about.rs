//! What a picture file says of itself besides its pixels.

use crate::error::FileError;
use jigsawa_core::number::Convert;
use multiversion::multiversion;

/// Rows of a picture, asked for from the top: so many of them, red, green, blue of each pixel, into a buffer.
pub type NextRows<'a, T> = dyn FnMut(usize, &mut Vec<T>) -> Result<(), FileError> + 'a;

/// Rows that a writer asks for at a time; fewer only at the end.
pub const STRIP_ROWS: usize = 64;

/// Words that go into a picture's file.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct About {
    /// What it shows.
    pub title: String,
    /// Facts in order: filters, exposure, what was done.
    pub lines: Vec<(String, String)>,
}

impl About {
    /// A picture with a title alone.
    pub fn titled(title: &str) -> Self {
        Self {
            title: title.to_owned(),
            lines: Vec::new(),
        }
    }

    /// Title and facts as one text, a line each.
    pub fn text(&self) -> String {
        let mut text = self.title.clone();
        for (name, value) in &self.lines {
            text.push('\n');
            text.push_str(name);
            text.push_str(": ");
            text.push_str(value);
        }
        text
    }

    /// The text for formats that know ASCII only: other letters become question marks.
    pub(crate) fn ascii(&self) -> String {
        self.text()
            .chars()
            .map(|c| match c {
                ' '..='~' | '\n' => c,
                '·' => '-',
                '×' => 'x',
                _ => '?',
            })
            .collect()
    }
}

/// The ICC profile (ICC.1:2022, a matrix and a parametric curve) of sRGB (IEC 61966-2-1), which every picture for the eye is
/// encoded in.
pub const fn srgb_profile() -> &'static [u8] {
    include_bytes!("srgb.icc")
}

/// Values from 0 to 1 to 16 bits; a missing one becomes 0.
#[multiversion(targets("x86_64+avx2"))]
pub fn sixteen_bits(values: &[f32], out: &mut [u16]) {
    for (o, v) in out.iter_mut().zip(values) {
        *o = (v.clamp(0.0, 1.0) * 65_535.0 + 0.5).u16();
    }
}

/// Turns rows of 16 bits into such of 8. A pattern of a step's height, the same for each run, takes the place of what is
/// rounded away, so that smooth shadows have no steps.
pub(crate) struct EightBits {
    /// Of each value of a row, red, green and blue of each pixel, its part of the pattern.
    columns: Vec<u32>,
}

impl EightBits {
    /// For pictures of this width.
    pub(crate) fn new(width: usize) -> Self {
        let channels = |x: usize| [0, 1, 2].map(|channel| column(x.u32(), channel));
        Self {
            columns: (0..width).flat_map(channels).collect(),
        }
    }

    /// Rows to `out`; `row` is the number of the first.
    pub(crate) fn rows(&self, samples: &[u16], row: usize, out: &mut Vec<u8>) {
        out.resize(samples.len(), 0);
        let width = self.columns.len();
        let rows = samples.chunks_exact(width).zip(out.chunks_exact_mut(width));
        for (r, (samples, out)) in rows.enumerate() {
            one_row(samples, &self.columns, (row + r).u32(), out);
        }
    }
}

#[multiversion(targets("x86_64+avx2"))]
fn one_row(samples: &[u16], columns: &[u32], y: u32, out: &mut [u8]) {
    for ((o, v), column) in out.iter_mut().zip(samples).zip(columns) {
        // 65535 = 255 * 257: whole steps stay whole.
        let value = (u32::from(*v) * 255 + scatter(*column, y)) / 65_535;
        *o = value.min(255) as u8;
    }
}

/// What column and channel do to the pattern.
const fn column(x: u32, channel: u32) -> u32 {
    x.wrapping_mul(0x9e37_79b1) ^ channel.wrapping_mul(0xc2b2_ae3d)
}

/// A number from 0 to 65534, without pattern over pixels and channels.
#[inline(always)]
#[allow(clippy::inline_always)]
const fn scatter(column: u32, y: u32) -> u32 {
    let mut h = column ^ y.wrapping_mul(0x85eb_ca77);
    h ^= h >> 15;
    h = h.wrapping_mul(0x2c1b_3c6d);
    h ^= h >> 12;
    h = h.wrapping_mul(0x297a_2d39);
    h ^= h >> 15;
    (h >> 8) % 65_535
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The numbers of a tag of the profile: fixed point with 16 bits behind the point.
    fn tag(name: &str) -> Vec<f64> {
        let p = srgb_profile();
        let word = |at: usize| i32::from_be_bytes(p[at..at + 4].try_into().unwrap());
        let count = word(128).index();
        let entry = (0..count)
            .map(|k| 132 + 12 * k)
            .find(|e| &p[*e..e + 4] == name.as_bytes());
        let entry = entry.unwrap();
        let (from, length) = (word(entry + 4).index(), word(entry + 8).index());
        (from + 8..from + length)
            .step_by(4)
            .map(|at| f64::from(word(at)) / 65_536.0)
            .collect()
    }

    #[test]
    fn the_profile_is_that_of_srgb() {
        let p = srgb_profile();
        assert_eq!(
            p.len(),
            i32::from_be_bytes(p[..4].try_into().unwrap()).index()
        );
        assert_eq!(&p[36..40], b"acsp");
        // White is that of the profile connection space, D50; the colours add up to it.
        let sum = [0, 1, 2].map(|k| tag("rXYZ")[k] + tag("gXYZ")[k] + tag("bXYZ")[k]);
        for (sum, white) in sum.iter().zip([0.9642, 1.0, 0.8249]) {
            assert!((sum - white).abs() < 2e-4, "{sum} {white}");
        }
        // The curve of the standard: a power of 2.4 above a line.
        let curve = [2.4, 1.0 / 1.055, 0.055 / 1.055, 1.0 / 12.92, 0.04045];
        for name in ["rTRC", "gTRC", "bTRC"] {
            for (own, told) in tag(name)[1..].iter().zip(curve) {
                assert!((own - told).abs() < 2e-5, "{own} {told}");
            }
        }
    }

    #[test]
    fn whole_steps_stay() {
        let samples: Vec<u16> = (0..=255u16).flat_map(|v| [v * 257; 3]).collect();
        let mut out = Vec::new();
        EightBits::new(256).rows(&samples, 7, &mut out);
        for (i, v) in out.iter().enumerate() {
            assert_eq!(usize::from(*v), i / 3);
        }
    }

    #[test]
    fn what_is_rounded_away_is_kept_on_the_mean() {
        // A shadow between two steps of 8 bits.
        let samples = vec![20 * 257 + 90; 3 * 300 * 40];
        let mut out = Vec::new();
        EightBits::new(300).rows(&samples, 0, &mut out);
        let mean = out.iter().map(|v| f64::from(*v)).sum::<f64>() / out.len().real();
        assert!((mean - (20.0 + 90.0 / 257.0)).abs() < 0.01, "{mean}");
    }
}
