//! Why a queued job has no machine yet, in one sentence.

use crate::engine::Millis;

/// What the jobs of one kind wait for, as far as pools go.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Outlook {
    /// A runner is free that takes it.
    There,
    /// A machine is on its way; if it is known how long that takes, the time.
    Coming { pool: String, likely_at: Option<Millis> },
    /// It waits behind another job, which takes less time than a new machine would.
    Behind { runner: String, free_at: Millis },
    /// The pool has as many machines as it may have.
    Full { pool: String, most: usize, free_at: Option<Millis> },
    /// The pool cannot make one; it tries again then, or is trying.
    Trouble { pool: String, why: String, again_at: Option<Millis> },
    /// No pool makes what it needs.
    NoPool,
}

/// The same for those of a kind that go first, and for those behind them.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Outlooks {
    pub first: Outlook,
    pub last: Outlook,
}

impl Outlook {
    /// The sentence, without a capital and without a full stop; none where pools have nothing to do with it. `clock` writes a
    /// moment, `length` a length of time in milliseconds.
    ///
    /// ```
    /// use ordotaxis_core::pool::Outlook;
    /// let (clock, length) = (|at: i64| format!("12:0{at}"), |ms: i64| format!("{ms} ms"));
    /// let full = Outlook::Full { pool: "heavy".into(), most: 40, free_at: Some(9) };
    /// assert_eq!(full.sentence(4, clock, length).unwrap(), "pool heavy is at its most of 40; the next is likely free in 5 ms");
    /// ```
    pub fn sentence(&self, now: Millis, clock: impl Fn(Millis) -> String, length: impl Fn(Millis) -> String) -> Option<String> {
        let within = |at: Millis| length((at - now).max(0));
        match self {
            Outlook::There | Outlook::NoPool => None,
            Outlook::Coming { pool, likely_at: Some(at) } => {
                Some(format!("pool {pool} is making a machine, likely there in {}", within(*at)))
            }
            Outlook::Coming { pool, likely_at: None } => Some(format!("pool {pool} is making a machine")),
            Outlook::Behind { runner, free_at } => {
                Some(format!("{runner} is likely free in {}, before a new machine would come", within(*free_at)))
            }
            Outlook::Full { pool, most, free_at: Some(at) } => {
                Some(format!("pool {pool} is at its most of {most}; the next is likely free in {}", within(*at)))
            }
            Outlook::Full { pool, most, free_at: None } => Some(format!("pool {pool} is at its most of {most}")),
            Outlook::Trouble { pool, why, again_at: Some(at) } => {
                Some(format!("pool {pool} could not make a machine: {why}; it is tried again at {}", clock(*at)))
            }
            Outlook::Trouble { pool, why, again_at: None } => {
                Some(format!("pool {pool} could not make a machine: {why}; it is being tried again"))
            }
        }
    }
}
