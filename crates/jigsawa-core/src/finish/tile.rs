//! A piece of a picture at work: its three planes, with a border that the steps look into, and memory to
//! work in that is used again from piece to piece.

use crate::number::Convert;
use crate::space::Rect;

/// Three planes of a piece, and a plane that tells stars.
#[derive(Debug, Default)]
pub struct Tile {
    /// Where the piece lies on the picture, border included; it may reach over the picture's edges.
    pub rect: Option<Rect>,
    /// Pixels in a row.
    pub width: usize,
    /// Red, green, blue.
    pub planes: [Vec<f32>; 3],
    /// 1 on a star, 0 away from any.
    pub stars: Vec<f32>,
    /// Planes to work in.
    spare: Vec<Vec<f32>>,
}

impl Tile {
    /// Makes the tile ready for another piece. What its planes hold is left over from the last one.
    pub fn set(&mut self, rect: Rect) {
        self.rect = Some(rect);
        self.width = rect.width;
        for p in &mut self.planes {
            p.resize(rect.area(), 0.0);
        }
        self.stars.clear();
        self.stars.resize(rect.area(), 0.0);
    }

    /// Pixels of a plane.
    pub fn area(&self) -> usize {
        self.planes[0].len()
    }

    /// Cuts `border` pixels off every side.
    pub fn cut(&mut self, border: usize) {
        let Some(rect) = self.rect else { return };
        if border == 0 {
            return;
        }
        let inner = Rect {
            x: rect.x + border.whole(),
            y: rect.y + border.whole(),
            width: rect.width - 2 * border,
            height: rect.height - 2 * border,
        };
        for plane in self.planes.iter_mut().chain([&mut self.stars]) {
            for y in 0..inner.height {
                let from = (y + border) * rect.width + border;
                plane.copy_within(from..from + inner.width, y * inner.width);
            }
            plane.truncate(inner.area());
        }
        self.rect = Some(inner);
        self.width = inner.width;
    }

    /// A plane to work in, of this piece's size; give it back with [`Self::give_back`].
    pub(super) fn borrow(&mut self) -> Vec<f32> {
        let mut plane = self.spare.pop().unwrap_or_default();
        plane.resize(self.area(), 0.0);
        plane
    }

    /// Takes a plane that is no longer needed.
    pub(super) fn give_back(&mut self, plane: Vec<f32>) {
        self.spare.push(plane);
    }

    /// A square piece, for tests.
    #[cfg(test)]
    pub(super) fn square(side: usize) -> Self {
        let mut tile = Self::default();
        tile.set(Rect {
            x: 0,
            y: 0,
            width: side,
            height: side,
        });
        tile
    }

    /// Red, green and blue of a pixel.
    #[cfg(test)]
    pub(super) fn pixel(&self, i: usize) -> [f32; 3] {
        [self.planes[0][i], self.planes[1][i], self.planes[2][i]]
    }

    /// A function of every pixel's three values.
    pub(super) fn each(&mut self, f: impl Fn([f32; 3]) -> [f32; 3]) {
        let [r, g, b] = &mut self.planes;
        for ((r, g), b) in r.iter_mut().zip(g.iter_mut()).zip(b.iter_mut()) {
            [*r, *g, *b] = f([*r, *g, *b]);
        }
    }

    /// The mean of the three channels, into `out`; 0 where one is missing.
    pub(super) fn light_into(&self, out: &mut [f32]) {
        let [r, g, b] = &self.planes;
        for (((o, r), g), b) in out.iter_mut().zip(r).zip(g).zip(b) {
            let sum = r + g + b;
            *o = if sum.is_nan() { 0.0 } else { sum / 3.0 };
        }
    }
}

/// A window that reaches over a picture's edges, filled by mirroring what is inside.
pub(super) fn mirror(part: &[f32], inside: Rect, rect: Rect, out: &mut [f32]) {
    let back = |v: i64, from: i64, n: usize| {
        let n = n.whole();
        let period = (2 * (n - 1)).max(1);
        let d = (v - from).rem_euclid(period);
        (if d < n { d } else { period - d }).index()
    };
    let (before, within) = ((inside.x - rect.x).index(), inside.width);
    let outside: Vec<(usize, usize)> = (0..before)
        .chain(before + within..rect.width)
        .map(|i| (i, back(rect.x + i.whole(), inside.x, inside.width)))
        .collect();
    for (j, row) in out.chunks_exact_mut(rect.width).enumerate() {
        let y = back(rect.y + j.whole(), inside.y, inside.height);
        let line = &part[y * inside.width..(y + 1) * inside.width];
        row[before..before + within].copy_from_slice(line);
        for (i, from) in &outside {
            row[*i] = line[*from];
        }
    }
}

/// A side of the pieces on which noise is measured, and how many there are along each side of the picture.
const PIECE: usize = 384;
const PIECES: usize = 3;

/// Pieces from all over a rectangle.
pub(super) fn pieces(rect: Rect) -> Vec<Rect> {
    let side = |n: usize| PIECE.min(n);
    let (w, h) = (side(rect.width), side(rect.height));
    let along = |from: i64, all: usize, piece: usize, k: usize| {
        from + ((all - piece) * (2 * k + 1) / (2 * PIECES)).whole()
    };
    let count = |n: usize, piece: usize| PIECES.min(n / piece).max(1);
    (0..count(rect.height, h))
        .flat_map(|j| (0..count(rect.width, w)).map(move |i| (i, j)))
        .map(|(i, j)| Rect {
            x: along(rect.x, rect.width, w, i),
            y: along(rect.y, rect.height, h, j),
            width: w,
            height: h,
        })
        .collect()
}
