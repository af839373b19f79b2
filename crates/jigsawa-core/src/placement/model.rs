//! The families of maps, from stiff to free.

use serde::{Deserialize, Serialize};

/// A family of maps.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(into = "&'static str", try_from = "String")]
pub enum Model {
    /// A shift: 2 numbers.
    Shift,
    /// Shift, rotation and one scale, mirrored or not: 4 numbers.
    Similarity,
    /// Any linear map and a shift: 6 numbers.
    Affine,
    /// A plane seen in perspective: 8 numbers.
    Homography,
    /// Affine, and a distortion by polynomials of this degree, 2 to 5, in x and y: 12 to 42 numbers.
    Smooth(u8),
}

impl Model {
    /// All models from stiff to free.
    pub const ALL: [Self; 8] = [
        Self::Shift,
        Self::Similarity,
        Self::Affine,
        Self::Homography,
        Self::Smooth(2),
        Self::Smooth(3),
        Self::Smooth(4),
        Self::Smooth(5),
    ];

    /// Numbers that the model has.
    pub const fn numbers(self) -> usize {
        match self {
            Self::Shift => 2,
            Self::Similarity => 4,
            Self::Affine => 6,
            Self::Homography => 8,
            Self::Smooth(degree) => (degree as usize + 1) * (degree as usize + 2),
        }
    }

    /// The least number of pairs that fix the model.
    pub const fn least_pairs(self) -> usize {
        self.numbers() / 2
    }

    /// The model's name as files and messages write it.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Shift => "shift",
            Self::Similarity => "similarity",
            Self::Affine => "affine",
            Self::Homography => "homography",
            Self::Smooth(2) => "smooth-2",
            Self::Smooth(3) => "smooth-3",
            Self::Smooth(4) => "smooth-4",
            Self::Smooth(_) => "smooth-5",
        }
    }
}

impl From<Model> for &'static str {
    fn from(model: Model) -> Self {
        model.name()
    }
}

impl TryFrom<String> for Model {
    type Error = String;

    fn try_from(name: String) -> Result<Self, String> {
        let known = Self::ALL.into_iter().find(|m| m.name() == name);
        known.ok_or_else(|| {
            let all: Vec<&str> = Self::ALL.iter().map(|m| m.name()).collect();
            format!("'{name}' is no model: {}", all.join(", "))
        })
    }
}
