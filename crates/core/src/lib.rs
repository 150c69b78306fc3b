//! The computation of Ordotaxis: text → pipeline → plan → run. Values in, values out: nothing here reads a file, a
//! clock or a random number, so everything here can be tested on its own.
//!
//! - [`access`]: who may do what.
//! - [`delivery`]: what is put into an environment, and when.
//! - [`insight`]: what the history of jobs comes to.
//! - [`landing`]: proposals that land one after another, each tested on top of those ahead.
//! - [`language`]: a pipeline file's text, read with spans; every mistake as a [`language::Diagnostic`].
//! - [`expression`]: `if`, written in CEL: compiled, what it reads, true or false.
//! - [`template`]: placeholders in values.
//! - [`order`]: `order` lines as a graph of stages.
//! - [`plan`]: a pipeline and an occasion make a plan: the jobs, what each waits for and why.
//! - [`engine`]: a run as a state machine; the only place where states change.
//! - [`dispatch`]: which runner may do which job, and in words why none does.
//! - [`edit`]: changes to a pipeline file that leave the rest of its text as it is.
//! - [`first`]: a first pipeline file for a repository that has none.
//! - [`forge`]: a forge's dialect as data: what it sends and what it takes.
//! - [`digest`]: what a job's result depends on.
//! - [`newest`]: which commit of a branch is the newest, in whatever order pushes are looked at.
//! - [`pool`]: machines that are made when jobs queue, and removed when there is nothing for them.
//! - [`provenance`]: where an artifact comes from, said so that it can be checked elsewhere.
//! - [`release`]: versions and their order, notes.
//! - [`report`]: what jobs write about their tests, and bills of materials.
//! - [`rules`]: what admits changes.
//! - [`share`]: tests shared out among copies of a job.

pub mod access;
pub mod delivery;
pub mod digest;
pub mod dispatch;
pub mod edit;
pub mod engine;
pub mod expression;
pub mod first;
pub mod forge;
mod graph;
pub mod insight;
pub mod landing;
pub mod language;
pub mod newest;
pub mod notice;
pub mod order;
pub mod plan;
pub mod pool;
pub mod provenance;
pub mod release;
pub mod report;
pub mod rules;
pub mod share;
pub mod sought;
pub mod template;
