//! A number with its error.

use serde::{Deserialize, Serialize};

/// A measured value and its standard error, in the same unit.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Measured {
    /// The value.
    pub value: f64,
    /// One standard deviation of the value; 0 for a value that is exact by definition.
    pub sigma: f64,
}

impl Measured {
    /// A value that is exact by definition, like the scale of the reference to itself.
    pub const fn exact(value: f64) -> Self {
        Self { value, sigma: 0.0 }
    }

    /// Product with another, independent measurement; relative errors add in quadrature.
    #[must_use]
    pub fn times(self, other: Self) -> Self {
        let value = self.value * other.value;
        let sigma = (self.sigma * other.value).hypot(other.sigma * self.value);
        Self { value, sigma }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn relative_errors_of_a_product_add_in_quadrature() {
        let a = Measured {
            value: 2.0,
            sigma: 0.06,
        };
        let b = Measured {
            value: 5.0,
            sigma: 0.2,
        };
        let p = a.times(b);
        assert_eq!(p.value, 10.0);
        assert!((p.sigma / p.value - 0.05).abs() < 1e-12);
    }
}
