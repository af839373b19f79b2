//! The Moffat function (Moffat 1969, A&A 3, 455), which stars follow: (1 + (r / alpha)^2)^-beta of the height at a distance r.

/// Its scale alpha for a width at half maximum.
pub fn alpha(fwhm_px: f64, beta: f64) -> f64 {
    fwhm_px / (2.0 * (2f64.powf(1.0 / beta) - 1.0).sqrt())
}

/// The distance at which it has fallen to 1 / `times` of its height; 0 for once and less.
pub fn reach(fwhm_px: f64, beta: f64, times: f64) -> f64 {
    alpha(fwhm_px, beta) * (times.max(1.0).powf(1.0 / beta) - 1.0).max(0.0).sqrt()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn it_falls_to_half_at_half_of_its_width() {
        for beta in [1.6, 2.5, 4.0] {
            assert!((reach(3.0, beta, 2.0) - 1.5).abs() < 1e-12);
            let r = reach(3.0, beta, 100.0);
            let height = (1.0 + (r / alpha(3.0, beta)).powi(2)).powf(-beta);
            assert!((height - 0.01).abs() < 1e-12, "{height}");
            assert_eq!(reach(3.0, beta, 0.5), 0.0);
        }
    }
}
