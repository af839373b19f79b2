//! The table of everything that is known of a frame by name: what `--keep`, `--sort`, `--columns`,
//! tables and reports read.

use super::compare::Compared;
use super::group::filter_label;
use super::measure::Measures;
use super::score::Score;
use crate::frame::{FrameFacts, Kind, Pier};
use crate::number::Convert;

/// Everything known of one frame; what is missing is `None`.
#[derive(Debug, Clone, Copy)]
pub struct Known<'a> {
    /// Name of its file.
    pub file: &'a str,
    /// Its header's facts.
    pub facts: &'a FrameFacts,
    /// The evening that its night began with.
    pub night: Option<&'a str>,
    /// Its measures.
    pub measures: Option<&'a Measures>,
    /// Its place among the others.
    pub compared: Option<&'a Compared>,
    /// Its score.
    pub score: Option<&'a Score>,
}

/// What a quantity is counted in.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Measure {
    /// A plain number.
    Number,
    /// Pixels of the frame.
    Pixels,
    /// A part of a whole, also written in per cent.
    Part,
    /// Seconds.
    Seconds,
    /// Degrees.
    Degrees,
    /// The units of the file, whose values may go to 65535 or to 1.
    Light,
    /// Words, which can only be the same or not.
    Words,
}

/// A value of a quantity.
#[derive(Debug, Clone, PartialEq)]
pub enum Value {
    /// A number.
    Number(f64),
    /// Words.
    Words(String),
}

