//! Single bright pixels, which are no stars.

use crate::number::Convert;
use crate::plane::Plane;
use crate::robust::median;

use super::candidate::Candidate;
use super::filter::MatchedFilter;

/// Is all the light in one pixel? A hot pixel or a cosmic ray's point gives the filter a response of
/// a small part of its height, where a star's centre gives about its own.
pub(super) fn is_spike(plane: &Plane, filter: &MatchedFilter, c: &Candidate) -> bool {
    let (x, y) = (c.x.whole(), c.y.whole());
    let mut near = [0.0f32; 9];
    let mut count = 0;
    for dy in -1..=1 {
        for dx in -1..=1 {
            let v = plane.at(x + dx, y + dy);
            if v.is_finite() {
                near[count] = v;
                count += 1;
            }
        }
    }
    let near = &mut near[..count];
    let brightest = near.iter().copied().fold(f32::NEG_INFINITY, f32::max);
    let step = brightest - median(near);
    // A lone pixel of height h gives the response h x noise_gain^2 and stands h above its neighbours; a
    // star of the filter's width gives its height and stands by less than that above them. The bar
    // lies between the two, nearer to the star: a hot pixel beside a star's centre is one too. Noise
    // of a pixel may lift it.
    let bar = (1.0 / filter.noise_gain.sqrt()).max(1.6);
    let noise = c.amplitude / c.snr;
    step > bar * c.amplitude + 4.0 * noise / filter.noise_gain
}
