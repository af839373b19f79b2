//! How many pixels of a camera are hot, by the exposure and the temperature of its darks.

use jigsawa_core::calibrate::defects::Flaw;
use jigsawa_core::frame::Kind;
use jigsawa_core::number::Convert;
use jigsawa_work::calibrate::{Calibration, Master};
use maud::{Markup, html};

use crate::report::chart::{Axis, Chart, Ink, power, range};
use crate::report::table::{Table, cells};

/// A dark master's hot pixels.
struct Hot<'a> {
    name: &'a str,
    camera: Option<&'a str>,
    exposure_s: Option<f64>,
    celsius: Option<f64>,
    count: usize,
    of: usize,
}

/// A table of all darks, and a plot where they have several temperatures; none without darks.
pub fn shown(c: &Calibration) -> Option<Markup> {
    let masters = c.masters.iter().enumerate();
    let darks = masters.filter_map(|(i, m)| Some((i, m.as_ref()?)));
    let mut all: Vec<Hot<'_>> = darks
        .filter(|(i, _)| c.groups[*i].kind == Kind::Dark)
        .map(|(i, m): (usize, &Master)| Hot {
            name: &c.names[i],
            camera: c.groups[i].setup.camera.as_deref(),
            exposure_s: c.groups[i].exposure_s,
            celsius: c.groups[i].celsius,
            count: m.flaws.iter().filter(|f| f.2 == Flaw::Hot).count(),
            of: m.file.size().area(),
        })
        .collect();
    if all.is_empty() {
        return None;
    }
    all.sort_by(|a, b| {
        let key = |h: &Hot<'_>| (h.exposure_s.unwrap_or(0.0), h.celsius.unwrap_or(0.0));
        let ((ea, ca), (eb, cb)) = (key(a), key(b));
        let by_camera = a.camera.cmp(&b.camera);
        by_camera.then(ea.total_cmp(&eb)).then(ca.total_cmp(&cb))
    });
    let mut table = Table::new(&[
        "dark",
        "camera",
        "#exposure, s",
        "#°C",
        "#hot pixels",
        "#% of the chip",
    ]);
    let number = |v: Option<f64>| v.map_or("–".to_owned(), |v| format!("{v}"));
    for h in &all {
        table.row(
            "",
            cells![
                h.name,
                h.camera.unwrap_or_default(),
                number(h.exposure_s),
                number(h.celsius),
                h.count,
                format!("{:.3}", 100.0 * h.count.real() / h.of.real())
            ],
        );
    }
    Some(html! {
        p { "Pixels with more dark current than can be taken off without its noise. Their current doubles with some six degrees, and grows with the exposure." }
        (table)
        @if let Some(plot) = plot(&all) { div.charts { (plot) } }
    })
}

/// Hot pixels over temperature, a line for each camera and exposure; none where each has one temperature.
fn plot(all: &[Hot<'_>]) -> Option<Markup> {
    let known = || all.iter().filter_map(|h| Some((h.celsius?, h)));
    let temperatures = range(known().map(|k| k.0), 0.08, 2.0);
    // Of one camera and exposure at two temperatures, or there is nothing to see.
    let alike = |a: &Hot<'_>, b: &Hot<'_>| a.camera == b.camera && a.exposure_s == b.exposure_s;
    let shows = known().any(|(t, a)| known().any(|(u, b)| alike(a, b) && (t - u).abs() >= 1.0));
    if !shows {
        return None;
    }
    let log = |h: &Hot<'_>| h.count.max(1).real().log10();
    let most = known().map(|k| log(k.1)).fold(1.0, f64::max);
    let degrees = |v: &f64| format!("{v:.0}");
    let mut chart = Chart::new(
        "hot pixels over temperature",
        (560, 360),
        Axis {
            words: "°C",
            range: temperatures,
            marks: 6,
            label: &degrees,
        },
        Axis {
            words: "hot pixels",
            range: (0.0, 1.1 * most),
            marks: 5,
            label: &power,
        },
    );
    for (i, first) in all.iter().enumerate() {
        if all[..i].iter().any(|h| alike(h, first)) {
            continue;
        }
        let points = || {
            let own = known().filter(|k| alike(k.1, first));
            own.map(|(t, h)| (t, log(h)))
        };
        chart.line(points(), Ink::class("fit"));
        chart.dots(points(), 4, Ink::class("fit"));
    }
    Some(chart.figure("hot pixels over temperature, a line for each camera and exposure"))
}
