//! Is a frame used, or left out and why.

use serde::{Deserialize, Serialize};

/// What was decided about a frame.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "verdict", content = "reason")]
pub enum Verdict {
    /// It takes part.
    #[serde(rename = "used")]
    Used,
    /// It does not, for this reason in words.
    #[serde(rename = "left out")]
    LeftOut(String),
}

impl Verdict {
    /// The verdict in the words of accounts and tables.
    pub const fn word(&self) -> &'static str {
        match self {
            Self::Used => "used",
            Self::LeftOut(_) => "left out",
        }
    }

    /// The reason for leaving it out, if it is.
    pub fn reason(&self) -> Option<&str> {
        match self {
            Self::Used => None,
            Self::LeftOut(reason) => Some(reason),
        }
    }
}
