//! A catalogue of stars with known colours, as the user gives it: CSV with a line of names.

use std::path::Path;

use jigsawa_core::finish::white::{Index, KnownStar};
use jigsawa_core::wcs::Sky;

use jigsawa_formats::inputs;

use crate::trouble::Trouble;

/// Names of a column, any of them, in any case; degrees and magnitudes.
const RA: [&str; 3] = ["ra", "ra_deg", "raj2000"];
const DEC: [&str; 3] = ["dec", "dec_deg", "dej2000"];
/// Columns that tell a colour: names of the bluer magnitude, of the redder, and of that which tells brightness.
struct Colour {
    blue: &'static [&'static str],
    red: &'static [&'static str],
    bright: &'static [&'static str],
    index: Index,
}

const COLOURS: [Colour; 2] = [
    Colour {
        blue: &["b", "bmag", "b_mag"],
        red: &["v", "vmag", "v_mag"],
        bright: &["v", "vmag", "v_mag"],
        index: Index::BV,
    },
    Colour {
        blue: &["bp", "bpmag", "bp_mag", "phot_bp_mean_mag"],
        red: &["rp", "rpmag", "rp_mag", "phot_rp_mean_mag"],
        bright: &["g", "gmag", "g_mag", "phot_g_mean_mag"],
        index: Index::BpRp,
    },
];

/// Reads the catalogue.
pub fn read(file: &Path) -> Result<(Vec<KnownStar>, Index), Trouble> {
    inputs::read_text(file)
        .map_err(|e| e.to_string())
        .and_then(|text| parse(&text))
        .map_err(|error| Trouble::StarList {
            file: file.to_owned(),
            error,
        })
}

/// Stars and the kind of their colours. Lines without a colour are passed over.
fn parse(text: &str) -> Result<(Vec<KnownStar>, Index), String> {
    let mut reader = csv::ReaderBuilder::new()
        .comment(Some(b'#'))
        .trim(csv::Trim::All)
        .flexible(true)
        .from_reader(text.as_bytes());
    let names: Vec<String> = reader
        .headers()
        .map_err(|e| e.to_string())?
        .iter()
        .map(str::to_lowercase)
        .collect();
    let column = |known: &[&str]| names.iter().position(|n| known.contains(&n.as_str()));
    let (Some(ra), Some(dec)) = (column(&RA), column(&DEC)) else {
        return Err("it has no columns 'ra' and 'dec', in degrees".to_owned());
    };
    let found = COLOURS.iter().find_map(|c| {
        let (blue, red) = (column(c.blue)?, column(c.red)?);
        Some((blue, red, column(c.bright).unwrap_or(red), c.index))
    });
    let Some((blue, red, bright, index)) = found else {
        return Err(
            "it has no pair of columns that tells colours: 'B' and 'V', or 'BP' and 'RP'"
                .to_owned(),
        );
    };
    let mut stars = Vec::new();
    for (i, line) in reader.records().enumerate() {
        let line = line.map_err(|e| format!("line {}: {e}", i + 2))?;
        let number = |c: usize| {
            line.get(c)
                .and_then(|t| t.parse::<f64>().ok())
                .filter(|v| v.is_finite())
        };
        if let (Some(ra), Some(dec), Some(b), Some(r)) =
            (number(ra), number(dec), number(blue), number(red))
        {
            stars.push(KnownStar {
                at: Sky {
                    ra_deg: ra,
                    dec_deg: dec,
                },
                colour: b - r,
                magnitude: number(bright).unwrap_or(r),
            });
        }
    }
    if stars.is_empty() {
        return Err("no line has a place and a colour".to_owned());
    }
    Ok((stars, index))
}

#[cfg(test)]
mod tests {
    use super::*;
    use jigsawa_sky::garble::{Garble, runs};

    #[test]
    fn spoilt_catalogues_are_read_or_refused() {
        let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/corpus/catalogues");
        let mut garble = Garble::of_folder(&folder);
        let (runs, mut taken) = (runs(5_000), 0);
        for number in 0..runs {
            if let Ok((stars, _)) = parse(&garble.text(number)) {
                assert!(!stars.is_empty() && stars.iter().all(|s| s.at.ra_deg.is_finite()));
                taken += 1;
            }
        }
        assert!(taken > runs / 20, "{taken} of {runs}");
    }
}
