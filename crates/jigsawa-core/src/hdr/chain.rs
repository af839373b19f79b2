//! Every exposure tied to the longest by the surest way: at once, or over exposures between.
//!
//! The longest and the shortest share little light that both show well; over one between them both steps are sure.

use crate::measured::Measured;

/// How an exposure comes to the longest.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Link {
    /// The exposure that it was compared with.
    pub with: usize,
    /// The factor on its values that makes them those of the longest.
    pub scale: Measured,
}

/// The links of exposures in order, the longest being the first; `pair(i, j)` is the factor that brings `j` to the
/// longer `i`, where it could be measured. `None` for the longest itself and for those that nothing ties to it.
pub fn chain(count: usize, pair: impl Fn(usize, usize) -> Option<Measured>) -> Vec<Option<Link>> {
    let mut links: Vec<Option<Link>> = vec![None; count];
    let relative = |m: &Measured| m.sigma / m.value;
    for j in 1..count {
        links[j] = (0..j)
            .filter_map(|i| {
                let before = if i == 0 {
                    Measured::exact(1.0)
                } else {
                    links[i]?.scale
                };
                let scale = before.times(pair(i, j)?);
                Some(Link { with: i, scale })
            })
            .min_by(|a, b| relative(&a.scale).total_cmp(&relative(&b.scale)));
    }
    links
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_surest_way_is_taken_and_an_untied_exposure_is_told() {
        let m = |value, sigma| Some(Measured { value, sigma });
        let links = chain(4, |i, j| match (i, j) {
            (0, 1) | (1, 2) => m(10.0, 0.01),
            (0, 2) => m(103.0, 4.0),
            _ => None,
        });
        assert_eq!(links[0], None);
        assert_eq!(links[1].unwrap().with, 0);
        let last = links[2].unwrap();
        assert_eq!((last.with, last.scale.value), (1, 100.0));
        assert!((last.scale.sigma - 0.1 * 2f64.sqrt()).abs() < 1e-9);
        assert_eq!(links[3], None);
    }
}
