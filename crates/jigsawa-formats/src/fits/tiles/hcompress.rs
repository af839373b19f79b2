//! The H-transform and its quadtree (White, Postman & Lattanzi 1992, in *Digitised Optical Sky Surveys*, 167), as FITS 4.0
//! §10.4.4 writes it down: sums and differences of 2 x 2 pixels, of 2 x 2 of the sums, and so on; the bits of the
//! coefficients, plane by plane, as trees of which squares hold any. Smoothing on the way back, which a header may advise for the eye, is
//! not done: values stay as they were stored.

use super::bits::Bits;
use jigsawa_core::number::Convert;

/// What the stream begins with.
const MAGIC: u32 = 0xDD99;

/// Bits that a coefficient can have.
const MOST_PLANES: u32 = 62;

/// Unpacks an image of this width and height. `None` when the stream is damaged or of another size.
pub(super) fn unpack(bytes: &[u8], (width, height): (usize, usize)) -> Option<Vec<i64>> {
    let mut head = Bits::new(bytes.get(..25)?);
    if head.take(16)? != MAGIC {
        return None;
    }
    let (rows, columns) = (head.take(32)? as usize, head.take(32)? as usize);
    let scale = i64::from(head.take(32)?.i32());
    let sum = (u64::from(head.take(32)?) << 32 | u64::from(head.take(32)?)).whole();
    let planes = [head.take(8)?, head.take(8)?, head.take(8)?];
    // Less than two pixels a side have no differences.
    let is_ours = (columns, rows) == (width, height) && width >= 2 && height >= 2;
    if !is_ours || planes.iter().any(|p| *p > MOST_PLANES) {
        return None;
    }
    let mut a = Square {
        values: vec![0; width * height],
        width,
        height,
    };
    a.read(&mut Bits::new(&bytes[25..]), planes)?;
    a.values[0] = sum;
    if scale > 1 {
        for v in &mut a.values {
            *v = v.wrapping_mul(scale);
        }
    }
    a.back();
    Some(a.values)
}

/// Coefficients, row by row.
struct Square {
    values: Vec<i64>,
    width: usize,
    height: usize,
}

impl Square {
    /// Reads sizes of all four quadrants, then signs.
    fn read(&mut self, bits: &mut Bits<'_>, planes: [u32; 3]) -> Option<()> {
        let (w2, h2) = (self.width.div_ceil(2), self.height.div_ceil(2));
        let (w, h) = (self.width, self.height);
        self.quadrant(bits, (0, 0), (w2, h2), planes[0])?;
        self.quadrant(bits, (w2, 0), (w / 2, h2), planes[1])?;
        self.quadrant(bits, (0, h2), (w2, h / 2), planes[1])?;
        self.quadrant(bits, (w2, h2), (w / 2, h / 2), planes[2])?;
        // A half byte of zeros ends them.
        if bits.take(4)? != 0 {
            return None;
        }
        bits.next_byte();
        for v in self.values.iter_mut().filter(|v| **v != 0) {
            if bits.take(1)? == 1 {
                *v = -*v;
            }
        }
        Some(())
    }

    /// Reads the bit planes of a part that begins at a column and row.
    fn quadrant(
        &mut self,
        bits: &mut Bits<'_>,
        start: (usize, usize),
        (w, h): (usize, usize),
        planes: u32,
    ) -> Option<()> {
        let steps = w.max(h).next_power_of_two().trailing_zeros();
        // How many squares there are along a side, a step before the last, two before, and so on.
        let along = |n: usize, k: u32| n.div_ceil(1 << k);
        for plane in (0..planes).rev() {
            let codes = match bits.take(4)? {
                0 => {
                    let count = along(w, 1) * along(h, 1);
                    (0..count)
                        .map(|_| Some(bits.take(4)?.byte()))
                        .collect::<Option<Vec<_>>>()?
                }
                15 => {
                    let mut codes = vec![code(bits)?];
                    for k in (1..steps).rev() {
                        let (columns, rows) = (along(w, k), along(h, k));
                        codes = deeper(bits, &codes, columns, rows)?;
                    }
                    codes
                }
                _ => return None,
            };
            self.set(&codes, start, (w, h), plane);
        }
        Some(())
    }

    /// Sets a bit of the coefficients that the last codes name.
    fn set(&mut self, codes: &[u8], (x0, y0): (usize, usize), (w, h): (usize, usize), plane: u32) {
        for y in 0..h {
            let row = &mut self.values[(y0 + y) * self.width + x0..][..w];
            for (x, v) in row.iter_mut().enumerate() {
                let code = codes[(y / 2) * w.div_ceil(2) + x / 2];
                *v |= i64::from(flag(code, x, y)) << plane;
            }
        }
    }

