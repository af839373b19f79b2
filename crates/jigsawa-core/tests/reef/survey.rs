//! The made-up night surveyed: its figures are the truth's, and what is wrong with it is pointed at.

use jigsawa_core::number::Convert;
use std::sync::OnceLock;

use jigsawa_core::frame::{FrameFacts, Kind};
use jigsawa_core::robust::{median, quantile};
use jigsawa_core::stars::SkyMesh;
use jigsawa_core::survey::compare::{Compared, Light, anew, compare};
use jigsawa_core::survey::outlier::outliers;
use jigsawa_core::survey::reference::propose;
use jigsawa_core::survey::score::{Score, Weights, scores};
use jigsawa_core::survey::{Measures, measure};
use jigsawa_sky::night::{Fault, NightFrame, frames, starless, take};
use rayon::prelude::*;

struct Seen {
    frame: NightFrame,
    facts: FrameFacts,
    measures: Measures,
    /// Level and noise of the sky without stars.
    sky: f64,
    noise: f64,
}

fn lights() -> &'static [Seen] {
    static NIGHT: OnceLock<Vec<Seen>> = OnceLock::new();
    NIGHT.get_or_init(|| {
        let all = frames();
        let lights: Vec<NightFrame> = all.into_iter().filter(|f| f.kind == Kind::Light).collect();
        let mut planes = Vec::new();
        take(&lights, |_, taken| planes.push(taken.plane));
        let skies = starless(&lights);
        lights
            .into_par_iter()
            .zip(planes)
            .zip(skies)
            .map(|((frame, plane), sky)| {
                let camera = frame.shot.camera;
                let full = camera.full_adu.single();
                let mesh = SkyMesh::measure(&sky).unwrap();
                let mut empty = sky.into_data();
                let sky = f64::from(mesh.typical_level());
                let dark = f64::from(quantile(&mut empty, 0.25));
                let electrons = (dark - camera.offset_adu) * camera.gain_e_adu;
                Seen {
                    facts: FrameFacts {
                        filter: Some(frame.shot.filter.clone()),
                        exposure_s: Some(frame.exposure_s),
                        start_s: Some(frame.after_s),
                        ..FrameFacts::of_size(frame.shot.size, 1)
                    },
                    measures: measure(&plane, (0, 0), Some(full)).unwrap(),
                    sky,
                    noise: camera.noise(electrons, 1),
                    frame,
                }
            })
            .collect()
    })
}

fn compared() -> (Vec<Light<'static>>, Vec<Compared>, Vec<Option<Score>>) {
    let lights: Vec<Light<'_>> = lights()
        .iter()
        .map(|s| Light {
            facts: &s.facts,
            measures: &s.measures,
        })
        .collect();
    let compared = compare(&lights, &anew);
    let scores = scores(&lights, &compared, &Weights::default());
    (lights, compared, scores)
}

#[test]
fn widths_shapes_sky_and_noise_are_the_truths() {
    for s in lights() {
        let (o, m) = (s.frame.shot.optics, &s.measures);
        // A pixel adds its variance of 1/12 to both axes.
        let axis = |fwhm: f64| 2.3548 * ((fwhm / 2.3548).powi(2) + 1.0 / 12.0).sqrt();
        let long = axis(o.fwhm_px * o.elongation.sqrt());
        let short = axis(o.fwhm_px / o.elongation.sqrt());
        let (fwhm, elongation) = ((long * short).sqrt(), long / short);
        let (got, round) = (m.fwhm_px.unwrap().median, m.elongation.unwrap().median);
        println!(
            "{}: {} stars, FWHM {:+.2} %, elongation {:+.3} ({elongation:.3}), sky {:+.2} %, noise {:+.1} %",
            s.frame.file,
            m.stars_used,
            100.0 * (got / fwhm - 1.0),
            round - elongation,
            100.0 * (m.sky / s.sky - 1.0),
            100.0 * (m.noise / s.noise - 1.0)
        );
        assert!(m.stars_used > 40, "{}: {}", s.frame.file, m.stars_used);
        assert!((got / fwhm - 1.0).abs() < 0.03, "{}", s.frame.file);
        assert!((round - elongation).abs() < 0.02, "{}", s.frame.file);
        assert!((m.sky / s.sky - 1.0).abs() < 0.01, "{}", s.frame.file);
        assert!((m.noise / s.noise - 1.0).abs() < 0.05, "{}", s.frame.file);
    }
}

