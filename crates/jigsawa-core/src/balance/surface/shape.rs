//! The kinds of surface, each linear in its numbers.

use crate::number::Convert;
use nalgebra::DVector;
use serde::{Deserialize, Serialize};

use super::polynomial::{MOST_DEGREE, Polynomial};
use super::rows::Rows;
use super::spline::{Grid, Spline};
use super::{Domain, Glow, Patch, Surface};
use crate::space::{CanvasPx, Size};

/// The kinds of surface.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Shape {
    /// Nothing is added.
    Nothing,
    /// The same everywhere.
    Level,
    /// Tilted.
    Plane,
    /// A polynomial of this total degree.
    Polynomial {
        /// 1 to 8.
        degree: usize,
    },
    /// A cubic spline.
    Spline {
        /// The shortest waves that it follows, in parts of the canvas's shorter side.
        stiffness: f64,
    },
    /// A polynomial of degree 2, and a light that falls off from a corner of the canvas.
    Glow {
        /// 0 to 3: in the order of [`Size::corners`].
        corner: usize,
        /// The distance over which it falls to 1/e, in parts of the canvas's longer side.
        reach: f64,
    },
}

/// The degree of what lies under a glow.
const UNDER_GLOW: usize = 2;

/// A shape that makes no sense.
#[derive(Debug, Clone, Copy, PartialEq, thiserror::Error)]
pub enum ShapeError {
    /// The degree is out of range.
    #[error("a polynomial's degree is 1 to {MOST_DEGREE}, not {0}")]
    Degree(usize),
    /// The stiffness is out of range.
    #[error("a spline's stiffness is 0.1 to 4, not {0}")]
    Stiffness(f64),
    /// The glow's corner or reach is out of range.
    #[error("a glow's corner is 0 to 3 and its reach from 0.01 to 1, not {0} and {1}")]
    Glow(usize, f64),
}

impl Shape {
    /// Checks its numbers.
    ///
    /// # Errors
    /// When they are out of range.
    pub fn check(self) -> Result<Self, ShapeError> {
        match self {
            Self::Polynomial { degree } if !(1..=MOST_DEGREE).contains(&degree) => {
                Err(ShapeError::Degree(degree))
            }
            Self::Spline { stiffness } if !(0.1..=4.0).contains(&stiffness) => {
                Err(ShapeError::Stiffness(stiffness))
            }
            Self::Glow { corner, reach } if corner > 3 || !(0.01..=1.0).contains(&reach) => {
                Err(ShapeError::Glow(corner, reach))
            }
            sound => Ok(sound),
        }
    }

    /// From the stiffest to the softest, what is tried where nobody asks for a shape.
    pub fn candidates() -> Vec<Self> {
        let mut all = vec![
            Self::Nothing,
            Self::Level,
            Self::Plane,
            Self::Polynomial { degree: 2 },
        ];
        all.extend(
            [2.0, 1.4, 1.0, 0.7, 0.5, 0.35, 0.25, 0.18].map(|stiffness| Self::Spline { stiffness }),
        );
        all
    }

    /// Its name.
    pub fn words(self) -> String {
        match self {
            Self::Nothing => "nothing".to_owned(),
            Self::Level => "a level".to_owned(),
            Self::Plane => "a plane".to_owned(),
            Self::Polynomial { degree } => format!("a polynomial of degree {degree}"),
            Self::Spline { stiffness } => format!("a spline of stiffness {stiffness}"),
            Self::Glow { reach, .. } => {
                let percent = 100.0 * reach;
                format!("a curved sky and a glow over {percent:.0} % of the frame from a corner")
            }
        }
    }

    /// Numbers that fix it: of a spline, about so many waves as fit into a square canvas.
    pub(crate) fn numbers(self) -> usize {
        match self {
            Self::Nothing => 0,
            Self::Level => 1,
            Self::Plane => 3,
            Self::Polynomial { degree } => Polynomial::count(degree),
            Self::Spline { stiffness } => (1.0 + 2.0 / stiffness).powi(2).ceil().index(),
            Self::Glow { .. } => Polynomial::count(UNDER_GLOW) + 1,
        }
    }

    pub(super) fn count(self, canvas: Size) -> usize {
        match self {
            Self::Nothing => 0,
            Self::Level => 1,
            Self::Plane => 3,
            Self::Polynomial { degree } => Polynomial::count(degree),
            Self::Spline { .. } => {
                let (columns, rows) = Grid::of(canvas).shape();
                columns * rows
            }
            Self::Glow { .. } => self.numbers(),
        }
    }

    /// The light of a glow of height 1.
    fn unit_glow(corner: usize, reach: f64, canvas: Size) -> Glow {
        let at = canvas.corners::<CanvasPx>()[corner.min(3)];
        Glow {
            x: at.x,
            y: at.y,
            reach: reach * canvas.width().max(canvas.height()).real(),
            height: 1.0,
        }
    }

    /// What the places of patches have in each of the shape's numbers.
    pub(super) fn rows(self, patches: &[Patch], canvas: Size) -> Rows {
        let places = patches.iter().map(|p| p.at);
        let polynomial = |degree| {
            let domain = Domain::of(canvas);
            move |p| Polynomial::row(domain, degree, p)
        };
        match self {
            Self::Nothing => Rows::Whole(Vec::new()),
            Self::Level => Rows::whole(1, places.map(|_| [1.0])),
            Self::Plane => Rows::whole(3, places.map(polynomial(1))),
            Self::Polynomial { degree } => {
                Rows::whole(Polynomial::count(degree), places.map(polynomial(degree)))
            }
            Self::Spline { .. } => {
                let grid = Grid::of(canvas);
                Rows::Spline {
                    numbers: self.count(canvas),
                    parts: places.map(|p| grid.weights(p)).collect(),
                }
            }
            Self::Glow { corner, reach } => {
                let under = polynomial(UNDER_GLOW);
                let glow = Self::unit_glow(corner, reach, canvas);
                let row = |p| under(p).chain([glow.at(p)]);
                Rows::whole(self.numbers(), places.map(row))
            }
        }
    }

    pub(super) fn surface(self, numbers: &DVector<f64>, canvas: Size) -> Surface {
        match self {
            Self::Nothing => Surface::zero(),
            Self::Level => Surface::constant(numbers[0]),
            Self::Plane => {
                let d = Domain::of(canvas);
                Surface::Plane {
                    x0: d.centre[0],
                    y0: d.centre[1],
                    level: numbers[0],
                    slope_x: numbers[1] / d.half,
                    slope_y: numbers[2] / d.half,
                }
            }
            Self::Polynomial { degree } => Surface::Polynomial(Polynomial::new(
                Domain::of(canvas),
                degree,
                numbers.iter().copied().collect(),
            )),
            Self::Spline { stiffness } => Surface::Spline(Spline::new(
                Grid::of(canvas),
                stiffness,
                numbers.iter().copied().collect(),
            )),
            Self::Glow { corner, reach } => {
                let under = Polynomial::count(UNDER_GLOW);
                let terms = numbers.iter().copied().take(under).collect();
                let under = Polynomial::new(Domain::of(canvas), UNDER_GLOW, terms);
                let height = numbers[numbers.len() - 1];
                let glow = Glow {
                    height,
                    ..Self::unit_glow(corner, reach, canvas)
                };
                Surface::Sum {
                    parts: vec![Surface::Polynomial(under), Surface::Glow(glow)],
                }
            }
        }
    }
}
