//! What a header says of the frame's place on the sky, and how a header says it.

use jigsawa_core::number::Convert;
use jigsawa_core::space::Size;
use jigsawa_core::wcs::{Fields, Projection, Sip, Sky, Wcs};

use crate::fits::{Cards, Header};

/// Cards that place an image on the sky, and others of the kind that any copy of the image keeps.
const WCS_PREFIXES: &[&str] = &[
    "CTYPE", "CRVAL", "CRPIX", "CDELT", "CUNIT", "CROTA", "CD1_", "CD2_", "PC1_", "PC2_", "PV1_",
    "PV2_", "A_", "B_", "AP_", "BP_", "LONPOLE", "LATPOLE", "EQUINOX", "RADESYS", "RADECSYS",
];

/// A canvas cut out of an image, and made smaller.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct CutOut {
    /// The image's pixel that becomes (0, 0).
    pub origin: [i64; 2],
    /// Pixels of the canvas for one of the image, along both axes.
    pub scale: [f64; 2],
    /// Pixels that lie before the first one of the cut out, along both axes.
    pub before: [usize; 2],
}

impl CutOut {
    /// As large as it was.
    pub const fn moved(origin: [i64; 2]) -> Self {
        Self {
            origin,
            scale: [1.0, 1.0],
            before: [0, 0],
        }
    }

    /// Where a FITS coordinate comes to lie.
    fn place(&self, axis: usize, at: f64) -> f64 {
        (at - self.origin[axis].real() - 0.5) * self.scale[axis] + 0.5 + self.before[axis].real()
    }

    /// What a distortion's term of these powers is multiplied by, for an axis.
    fn of_term(&self, axis: usize, [p, q]: [i32; 2]) -> f64 {
        self.scale[axis] / (self.scale[0].powi(p) * self.scale[1].powi(q))
    }
}

/// The header's WCS, of whatever projection, for a canvas cut out of this image, as records; empty when it has none.
pub fn wcs_records(h: &Header, cut: &CutOut) -> Vec<String> {
    let celestial = h.text("CTYPE1").is_some_and(|t| t.contains("--"))
        && h.number("CRVAL1").is_some()
        && h.number("CRPIX1").is_some();
    if !celestial {
        return Vec::new();
    }
    let number = |name: &str, v: f64| format!("{name:<8}= {:>20}", format!("{v:?}"));
    let smaller = cut.scale != [1.0, 1.0];
    let mut records = vec!["WCSAXES =                    2".to_owned()];
    for card in &h.cards {
        let name = card.name.as_str();
        let third_axis = name.ends_with('3') || name.contains("3_");
        let ours = WCS_PREFIXES.iter().any(|p| name.starts_with(p));
        // Of a canvas with other pixels the matrix is written anew.
        let of_matrix = ["CD1_", "CD2_", "PC1_", "PC2_", "CDELT", "CROTA"];
        if !ours || third_axis || smaller && of_matrix.iter().any(|p| name.starts_with(p)) {
            continue;
        }
        let changed = h.number(name).and_then(|v| match name {
            "CRPIX1" => Some(cut.place(0, v)),
            "CRPIX2" => Some(cut.place(1, v)),
            _ => of_distortion(name).map(|(axis, powers)| v * cut.of_term(axis, powers)),
        });
        records.push(match changed {
            Some(v) if Some(v) != h.number(name) => number(name, v),
            _ => card.record.trim_end().to_owned(),
        });
    }
    if let Some(rows) = matrix(h).filter(|_| smaller) {
        for (i, row) in rows.iter().enumerate() {
            for (j, v) in row.iter().enumerate() {
                let name = format!("CD{}_{}", i + 1, j + 1);
                records.push(number(&name, v / cut.scale[j]));
            }
        }
    }
    records
}

/// The axis and the powers of a card that holds a term of a distortion.
fn of_distortion(name: &str) -> Option<(usize, [i32; 2])> {
    let mut parts = name.split('_');
    let axis = match parts.next()? {
        "A" | "AP" => 0,
        "B" | "BP" => 1,
        _ => return None,
    };
    let powers = [parts.next()?.parse().ok()?, parts.next()?.parse().ok()?];
    Some((axis, powers))
}

