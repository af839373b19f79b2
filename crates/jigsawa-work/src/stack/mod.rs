//! Many frames into masters: chosen by a survey (`choose`), sorted into sets, one for each filter and, where they differ much, each exposure (`sets`); what
//! each frame counts and how far it may stray (`lights`); merged into files (`write`, `sink`, `cards`), dropped onto a finer canvas where that is wanted (`drop`), or held on
//! what moves among the stars (`follow`). What is done stays when a run is stopped (`kept`). `compare` shows what some of the frames would have given.

mod cards;
mod choose;
mod compare;
mod drop;
mod follow;
mod kept;
mod lights;
mod master;
mod sets;
mod sink;
mod write;

pub use choose::choose;
pub use compare::{CompareArg, Compared, compare};
pub use follow::{FollowArg, follow};
pub use kept::Kept;
pub use lights::{StackSettings, lights};
pub use master::{DroppedHow, Master, OfFrame, Paths};
pub use sets::{Exposures, Set, check, sets};
