//! The verdict on a frame, and what is doubtful about it.

use crate::verdict::Verdict;

/// What is decided and said of a frame.
#[derive(Debug, Clone, PartialEq)]
pub struct Judged {
    /// Used, or left out and why.
    pub verdict: Verdict,
    /// What its user should look at.
    pub doubts: Vec<String>,
}
