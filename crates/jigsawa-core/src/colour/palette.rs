//! Palettes: named sets of three mixes, with a luminance and stars of their own if wanted.
//!
//! They are data: those that come with the program stand in a table, others in a user's file of the same form.

use serde::Deserialize;

use crate::filter::{Band, Filter};

use super::mix::{Mix, MixError, parse};

/// Which mix makes which channel.
#[derive(Debug, Clone, PartialEq)]
pub struct Palette {
    /// Its name, as it stands in file names.
    pub name: String,
    /// What it is for, in a line.
    pub about: String,
    /// Red, green and blue.
    pub channels: [Mix; 3],
    /// Brightness from a mix of its own, colour from the channels.
    pub luminance: Option<Mix>,
    /// Stars from mixes of their own.
    pub stars: Option<[Mix; 3]>,
}

/// A palette as it is written in a file.
#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Written {
    /// What it is for.
    #[serde(default)]
    pub about: String,
    /// Mix of the red channel.
    pub red: String,
    /// Mix of the green channel.
    pub green: String,
    /// Mix of the blue channel.
    pub blue: String,
    /// Mix of the brightness.
    pub luminance: Option<String>,
    /// Mixes of the stars.
    pub stars: Option<WrittenStars>,
}

/// The stars of a palette as they are written.
#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct WrittenStars {
    /// Mix of the red channel.
    pub red: String,
    /// Mix of the green channel.
    pub green: String,
    /// Mix of the blue channel.
    pub blue: String,
}

/// A mix of a written palette that cannot be understood.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("its {channel} mix: {error}")]
pub struct WrittenError {
    /// Which mix.
    pub channel: &'static str,
    /// Its text.
    pub text: String,
    /// What is wrong with it.
    pub error: MixError,
}

/// There is no such palette.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("there is no palette '{0}'")]
pub struct PaletteError(pub String);

/// Letters of the narrowband lines in palette names.
const LINES: [(char, Filter); 4] = [
    ('S', Filter::Sii),
    ('H', Filter::Ha),
    ('O', Filter::Oiii),
    ('N', Filter::Nii),
];

