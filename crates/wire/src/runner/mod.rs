//! The runner protocol: plain HTTP, always started by the runner, every call safe to repeat.
//!
//! A runner enrols once, signs on each time it starts (that begins a *session*), and then each of its slots claims,
//! works and finishes. A slot works on one attempt and holds at most one more, which it was leased ahead of time, so a
//! call that is repeated gets the same leases again. What it was leased ahead it begins next, or gives back. The attempt's
//! number is the fencing number: a call for a number that was given up is answered 409 and changes nothing.

mod attempt;
mod content;
mod direct;
mod files;
mod lease;
mod log;
mod parent;
mod report;
mod session;

pub use attempt::{AttemptId, BadAttemptId, OLDEST, VERSION};
pub use content::{CacheEntry, CacheUse, FindCache, FoundCache, GivenArtifact, SaveCache, SavedCache};
pub use direct::{AskPut, PackPiece, PackPut, PutPlace, ReadPlaces};
pub use files::{AskFiles, AskLarge, AskPack, CommitTag, FilesAbout, InnerModule, LargeFile};
pub use lease::{Lease, LeaseCache, LeaseCheck, LeaseConnection, LeasePublish, LeaseSecret, LeaseTake, LeaseUpload, Merge, Share};
pub use log::{LogAnswer, Phases, log_limit};
pub use parent::{NoParent, PHASES, Parent};
pub use report::{AttemptBill, AttemptReports, Finish, ReportsTaken};
pub use session::{
    Beat, Beaten, Claim, Claimed, Enrol, Enrolled, GiveBack, LetGo, MachineTerms, SignOff, SignOn, SignedOn, TakenAway, Tool,
};
