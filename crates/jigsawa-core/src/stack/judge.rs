//! Which values of a pixel are rejected.

use super::column::Usual;
use super::light::{Light, OF_CHANGE};
use super::rule::Rejection;

/// A pixel's surroundings, as far as they bear on its values.
#[derive(Debug, Clone, Copy)]
pub(super) struct Place {
    /// Light above the sky.
    pub(super) light: f32,
    /// How far the light of its neighbours goes apart.
    pub(super) change: f32,
}

/// How a value lies to what is usual.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) struct Off {
    /// How far it lies beyond what frames may differ by, in units of its limit: above 1 it is rejected.
    pub(super) limits: f32,
    /// Is it above?
    pub(super) high: bool,
}

/// How far a frame's value, whose sky has noise `sigma`, lies off.
pub(super) fn off(
    value: f32,
    light: &Light,
    sigma: f32,
    usual: &Usual,
    place: Place,
    how: &Rejection,
) -> Off {
    let off = value - usual.centre - usual.of_width(light.spread);
    let high = off > 0.0;
    if value < usual.bounds.0 || value > usual.bounds.1 {
        return Off {
            limits: f32::INFINITY,
            high,
        };
    }
    if how.rule.is_by_rank() {
        return Off { limits: 0.0, high };
    }
    // What goes with the seeing is known where it was fitted, and else only how much it can be.
    let of_change = match usual.slope {
        Some(_) => OF_CHANGE,
        None => light.of_change,
    };
    let allowed = of_change * place.change + light.of_light * place.light;
    let variance = light
        .variance(sigma, place.light)
        .max(usual.scatter * usual.scatter);
    let limit = if high { how.high } else { how.low } * variance.sqrt();
    let beyond = (off.abs() - allowed).max(0.0);
    Off {
        limits: if limit > 0.0 { beyond / limit } else { 0.0 },
        high,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::stack::Rule;

    #[test]
    fn noise_photons_seeing_and_scatter_widen_the_limit() {
        let how = Rejection::new(Rule::Noise, Some(4.0), Some(4.0));
        let usual = Usual::about(500.0);
        let place = |light, change| Place { light, change };
        let light = Light {
            of_change: 0.25,
            of_light: 0.0,
            photons: 1.0,
            ..Light::even(1.0, 10.0)
        };
        let of = |value, usual: &Usual, place| off(value, &light, 10.0, usual, place, &how);
        let dark = of(560.0, &usual, place(0.0, 0.0));
        assert!((dark.limits - 1.5).abs() < 1e-6 && dark.high);
        let below = of(440.0, &usual, place(0.0, 0.0));
        assert!((below.limits - 1.5).abs() < 1e-6 && !below.high);
        // 300 electrons of light: twice the sky's noise.
        let bright = of(560.0, &usual, place(300.0, 0.0));
        assert!((bright.limits - 0.75).abs() < 1e-6);
        let steep = of(560.0, &usual, place(0.0, 200.0));
        assert!((steep.limits - 0.25).abs() < 1e-6);
        let wide = Usual {
            scatter: 30.0,
            ..usual
        };
        assert!((of(560.0, &wide, place(0.0, 0.0)).limits - 0.5).abs() < 1e-6);
        let softer = Usual {
            slope: Some((40.0, light.spread - 1.0)),
            ..usual
        };
        assert!((of(600.0, &softer, place(0.0, 0.0)).limits - 1.5).abs() < 1e-6);
        let bounded = Usual {
            bounds: (490.0, 510.0),
            ..usual
        };
        assert!(of(511.0, &bounded, place(0.0, 900.0)).limits > 1.0);
    }
}
