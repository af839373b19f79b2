//! The light of common stars in two frames, as their canvas shows both: how much of a broad filter's light a line's filter lets
//! through.

use crate::doors::DoorError;
use crate::merge::{Input, placed};
use crate::number::Convert;
use crate::space::{Point, Rect, Size};
use crate::stars::{Catalogue, star_flux};

/// Stars on which two frames are compared, at the most.
const MOST_STARS: usize = 300;

/// Stars that are fainter than this over their error say nothing.
const LEAST_SNR: f64 = 8.0;

/// So much around a star is looked at, in widths.
const WIDTHS: f64 = 5.0;

/// A frame whose stars are measured: as it is merged, and how wide its stars are, in its own pixels.
pub struct MergedFrame<'a> {
    /// The frame.
    pub input: &'a Input<'a>,
    /// Width of its stars at half maximum.
    pub fwhm_px: f64,
}

/// A star's flux in the broad frame, in the line's, and the relative error of their ratio.
pub type Fluxes = (f64, f64, f64);

/// Fluxes of the clean stars of `stars`, a catalogue of the broad frame, above their skies and balanced.
///
/// # Errors
/// When one cannot be read: which (0 for the broad one, 1 for the line), and why.
pub fn star_light(
    stars: &Catalogue,
    broad: &MergedFrame<'_>,
    line: &MergedFrame<'_>,
    canvas: Size,
) -> Result<Vec<Fluxes>, (usize, DoorError)> {
    let back = broad.input.placement.invert();
    // A width on the canvas that both frames' stars fit into.
    let on_canvas = |s: &MergedFrame<'_>| {
        let ratio = s.input.placement.area_ratio(canvas.centre());
        s.fwhm_px / ratio.sqrt()
    };
    let fwhm = on_canvas(line).max(on_canvas(broad));
    let reach = (WIDTHS * fwhm).ceil().whole() + 2;
    let mut pairs = Vec::new();
    for s in stars.clean().take(MOST_STARS) {
        let at = back.apply(s.at);
        let rect = Rect {
            x: at.x.round().whole() - reach,
            y: at.y.round().whole() - reach,
            width: (2 * reach + 1).index(),
            height: (2 * reach + 1).index(),
        };
        if rect.intersect(canvas.rect()) != rect {
            continue;
        }
        let there = Point::new(at.x - rect.x.real(), at.y - rect.y.real());
        let mut fluxes = Vec::new();
        for (i, shown) in [broad, line].into_iter().enumerate() {
            let seen = placed(shown.input, rect).map_err(|e| (i, e))?;
            let scale = shown.input.balance.scale.value;
            if let Some((flux, sigma)) = seen.and_then(|p| star_flux(&p, there, fwhm))
                && flux > LEAST_SNR * sigma
            {
                fluxes.push((scale * flux, sigma / flux));
            }
        }
        if let [(b, eb), (l, el)] = fluxes[..] {
            pairs.push((b, l, eb.hypot(el)));
        }
    }
    Ok(pairs)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::balance::Balance;
    use crate::measured::Measured;
    use crate::placement::Map;
    use crate::plane::Plane;
    use crate::stars::{Settings, detect};

    /// Stars of a width and a brightness on an even sky, moved down by some rows.
    fn plane(width: f32, light: f32, down: f32) -> Plane {
        Plane::from_fn(Size::new(300, 240).unwrap(), |x, y| {
            let (x, y) = (x.single(), y.single());
            let noise = (x * 12.9898 + y * 78.233).sin() * 2.0;
            let star = |k: usize| {
                let (cx, cy) = (
                    30.3 + 48.0 * (k % 6).single(),
                    25.7 + 47.0 * (k / 6).single(),
                );
                let square = (x - cx).powi(2) + (y - cy - down).powi(2);
                let height = light * (1.0 + k.single()) / (width * width);
                height * (-2.77 * square / (width * width)).exp()
            };
            500.0 + noise + (0..30).map(star).sum::<f32>()
        })
    }

    #[test]
    fn a_line_lets_its_part_of_the_stars_through_whatever_the_seeing() {
        let (broad, line) = (plane(3.0, 20_000.0, 0.0), plane(4.0, 2_400.0, 2.5));
        let stars = detect(&broad, None, &Settings::default()).unwrap();
        assert!(stars.clean().count() > 20, "{}", stars.clean().count());
        let doubled = Balance {
            scale: Measured::exact(2.0),
            ..Balance::unchanged(500.0, 2.0)
        };
        let on = |down| Map::shift(0.0, down);
        let of_broad = Input::new(&broad, on(0.0), Balance::unchanged(500.0, 2.0));
        let of_line = Input::new(&line, on(2.5), doubled);
        let shown = |input, fwhm_px| MergedFrame { input, fwhm_px };
        let size = Size::new(300, 240).unwrap();
        let both = (shown(&of_broad, 3.0), shown(&of_line, 4.0));
        let pairs = star_light(&stars, &both.0, &both.1, size).unwrap();
        assert!(pairs.len() > 15, "{}", pairs.len());
        let ratio = crate::robust::robust_ratio(&pairs).unwrap().slope;
        // Twice the part that is in the file.
        assert!((ratio.value / 0.24 - 1.0).abs() < 0.02, "{ratio:?}");
    }
}
