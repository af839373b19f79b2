//! The letters that the program carries: sheets of them, drawn in a few heights (`assets/letters`).

use std::sync::LazyLock;

use jigsawa_core::number::Convert;

/// The first letter of a sheet, and how many stand in a row and in a column.
const FIRST: u32 = 0x20;
const ACROSS: usize = 32;
const DOWN: usize = 11;

/// Letters of one height and weight.
pub(super) struct Sheet {
    /// Width of every letter in pixels.
    pub(super) width: usize,
    /// Height of every letter.
    pub(super) height: usize,
    /// How much of each pixel is covered, row after row of the whole sheet.
    ink: Vec<u8>,
}

macro_rules! sheet {
    ($name:literal) => {
        Sheet::read(include_bytes!(concat!(
            "../../assets/letters/",
            $name,
            ".png"
        )))
    };
}

static REGULAR: LazyLock<[Sheet; 4]> = LazyLock::new(|| {
    [
        sheet!("regular-16"),
        sheet!("regular-20"),
        sheet!("regular-24"),
        sheet!("regular-32"),
    ]
});

static BOLD: LazyLock<[Sheet; 4]> = LazyLock::new(|| {
    [
        sheet!("bold-16"),
        sheet!("bold-20"),
        sheet!("bold-24"),
        sheet!("bold-32"),
    ]
});

impl Sheet {
    /// The sheet whose letters are nearest to a height; the larger of two that are as near.
    pub(super) fn of(height: usize, bold: bool) -> &'static Self {
        let [smallest, larger @ ..] = if bold { &*BOLD } else { &*REGULAR };
        let nearer = |best: &'static Self, s: &'static Self| {
            let is_nearer = s.height.abs_diff(height) <= best.height.abs_diff(height);
            if is_nearer { s } else { best }
        };
        larger.iter().fold(smallest, nearer)
    }

    /// Decodes a sheet. One that cannot be read has no ink: a test reads them all.
    fn read(bytes: &[u8]) -> Self {
        let decoded = || {
            let mut reader = png::Decoder::new(std::io::Cursor::new(bytes))
                .read_info()
                .ok()?;
            let mut ink = vec![0; reader.output_buffer_size()?];
            let info = reader.next_frame(&mut ink).ok()?;
            Some(Self {
                width: info.width as usize / ACROSS,
                height: info.height as usize / DOWN,
                ink,
            })
        };
        decoded().unwrap_or(Self {
            width: 1,
            height: 1,
            ink: vec![0; ACROSS * DOWN],
        })
    }

    /// A letter's rows: how much of each pixel is covered, from 0 to 255. A question mark stands for what the sheet lacks.
    pub(super) fn letter(&self, letter: char) -> impl Iterator<Item = &[u8]> {
        let place = |c: char| {
            let place = u32::from(c).checked_sub(FIRST)?.index();
            (place < ACROSS * DOWN).then_some(place)
        };
        let place = place(letter).or(place('?')).unwrap_or(0);
        let (row, column) = (place / ACROSS, place % ACROSS);
        let stride = ACROSS * self.width;
        (0..self.height).map(move |y| {
            let from = (row * self.height + y) * stride + column * self.width;
            &self.ink[from..from + self.width]
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_sheet_has_its_letters_and_question_marks_for_the_rest() {
        for (height, bold) in [16, 20, 24, 32]
            .into_iter()
            .flat_map(|h| [(h, false), (h, true)])
        {
            let sheet = Sheet::of(height, bold);
            assert_eq!(sheet.height, height);
            assert!((height / 3..height).contains(&sheet.width));
            let ink = |c| -> u32 { sheet.letter(c).flatten().map(|v| u32::from(*v)).sum() };
            assert_eq!(ink(' '), 0);
            for c in ('!'..='~').chain(['\u{b0}', '\u{b1}', '\u{e9}', '\u{17e}']) {
                assert!(ink(c) > 0, "{c}");
            }
            assert!(ink('W') > 2 * ink('.'));
            for c in ['\n', '\u{3b1}', '\u{85}'] {
                assert!(sheet.letter(c).eq(sheet.letter('?')), "{c:?}");
            }
        }
        assert_eq!(Sheet::of(1, false).height, 16);
        assert_eq!(Sheet::of(21, true).height, 20);
        assert_eq!(Sheet::of(22, true).height, 24);
        assert_eq!(Sheet::of(99, true).height, 32);
    }
}
