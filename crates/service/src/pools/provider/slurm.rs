//! Machines that are jobs of a Slurm cluster: `sbatch` makes one, `squeue` lists them, `scancel` removes one. A machine's name is
//! the job's. Formats are fixed here, and read by pure functions.

use super::asked::{Failed, Wanted, tail};
use super::program::{Ran, program, run};
use ordotaxis_core::pool::Listed;
use ordotaxis_wire::pool::SlurmSettings;
use std::path::{Path, PathBuf};
use std::time::Duration;
use tokio::process::Command;

/// How long the cluster's commands may take.
const LIMIT: Duration = Duration::from_secs(50);
const LOOK: Duration = Duration::from_secs(18);
/// So long before its time is over, in seconds, a machine is told that it is.
const NOTICE: u32 = 60;

/// One pool's place in a cluster.
pub(crate) struct Cluster {
    pool: String,
    /// Where what the jobs print is kept; nodes that share this file system write there.
    folder: PathBuf,
    settings: SlurmSettings,
}

impl Cluster {
    pub(super) fn new(pool: &str, folder: PathBuf, settings: SlurmSettings) -> Cluster {
        Cluster { pool: pool.to_owned(), folder, settings }
    }

    pub(super) async fn make(&self, wanted: &Wanted<'_>) -> Result<String, Failed> {
        // A name that is there already is that machine: an answer was lost.
        if self.list().await.map_err(Failed::Refused)?.iter().any(|one| one.name == wanted.id && !one.ended) {
            return Ok("it is there already".into());
        }
        let refused = |why: String| Failed::Refused(format!("sbatch: {why}"));
        std::fs::create_dir_all(&self.folder).map_err(|error| refused(format!("{}: {error}", self.folder.display())))?;
        let binary = match &self.settings.binary {
            Some(binary) => PathBuf::from(binary),
            None => std::env::current_exe().map_err(|error| refused(error.to_string()))?,
        };
        if self.settings.binary.is_none() && !binary.exists() {
            return Err(refused("the service's program was replaced while it ran; start the service anew".to_owned()));
        }
        let mut command = program(Path::new("sbatch"));
        command.args(self.asks(wanted));
        // Not in the arguments: the environment only this user sees.
        command.env("ORDOTAXIS_URL", wanted.url).env("ORDOTAXIS_MACHINE", wanted.id);
        command.env("ORDOTAXIS_INVITATION", wanted.invitation.expose());
        let script = script(&binary, self.settings.folder.as_deref().unwrap_or("/tmp"), wanted.id);
        let ran = run(command, script.as_bytes(), LIMIT).await.map_err(|why| Failed::Unclear(format!("sbatch: {why}")))?;
        if !ran.good {
            // A cluster that did not answer may have taken it all the same.
            let unclear = ["timed out", "Unable to contact", "Connection"].iter().any(|words| ran.complaint.contains(words));
            let why = format!("sbatch: {}", without_prefix(&ran.complaint));
            return Err(if unclear { Failed::Unclear(why) } else { Failed::Refused(why) });
        }
        Ok(format!("job {}", String::from_utf8_lossy(&ran.output).trim()))
    }

    /// What `sbatch` is asked for.
    fn asks(&self, wanted: &Wanted<'_>) -> Vec<String> {
        let mut asks = vec!["--parsable".into(), "--no-requeue".into(), format!("--job-name={}", wanted.id)];
        let words = [("partition", &self.settings.partition), ("account", &self.settings.account), ("qos", &self.settings.qos)];
        asks.extend(words.iter().filter_map(|(key, word)| Some(format!("--{key}={}", word.as_ref()?))));
        let capacity = wanted.capacity;
        // That is what `program` leaves of it. Asked for some by name, the cluster adds what a login of the user has, and runs one
        // before the job: a second and more.
        asks.push("--export=ALL".into());
        asks.push("--ntasks=1".into());
        asks.push(format!("--cpus-per-task={}", capacity.cores.max(1)));
        asks.extend((capacity.memory_mib > 0).then(|| format!("--mem={}M", capacity.memory_mib)));
        asks.extend((capacity.gpus > 0).then(|| format!("--gpus={}", capacity.gpus)));
        asks.push(format!("--time={}", (wanted.lasts + 59_999) / 60_000));
        asks.push(format!("--signal=B:TERM@{NOTICE}"));
        let output = self.output(wanted.id);
        asks.push(format!("--output={}", output.display()));
        asks.push(format!("--error={}", output.display()));
        asks
    }

