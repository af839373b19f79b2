//! Header dialects: what the cards of many programs mean, in our words. Nothing is guessed; a value
//! that makes no sense is as good as missing.

use jigsawa_core::filter::Filter;
use jigsawa_core::frame::{FrameFacts, Kind, RowOrder};

use crate::fits::{FitsFrame, Header};

/// Spellings of each card, the most usual first.
const FILTER: &[&str] = &[
    "FILTER", "FILTER1", "FILT", "FILTNAM", "FILTERID", "INSFILTE",
];
const EXPOSURE: &[&str] = &[
    "EXPTIME",
    "EXPOSURE",
    "XPOSURE",
    "EXP_TIME",
    "ITIME",
    "EXPOSURE_S",
];
const DATE: &[&str] = &["DATE-OBS", "DATE-BEG", "DATE_OBS", "DATEOBS"];
const OBJECT: &[&str] = &["OBJECT", "OBJNAME", "TARGET", "TARGNAME"];
const CAMERA: &[&str] = &["INSTRUME", "CAMERA", "DETECTOR", "DETNAM"];
const GAIN_E_ADU: &[&str] = &["EGAIN", "E-GAIN", "GAINEADU", "EPERADU"];
const GAIN_SETTING: &[&str] = &["GAIN", "GAINRAW", "CAMGAIN"];
const BINNING_X: &[&str] = &["XBINNING", "BINX", "XBIN", "BINAXIS1"];
const BINNING_Y: &[&str] = &["YBINNING", "BINY", "YBIN", "BINAXIS2"];
const BINNING_BOTH: &[&str] = &["BINNING", "CCDSUM", "CCDBIN"];
const PIXEL_UM: &[&str] = &[
    "XPIXSZ", "PIXSIZE1", "PIXSIZE", "PIXSZ", "PIXELSZ", "XPIXELSZ",
];
const FOCAL_MM: &[&str] = &["FOCALLEN", "FOCAL", "FOCLEN", "TELFOCAL"];
const KIND: &[&str] = &[
    "IMAGETYP",
    "IMAGETYPE",
    "FRAMETYP",
    "FRAME",
    "OBSTYPE",
    "IMTYPE",
];
const SATURATION: &[&str] = &["SATURATE", "SATLEVEL", "SATURAT", "FULLWELL_ADU"];

/// The facts of a frame.
pub fn read(frame: &FitsFrame) -> FrameFacts {
    let h = frame.header();
    let filter_card = text(h, FILTER);
    FrameFacts {
        row_order: row_order(h),
        kind: text(h, KIND).map_or(Kind::Light, |t| kind(&t)),
        filter: filter_card.as_deref().and_then(Filter::from_spelling),
        filter_card,
        exposure_s: positive(h, EXPOSURE),
        date: text(h, DATE),
        object: text(h, OBJECT),
        camera: text(h, CAMERA),
        gain_e_adu: positive(h, GAIN_E_ADU),
        gain_setting: number(h, GAIN_SETTING),
        binning: binning(h),
        pixel_um: positive(h, PIXEL_UM),
        focal_mm: positive(h, FOCAL_MM),
        saturation: positive(h, SATURATION).map(|v| v as f32),
        ..FrameFacts::of_size(frame.size(), frame.planes())
    }
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
    let whole = |v: f64| ((1.0..=64.0).contains(&v) && v.fract() == 0.0).then_some(v as u32);
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

/// Cards that place an image on the sky, and others of the kind that any copy of the image keeps.
const WCS_PREFIXES: &[&str] = &[
    "CTYPE", "CRVAL", "CRPIX", "CDELT", "CUNIT", "CROTA", "CD1_", "CD2_", "PC1_", "PC2_", "PV1_",
    "PV2_", "A_", "B_", "AP_", "BP_", "LONPOLE", "LATPOLE", "EQUINOX", "RADESYS", "RADECSYS",
];

/// The header's WCS for a canvas whose (0, 0) is pixel `origin` of this image, as records; empty when
/// it has none. Only the place of the reference pixel changes by a shift.
pub fn wcs_records(h: &Header, origin: [i64; 2]) -> Vec<String> {
    let celestial = h.text("CTYPE1").is_some_and(|t| t.contains("--"))
        && h.number("CRVAL1").is_some()
        && h.number("CRPIX1").is_some();
    if !celestial {
        return Vec::new();
    }
    let mut records = vec!["WCSAXES =                    2".to_owned()];
    for card in &h.cards {
        let third_axis = card.name.ends_with('3') || card.name.contains("3_");
        let ours = WCS_PREFIXES.iter().any(|p| card.name.starts_with(p));
        if !ours || third_axis {
            continue;
        }
        let shift = match card.name.as_str() {
            "CRPIX1" => Some(origin[0]),
            "CRPIX2" => Some(origin[1]),
            _ => None,
        };
        match (shift, h.number(&card.name)) {
            (Some(shift), Some(at)) if shift != 0 => {
                let at = format!("{:?}", at - shift as f64);
                records.push(format!("{:<8}= {at:>20}", card.name));
            }
            _ => records.push(card.record.trim_end().to_owned()),
        }
    }
    records
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn header(records: &[&str]) -> Header {
        Header::from_records(
            &records
                .iter()
                .map(|r| format!("{r:<80}"))
                .collect::<Vec<_>>(),
        )
    }

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

    #[test]
    fn a_senseless_exposure_is_a_missing_one() {
        let h = header(&[
            "EXPTIME =                 -1.0",
            "EXPOSURE=                 60.0",
        ]);
        assert_eq!(positive(&h, EXPOSURE), Some(60.0));
        assert_eq!(positive(&header(&["EXPTIME = 'long'"]), EXPOSURE), None);
    }

    #[test]
    fn the_wcs_moves_with_the_canvas() {
        let h = header(&[
            "CTYPE1  = 'RA---TAN'",
            "CTYPE2  = 'DEC--TAN'",
            "CRPIX1  =                100.5",
            "CRPIX2  =                 50.0",
            "CRVAL1  =                 10.0",
            "CD1_1   =              -0.0003",
            "BUNIT   = 'adu'",
        ]);
        let moved = Header::from_records(&wcs_records(&h, [-10, 4]));
        assert_eq!(moved.number("CRPIX1"), Some(110.5));
        assert_eq!(moved.number("CRPIX2"), Some(46.0));
        assert_eq!(moved.number("CRVAL1"), Some(10.0));
        assert_eq!(moved.get("BUNIT"), None);
        assert!(wcs_records(&header(&["CRPIX1  = 1.0"]), [0, 0]).is_empty());
    }
}
