//! How high something stands above the horizon.
//!
//! In: a place on the sky, a site, a time. Out: altitude, hour angle and the air on the way. Sidereal
//! time is that of Meeus (1998, Astronomical Algorithms, ch. 12); precession since the catalogue's
//! epoch (a third of a degree) and refraction are left out, which no decision about a frame feels.

/// A place above the horizon.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Above {
    /// Degrees above the horizon, negative below.
    pub altitude_deg: f64,
    /// Hours past the meridian, from -12 to 12.
    pub hour_angle_h: f64,
}

/// Where (right ascension, declination) stands for a site (latitude, longitude, east positive), all
/// in degrees, at a time in seconds since 1970 (UTC).
pub fn above((ra, dec): (f64, f64), (latitude, longitude): (f64, f64), time_s: f64) -> Above {
    let days = time_s / 86_400.0 + 2_440_587.5 - 2_451_545.0;
    let sidereal = 280.460_618_37 + 360.985_647_366_29 * days + longitude;
    let hour_angle = (sidereal - ra + 180.0).rem_euclid(360.0) - 180.0;
    let (h, d, l) = (
        hour_angle.to_radians(),
        dec.to_radians(),
        latitude.to_radians(),
    );
    let sine = l.sin() * d.sin() + l.cos() * d.cos() * h.cos();
    Above {
        altitude_deg: sine.clamp(-1.0, 1.0).asin().to_degrees(),
        hour_angle_h: hour_angle / 15.0,
    }
}

/// Air mass at an altitude in degrees (Kasten & Young 1989, Applied Optics 28, 4735). `None` below
/// the horizon.
pub fn airmass(altitude_deg: f64) -> Option<f64> {
    (0.0..=90.0).contains(&altitude_deg).then(|| {
        let zenith = altitude_deg.to_radians().sin();
        (1.0 / (zenith + 0.505_72 * (altitude_deg + 6.079_95).powf(-1.636_4))).max(1.0)
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The worked example 13.b of Meeus: Venus from Washington, 1987 April 10, 19:21 UT.
    #[test]
    fn the_books_example_comes_out() {
        let at = (347.319_338, -6.719_892);
        let seen = above(at, (38.921_389, -77.065_556), 545_080_860.0);
        assert!((seen.altitude_deg - 15.1249).abs() < 0.01, "{seen:?}");
        assert!(
            (seen.hour_angle_h - 64.352_13 / 15.0).abs() < 0.001,
            "{seen:?}"
        );
    }

    #[test]
    fn air_grows_towards_the_horizon() {
        assert!((airmass(90.0).unwrap() - 1.0).abs() < 1e-3);
        assert!((airmass(30.0).unwrap() - 1.994).abs() < 2e-3);
        assert_eq!(airmass(-2.0), None);
    }
}