/// A quantity.
pub struct Quantity {
    /// Its name, as it is typed.
    pub name: &'static str,
    /// What it is counted in.
    pub measure: Measure,
    /// Digits after the point that are worth showing.
    pub digits: usize,
    /// What it is, for users.
    pub what: &'static str,
    /// Its value of a frame; `None` when it is not known.
    pub of: fn(&Known<'_>) -> Option<Value>,
}

const fn number(
    name: &'static str,
    measure: Measure,
    digits: usize,
    what: &'static str,
    of: fn(&Known<'_>) -> Option<Value>,
) -> Quantity {
    Quantity {
        name,
        measure,
        digits,
        what,
        of,
    }
}

const fn words(
    name: &'static str,
    what: &'static str,
    of: fn(&Known<'_>) -> Option<Value>,
) -> Quantity {
    number(name, Measure::Words, 0, what, of)
}

use Measure::{Degrees, Light, Number, Part, Pixels, Seconds};

fn n(v: f64) -> Option<Value> {
    v.is_finite().then_some(Value::Number(v))
}

// Wrapped so that the lines of the table read alike.
#[allow(clippy::unnecessary_wraps)]
fn w(v: &str) -> Option<Value> {
    Some(Value::Words(v.to_owned()))
}

/// The measures of a light: flats and darks show no stars and no sky.
fn light<'a>(k: &Known<'a>) -> Option<&'a Measures> {
    k.measures.filter(|_| k.facts.kind == Kind::Light)
}

/// All quantities, in the order in which they are explained.
pub const QUANTITIES: [Quantity; 46] = [
    words("file", "name of the file", |k| w(k.file)),
    words("kind", "light, flat, dark, bias or dark-flat", |k| {
        w(k.facts.kind.name())
    }),
    words("filter", "filter, or the header's word for it", |k| {
        w(&filter_label(k.facts)?)
    }),
    words("camera", "camera", |k| w(k.facts.camera.as_deref()?)),
    words("telescope", "telescope", |k| {
        w(k.facts.telescope.as_deref()?)
    }),
    words("object", "target", |k| w(k.facts.object.as_deref()?)),
    words(
        "night",
        "evening that the night began with",
        |k| w(k.night?),
    ),
    words("pier", "side of the pier: east or west", |k| {
        w(match k.facts.pier? {
            Pier::East => "east",
            Pier::West => "west",
        })
    }),
    words("pattern", "colour pattern of the chip", |k| {
        w(k.facts.colour_pattern.as_deref()?)
    }),
    number("exposure", Seconds, 1, "exposure", |k| {
        n(k.facts.exposure_s?)
    }),
    number("gain", Number, 0, "gain setting", |k| {
        n(k.facts.gain_setting?)
    }),
    number("offset", Number, 0, "offset setting", |k| {
        n(k.facts.offset_setting?)
    }),
    number(
        "temperature",
        Number,
        1,
        "temperature of the chip in Celsius",
        |k| n(k.facts.celsius?),
    ),
    number(
        "setpoint",
        Number,
        1,
        "temperature that was asked for, in Celsius",
        |k| n(k.facts.set_celsius?),
    ),
    number(
        "iso",
        Number,
        0,
        "sensitivity of a photographic camera",
        |k| n(k.facts.iso?),
    ),
    number(
        "pixel",
        Number,
        2,
        "side of a pixel as read out, in micrometres",
        |k| n(k.facts.pixel_um?),
    ),
    number("focal", Number, 0, "focal length in millimetres", |k| {
        n(k.facts.focal_mm?)
    }),
    number(
        "bits",
        Number,
        0,
        "bits of a value in the file, negative for floating point",
        |k| n(f64::from(k.facts.bits?)),
    ),
    number("binning", Number, 0, "pixels joined at read-out", |k| {
        n(f64::from(k.facts.binning?.0))
    }),
    number("focus", Number, 0, "position of the focuser", |k| {
        n(k.facts.focus?)
    }),
    number("altitude", Degrees, 1, "altitude above the horizon", |k| {
        n(k.facts.altitude_deg?)
    }),
    number("airmass", Number, 2, "air on the way, zenith 1", |k| {
        n(k.facts.airmass?)
    }),
    number("hourangle", Number, 2, "hours past the meridian", |k| {
        n(k.facts.hour_angle_h?)
    }),
    number("scale", Number, 3, "arc seconds for a pixel", |k| {
        n(k.facts.arcsec_per_px()?)
    }),
    number("stars", Number, 0, "stars found", |k| {
        n(light(k)?.stars.real())
    }),
    number("used", Number, 0, "stars whose shapes were used", |k| {
        n(light(k)?.stars_used.real())
    }),
    number(
        "fwhm",
        Pixels,
        2,
        "full width of stars at half maximum",
        |k| n(k.measures?.fwhm_px?.median),
    ),
    number(
        "elongation",
        Number,
        2,
        "long over short axis of stars",
        |k| n(k.measures?.elongation?.median),
    ),
    number("angle", Degrees, 0, "direction of the long axis", |k| {
        n(k.measures?.angle_deg?)
    }),
    number(
        "tilt",
        Part,
        3,
        "difference of FWHM between opposite sides",
        |k| n(k.measures?.course?.tilt),
    ),
    number(
        "curvature",
        Part,
        3,
        "FWHM of the corners over the centre's",
        |k| n(k.measures?.course?.curvature),
    ),
    number(
        "sky",
        Light,
        1,
        "level of the sky in the file's units",
        |k| n(k.measures?.sky),
    ),
    number(
        "noise",
        Light,
        2,
        "noise of the sky in the file's units",
        |k| n(k.measures?.noise),
    ),
    number(
        "gradient",
        Light,
        1,
        "change of the sky over the frame",
        |k| n(k.measures?.gradient),
    ),
    number(
        "unevenness",
        Number,
        2,
        "unevenness of the sky on large scales, in its noise",
        |k| n(light(k)?.unevenness),
    ),
    number("halo", Part, 3, "light around bright stars", |k| {
        n(k.measures?.halo?)
    }),
    number(
        "transparency",
        Part,
        3,
        "light that came through, best frame 1",
        |k| n(k.compared?.transparency?),
    ),
    number(
        "clouds",
        Part,
        3,
        "light that was lost: 1 - transparency",
        |k| n(1.0 - k.compared?.transparency?),
    ),
    number(
        "patchiness",
        Part,
        3,
        "change of the transparency over the frame",
        |k| n(k.compared?.patchiness?),
    ),
    number("snr", Number, 1, "signal-to-noise of a typical star", |k| {
        n(k.compared?.star_snr?)
    }),
    number("saturated", Number, 0, "saturated pixels", |k| {
        n(k.measures?.saturated_px?.real())
    }),
    number(
        "trails",
        Number,
        0,
        "trails of satellites and aircraft",
        |k| n(light(k)?.trails.len().real()),
    ),
    number(
        "turn",
        Degrees,
        1,
        "turn against the best frame of the field",
        |k| n(k.compared?.turn_deg?),
    ),
    number(
        "dither",
        Pixels,
        1,
        "distance from the middle of the dithers",
        |k| {
            let (x, y) = k.compared?.dither_px?;
            n(x.hypot(y))
        },
    ),
    number(
        "pairs",
        Number,
        0,
        "stars in common with the field's best frame",
        |k| n(k.compared?.pairs.real()),
    ),
    number("score", Number, 1, "score, 0 to 100", |k| n(k.score?.total)),
];

/// The quantity of this name.
pub fn named(name: &str) -> Option<&'static Quantity> {
    QUANTITIES.iter().find(|q| q.name == name)
}

