//! Filters: one table from the spellings that people and capture programs use to canonical names.

use std::fmt;

use serde::{Deserialize, Serialize};

/// A filter by its canonical name.
#[derive(Debug, Clone, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(from = "String", into = "String")]
pub enum Filter {
    /// Hydrogen alpha, 656 nm.
    Ha,
    /// Doubly ionised oxygen, 501 nm.
    Oiii,
    /// Ionised sulphur, 672 nm.
    Sii,
    /// Ionised nitrogen, 658 nm.
    Nii,
    /// Hydrogen beta, 486 nm.
    Hb,
    /// Luminance: all visible light.
    L,
    /// Red, of an imaging or a photometric set.
    R,
    /// Green.
    G,
    /// Blue, of an imaging or a photometric set.
    B,
    /// Visual, of a photometric set.
    V,
    /// Near infrared, of a photometric set.
    I,
    /// A name that its user gave by hand.
    Other(String),
}

/// How much of the spectrum a filter passes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Band {
    /// Stars shine through in their colours.
    Broad,
    /// A single line.
    Narrow,
}

/// Canonical filter, name as we write it, the spellings that mean it (small letters, no separators).
const TABLE: [(Filter, &str, &[&str]); 11] = [
    (
        Filter::Ha,
        "Ha",
        &[
            "ha",
            "halpha",
            "h\u{3b1}",
            "hydrogen",
            "hydrogenalpha",
            "656nm",
        ],
    ),
    (
        Filter::Oiii,
        "OIII",
        &["oiii", "o3", "oxygen", "oxygeniii", "501nm"],
    ),
    (
        Filter::Sii,
        "SII",
        &[
            "sii",
            "s2",
            "sulfur",
            "sulphur",
            "sulfurii",
            "sulphurii",
            "672nm",
        ],
    ),
    (
        Filter::Nii,
        "NII",
        &["nii", "n2", "nitrogen", "nitrogenii", "658nm"],
    ),
    (
        Filter::Hb,
        "Hb",
        &["hb", "hbeta", "h\u{3b2}", "hydrogenbeta", "486nm"],
    ),
    (
        Filter::L,
        "L",
        &[
            "l",
            "lum",
            "luminance",
            "clear",
            "c",
            "uvir",
            "uvircut",
            "ircut",
        ],
    ),
    (
        Filter::R,
        "R",
        &[
            "r", "red", "rc", "besselr", "bessellr", "cousinsr", "johnsonr",
        ],
    ),
    (Filter::G, "G", &["g", "green", "grn"]),
    (
        Filter::B,
        "B",
        &["b", "blue", "blu", "besselb", "bessellb", "johnsonb"],
    ),
    (
        Filter::V,
        "V",
        &["v", "visual", "besselv", "bessellv", "johnsonv"],
    ),
    (
        Filter::I,
        "I",
        &[
            "i", "ic", "besseli", "besselli", "cousinsi", "infrared", "nir",
        ],
    ),
];

impl Filter {
    /// The filter that a header or a user means, or `None` when the spelling is not known. Case,
    /// blanks, hyphens, underscores, the word "filter" and a bandwidth ("7nm") do not matter.
    pub fn from_spelling(text: &str) -> Option<Self> {
        let mut words: Vec<String> = text
            .split(|c: char| !c.is_alphanumeric() && c != '.')
            .map(str::to_lowercase)
            .filter(|w| !w.is_empty() && w != "filter" && w != "band")
            .collect();
        // "7 nm" is one word.
        while let Some(i) = words.iter().skip(1).position(|w| w == "nm") {
            words.remove(i + 1);
            words[i].push_str("nm");
        }
        let wavelength = words
            .iter()
            .find_map(|w| look_up(w).filter(|_| w.ends_with("nm")));
        let rest: Vec<&String> = words.iter().filter(|w| !is_bandwidth(w)).collect();
        let joined: String = rest.iter().map(|w| w.as_str()).collect();
        look_up(&joined).or(wavelength).or_else(|| {
            // A maker's name before or after: one word alone must decide, single letters do not.
            let mut hits: Vec<Self> = rest
                .iter()
                .filter(|w| w.chars().count() > 1)
                .filter_map(|w| look_up(w))
                .collect();
            hits.sort();
            hits.dedup();
            (hits.len() == 1).then(|| hits.remove(0))
        })
    }