/// The header's WCS, when it is a tangent plane with or without SIP polynomials, or one of the planes for wide fields
/// that this program writes, in any of the ways to write its matrix. `None` for other projections, and for numbers that
/// make none.
pub(super) fn read(h: &Header) -> Option<Wcs> {
    let kinds = [h.text("CTYPE1")?, h.text("CTYPE2")?].map(|t| t.trim().to_uppercase());
    let endings = ["-TAN", "-TAN-SIP", "-STG", "-ZEA"];
    let tangent =
        |t: &str, axis: &str| t.starts_with(axis) && endings.iter().any(|e| t.ends_with(e));
    let projection = match kinds[0].get(kinds[0].len().saturating_sub(3)..) {
        Some("STG") => Projection::Stereographic,
        Some("ZEA") => Projection::EqualArea,
        _ => Projection::Tangent,
    };
    // Declination first is rare, and allowed: rows of the matrix and values are exchanged then.
    let (ra, dec) = match &kinds {
        [a, b] if tangent(a, "RA--") && tangent(b, "DEC-") => (0, 1),
        [a, b] if tangent(b, "RA--") && tangent(a, "DEC-") => (1, 0),
        _ => return None,
    };
    let value = [h.number("CRVAL1")?, h.number("CRVAL2")?];
    let rows = matrix(h)?;
    let distorted = kinds.iter().any(|k| k.ends_with("-SIP"));
    Wcs::new(Fields {
        touches: Sky {
            ra_deg: value[ra].rem_euclid(360.0),
            dec_deg: value[dec],
        },
        at: [h.number("CRPIX1")? - 1.0, h.number("CRPIX2")? - 1.0],
        matrix: [rows[ra], rows[dec]],
        pole_deg: h.number("LONPOLE").unwrap_or(180.0),
        sip: if distorted { sip(h) } else { None },
        system: h.text("RADESYS").or_else(|| h.text("RADECSYS")),
        equinox: h.number("EQUINOX"),
        projection,
    })
}

fn sip(h: &Header) -> Option<Sip> {
    let order = |name: &str| h.number(name).filter(|n| (1.0..=9.0).contains(n));
    let (a, b) = (order("A_ORDER"), order("B_ORDER"));
    let order = a.unwrap_or(1.0).max(b.unwrap_or(1.0)).byte();
    (a.is_some() || b.is_some()).then(|| {
        Sip::from_terms(order, |p, q| {
            let of = |name: &str| h.number(&format!("{name}_{p}_{q}")).unwrap_or(0.0);
            (of("A"), of("B"))
        })
    })
}

/// Writes a WCS as cards, with the inverse polynomials that many readers want.
pub fn wcs_cards(wcs: &Wcs, size: Size, cards: &mut Cards) {
    let f = wcs.fields();
    let kind = match f.projection {
        Projection::Tangent if f.sip.is_some() => "-TAN-SIP",
        Projection::Tangent => "-TAN",
        Projection::Stereographic => "-STG",
        Projection::EqualArea => "-ZEA",
    };
    cards.record("WCSAXES =                    2");
    cards.text("CTYPE1", &format!("RA--{kind}"), "");
    cards.text("CTYPE2", &format!("DEC-{kind}"), "");
    let [[a, b], [c, d]] = f.matrix;
    for (name, value, comment) in [
        ("CRVAL1", f.touches.ra_deg, "degrees"),
        ("CRVAL2", f.touches.dec_deg, "degrees"),
        ("CRPIX1", f.at[0] + 1.0, ""),
        ("CRPIX2", f.at[1] + 1.0, ""),
        ("CD1_1", a, "degrees a pixel"),
        ("CD1_2", b, ""),
        ("CD2_1", c, ""),
        ("CD2_2", d, ""),
        ("LONPOLE", f.pole_deg, ""),
    ] {
        cards.number(name, value, comment);
    }
    if let Some(system) = &f.system {
        cards.text("RADESYS", system, "");
    }
    if let Some(equinox) = f.equinox {
        cards.number("EQUINOX", equinox, "");
    }
    let Some(sip) = &f.sip else { return };
    let back = wcs.inverse_sip(size);
    for (names, s) in [(["A", "B"], Some(sip)), (["AP", "BP"], back.as_ref())] {
        let Some(s) = s else { continue };
        for (name, list) in names.into_iter().zip([&s.a, &s.b]) {
            cards.number(&format!("{name}_ORDER"), f64::from(s.order), "");
            for n in 0..=usize::from(s.order) {
                for q in 0..=n {
                    let value = s.at(list, n - q, q);
                    if value != 0.0 {
                        cards.number(&format!("{name}_{}_{q}", n - q), value, "");
                    }
                }
            }
        }
    }
}

