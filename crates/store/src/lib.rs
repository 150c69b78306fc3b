//! What lasts. Three stores below one data folder:
//!
//! - [`Records`]: SQLite, for everything that is asked for by name or time; all SQL of the project is in here.
//! - [`Blobs`]: chunks of files, stored once, for artifacts and caches.
//! - [`Logs`]: what attempts print.
//!
//! [`backup`] makes copies of all three, and brings them back; [`inspect`] looks at a data folder without changing it.

pub mod backup;
mod blobs;
pub mod inspect;
mod key;
mod log_id;
mod logs;
mod records;

pub use blobs::{
    BlobError, BlobKey, Blobs, DIRECT_FOR, Damage, Intake, Objects, PackAdded, PieceAt, Place, PutAt, SweepPlan, Verified, YOUNG_MS,
};
pub use key::{Secret, digest_of, digest_of_bytes};
pub use log_id::LogId;
pub use logs::{Found, Lines, Logs, Searched};
pub use records::{
    AttemptRow, BehindRow, BoardRow, BrokenRow, Busy, CacheRow, CacheUseRow, ComponentRow, ConnectionRow, Cutoffs, DeliveryRow,
    DeploymentRow, DueArtifact, DueSchedule, DueWork, Entry, EnvironmentRow, Event, FindingRow, FlakyRow, Forge, ForgeWord, Given,
    GoodToken, GrantRow, Granted, GroupRow, Head, HistoryRow, Holder, Holding, IdentityRow, Invited, JobRow, JobToken, JournalFilter,
    JournalRow, JournalState, Kind, LandingEnd, MadeRow, NewBill, NewCache, NewDelivery, NewDeployment, NewEvent, NewNotice, NewNumber,
    NewRelease, NewResult, NewRunRow, NewSession, NewToken, NewWork, NoticeRow, NumberRow, OldRows, OldRun, PastRow, PersonRow, PolledRow,
    PoolRow, PreviewRow, Project, ProposalRow, RanRow, Reach, Records, ReleaseAsset, ReleaseEdit, ReleaseRow, ResultRow, ResultsOf,
    ReusableRow, ReusedRow, ReviewRow, RunChange, RunEndRow, RunEvent, RunKey, RunRow, RunnerRow, SecretRow, SessionRow, SetAside, ShipRow,
    Sibling, SigningKeyRow, SoughtJob, SoughtRun, SoughtTest, StatementRow, StayRow, StepRows, StoreError, StoredArtifact, StoredPipeline,
    StoredRun, Timing, TokenRow, Took, ToolRow, TracedFile, TrialRun, TriedRow, TroubledWork, Tx, Unsealed, WorkCount, WorkKind, WriteBack,
};
