//! What a header says of the frame's place on the sky.

use jigsawa_core::space::Size;

use crate::fits::Header;

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

/// Right ascension and declination of the frame's middle in degrees, and arc seconds for a pixel, by
/// the header's WCS in its linear part: good to a pixel near the middle, which is all that altitude
/// and image scale ask for.
pub(super) fn middle_and_scale(h: &Header, size: Size) -> Option<((f64, f64), f64)> {
    let celestial = h.text("CTYPE1").is_some_and(|t| t.starts_with("RA"))
        && h.text("CTYPE2").is_some_and(|t| t.starts_with("DEC"));
    if !celestial {
        return None;
    }
    let (ra, dec) = (h.number("CRVAL1")?, h.number("CRVAL2")?);
    let (px, py) = (h.number("CRPIX1")?, h.number("CRPIX2")?);
    let [[a, b], [c, d]] = matrix(h)?;
    let area = (a * d - b * c).abs();
    if !(1e-14..1.0).contains(&area) {
        return None;
    }
    let dx = f64::midpoint(size.width() as f64, 1.0) - px;
    let dy = f64::midpoint(size.height() as f64, 1.0) - py;
    let dec_middle = (dec + c * dx + d * dy).clamp(-90.0, 90.0);
    let shrink = dec_middle.to_radians().cos().max(1e-3);
    let ra_middle = (ra + (a * dx + b * dy) / shrink).rem_euclid(360.0);
    Some(((ra_middle, dec_middle), 3600.0 * area.sqrt()))
}

/// Degrees for a pixel: the CD matrix, or PC or CROTA2 with CDELT.
fn matrix(h: &Header) -> Option<[[f64; 2]; 2]> {
    let or = |name: &str, other: f64| h.number(name).unwrap_or(other);
    if h.number("CD1_1").is_some() || h.number("CD1_2").is_some() {
        return Some([
            [or("CD1_1", 0.0), or("CD1_2", 0.0)],
            [or("CD2_1", 0.0), or("CD2_2", 0.0)],
        ]);
    }
    let (x, y) = (h.number("CDELT1")?, h.number("CDELT2")?);
    let (s, c) = or("CROTA2", 0.0).to_radians().sin_cos();
    if h.number("CROTA2").is_some() {
        return Some([[x * c, -y * s], [x * s, y * c]]);
    }
    Some([
        [x * or("PC1_1", 1.0), x * or("PC1_2", 0.0)],
        [y * or("PC2_1", 0.0), y * or("PC2_2", 1.0)],
    ])
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::fits::header;

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

    #[test]
    fn middle_and_scale_follow_the_matrix() {
        let h = header(&[
            "CTYPE1  = 'RA---TAN'",
            "CTYPE2  = 'DEC--TAN'",
            "CRPIX1  =                    1.0",
            "CRPIX2  =                    1.0",
            "CRVAL1  =                  359.9",
            "CRVAL2  =                   60.0",
            "CDELT1  =                 -0.001",
            "CDELT2  =                  0.001",
            "CROTA2  =                    0.0",
        ]);
        let ((ra, dec), scale) = middle_and_scale(&h, Size::new(201, 101).unwrap()).unwrap();
        assert!((scale - 3.6).abs() < 1e-9 && (dec - 60.05).abs() < 1e-9);
        assert!((ra - 359.7).abs() < 1e-3, "{ra}");
        assert!(middle_and_scale(&header(&["CRVAL1  = 1.0"]), Size::new(2, 2).unwrap()).is_none());
    }
}
