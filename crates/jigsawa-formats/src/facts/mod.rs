//! Header dialects: what the cards of many programs mean, in our words. Nothing is guessed; a value
//! that makes no sense is as good as missing.

mod names;
mod time;
mod wcs;

use jigsawa_core::filter::Filter;
use jigsawa_core::frame::{FrameFacts, Kind, Pier, RowOrder};
use jigsawa_core::horizon;
use jigsawa_core::number::Convert;

use crate::fits::{FitsFrame, Header};
use names::{
    AIRMASS, ALTITUDE, BINNING_BOTH, BINNING_X, BINNING_Y, CAMERA, CELSIUS, COMBINED, DATE,
    DECLINATION, EXPOSURE, FILTER, FOCAL_MM, FOCUS, GAIN_E_ADU, GAIN_SETTING, HOUR_ANGLE, ISO,
    KIND, LATITUDE, LONGITUDE, OBJECT, OFFSET, PATTERN, PATTERN_X, PATTERN_Y, PIER, PIXEL_UM,
    READOUT, ROTATOR, SATURATION, SET_CELSIUS, TELESCOPE, TOTAL,
};
pub use wcs::{CutOut, wcs_cards, wcs_records};

/// The facts of a frame.
pub fn read(frame: &FitsFrame) -> FrameFacts {
    let h = frame.header();
    let filter_card = text(h, FILTER);
    let (kind, master) = kind_of(h);
    let start_s = time::start(h);
    let wcs = wcs::read(h);
    let placed = wcs::middle_and_scale(h, wcs.as_ref(), frame.size());
    let sky = sky(h, start_s, placed.map(|p| p.0));
    let by_card = filter_card.as_deref().and_then(Filter::from_spelling);
    // A word that is none of ours is not overruled by a name.
    let by_name = match (&filter_card, frame.planes()) {
        (None, 1) => Filter::from_file_name(frame.file_name()),
        _ => None,
    };
    FrameFacts {
        row_order: row_order(h),
        kind,
        kind_by_card: text(h, KIND).is_some(),
        master,
        bits: number(h, &["ZBITPIX", "BITPIX"]).map(Convert::i32),
        colour_pattern: text(h, PATTERN)
            .and_then(|t| pattern(&t))
            .map(|p| from_first_pixel(h, frame.origin(), &p)),
        filter_by_name: by_name.is_some(),
        filter: by_card.or(by_name),
        filter_card,
        exposure_s: positive(h, EXPOSURE),
        total_s: positive(h, TOTAL).or_else(|| {
            let frames = positive(h, COMBINED).unwrap_or(1.0);
            positive(h, EXPOSURE).map(|s| frames * s)
        }),
        date: text(h, DATE),
        start_s,
        evening: time::evening(h, start_s, longitude(h)),
        object: text(h, OBJECT),
        camera: text(h, CAMERA),
        telescope: text(h, TELESCOPE),
        gain_e_adu: positive(h, GAIN_E_ADU),
        gain_setting: number(h, GAIN_SETTING),
        offset_setting: number(h, OFFSET),
        iso: positive(h, ISO),
        readout: text(h, READOUT),
        set_celsius: celsius(h, SET_CELSIUS),
        celsius: celsius(h, CELSIUS),
        binning: binning(h),
        pixel_um: positive(h, PIXEL_UM),
        focal_mm: positive(h, FOCAL_MM),
        wcs_arcsec: placed.map(|p| p.1),
        wcs,
        altitude_deg: sky.altitude_deg,
        airmass: sky.airmass,
        hour_angle_h: sky.hour_angle_h,
        pier: text(h, PIER).and_then(|t| pier(&t)),
        rotator_deg: number(h, ROTATOR),
        focus: number(h, FOCUS),
        // What a pixel of 32 bits cannot reach is no limit of it.
        saturation: positive(h, SATURATION)
            .map(|v| v.single() - frame.lowered())
            .filter(|v| v.is_finite() && *v > 0.0),
        absurd: frame.absurd(),
        stretched: frame.is_stretched(),
        blank: frame.blank_share(),
        other_images: frame.other_images(),
        ..FrameFacts::of_size(frame.size(), frame.planes())
    }
}

/// Where the frame stood above the horizon.
struct Sky {
    altitude_deg: Option<f64>,
    airmass: Option<f64>,
    hour_angle_h: Option<f64>,
}

/// From cards where there are such; else computed from site, date and place on the sky, when all
/// three are known.
fn sky(h: &Header, start_s: Option<f64>, placed: Option<(f64, f64)>) -> Sky {
    let at = placed.or_else(|| Some((time::right_ascension(h)?, time::angle(h, DECLINATION)?)));
    let computed = (|| {
        let site = (time::angle(h, LATITUDE)?, longitude(h)?);
        Some(horizon::above(at?, site, start_s?))
    })();
    let altitude_deg = number(h, ALTITUDE)
        .filter(|a| (-1.0..=90.0).contains(a))
        .or(computed.map(|c| c.altitude_deg));
    Sky {
        altitude_deg,
        airmass: number(h, AIRMASS)
            .filter(|a| (0.99..40.0).contains(a))
            .or(altitude_deg.and_then(horizon::airmass)),
        hour_angle_h: time::hours(h, HOUR_ANGLE)
            .filter(|a| a.abs() <= 12.0)
            .or(computed.map(|c| c.hour_angle_h)),
    }
}

fn longitude(h: &Header) -> Option<f64> {
    time::angle(h, LONGITUDE).map(|l| if l > 180.0 { l - 360.0 } else { l })
}

/// A chip's temperature; what no chip has is some program's word for "unknown".
fn celsius(h: &Header, names: &[&str]) -> Option<f64> {
    names
        .iter()
        .filter_map(|n| h.number(n))
        .find(|t| (-150.0..=80.0).contains(t))
}

