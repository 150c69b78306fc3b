//! What people do with what the stations' runs made: a release of a version branch, and one that cannot wait for a word.

use super::{World, json, output, practice};
use serde_json::Value;

impl World {
    /// A machine goes on with what it had, whatever it is given; or takes what it is given again.
    pub(super) fn set_trouble(&self, name: &str, trouble: &str) -> Result<(), String> {
        let usual = super::MACHINES.iter().find(|(known, _)| *known == name).map(|(_, usual)| *usual);
        let port = self.machines.iter().find(|(known, _)| Some(*known) == usual).map(|(_, port)| *port);
        let host = format!("http://127.0.0.1:{}", port.ok_or(format!("there is no machine {name}"))?);
        output(practice().args(["act", trouble, "--host", &host])).map(drop)
    }

    /// Version 1.1 is released from its branch; 1.0 goes to the outer buoy past the rules, and waits for someone to confirm that.
    pub(super) fn deliver(&self) -> Result<(), String> {
        let branch = self.run_of(|run| run["branch"] == "release/1.1")?;
        output(self.client().args(["start", &branch, "--job", "release.branch"]))?;
        self.until("version 1.1 is released", || {
            let all: Value = json(self.client().args(["--json", "release", "list", "stations"])).ok()?;
            all["releases"].as_array()?.iter().any(|one| one["version"] == "1.1").then_some(())
        })?;
        let tagged = self.run_of(|run| run["occasion"]["tag"] == "v1.0")?;
        let why = "a storm is coming, and the buoy must say so";
        let job = "ship.station[outer-buoy]";
        self.until("1.0 waits to go to the outer buoy", || {
            let all: Value = json(self.client().args(["--json", "environment", "list", "stations"])).ok()?;
            let buoy = all.as_array()?.iter().find(|one| one["name"] == "outer-buoy")?.clone();
            buoy["waiting"].as_array()?.iter().any(|one| one["run"] == tagged.as_str()).then_some(())
        })?;
        output(self.client().args(["start", &tagged, "--job", job, "--emergency", "--reason", why]))?;
        self.until("1.0 is at the outer buoy", || {
            let all: Value = json(self.client().args(["--json", "environment", "list", "stations"])).ok()?;
            let buoy = all.as_array()?.iter().find(|one| one["name"] == "outer-buoy")?.clone();
            (buoy["present"]["run"] == tagged.as_str()).then_some(())
        })
    }

    fn run_of(&self, fits: impl Fn(&Value) -> bool) -> Result<String, String> {
        let runs: Value = json(self.client().args(["--json", "runs", "stations"]))?;
        let found = runs.as_array().into_iter().flatten().find(|run| fits(run));
        found.and_then(|run| run["run"].as_str()).map(str::to_owned).ok_or_else(|| "a run of the stations is missing".to_owned())
    }
}
