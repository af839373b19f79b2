//! A strip below the picture with words on it.

use super::text::Words;
use jigsawa_core::number::Convert;

/// Height of the strip, as a part of the picture's shorter side, and its least.
const PART: f64 = 0.045;
const LEAST: usize = 28;

/// Brightness of strip and letters on the screen.
const GROUND: f32 = 0.045;
const INK: f32 = 0.78;

/// Height of the strip below a picture of this shape.
pub fn strip_height((width, height): (usize, usize)) -> usize {
    (PART * width.min(height).real()).round().index().max(LEAST)
}

/// Facts that a caption's words may name.
#[derive(Debug, Clone, Default)]
pub struct Caption {
    /// What it shows.
    pub target: String,
    /// Its palette.
    pub palette: String,
    /// The filters that it is made of.
    pub filters: String,
    /// All exposures together, in words; empty when no header tells.
    pub time: String,
    /// The evening or the date of the first exposure; empty when no header tells.
    pub date: String,
}

/// Words that stand for facts.
pub const FIELDS: [&str; 5] = ["target", "palette", "filters", "time", "date"];

impl Caption {
    fn field(&self, name: &str) -> Option<&str> {
        Some(match name {
            "target" => &self.target,
            "palette" => &self.palette,
            "filters" => &self.filters,
            "time" => &self.time,
            "date" => &self.date,
            _ => return None,
        })
    }

    /// The template's words. An empty fact takes the separator before it away.
    ///
    /// # Errors
    /// The name in braces that stands for nothing.
    pub fn filled(&self, template: &str) -> Result<String, String> {
        let mut out = String::new();
        let mut rest = template;
        while let Some((before, after)) = rest.split_once('{') {
            let (name, tail) = after.split_once('}').ok_or_else(|| after.to_owned())?;
            let value = self.field(name.trim()).ok_or_else(|| name.to_owned())?;
            if !value.is_empty() || before.trim().chars().any(char::is_alphanumeric) {
                out.push_str(before);
            }
            out.push_str(value);
            rest = tail;
        }
        out.push_str(rest);
        let ends: &[char] = &[' ', '·', '|', ',', '-'];
        Ok(out.trim_matches(ends).to_owned())
    }

    /// The rows of a strip of this width and height with `text` on it: red, green and blue from 0 to 1.
    pub fn strip(text: &str, (width, height): (usize, usize)) -> Vec<f32> {
        let mut rows = vec![GROUND; 3 * width * height];
        let line = |tall: usize| Words {
            text,
            height: tall,
            colour: [255; 3],
            bold: false,
        };
        let mut tall = (0.62 * height.real()).index();
        while tall > 8 && line(tall).width() + height > width {
            tall -= 1;
        }
        let words = line(tall);
        let wide = words.width();
        let (left, top) = (height / 2, (height - tall) / 2);
        for (i, part) in words.coverage().into_iter().enumerate() {
            let (x, y) = (left + i % wide, top + i / wide);
            if x < width && y < height {
                rows[3 * (y * width + x)..][..3].fill(GROUND + part * (INK - GROUND));
            }
        }
        rows
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_template_is_filled_and_empty_facts_leave_no_gap() {
        let c = Caption {
            target: "Lantern Reef".to_owned(),
            filters: "Ha, OIII".to_owned(),
            ..Caption::default()
        };
        assert_eq!(
            c.filled("{target} · {time} · {filters}").unwrap(),
            "Lantern Reef · Ha, OIII"
        );
        assert_eq!(c.filled("{target} by me").unwrap(), "Lantern Reef by me");
        assert_eq!(c.filled("{target} {camera}"), Err("camera".to_owned()));
        assert!(c.filled("{target").is_err());
    }

    #[test]
    fn the_strip_has_letters_in_it() {
        let rows = Caption::strip("Lantern Reef", (400, 30));
        assert_eq!(rows.len(), 3 * 400 * 30);
        assert!(rows.iter().filter(|v| **v > 0.5).count() > 300);
        assert!(rows[..30].iter().all(|v| *v < 0.1));
    }
}