    /// The filter that a file's name tells, as in `master_Ha.fits` or `reef-R-300s.fit`: one of its words, alone. Single
    /// letters count as capitals only, since an `i` may be a number of something. `None` where no word tells one, or
    /// several do.
    pub fn from_file_name(name: &str) -> Option<Self> {
        let stem = name.split('.').next().unwrap_or(name);
        let mut hits: Vec<Self> = stem
            .split(|c: char| !c.is_alphanumeric())
            .filter(|w| w.chars().count() > 1 || w.chars().all(char::is_uppercase))
            .filter_map(|w| look_up(&w.to_lowercase()))
            .collect();
        hits.sort();
        hits.dedup();
        (hits.len() == 1).then(|| hits.remove(0))
    }

    /// A filter named by hand: a known spelling, or any plain word as a name of its own. `None` when
    /// the text could not be used as a name in a mix.
    pub fn named_by_hand(text: &str) -> Option<Self> {
        Self::from_spelling(text).or_else(|| {
            let mut letters = text.chars();
            let plain = letters
                .next()
                .is_some_and(|c| c.is_alphabetic() || c == '_')
                && letters.all(|c| c.is_alphanumeric() || c == '_');
            plain.then(|| Self::Other(text.to_owned()))
        })
    }

    /// The canonical name.
    pub fn name(&self) -> &str {
        if let Self::Other(name) = self {
            return name;
        }
        TABLE
            .iter()
            .find(|(f, _, _)| f == self)
            .map_or("", |(_, name, _)| name)
    }

    /// One line or many colours. A filter that is not ours is taken as broad.
    pub const fn band(&self) -> Band {
        match self {
            Self::Ha | Self::Oiii | Self::Sii | Self::Nii | Self::Hb => Band::Narrow,
            _ => Band::Broad,
        }
    }

    /// All canonical names, for messages.
    pub fn all_names() -> impl Iterator<Item = &'static str> {
        TABLE.iter().map(|(_, name, _)| *name)
    }
}

fn look_up(joined: &str) -> Option<Filter> {
    TABLE
        .iter()
        .find(|(_, _, spellings)| spellings.contains(&joined))
        .map(|(f, _, _)| f.clone())
}

fn is_bandwidth(word: &str) -> bool {
    let number = word.strip_suffix("nm").unwrap_or(word);
    (word == "nm" || (word.ends_with("nm") && number.parse::<f64>().is_ok()))
        && look_up(word).is_none()
}

impl fmt::Display for Filter {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.name())
    }
}

impl From<String> for Filter {
    fn from(name: String) -> Self {
        TABLE
            .iter()
            .find(|(_, n, _)| *n == name)
            .map_or(Self::Other(name), |(f, _, _)| f.clone())
    }
}

impl From<Filter> for String {
    fn from(f: Filter) -> Self {
        f.name().to_owned()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("Ha", Filter::Ha)]
    #[case("H-alpha", Filter::Ha)]
    #[case("H_Alpha", Filter::Ha)]
    #[case("HALPHA 7nm", Filter::Ha)]
    #[case("H\u{3b1}", Filter::Ha)]
    #[case("O3", Filter::Oiii)]
    #[case("O-III 6.5 nm", Filter::Oiii)]
    #[case("s ii", Filter::Sii)]
    #[case("N2", Filter::Nii)]
    #[case("h-beta", Filter::Hb)]
    #[case("Luminance", Filter::L)]
    #[case("clear", Filter::L)]
    #[case("Red filter", Filter::R)]
    #[case("Bessel V", Filter::V)]
    #[case("Somebody Green 36mm", Filter::G)]
    #[case("i", Filter::I)]
    fn spellings_are_known(#[case] text: &str, #[case] filter: Filter) {
        assert_eq!(Filter::from_spelling(text), Some(filter));
    }

    #[rstest]
    #[case("filter 3")]
    #[case("")]
    #[case("red or green")]
    #[case("dark")]
    #[case("3nm")]
    fn nonsense_is_not_guessed(#[case] text: &str) {
        assert_eq!(Filter::from_spelling(text), None);
    }

    #[test]
    fn names_go_to_text_and_back() {
        for (filter, name, _) in TABLE {
            assert_eq!(filter.name(), name);
            assert_eq!(Filter::from(name.to_owned()), filter);
            assert_eq!(Filter::from_spelling(name), Some(filter));
        }
        assert_eq!(
            Filter::named_by_hand("Glow"),
            Some(Filter::Other("Glow".into()))
        );
        assert_eq!(Filter::named_by_hand("two words"), None);
    }
}
