//! Palettes: named sets of three mixes, four with a luminance.

use crate::filter::{Band, Filter};

use super::mix::Mix;

/// Which mix makes which channel.
#[derive(Debug, Clone, PartialEq)]
pub struct Palette {
    /// Its name, as it stands in file names.
    pub name: String,
    /// Red, green and blue.
    pub channels: [Mix; 3],
    /// Brightness from a mix of its own, colour from the channels.
    pub luminance: Option<Mix>,
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

impl Palette {
    /// The palette of a name: RGB, LRGB, or any three letters of the lines S, H, O and N. Case does
    /// not matter.
    ///
    /// # Errors
    /// When there is no such palette.
    pub fn by_name(name: &str) -> Result<Self, PaletteError> {
        let upper = name.to_uppercase();
        let of = |f: &Filter| Mix::of(f.name());
        let colours = [of(&Filter::R), of(&Filter::G), of(&Filter::B)];
        if upper == "RGB" || upper == "LRGB" {
            return Ok(Self {
                luminance: (upper == "LRGB").then(|| of(&Filter::L)),
                name: upper,
                channels: colours,
            });
        }
        let line = |c: char| LINES.iter().find(|(l, _)| *l == c).map(|(_, f)| of(f));
        let lines: Option<Vec<Mix>> = upper.chars().map(line).collect();
        match lines.and_then(|l| <[Mix; 3]>::try_from(l).ok()) {
            Some(channels) => Ok(Self {
                name: upper,
                channels,
                luminance: None,
            }),
            None => Err(PaletteError(name.to_owned())),
        }
    }

    /// All names that [`Self::by_name`] knows, the usual ones first.
    pub fn all_names() -> Vec<String> {
        let mut names: Vec<String> = ["SHO", "HOO", "HSO", "RGB", "LRGB"]
            .map(str::to_owned)
            .to_vec();
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

    /// All mixes: the channels, then the luminance.
    pub fn mixes(&self) -> impl Iterator<Item = &Mix> {
        self.channels.iter().chain(self.luminance.as_ref())
    }

    /// Is every channel made of narrowband lines alone?
    pub fn is_narrow(&self, band_of: impl Fn(&str) -> Band) -> bool {
        self.channels
            .iter()
            .flat_map(Mix::names)
            .all(|n| band_of(&n.text) == Band::Narrow)
    }
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
            assert_eq!(&Palette::by_name(n).unwrap().name, n);
        }
        let count = names.len();
        names.sort();
        names.dedup();
        assert_eq!((names.len(), count), (66, 66));
    }

    #[test]
    fn lrgb_takes_its_brightness_from_the_luminance() {
        let p = Palette::by_name("LRGB").unwrap();
        assert_eq!(p.luminance.as_ref().map(Mix::text), Some("L"));
        assert!(!p.is_narrow(|n| Filter::from(n.to_owned()).band()));
    }
}