    /// The transform back: from one mean of all to the pixels.
    fn back(&mut self) {
        let levels = self
            .width
            .max(self.height)
            .next_power_of_two()
            .trailing_zeros();
        let mut column = Vec::new();
        let first = 1i64 << (levels - 1);
        self.values[0] = rounded(self.values[0], first << 2);
        for k in (0..levels).rev() {
            let bit = 1i64 << k;
            let (w, h) = (self.width.div_ceil(1 << k), self.height.div_ceil(1 << k));
            for y in 0..h {
                let at = y * self.width;
                interleave(&mut self.values[at..at + w], &mut column);
            }
            for x in 0..w {
                let mut own: Vec<i64> = (0..h).map(|y| self.values[y * self.width + x]).collect();
                interleave(&mut own, &mut column);
                for (y, v) in own.into_iter().enumerate() {
                    self.values[y * self.width + x] = v;
                }
            }
            self.split((w, h), bit, if k == 0 { 2 } else { 1 });
        }
    }

    /// Sums and differences of each 2 x 2 into their four values; `bit` is the lowest that still counts.
    fn split(&mut self, (w, h): (usize, usize), bit: i64, shift: u32) {
        let stride = self.width;
        let low = bit << 1;
        // The difference of differences has one bit more, but for the last step, where nothing is below it.
        for y in (0..h).step_by(2) {
            for x in (0..w).step_by(2) {
                let at = y * stride + x;
                let (right, below) = (x + 1 < w, y + 1 < h);
                let mean = self.values[at];
                match (right, below) {
                    (true, true) => {
                        let hx = rounded(self.values[at + stride], low);
                        let hy = rounded(self.values[at + 1], low);
                        let hc = if shift == 2 {
                            self.values[at + stride + 1]
                        } else {
                            rounded(self.values[at + stride + 1], bit)
                        };
                        let of_both = hc & bit;
                        let toward = |v: i64| {
                            if v >= 0 {
                                v.wrapping_sub(of_both)
                            } else {
                                v.wrapping_add(of_both)
                            }
                        };
                        let (hx, hy) = (toward(hx), toward(hy));
                        let next = (hc ^ hx ^ hy) & low;
                        let mean = if mean >= 0 {
                            mean.wrapping_add(of_both).wrapping_sub(next)
                        } else if of_both == 0 {
                            mean.wrapping_add(next)
                        } else {
                            mean.wrapping_add(of_both.wrapping_sub(next))
                        };
                        let of = |x: i64, y: i64, c: i64| {
                            mean.wrapping_add(x).wrapping_add(y).wrapping_add(c) >> shift
                        };
                        let (nx, ny, nc) =
                            (hx.wrapping_neg(), hy.wrapping_neg(), hc.wrapping_neg());
                        self.values[at + stride + 1] = of(hx, hy, hc);
                        self.values[at + stride] = of(hx, ny, nc);
                        self.values[at + 1] = of(nx, hy, nc);
                        self.values[at] = of(nx, ny, hc);
                    }
                    (false, false) => self.values[at] = mean >> shift,
                    _ => {
                        let other = if right { at + 1 } else { at + stride };
                        let d = rounded(self.values[other], low);
                        let next = d & low;
                        let mean = if mean >= 0 {
                            mean.wrapping_sub(next)
                        } else {
                            mean.wrapping_add(next)
                        };
                        self.values[other] = mean.wrapping_add(d) >> shift;
                        self.values[at] = mean.wrapping_sub(d) >> shift;
                    }
                }
            }
        }
    }
}

/// To the nearest multiple of a power of two, halves away from zero.
const fn rounded(v: i64, step: i64) -> i64 {
    let half = step >> 1;
    let up = if v >= 0 { half } else { half - 1 };
    v.wrapping_add(up) & -step
}

/// The first half of some values to the even places, the second to the odd ones.
fn interleave(values: &mut [i64], scratch: &mut Vec<i64>) {
    scratch.clear();
    scratch.extend_from_slice(values);
    let half = values.len().div_ceil(2);
    for (i, v) in values.iter_mut().enumerate() {
        *v = scratch[if i % 2 == 0 { i / 2 } else { half + i / 2 }];
    }
}

/// Which of its 2 x 2 a code names: 8, 4 in the first row, 2, 1 in the second.
const fn flag(code: u8, x: usize, y: usize) -> u8 {
    (code >> (3 - (2 * (y % 2) + x % 2))) & 1
}

/// The codes of the next finer squares: read, from the last to the first, for those that the coarser ones name.
fn deeper(bits: &mut Bits<'_>, codes: &[u8], columns: usize, rows: usize) -> Option<Vec<u8>> {
    let mut finer = vec![0; columns * rows];
    for i in (0..finer.len()).rev() {
        let (x, y) = (i % columns, i / columns);
        let above = codes[(y / 2) * columns.div_ceil(2) + x / 2];
        if flag(above, x, y) == 1 {
            finer[i] = code(bits)?;
        }
    }
    Some(finer)
}

/// A code of four bits in a fixed Huffman coding: what is frequent takes three bits, what is rare six.
fn code(bits: &mut Bits<'_>) -> Option<u8> {
    let three = bits.take(3)?;
    if three < 4 {
        return Some(1 << three);
    }
    let four = three << 1 | bits.take(1)?;
    if let Some(code) = [3, 5, 10, 12, 15].get(four as usize - 8) {
        return Some(*code);
    }
    let five = four << 1 | bits.take(1)?;
    if let Some(code) = [6, 7, 9, 11, 13].get(five as usize - 26) {
        return Some(*code);
    }
    let six = five << 1 | bits.take(1)?;
    Some(if six == 62 { 0 } else { 14 })
}
