//! What is done to the light of lines before they are mixed.

use serde::Serialize;

use super::bind::Bound;

/// What is done to frames before they are mixed.
pub struct Strengths {
    /// A factor for each frame's light.
    pub(super) factors: Vec<f32>,
    /// Frames of a line, frames of the broad filter that is taken off, and how much of it.
    pub(super) continuum: Vec<Continuum>,
    /// What is told of it.
    pub rows: Vec<LineRow>,
}

/// One line in the account.
#[derive(Debug, Clone, Serialize)]
pub struct LineRow {
    /// The line.
    pub filter: String,
    /// What its light is multiplied by after matching.
    pub factor: f64,
    /// By which rule.
    pub by: &'static str,
    /// The broad filter that is taken off it, and how much of that.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub continuum: Option<(String, f64)>,
    /// Stars behind that.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub stars: Option<usize>,
}

impl Strengths {
    /// The factor of some frames of one filter.
    pub fn factor(&self, frames: &[usize]) -> f32 {
        frames.first().map_or(1.0, |i| self.factors[*i])
    }

    /// What is taken off a line's frames: frames of the broad filter, and how much of them.
    pub fn taken_off(&self, frames: &[usize]) -> Option<(&[usize], f32)> {
        let found = self.continuum.iter().find(|(line, _, _)| line == frames)?;
        Some((&found.1, found.2))
    }

    /// Adds the broad filters that are taken off to what a palette reads.
    pub fn complete(&self, bound: &mut Bound) {
        for (line, broad, _) in &self.continuum {
            if bound.sources.contains(line) {
                bound.source(broad.clone());
            }
        }
    }
}

/// A line's frames, the frames of the broad filter that is taken off it, and how much of that.
pub(super) type Continuum = (Vec<usize>, Vec<usize>, f32);
