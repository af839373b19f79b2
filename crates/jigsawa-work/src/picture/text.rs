//! Words on a picture, in a font that the program carries.

use jigsawa_core::number::Convert;
use jigsawa_core::quick::Picture;

use super::letters::Sheet;

/// Words and how they look.
pub struct Words<'a> {
    /// What is written.
    pub text: &'a str,
    /// Height of a line in pixels; the letters are made for 16 to 32 and enlarged beyond.
    pub height: usize,
    /// Red, green and blue.
    pub colour: [u8; 3],
    /// Is it written strong?
    pub bold: bool,
}

impl Words<'_> {
    /// The letters that are enlarged to the wanted height, and by how much.
    fn sheet(&self) -> (&'static Sheet, f64) {
        let sheet = Sheet::of(self.height, self.bold);
        (sheet, (self.height.real() / sheet.height.real()).max(1.0))
    }

    /// Width of the words in pixels.
    pub fn width(&self) -> usize {
        let (sheet, k) = self.sheet();
        (self.text.chars().count().real() * sheet.width.real() * k)
            .ceil()
            .index()
    }

    /// How much of each pixel the letters cover, row by row: `width` by `height` parts from 0 to 1.
    pub fn coverage(&self) -> Vec<f32> {
        let (sheet, k) = self.sheet();
        let letter = sheet.width;
        let (wide, tall) = (letter * self.text.chars().count(), sheet.height);
        let mut ink = vec![0.0f32; wide * tall];
        for (i, c) in self.text.chars().enumerate() {
            for (y, row) in sheet.letter(c).enumerate() {
                for (x, v) in row.iter().enumerate() {
                    ink[y * wide + i * letter + x] = f32::from(*v) / 255.0;
                }
            }
        }
        let (width, height) = (self.width(), self.height.max(1));
        let at = |x: usize, y: usize| {
            ink.get(y * wide + x.min(wide.saturating_sub(1)))
                .copied()
                .unwrap_or(0.0)
        };
        (0..width * height)
            .map(|i| {
                let u = ((i % width).real() + 0.5) / k - 0.5;
                let v = ((i / width).real() + 0.5) / k - 0.5;
                let (u, v) = (u.max(0.0), v.max(0.0));
                let (x, y, s, t) = (u.index(), v.index(), u.fract().single(), v.fract().single());
                if y >= tall {
                    return 0.0;
                }
                let up = at(x, y) + s * (at(x + 1, y) - at(x, y));
                let low = (y + 1).min(tall - 1);
                let down = at(x, low) + s * (at(x + 1, low) - at(x, low));
                up + t * (down - up)
            })
            .collect()
    }
}

/// Writes words with their upper left corner at (x, y); what does not fit is cut.
pub fn write_words(picture: &mut Picture, words: &Words<'_>, (x, y): (usize, usize)) {
    let width = words.width();
    for (i, part) in words
        .coverage()
        .into_iter()
        .enumerate()
        .filter(|(_, p)| *p > 0.0)
    {
        let (px, py) = (x + i % width, y + i / width);
        if let Some(under) = picture.get(px, py) {
            let mixed = std::array::from_fn(|c| {
                let (a, b) = (f32::from(under[c]), f32::from(words.colour[c]));
                (a + part * (b - a)).round().byte()
            });
            picture.set(px.whole(), py.whole(), mixed);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn words_stand_where_they_are_put_and_grow_with_their_height() {
        let words = |height| Words {
            text: "Ha · 12 h",
            height,
            colour: [255; 3],
            bold: false,
        };
        let mut p = Picture::filled(200, 40, [0; 3]);
        write_words(&mut p, &words(16), (10, 5));
        let lit = |p: &Picture, x: usize| (0..40).any(|y| p.get(x, y).unwrap()[0] > 100);
        assert!((10..10 + words(16).width()).any(|x| lit(&p, x)));
        assert!((0..10).all(|x| !lit(&p, x)) && (12 + words(16).width()..200).all(|x| !lit(&p, x)));
        assert!(words(64).width() > 3 * words(16).width());
        assert_eq!(words(64).coverage().len(), 64 * words(64).width());
        // What does not fit is cut.
        write_words(&mut p, &words(32), (190, 30));
    }
}