    fn output(&self, name: &str) -> PathBuf {
        self.folder.join(format!("{name}.log"))
    }

    pub(super) async fn list(&self) -> Result<Vec<Listed>, String> {
        let mut command = program(Path::new("squeue"));
        command.args(["--me", "--noheader", "--states=all", "--format=%j|%T|%r|%i"]);
        let ran = answer("squeue", command, LOOK).await?;
        Ok(listed(&String::from_utf8_lossy(&ran.output), &self.pool))
    }

    pub(super) async fn remove(&self, name: &str) -> Result<(), String> {
        let mut command = program(Path::new("scancel"));
        command.args(["--me", "--quiet", "--name"]).arg(name);
        answer("scancel", command, LIMIT).await?;
        let _ = std::fs::remove_file(self.output(name));
        Ok(())
    }

    pub(super) async fn console(&self, name: &str) -> Result<String, String> {
        tail(&self.output(name)).await
    }
}

async fn answer(name: &str, command: Command, limit: Duration) -> Result<Ran, String> {
    let ran = run(command, b"", limit).await.map_err(|why| format!("{name}: {why}"))?;
    if ran.good { Ok(ran) } else { Err(format!("{name}: {}", without_prefix(&ran.complaint))) }
}

/// `sbatch: error: Batch job submission failed: …` without what only repeats who speaks.
fn without_prefix(words: &str) -> &str {
    words.trim_start_matches("sbatch: ").trim_start_matches("squeue: ").trim_start_matches("scancel: ").trim_start_matches("error: ")
}

/// The job: a runner in a folder of its own, which goes with it.
fn script(binary: &Path, folder: &str, name: &str) -> String {
    let (binary, dir) = (binary.display(), format!("{folder}/ordotaxis-{name}"));
    // The shell stays, to clean up: what the cluster tells it, it tells the runner.
    format!(
        "#!/bin/sh\n'{binary}' runner join --dir '{dir}' &\nrunner=$!\ntrap 'kill -TERM $runner' TERM INT\nwait $runner\ncode=$?\n\
         while kill -0 $runner 2>/dev/null; do wait $runner; code=$?; done\nrm -rf '{dir}'\nexit $code\n"
    )
}

/// What `squeue --format=%j|%T|%r|%i` printed, of jobs whose names begin with a pool's.
fn listed(text: &str, pool: &str) -> Vec<Listed> {
    let prefix = format!("{pool}-");
    let line = |line: &str| {
        let mut parts = line.trim().splitn(4, '|');
        let (name, state, reason, job) = (parts.next()?, parts.next()?, parts.next()?, parts.next()?);
        let ended = !matches!(
            state,
            "PENDING"
                | "CONFIGURING"
                | "RUNNING"
                | "COMPLETING"
                | "SUSPENDED"
                | "REQUEUED"
                | "REQUEUE_HOLD"
                | "RESIZING"
                | "SIGNALING"
                | "STAGE_OUT"
                | "STOPPED"
        );
        let said = if reason.is_empty() || reason == "None" { String::new() } else { format!(": {}", spoken(reason)) };
        name.starts_with(&prefix).then(|| Listed {
            name: name.to_owned(),
            ended,
            words: format!("job {job} is {}{said}", spoken_state(state)),
        })
    };
    // Of one name the last that goes on counts: a job that ended was another's.
    let mut listed: Vec<Listed> = Vec::new();
    for one in text.lines().filter_map(line) {
        match listed.iter_mut().find(|known| known.name == one.name) {
            Some(known) if known.ended => *known = one,
            Some(_) => {}
            None => listed.push(one),
        }
    }
    listed
}

