//! The accounts of `run` and `check`.

use jigsawa_work::frames::Spoilt;
use serde::Serialize;

use super::Outcome;

/// What a run, or a check, came to.
pub type RunAccount = Outcome<Ran>;

/// Steps, and what was decided.
#[derive(Debug, Serialize)]
pub struct Ran {
    /// Start of every result's name.
    pub name: String,
    /// The recipe; none where it was not written.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub recipe: Option<String>,
    /// What was decided, in sentences.
    pub decided: Vec<String>,
    /// What is missing or doubtful about the plan.
    pub doubts: Vec<String>,
    /// The steps in their order.
    pub steps: Vec<StepRow>,
    /// What has become better since the last run.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub better: Vec<String>,
    /// Seconds that the steps which are to be done will take, about.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub about_s: Option<f64>,
    /// Megabytes that their results will take, about.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub about_mb: Option<f64>,
    /// Files that cannot be used.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub spoilt: Vec<Spoilt>,
}

/// A step in the account.
#[derive(Debug, Clone, Serialize)]
pub struct StepRow {
    pub step: String,
    /// Its options as one number, which its results carry among their cards.
    pub settings: String,
    pub state: StepState,
    /// How long it took, or will take.
    pub seconds: f64,
    /// Frames or results that it reads, where that is known.
    pub reads: usize,
}

/// How far a step is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum StepState {
    /// In this run.
    Done,
    /// By an earlier one, and nothing has changed.
    DoneBefore,
    /// It would be done.
    ToDo,
    /// It ended with an error.
    Failed,
    /// An earlier step has failed.
    NotReached,
}

impl StepState {
    /// The state in words.
    pub const fn words(self) -> &'static str {
        match self {
            Self::Done => "done",
            Self::DoneBefore => "done before, nothing has changed",
            Self::ToDo => "to do",
            Self::Failed => "failed",
            Self::NotReached => "not reached",
        }
    }
}