/// A built-in palette: name, use, red, green, blue, luminance, whether its stars are red, green and blue.
type Row = (
    &'static str,
    &'static str,
    [&'static str; 3],
    Option<&'static str>,
    bool,
);

/// Palettes that are more than an order of lines. Their mixes take the lines to be equally strong.
const TABLE: [Row; 13] = [
    (
        "RGB",
        "broadband in natural colour",
        ["R", "G", "B"],
        None,
        false,
    ),
    (
        "LRGB",
        "natural colour, detail from an unfiltered luminance",
        ["R", "G", "B"],
        Some("L"),
        false,
    ),
    (
        "HaRGB",
        "natural colour, hydrogen as deep red",
        ["40% R + 90% Ha", "G", "B"],
        None,
        false,
    ),
    (
        "HaLRGB",
        "natural colour, brightness and detail from hydrogen",
        ["R", "G", "B"],
        Some("20% G + 80% Ha"),
        false,
    ),
    (
        "ember",
        "three lines: hydrogen as fire, oxygen as blue smoke",
        [
            "75% Ha + 45% SII",
            "38% Ha + 22% SII + 22% OIII",
            "12% Ha + 80% OIII",
        ],
        None,
        false,
    ),
    (
        "tidepool",
        "three lines: golden shores around teal water",
        [
            "60% SII + 40% Ha",
            "45% Ha + 15% SII + 35% OIII",
            "8% Ha + 92% OIII",
        ],
        None,
        false,
    ),
    (
        "moss",
        "three lines: sulphur russet, hydrogen olive, oxygen slate",
        [
            "58% SII + 30% Ha + 8% OIII",
            "60% Ha + 30% OIII",
            "18% Ha + 44% OIII",
        ],
        None,
        false,
    ),
    (
        "dusk",
        "two lines: rose hydrogen, violet where oxygen joins it",
        [
            "90% Ha + 10% OIII",
            "28% Ha + 48% OIII",
            "35% Ha + 65% OIII",
        ],
        None,
        false,
    ),
    (
        "copper",
        "two lines: copper hydrogen against teal oxygen",
        ["Ha", "42% Ha + 52% OIII", "10% Ha + 84% OIII"],
        None,
        false,
    ),
    (
        "nearby",
        "two lines near to what the eye would see: red hydrogen, blue-green oxygen",
        ["Ha + 4% OIII", "8% Ha + 82% OIII", "20% Ha + 70% OIII"],
        None,
        false,
    ),
    (
        "lantern",
        "golden shores and blue water under stars in natural colour",
        [
            "60% SII + 40% Ha",
            "45% Ha + 15% SII + 35% OIII",
            "8% Ha + 92% OIII",
        ],
        None,
        true,
    ),
    (
        "SHO-RGB",
        "the lines in their usual order under stars in natural colour",
        ["SII", "Ha", "OIII"],
        None,
        true,
    ),
    (
        "HOO-RGB",
        "hydrogen and oxygen under stars in natural colour",
        ["Ha", "OIII", "OIII"],
        None,
        true,
    ),
];

/// What the usual orders of lines are for.
const ORDERS: [(&str, &str); 4] = [
    (
        "SHO",
        "three lines by wavelength, sulphur in red: gold and blue",
    ),
    ("HOO", "two lines: red hydrogen, teal oxygen"),
    ("HSO", "three lines, hydrogen in red: rose and blue"),
    ("OHS", "three lines, oxygen in red: magenta and green"),
];

/// Of the other orders.
const ANY_ORDER: &str = "the lines as red, green and blue";

impl Palette {
    /// The palette of a name: one of the table, or any three letters of the lines S, H, O and N. Case does
    /// not matter.
    ///
    /// # Errors
    /// When there is no such palette.
    pub fn by_name(name: &str) -> Result<Self, PaletteError> {
        let wrong = || PaletteError(name.to_owned());
        if let Some(row) = TABLE.iter().find(|r| r.0.eq_ignore_ascii_case(name)) {
            return of_row(row).map_err(|_| wrong());
        }
        let upper = name.to_uppercase();
        let of = |f: &Filter| Mix::of(f.name());
        let line = |c: char| LINES.iter().find(|(l, _)| *l == c).map(|(_, f)| of(f));
        let lines: Option<Vec<Mix>> = upper.chars().map(line).collect();
        let channels = lines
            .and_then(|l| <[Mix; 3]>::try_from(l).ok())
            .ok_or_else(wrong)?;
        let about = ORDERS
            .iter()
            .find(|(n, _)| *n == upper)
            .map_or(ANY_ORDER, |o| o.1);
        Ok(Self {
            name: upper,
            about: about.to_owned(),
            channels,
            luminance: None,
            stars: None,
        })
    }

    /// The palettes that are shown and tried: the usual orders of lines, and the table.
    pub fn shown() -> Vec<Self> {
        let names = ORDERS.iter().map(|o| o.0).chain(TABLE.iter().map(|r| r.0));
        names.filter_map(|n| Self::by_name(n).ok()).collect()
    }

    /// Of palettes those that differ at a glance: of two with the same mixes, the one whose stars have their own colours, or
    /// whose brightness comes from an unfiltered luminance.
    pub fn apart(palettes: &[Self]) -> Vec<Self> {
        let unfiltered = Mix::of(Filter::L.name());
        let better = |o: &Self, p: &Self| {
            let stars = o.luminance == p.luminance && o.stars.is_some() && p.stars.is_none();
            let detail = o.luminance.as_ref() == Some(&unfiltered) && p.luminance.is_none();
            o.channels == p.channels && (stars || detail)
        };
        let kept = |p: &&Self| !palettes.iter().any(|o| better(o, p));
        palettes.iter().filter(kept).cloned().collect()
    }

    /// All names that [`Self::by_name`] knows, those that are shown first.
    pub fn all_names() -> Vec<String> {
        let mut names: Vec<String> = Self::shown().into_iter().map(|p| p.name).collect();
        for (a, _) in LINES {
            for (b, _) in LINES {
                for (c, _) in LINES {
                    let name = format!("{a}{b}{c}");
                    if !names.contains(&name) {
                        names.push(name);
                    }
                }
            }
        }
        names
    }

    /// A palette that somebody has written.
    ///
    /// # Errors
    /// The first mix that cannot be understood.
    pub fn written(name: &str, w: &Written) -> Result<Self, WrittenError> {
        let mix = |channel: &'static str, text: &str| {
            parse(text).map_err(|error| WrittenError {
                channel,
                text: text.to_owned(),
                error,
            })
        };
        let three = |r: &str, g: &str, b: &str| -> Result<[Mix; 3], WrittenError> {
            Ok([mix("red", r)?, mix("green", g)?, mix("blue", b)?])
        };
        Ok(Self {
            name: name.to_owned(),
            about: w.about.clone(),
            channels: three(&w.red, &w.green, &w.blue)?,
            luminance: w
                .luminance
                .as_ref()
                .map(|l| mix("luminance", l))
                .transpose()?,
            stars: w
                .stars
                .as_ref()
                .map(|s| three(&s.red, &s.green, &s.blue))
                .transpose()?,
        })
    }

    /// All mixes: the channels, the luminance, the stars.
    pub fn mixes(&self) -> impl Iterator<Item = &Mix> {
        let stars = self.stars.iter().flatten();
        self.channels
            .iter()
            .chain(self.luminance.as_ref())
            .chain(stars)
    }

    /// Names that its mixes need, each once.
    pub fn needs(&self) -> Vec<String> {
        let mut names: Vec<String> = Vec::new();
        for n in self.mixes().flat_map(Mix::names) {
            if !names.contains(&n.text) {
                names.push(n.text.clone());
            }
        }
        names
    }

    /// Is every channel made of narrowband lines alone?
    pub fn is_narrow(&self, band_of: impl Fn(&str) -> Band) -> bool {
        self.channels
            .iter()
            .flat_map(Mix::names)
            .all(|n| band_of(&n.text) == Band::Narrow)
    }
}