const DOWN: &str = "the nodes that it needs are down or drained";

/// Why a job waits, in our words, where there are better ones than the cluster's.
fn spoken(reason: &str) -> &str {
    match reason {
        "Resources" => "no node is free that is large enough",
        "Priority" => "others are before it",
        "PartitionDown" | "PartitionInactive" => "its partition takes no jobs",
        "PartitionTimeLimit" => "it would take longer than its partition allows",
        "PartitionNodeLimit" => "it asks for more nodes than its partition has",
        "NodeDown" => DOWN,
        other if other.starts_with("ReqNodeNotAvail") || other.starts_with("Nodes required for job are DOWN") => DOWN,
        "AssocGrpCpuLimit" | "QOSMaxCpuPerUserLimit" | "AssocMaxJobsLimit" | "QOSMaxJobsPerUserLimit" => {
            "the account has as much as it may"
        }
        "JobHeldUser" | "JobHeldAdmin" => "somebody holds it back",
        "NonZeroExitCode" => "its program failed",
        other => other,
    }
}

fn spoken_state(state: &str) -> String {
    match state {
        "PENDING" => "waiting".into(),
        "CONFIGURING" => "getting its node".into(),
        "COMPLETING" => "ending".into(),
        "NODE_FAIL" => "lost with its node".into(),
        "OUT_OF_MEMORY" => "ended for want of memory".into(),
        "TIMEOUT" => "ended by its time limit".into(),
        other => other.to_lowercase().replace('_', " "),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use ordotaxis_core::language::Capacity;
    use ordotaxis_store::Secret;

    #[test]
    fn what_squeue_prints_is_understood() {
        let text = "tide-a1b20001|PENDING|Resources|7\ntide-a1b20002|RUNNING|None|8\ntide-a1b20003|NODE_FAIL|NonZeroExitCode|9\nother-1|RUNNING|None|10\ntide-a1b20005|PENDING|ReqNodeNotAvail, UnavailableNodes:ebb|13\n\
                    tide-a1b20004|FAILED|None|11\ntide-a1b20004|RUNNING|None|12\ngarbage\n|||\n";
        let listed = listed(text, "tide");
        let told: Vec<(&str, bool, &str)> = listed.iter().map(|one| (one.name.as_str(), one.ended, one.words.as_str())).collect();
        assert_eq!(
            told,
            [
                ("tide-a1b20001", false, "job 7 is waiting: no node is free that is large enough"),
                ("tide-a1b20002", false, "job 8 is running"),
                ("tide-a1b20003", true, "job 9 is lost with its node: its program failed"),
                ("tide-a1b20005", false, "job 13 is waiting: the nodes that it needs are down or drained"),
                ("tide-a1b20004", false, "job 12 is running"),
            ]
        );
    }

    #[test]
    fn a_job_asks_for_what_its_machine_is_to_have() {
        let settings = SlurmSettings { partition: Some("tide".into()), ..SlurmSettings::default() };
        let cluster = Cluster::new("tide", "/data/pools/tide".into(), settings);
        let invitation = Secret::random("oxi");
        let capacity = Capacity { cores: 4, memory_mib: 2048, gpus: 1 };
        let wanted = Wanted { id: "tide-a1b20001", capacity, lasts: 90_500, url: "http://here", invitation: &invitation };
        let asks = cluster.asks(&wanted).join(" ");
        assert_eq!(
            asks,
            "--parsable --no-requeue --job-name=tide-a1b20001 --partition=tide --export=ALL --ntasks=1 --cpus-per-task=4 --mem=2048M --gpus=1 --time=2 \
             --signal=B:TERM@60 --output=/data/pools/tide/tide-a1b20001.log --error=/data/pools/tide/tide-a1b20001.log"
        );
        assert!(!asks.contains(invitation.expose()) && !script(Path::new("/usr/bin/ordotaxis"), "/tmp", wanted.id).contains("oxi"));
    }
}