/// A number with so many digits after the point, without a minus before a rounded zero.
pub fn fixed(v: f64, digits: usize) -> String {
    let text = format!("{v:.digits$}");
    let zero = text
        .trim_start_matches('-')
        .chars()
        .all(|c| c == '0' || c == '.');
    if zero {
        text.trim_start_matches('-').to_owned()
    } else {
        text
    }
}

/// Digits after the point that a value in the units of a file needs: as many as are usual, and more where it is below
/// one, since masters may go from 0 to 1.
pub fn digits_for(v: f64, usual: usize) -> usize {
    let size = v.abs();
    if !(1e-15..1.0).contains(&size) {
        return usual;
    }
    // Four digits that count.
    usual.max((3.0 - size.log10().floor()).index())
}

/// A value in the units of a file as it is shown.
pub fn in_units(v: f64, usual: usize) -> String {
    fixed(v, digits_for(v, usual))
}

impl Quantity {
    /// The number of a frame, if it is one and known.
    pub fn number_of(&self, known: &Known<'_>) -> Option<f64> {
        match (self.of)(known)? {
            Value::Number(v) => Some(v),
            Value::Words(_) => None,
        }
    }

    /// The value of a frame as it is shown; a part in per cent, nothing for what is not known.
    pub fn shown(&self, known: &Known<'_>) -> String {
        match (self.of)(known) {
            Some(Value::Number(v)) => self.shown_number(v),
            Some(Value::Words(text)) => text,
            None => String::new(),
        }
    }

    /// A number of this quantity as it is shown, without its unit but for per cent.
    pub fn shown_number(&self, v: f64) -> String {
        if self.measure == Measure::Part {
            return fixed(v * 100.0, self.digits.saturating_sub(2)) + "%";
        }
        if self.measure == Measure::Light {
            return in_units(v, self.digits);
        }
        fixed(v, self.digits)
    }

    /// The unit after a number of this quantity, with a blank before it; empty where there is none.
    pub const fn unit(&self) -> &'static str {
        match self.measure {
            Measure::Pixels => " px",
            Measure::Seconds => " s",
            Measure::Degrees => " deg",
            _ => "",
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::space::Size;

    #[test]
    fn values_from_0_to_1_keep_their_digits() {
        for (v, usual, want) in [
            (612.34, 1, "612.3"),
            (8.314, 2, "8.31"),
            (0.053_124, 1, "0.05312"),
            (0.000_127_1, 2, "0.0001271"),
            (-0.004_25, 1, "-0.004250"),
            (0.0, 2, "0.00"),
        ] {
            assert_eq!(in_units(v, usual), want);
        }
    }

    #[test]
    fn names_are_words_and_no_two_are_the_same() {
        for (i, q) in QUANTITIES.iter().enumerate() {
            assert!(q.name.chars().all(|c| c.is_ascii_lowercase()), "{}", q.name);
            assert!(
                QUANTITIES[..i].iter().all(|o| o.name != q.name),
                "{}",
                q.name
            );
        }
    }

    #[test]
    fn what_is_missing_is_shown_as_missing() {
        let facts = FrameFacts {
            exposure_s: Some(300.0),
            ..FrameFacts::of_size(Size::new(10, 10).unwrap(), 1)
        };
        let compared = Compared {
            transparency: Some(0.876),
            ..Compared::default()
        };
        let known = Known {
            file: "a.fits",
            facts: &facts,
            night: None,
            measures: None,
            compared: Some(&compared),
            score: None,
        };
        let shown = |name| named(name).unwrap().shown(&known);
        assert_eq!(shown("exposure"), "300.0");
        assert_eq!(shown("transparency"), "87.6%");
        assert_eq!(shown("clouds"), "12.4%");
        assert_eq!(fixed(-0.004, 2), "0.00");
        assert_eq!(fixed(-0.006, 2), "-0.01");
        assert_eq!(shown("fwhm"), "");
        assert_eq!(shown("gain"), "");
        assert_eq!(shown("file"), "a.fits");
    }
}
