//! Rules of rejection: how a pixel's own values tell what is usual among them.

use serde::{Deserialize, Serialize};

/// How outliers are told.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Rule {
    /// Nothing is rejected.
    None,
    /// What lies off the median by widths of the predicted noise. It needs no scatter, so that three frames suffice.
    Noise,
    /// What lies off the median by widths of the median absolute deviation.
    Median,
    /// What lies off the mean by widths of the scatter, both of values that are drawn in to 1.5 widths.
    Winsorized,
    /// What lies off the mean by widths of the scatter, both without what was rejected, until nothing more is.
    Sigma,
    /// A part of the values from either end.
    Percentile,
    /// So many values from either end.
    Extremes,
}

impl Rule {
    /// All of them.
    pub const ALL: [Self; 7] = [
        Self::None,
        Self::Noise,
        Self::Median,
        Self::Winsorized,
        Self::Sigma,
        Self::Percentile,
        Self::Extremes,
    ];

    /// In a word.
    pub const fn name(self) -> &'static str {
        match self {
            Self::None => "none",
            Self::Noise => "noise",
            Self::Median => "median",
            Self::Winsorized => "winsorized",
            Self::Sigma => "sigma",
            Self::Percentile => "percentile",
            Self::Extremes => "extremes",
        }
    }

    /// The limits that it has when nothing is said: below and above. What spoils a frame is mostly light.
    pub const fn usual(self) -> (f32, f32) {
        match self {
            Self::None => (0.0, 0.0),
            Self::Noise | Self::Median | Self::Winsorized | Self::Sigma => (4.0, 3.5),
            Self::Percentile => (10.0, 10.0),
            Self::Extremes => (1.0, 1.0),
        }
    }

    /// Does it take values away wherever they lie?
    pub const fn is_by_rank(self) -> bool {
        matches!(self, Self::Percentile | Self::Extremes)
    }
}

/// A rule with its limits.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Rejection {
    /// The rule.
    pub rule: Rule,
    /// Its limit below.
    pub low: f32,
    /// Its limit above.
    pub high: f32,
}

/// Fewest frames that outvote one.
const OUTVOTE: usize = 3;

/// From so many values on their scatter says something: a robust width of six is true to a third.
const SCATTER: usize = 6;

/// From so many on a mean and a scatter are their own, whatever single values do to the first of them.
const MANY: usize = 15;

impl Rejection {
    /// A rule with limits that may have been said.
    pub fn new(rule: Rule, low: Option<f32>, high: Option<f32>) -> Self {
        let usual = rule.usual();
        Self {
            rule,
            low: low.unwrap_or(usual.0),
            high: high.unwrap_or(usual.1),
        }
    }

    /// The rule that suits so many frames. Where the photons of all are known, some are better judged by their predicted
    /// noise: a scatter that two values of twelve have widened lets both pass.
    pub const fn rule_for(frames: usize, photons_known: bool) -> Rule {
        match frames {
            0..OUTVOTE => Rule::None,
            OUTVOTE..SCATTER => Rule::Noise,
            SCATTER..MANY if photons_known => Rule::Noise,
            SCATTER..MANY => Rule::Winsorized,
            _ => Rule::Sigma,
        }
    }

    /// Limits for pixels that are held against a stack, in noise widths: none where nothing is to be rejected, and the usual ones
    /// of a rule that counts values.
    pub fn against_a_stack(&self) -> Option<(f32, f32)> {
        match self.rule {
            Rule::None => None,
            rule if rule.is_by_rank() => Some(Rule::Noise.usual()),
            _ => Some((self.low, self.high)),
        }
    }

    /// The smaller limit, in noise widths: nothing within it is rejected.
    pub(super) const fn least(&self) -> f32 {
        self.low.min(self.high)
    }

    /// Values from the lower and the upper end that a rule by rank takes away, of `n`.
    pub(super) fn ranks(&self, n: usize) -> (usize, usize) {
        use crate::number::Convert;
        let of = |limit: f32| match self.rule {
            Rule::Percentile => (n.single() * limit / 100.0).round().index(),
            _ => limit.index(),
        };
        let (mut low, mut high) = (of(self.low), of(self.high));
        // One value stays at the least: what is taken from the end that has more left goes first.
        while low + high + 1 > n && low + high > 0 {
            if high >= low {
                high -= 1;
            } else {
                low -= 1;
            }
        }
        (low, high)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_rule_follows_the_number_of_frames() {
        let of = |n| Rejection::rule_for(n, false);
        assert_eq!([0, 2].map(of), [Rule::None; 2]);
        assert_eq!([3, 5].map(of), [Rule::Noise; 2]);
        assert_eq!([6, 14].map(of), [Rule::Winsorized; 2]);
        assert_eq!([15, 500].map(of), [Rule::Sigma; 2]);
        let known = |n| Rejection::rule_for(n, true);
        assert_eq!(
            [2, 5, 14, 15].map(known),
            [Rule::None, Rule::Noise, Rule::Noise, Rule::Sigma]
        );
    }

    #[test]
    fn pixels_are_held_against_a_stack_by_noise_widths() {
        let of = |rule| Rejection::new(rule, None, None).against_a_stack();
        assert_eq!(of(Rule::None), None);
        assert_eq!(of(Rule::Extremes), Some((4.0, 3.5)));
        let own = Rejection::new(Rule::Sigma, Some(6.0), Some(5.0));
        assert_eq!(own.against_a_stack(), Some((6.0, 5.0)));
    }

    #[test]
    fn ranks_leave_a_value() {
        let of = |rule, low, high, n| Rejection::new(rule, Some(low), Some(high)).ranks(n);
        assert_eq!(of(Rule::Extremes, 1.0, 2.0, 10), (1, 2));
        assert_eq!(of(Rule::Extremes, 1.0, 2.0, 3), (1, 1));
        assert_eq!(of(Rule::Extremes, 1.0, 1.0, 2), (1, 0));
        assert_eq!(of(Rule::Extremes, 1.0, 1.0, 1), (0, 0));
        assert_eq!(of(Rule::Percentile, 10.0, 20.0, 24), (2, 5));
    }
}