/// A colour pattern of four letters, whatever its case.
fn pattern(text: &str) -> Option<String> {
    let word = text.trim().to_uppercase();
    let plain = word.len() == 4 && word.chars().all(|c| "RGBWCMY".contains(c));
    plain.then_some(word)
}

/// The pattern from the first pixel on, where cards say that it begins beside, or what lies before that pixel is trimmed.
fn from_first_pixel(h: &Header, origin: (i64, i64), pattern: &str) -> String {
    let beside = |names: &[&str]| number(h, names).map_or(0, Convert::whole);
    let (x, y) = (beside(PATTERN_X) + origin.0, beside(PATTERN_Y) + origin.1);
    let letter = |k: usize| {
        let at = 2 * (y + (k / 2).whole()).rem_euclid(2) + (x + (k % 2).whole()).rem_euclid(2);
        pattern.as_bytes()[at.index()]
    };
    (0..4).map(|k| char::from(letter(k))).collect()
}

fn pier(text: &str) -> Option<Pier> {
    let word = text.to_lowercase();
    match () {
        () if word.contains("east") || word == "e" => Some(Pier::East),
        () if word.contains("west") || word == "w" => Some(Pier::West),
        () => None,
    }
}

/// What kind of frame, and is it a stack already?
fn kind_of(h: &Header) -> (Kind, bool) {
    let word = text(h, KIND);
    let says_master = word
        .as_ref()
        .is_some_and(|t| t.to_lowercase().contains("master"));
    let combined = number(h, COMBINED).is_some_and(|n| n > 1.0);
    (
        word.map_or(Kind::Light, |t| kind(&t)),
        says_master || combined,
    )
}

fn text(h: &Header, names: &[&str]) -> Option<String> {
    names.iter().find_map(|n| h.text(n))
}

fn number(h: &Header, names: &[&str]) -> Option<f64> {
    names.iter().find_map(|n| h.number(n))
}

fn positive(h: &Header, names: &[&str]) -> Option<f64> {
    names.iter().filter_map(|n| h.number(n)).find(|v| *v > 0.0)
}

fn row_order(h: &Header) -> RowOrder {
    let top_down = h
        .text("ROWORDER")
        .is_some_and(|t| t.to_lowercase().starts_with("top"));
    if top_down {
        RowOrder::TopDown
    } else {
        RowOrder::BottomUp
    }
}

fn kind(word: &str) -> Kind {
    let word: String = word
        .to_lowercase()
        .chars()
        .filter(|c| c.is_alphabetic())
        .collect();
    let has = |part: &str| word.contains(part);
    match () {
        () if has("darkflat") || has("flatdark") => Kind::DarkFlat,
        () if has("bias") || has("offset") || has("zero") => Kind::Bias,
        () if has("dark") => Kind::Dark,
        () if has("flat") => Kind::Flat,
        () => Kind::Light,
    }
}

/// From a card for each axis, or from one for both: `2`, `'2x2'`, `'2 2'`.
fn binning(h: &Header) -> Option<(u32, u32)> {
    let whole = |v: f64| ((1.0..=64.0).contains(&v) && v.fract() == 0.0).then_some(v.u32());
    if let Some(x) = number(h, BINNING_X).and_then(whole) {
        let y = number(h, BINNING_Y).and_then(whole).unwrap_or(x);
        return Some((x, y));
    }
    let both = text(h, BINNING_BOTH)?;
    let mut sides = both
        .split(|c: char| !c.is_ascii_digit() && c != '.')
        .filter_map(|s| s.parse().ok())
        .filter_map(whole);
    let x = sides.next()?;
    Some((x, sides.next().unwrap_or(x)))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::fits::header;
    use rstest::rstest;

    #[rstest]
    #[case("XBINNING=                    2", (2, 2))]
    #[case("BINNING = '3x3'", (3, 3))]
    #[case("CCDSUM  = '1 2'", (1, 2))]
    #[case("XBINNING= '2'", (2, 2))]
    fn binning_is_read_in_every_spelling(#[case] record: &str, #[case] want: (u32, u32)) {
        assert_eq!(binning(&header(&[record])), Some(want));
    }

    #[rstest]
    #[case("Light Frame", Kind::Light)]
    #[case("FLAT", Kind::Flat)]
    #[case("Dark Flat", Kind::DarkFlat)]
    #[case("flat-dark", Kind::DarkFlat)]
    #[case("Bias Frame", Kind::Bias)]
    #[case("dark", Kind::Dark)]
    #[case("Master Light", Kind::Light)]
    fn kinds_are_told_apart(#[case] word: &str, #[case] want: Kind) {
        assert_eq!(kind(word), want);
    }

    #[rstest]
    #[case(&["BAYERPAT= 'RGGB'"], "RGGB")]
    #[case(&["BAYERPAT= 'RGGB'", "XBAYROFF=                    1"], "GRBG")]
    #[case(&["BAYERPAT= 'RGGB'", "YBAYROFF=                    1"], "GBRG")]
    fn a_pattern_begins_where_cards_say(#[case] records: &[&str], #[case] want: &str) {
        let h = header(records);
        let told = text(&h, PATTERN).and_then(|t| pattern(&t)).unwrap();
        assert_eq!(from_first_pixel(&h, (0, 0), &told), want);
    }

    #[test]
    fn a_senseless_exposure_is_a_missing_one() {
        let h = header(&[
            "EXPTIME =                 -1.0",
            "EXPOSURE=                 60.0",
        ]);
        assert_eq!(positive(&h, EXPOSURE), Some(60.0));
        assert_eq!(positive(&header(&["EXPTIME = 'long'"]), EXPOSURE), None);
    }
}