fn of_row(
    (name, about, [red, green, blue], luminance, stars): &Row,
) -> Result<Palette, WrittenError> {
    let natural = WrittenStars {
        red: "R".to_owned(),
        green: "G".to_owned(),
        blue: "B".to_owned(),
    };
    let written = Written {
        about: (*about).to_owned(),
        red: (*red).to_owned(),
        green: (*green).to_owned(),
        blue: (*blue).to_owned(),
        luminance: luminance.map(str::to_owned),
        stars: stars.then_some(natural),
    };
    Palette::written(name, &written)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn three_letters_of_the_lines_are_a_palette() {
        let p = Palette::by_name("sho").unwrap();
        let texts: Vec<&str> = p.mixes().map(Mix::text).collect();
        assert_eq!((p.name.as_str(), texts), ("SHO", vec!["SII", "Ha", "OIII"]));
        assert!(p.is_narrow(|n| Filter::from(n.to_owned()).band()));
        for name in ["", "SH", "SHOO", "SHX", "BRG"] {
            assert!(Palette::by_name(name).is_err(), "{name}");
        }
    }

    #[test]
    fn every_listed_palette_exists_and_none_twice() {
        let mut names = Palette::all_names();
        for n in &names {
            let p = Palette::by_name(n).unwrap();
            assert_eq!(&p.name, n);
            assert!(!p.about.is_empty() && !p.needs().is_empty());
        }
        let count = names.len();
        names.sort();
        names.dedup();
        assert_eq!(names.len(), count);
        assert_eq!(count, 64 + TABLE.len());
    }

    #[test]
    fn lrgb_takes_its_brightness_from_the_luminance_and_lantern_its_stars() {
        let p = Palette::by_name("LRGB").unwrap();
        assert_eq!(p.luminance.as_ref().map(Mix::text), Some("L"));
        assert!(!p.is_narrow(|n| Filter::from(n.to_owned()).band()));
        let p = Palette::by_name("Lantern").unwrap();
        assert!(p.is_narrow(|n| Filter::from(n.to_owned()).band()));
        assert_eq!(p.needs(), ["SII", "Ha", "OIII", "R", "G", "B"]);
    }

    #[test]
    fn a_written_palette_tells_which_mix_is_wrong() {
        let mut w = Written {
            about: String::new(),
            red: "Ha".to_owned(),
            green: "OIII".to_owned(),
            blue: "OIII".to_owned(),
            luminance: None,
            stars: None,
        };
        assert_eq!(
            Palette::written("mine", &w).unwrap().needs(),
            ["Ha", "OIII"]
        );
        w.green = "OIII +".to_owned();
        assert_eq!(Palette::written("mine", &w).unwrap_err().channel, "green");
    }
}