#[test]
fn transparency_is_the_truths() {
    let (_, compared, _) = compared();
    let passes = |s: &Seen| s.frame.shot.transparency * s.frame.shot.spoilt.passes(0.0);
    for set in 0..2 {
        let of_set: Vec<usize> = (0..compared.len())
            .filter(|i| compared[*i].set == set)
            .collect();
        assert_eq!(of_set.len(), 15);
        let best = of_set
            .iter()
            .map(|i| passes(&lights()[*i]))
            .fold(0.0, f64::max);
        for i in of_set {
            let want = passes(&lights()[i]) / best;
            let got = compared[i].transparency.unwrap_or(0.0);
            let c = &compared[i];
            println!(
                "{}: {got:.3} for {want:.3}, patchiness {:.3}, {} pairs, snr {:.1}, halo {:.3}, uneven {:.2}",
                lights()[i].frame.file,
                c.patchiness.unwrap_or(-1.0),
                c.pairs,
                c.star_snr.unwrap_or(0.0),
                lights()[i].measures.halo.unwrap_or(-1.0),
                lights()[i].measures.unevenness
            );
            // What a halo scatters into the common aperture has come through as well.
            let shot = &lights()[i].frame.shot;
            let halo = shot.spoilt.halo.map_or(0.0, |h| h.part);
            // A sub-frame's curve of growth is known to a per cent or two, that of long stars to some.
            let within = if shot.optics.elongation > 1.3 {
                0.05
            } else {
                0.03
            };
            assert!(
                (want - within..want / (1.0 - halo) + within).contains(&got),
                "{}: {got} for {want}",
                lights()[i].frame.file
            );
        }
    }
}

#[test]
fn exactly_the_spoilt_frames_stand_out() {
    let (lights_, compared, scores) = compared();
    let out = outliers(&lights_, &compared);
    for (i, s) in lights().iter().enumerate() {
        let what: Vec<&str> = out[i].iter().map(|o| o.quantity).collect();
        println!(
            "{}: {what:?}, {} trails, score {:.1}, {} spots, field {:?}, {} pairs",
            s.frame.file,
            s.measures.trails.len(),
            scores[i].map_or(0.0, |s| s.total),
            s.measures.spots.len(),
            compared[i].field,
            compared[i].pairs
        );
    }
    for (i, s) in lights().iter().enumerate() {
        let what: Vec<&str> = out[i].iter().map(|o| o.quantity).collect();
        let has = |name: &str| what.contains(&name);
        let file = &s.frame.file;
        assert_eq!(
            s.measures.trails.len(),
            usize::from(s.frame.fault == Some(Fault::Trail)),
            "{file}"
        );
        match s.frame.fault {
            Some(Fault::Cloud) => assert!(has("transparency"), "{file}: {what:?}"),
            Some(Fault::LongStars) => assert!(has("elongation"), "{file}: {what:?}"),
            Some(Fault::Halo) => assert!(has("halo"), "{file}: {what:?}"),
            _ => assert!(what.is_empty(), "{file}: {what:?}"),
        }
    }
}

#[test]
fn the_flip_is_seen_and_the_reference_is_good_and_central() {
    let (lights_, compared, scores) = compared();
    let anchor_flipped = compared
        .iter()
        .position(|c| c.turn_deg == Some(0.0) && c.dither_px.is_some())
        .is_some_and(|i| i >= 21);
    for (i, c) in compared.iter().enumerate() {
        let turned = c.turn_deg.unwrap().abs() > 90.0;
        assert_eq!(turned, (i >= 21) != anchor_flipped, "{i}: {:?}", c.turn_deg);
        assert_eq!(c.field, Some(0));
    }
    let clean: Vec<bool> = lights().iter().map(|s| s.frame.fault.is_none()).collect();
    let p = propose(&lights_, &compared, &clean).unwrap();
    println!("{} {}", lights()[p.light].frame.file, p.why);
    let (x, y) = compared[p.light].dither_px.unwrap();
    assert!(clean[p.light] && x.hypot(y) < 12.0);
    let mut all: Vec<f32> = scores.iter().flatten().map(|s| s.total.single()).collect();
    assert!(scores[p.light].unwrap().total >= f64::from(median(&mut all)));
}