/// Right ascension and declination of the frame's middle in degrees, and arc seconds for a pixel, by
/// the header's WCS. Of projections other than the tangent plane only the linear part is taken: good to
/// a pixel near the middle, which is all that altitude and image scale ask for.
pub(super) fn middle_and_scale(
    h: &Header,
    wcs: Option<&Wcs>,
    size: Size,
) -> Option<((f64, f64), f64)> {
    if let Some(wcs) = wcs {
        let middle = wcs.sky(size.centre::<jigsawa_core::space::FramePx>());
        return Some(((middle.ra_deg, middle.dec_deg), wcs.arcsec_per_px()));
    }
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
    let dx = f64::midpoint(size.width().real(), 1.0) - px;
    let dy = f64::midpoint(size.height().real(), 1.0) - py;
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
        let moved = Header::from_records(&wcs_records(&h, &CutOut::moved([-10, 4])));
        assert_eq!(moved.number("CRPIX1"), Some(110.5));
        assert_eq!(moved.number("CRPIX2"), Some(46.0));
        assert_eq!(moved.number("CRVAL1"), Some(10.0));
        assert_eq!(moved.get("BUNIT"), None);
        assert!(wcs_records(&header(&["CRPIX1  = 1.0"]), &CutOut::moved([0, 0])).is_empty());
    }

    const TAN: [&str; 6] = [
        "CTYPE1  = 'RA---TAN'",
        "CTYPE2  = 'DEC--TAN'",
        "CRPIX1  =                100.5",
        "CRPIX2  =                 50.0",
        "CRVAL1  =                 10.0",
        "CRVAL2  =                -30.0",
    ];

    fn with(cards: &[&str]) -> Header {
        header(&[&TAN[..], cards].concat())
    }

    #[test]
    fn a_place_of_the_sky_stays_where_it_is_in_a_smaller_picture() {
        let whole = with(&[
            "CTYPE1  = 'RA---TAN-SIP'",
            "CTYPE2  = 'DEC--TAN-SIP'",
            "CD1_1   =              -0.0004",
            "CD1_2   =               0.0001",
            "CD2_1   =               0.0001",
            "CD2_2   =               0.0004",
            "A_ORDER =                    2",
            "B_ORDER =                    2",
            "A_2_0   =               3.0E-6",
            "B_1_1   =              -2.0E-6",
        ]);
        let cut = CutOut {
            origin: [40, -6],
            scale: [0.25, 0.26],
            before: [0, 30],
        };
        let small = Header::from_records(&wcs_records(&whole, &cut));
        let (whole, small) = (read(&whole).unwrap(), read(&small).unwrap());
        for (x, y) in [(40.0, -6.0), (700.5, 310.0), (1200.0, 900.0)] {
            type Px = jigsawa_core::space::Point<jigsawa_core::space::FramePx>;
            let there = Px::new(
                (x - 40.0 + 0.5) * 0.25 - 0.5,
                (y + 6.0 + 0.5) * 0.26 - 0.5 + 30.0,
            );
            let (a, b) = (whole.sky(Px::new(x, y)), small.sky(there));
            assert!((a.ra_deg - b.ra_deg).abs() < 1e-9 && (a.dec_deg - b.dec_deg).abs() < 1e-9);
        }
    }

    #[test]
    fn one_sky_is_read_from_all_ways_to_write_it() {
        let (s, c) = 12f64.to_radians().sin_cos();
        let k = 0.0004;
        let card = |name: &str, v: f64| format!("{name:<8}= {v:>20}");
        let cd = [
            card("CD1_1", -k * c),
            card("CD1_2", k * s),
            card("CD2_1", k * s),
            card("CD2_2", k * c),
        ];
        let crota = [card("CDELT1", -k), card("CDELT2", k), card("CROTA2", -12.0)];
        let pc = [
            card("CDELT1", -k),
            card("CDELT2", k),
            card("PC1_1", c),
            card("PC1_2", -s),
            card("PC2_1", s),
            card("PC2_2", c),
        ];
        let p = jigsawa_core::space::Point::<jigsawa_core::space::FramePx>::new(900.0, 500.0);
        let of = |cards: &[String]| {
            let cards: Vec<&str> = cards.iter().map(String::as_str).collect();
            read(&with(&cards)).unwrap().sky(p)
        };
        let want = of(&cd);
        assert!((want.dec_deg + 30.0).abs() > 0.05);
        for other in [of(&crota), of(&pc)] {
            assert!(want.separation_deg(other) < 1e-11, "{other:?}");
        }
        assert!(read(&header(&["CTYPE1  = 'RA---ARC'"])).is_none());
        assert!(read(&with(&[])).is_none());
    }

    #[test]
    fn a_written_sky_is_read_back() {
        let h = with(&[
            "CD1_1   =              -0.0004",
            "CD1_2   =               0.0001",
            "CD2_1   =               0.0001",
            "CD2_2   =               0.0004",
            "RADESYS = 'ICRS'",
        ]);
        let plain = read(&h).unwrap();
        let bent = Wcs::new(Fields {
            sip: Some(Sip::from_terms(3, |p, q| match (p, q) {
                (2, 0) => (1e-6, 3e-7),
                (1, 2) => (2e-10, 0.0),
                _ => (0.0, 0.0),
            })),
            ..plain.fields().clone()
        })
        .unwrap();
        let size = Size::new(2000, 1500).unwrap();
        for wcs in [plain, bent] {
            let mut cards = Cards::default();
            wcs_cards(&wcs, size, &mut cards);
            let back = Header::from_records(&cards.records());
            assert_eq!(read(&back).unwrap(), wcs);
            assert_eq!(
                back.number("AP_ORDER").is_some(),
                wcs.fields().sip.is_some()
            );
        }
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
        let ((ra, dec), scale) = middle_and_scale(&h, None, Size::new(201, 101).unwrap()).unwrap();
        let exact = middle_and_scale(&h, read(&h).as_ref(), Size::new(201, 101).unwrap()).unwrap();
        assert!((exact.0.0 - ra).abs() < 1e-3 && (exact.0.1 - dec).abs() < 1e-3);
        assert!((scale - 3.6).abs() < 1e-9 && (dec - 60.05).abs() < 1e-9);
        assert!((ra - 359.7).abs() < 1e-3, "{ra}");
        assert!(
            middle_and_scale(&header(&["CRVAL1  = 1.0"]), None, Size::new(2, 2).unwrap()).is_none()
        );
    }
}
