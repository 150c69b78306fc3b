//! The demo: forge, service and two runners on loopback, the scenario's repositories, and a short history of real
//! commits, each waited for. Everything is done with the project's own commands, as a person would.

mod delivery;
mod history;
mod landing;
mod process;

use crate::setup;
use history::{HISTORY, Moment};
use process::{Process, free_port};
use serde_json::Value;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::{Duration, Instant};

/// The stations' machines, and the port that the demo's files say of each.
const MACHINES: [(&str, u16); 5] = [("trial", 8301), ("north-pier", 8302), ("lock-gate", 8303), ("outer-buoy", 8304), ("preview", 8305)];
/// Where the practice cloud is, as the demo's configuration says it.
const CLOUD: u16 = 7060;
/// Made up like everything here; the line to a station opens with it.
const STATION_KEY: &str = "salt-and-mud-42";

/// How long one commit of the history may take.
const PATIENCE: Duration = Duration::from_secs(120);

pub(crate) fn demo(once: bool) -> Result<(), String> {
    setup::programs(setup::FOR_DEMO)?;
    setup::console()?;
    setup::ordotaxis()?;
    let folder = setup::root().join("demo-data");
    if folder.exists() {
        std::fs::remove_dir_all(&folder).map_err(|error| format!("{}: {error}", folder.display()))?;
    }
    let mut world = World::start(folder, once)?;
    for name in ["patterns", "stations", "tidegauge", "almanac"] {
        world.add_project(name)?;
    }
    let harbour = world.start_harbour()?;
    world._processes.insert(0, harbour);
    world.add_people()?;
    let mut rows = vec![["run", "state", "expected", "commit", "what happened"].map(str::to_owned).to_vec()];
    let mut wrong = 0;
    for moment in HISTORY {
        if let Some(machine) = moment.trouble {
            world.set_trouble(machine, "stays")?;
        }
        let run = world.live_through(moment)?;
        if let Some(machine) = moment.trouble {
            world.set_trouble(machine, "none")?;
        }
        let state = run["state"].as_str().unwrap_or_default();
        wrong += usize::from(state != moment.ends);
        let text = |key: &str| run[key].as_str().unwrap_or_default().to_owned();
        rows.push(vec![text("run"), state.to_owned(), moment.ends.to_owned(), moment.title.to_owned(), text("sentence")]);
        eprintln!("  {:<14} {:<8} {}", text("run"), state, moment.title);
    }
    world.deliver()?;
    let (landed, otherwise) = world.land_three()?;
    rows.extend(landed);
    wrong += otherwise;
    if once {
        world.wait_until_quiet()?;
        print_table(&rows);
        wrong += world.failed_stations()?;
        return if wrong == 0 { Ok(()) } else { Err(format!("{wrong} runs or proposals did not end as the history expects")) };
    }
    world.invite()?;
    process::wait_for_interrupt()
}

impl Drop for World {
    /// Machines that are processes of the service's machine outlive the service, as they should: not the demo.
    fn drop(&mut self) {
        self._processes.clear();
        let folders = |folder: PathBuf| std::fs::read_dir(folder).into_iter().flatten().flatten().map(|entry| entry.path());
        for machine in folders(self.folder.join("service/pools")).flat_map(folders) {
            let text = std::fs::read_to_string(machine.join("process")).unwrap_or_default();
            if let Some(pid) = text.split_once(' ').and_then(|(pid, _)| pid.parse::<u32>().ok()).filter(|pid| *pid > 1) {
                let _ = Command::new("kill").args(["-KILL", "--", &format!("-{pid}")]).stderr(std::process::Stdio::null()).status();
            }
        }
    }
}

struct World {
    folder: PathBuf,
    service_url: String,
    forge_url: String,
    mail_url: String,
    token: String,
    /// The port that the demo's files say of each practice host, and the one that it has.
    machines: Vec<(u16, u16)>,
    /// In the order they are ended.
    _processes: Vec<Process>,
}

impl World {
    fn start(folder: PathBuf, once: bool) -> Result<World, String> {
        std::fs::create_dir_all(&folder).map_err(|error| format!("{}: {error}", folder.display()))?;
        let (service_port, forge_port) = if once { (free_port(0)?, free_port(0)?) } else { (free_port(7070)?, free_port(7080)?) };
        let (service_url, forge_url) = (format!("http://127.0.0.1:{service_port}"), format!("http://127.0.0.1:{forge_port}"));
        let forge = Process::start(
            &folder,
            "forge",
            practice().args(["forge", "--listen", &format!("127.0.0.1:{forge_port}"), "--data"]).arg(folder.join("forge")),
            "practice forge at",
        )?;
        let (mail_port, mail_page) = if once { (free_port(0)?, free_port(0)?) } else { (free_port(7025)?, free_port(7090)?) };
        let mail = Process::start(
            &folder,
            "mail",
            practice()
                .args(["mail", "--listen", &format!("127.0.0.1:{mail_port}"), "--page", &format!("127.0.0.1:{mail_page}"), "--data"])
                .arg(folder.join("mail")),
            "practice mail at",
        )?;
        let cloud_port = free_port(if once { 0 } else { CLOUD })?;
        let cloud = Process::start(
            &folder,
            "cloud",
            practice()
                .args(["cloud", "--listen", &format!("127.0.0.1:{cloud_port}"), "--start-ms", "700", "--quota", "4", "--program"])
                .arg(binary("ordotaxis"))
                .arg("--data")
                .arg(folder.join("cloud")),
            "practice cloud at",
        )?;
        let config = folder.join("service.toml");
        let text = std::fs::read_to_string(setup::root().join("demo/service.toml")).map_err(|error| error.to_string())?;
        let text = text.replace("127.0.0.1:7025", &format!("127.0.0.1:{mail_port}"));
        let text = text.replace(&format!("127.0.0.1:{CLOUD}"), &format!("127.0.0.1:{cloud_port}"));
        std::fs::write(&config, text).map_err(|error| error.to_string())?;
        let service = Process::start(
            &folder,
            "service",
            ordotaxis()
                .args(["serve", "--owner", "ines", "--listen", &format!("127.0.0.1:{service_port}"), "--data"])
                .arg(folder.join("service"))
                .arg("--config")
                .arg(&config),
            "the owner's token",
        )?;
        let token = service.line_after("printed this once: ").ok_or("the service printed no token")?;
        let mut world = World {
            folder,
            service_url,
            forge_url,
            mail_url: format!("http://127.0.0.1:{mail_page}"),
            token,
            machines: Vec::new(),
            _processes: Vec::new(),
        };
        for name in ["quay", "spar"] {
            let runner = world.start_runner(name)?;
            world._processes.push(runner);
        }
        for (name, usual) in MACHINES {
            let port = free_port(if once { 0 } else { usual })?;
            world.machines.push((usual, port));
            let machine = world.start_machine(name, port)?;
            world._processes.push(machine);
        }
        world._processes.extend([service, forge, mail, cloud]);
        Ok(world)
    }

    fn start_runner(&self, name: &str) -> Result<Process, String> {
        // One of the two takes what comes from outside, once someone has allowed it.
        let outside = if name == "spar" { "yes" } else { "no" };
        let invitation = output(self.client().args(["--quiet", "runner", "invite", "--outside", outside]))?;
        let dir = self.folder.join(format!("runner-{name}"));
        let mut enrol = self.client();
        output(enrol.args(["runner", "enrol", "--invitation", invitation.trim(), "--name", name, "--dir"]).arg(&dir))?;
        let mut work = ordotaxis();
        work.args(["runner", "work", "--slots", "2", "--dir"]).arg(&dir);
        Process::start(&self.folder, &format!("runner-{name}"), &mut work, "works at")
    }

    /// A practice host that takes what comes with the stations' key; the preview's takes anything.
    fn start_machine(&self, name: &str, port: u16) -> Result<Process, String> {
        let mut command = practice();
        command.args(["host", name, "--listen", &format!("127.0.0.1:{port}"), "--data"]).arg(self.folder.join("machines").join(name));
        if name != "preview" {
            command.env("PRACTICE_HOST_KEY", STATION_KEY);
        }
        Process::start(&self.folder, &format!("machine-{name}"), &mut command, "practice host")
    }

    /// The machine from which stations are reached: its jobs see its own network, and are the stations' alone.
    fn start_harbour(&self) -> Result<Process, String> {
        let invitation = output(self.client().args(["--quiet", "runner", "invite", "--label", "harbour", "--project", "stations"]))?;
        let dir = self.folder.join("runner-harbour");
        let mut enrol = self.client();
        output(enrol.args(["runner", "enrol", "--invitation", invitation.trim(), "--name", "harbour", "--dir"]).arg(&dir))?;
        let mut work = ordotaxis();
        work.args(["runner", "work", "--slots", "2", "--isolation", "host", "--dir"]).arg(&dir);
        Process::start(&self.folder, "runner-harbour", &mut work, "works at")
    }

    /// The client, told where the service is.
    fn client(&self) -> Command {
        let mut command = ordotaxis();
        command.env("ORDOTAXIS_URL", &self.service_url).env("ORDOTAXIS_TOKEN", &self.token);
        command
    }

    /// Tomas and Maren keep things going, Odd looks on. Stations are not for him to see.
    fn add_people(&self) -> Result<(), String> {
        output(self.client().args(["person", "set", "ines", "--mail", "ines@saltmarsh.example"]))?;
        for name in ["tomas", "maren", "odd"] {
            output(self.client().args(["person", "add", name, "--mail", &format!("{name}@saltmarsh.example")]))?;
            output(self.client().args(["person", "known", name, "--issuer", &self.forge_url, "--subject", name]))?;
        }
        for command in [
            &["group", "set", "keepers", "tomas", "maren"][..],
            &["grant", "set", "@keepers", "operator"],
            &["grant", "set", "maren", "editor", "--project", "stations"],
            &["grant", "set", "odd", "reader", "--project", "tidegauge"],
            &["project", "seen", "stations", "granted"],
        ] {
            output(self.client().args(command))?;
        }
        // A program that may only look: what it tries beyond that stands in the journal as refused.
        let screen: Value = json(self.client().args(["--json", "token", "make", "the screen in the hall", "--role", "reader"]))?;
        let mut tries = self.client();
        tries.env("ORDOTAXIS_TOKEN", screen["token"].as_str().unwrap_or_default()).args(["secret", "remove", "stations", "STATION_KEY"]);
        match output(&mut tries) {
            Err(_) => Ok(()),
            Ok(_) => Err("a token for reading has removed a secret".into()),
        }
    }

    /// A repository on the forge, a project for it, and the forge's webhook to the service.
    fn add_project(&self, name: &str) -> Result<(), String> {
        let made: Value = json(practice().args(["repository", name, "--forge", &self.forge_url]))?;
        let text = |value: &Value, key: &str| value[key].as_str().unwrap_or_default().to_owned();
        let mut add = self.client();
        add.args([
            "--json",
            "project",
            "add",
            name,
            "--git",
            &text(&made, "git_url"),
            "--forge",
            "practice",
            "--forge-url",
            &self.forge_url,
        ]);
        let project: Value = json(add.env("ORDOTAXIS_FORGE_TOKEN", text(&made, "token")))?;
        let (hook, secret) = (text(&project, "hook_url"), text(&project, "hook_secret"));
        output(practice().args(["repository", name, "--forge", &self.forge_url, "--hook", &hook, "--secret", &secret]))?;
        if name == "stations" {
            with_input(self.client().args(["secret", "set", name, "STATION_KEY"]), &format!("{STATION_KEY}\n"))?;
        }
        let work = self.folder.join("work").join(name);
        std::fs::create_dir_all(&work).map_err(|error| error.to_string())?;
        git(&work, &["init", "--quiet", "--initial-branch=main"])?;
        git(&work, &["remote", "add", "origin", &text(&made, "git_url")])?;
        match name {
            "almanac" => self.add_datum(&work),
            "tidegauge" => self.add_badge(&work),
            _ => Ok(()),
        }
    }

    /// A README that shows how the main branch is.
    fn add_badge(&self, work: &Path) -> Result<(), String> {
        let badge: Value = json(self.client().args(["--json", "project", "badge", "tidegauge"]))?;
        let text = format!("# tidegauge\n\n{}\n\nA simulator of the gauges' firmware.\n", badge["markdown"].as_str().unwrap_or_default());
        std::fs::write(work.join("README.md"), text).map_err(|error| error.to_string())
    }

    /// The heights that readings are measured from: a repository of its own, which the almanac has as a submodule.
    fn add_datum(&self, almanac: &Path) -> Result<(), String> {
        let made: Value = json(practice().args(["repository", "datum", "--forge", &self.forge_url]))?;
        let url = made["git_url"].as_str().unwrap_or_default();
        let work = self.folder.join("work/datum");
        std::fs::create_dir_all(&work).map_err(|error| error.to_string())?;
        let heights = "# the zero of each station, in mm above the chart\nnorth-pier 412\nlock-gate 388\nouter-buoy 0\n";
        std::fs::write(work.join("heights.txt"), heights).map_err(|error| error.to_string())?;
        git(&work, &["init", "--quiet", "--initial-branch=main"])?;
        git(&work, &["add", "--all"])?;
        git(
            &work,
            &["-c", "user.name=Odd", "-c", "user.email=odd@saltmarsh.example", "commit", "--quiet", "-m", "The zero of each station"],
        )?;
        git(&work, &["push", "--quiet", url, "HEAD"])?;
        git(almanac, &["submodule", "--quiet", "add", url, "datum"])
    }

    /// Makes one commit of the history, pushes it, and waits for its run's verdict.
    fn live_through(&self, moment: &Moment) -> Result<Value, String> {
        let work = self.folder.join("work").join(moment.project);
        moment.change(&setup::root().join("demo").join(moment.project), &work)?;
        self.mend_addresses(&work)?;
        if let Some(branch) = moment.branch {
            git(&work, &["checkout", "--quiet", "-B", branch])?;
        }
        git(&work, &["add", "--all"])?;
        let email = format!("{}@saltmarsh.example", moment.author.to_lowercase());
        let who = [format!("user.name={}", moment.author), format!("user.email={email}")];
        git(&work, &["-c", &who[0], "-c", &who[1], "commit", "--quiet", "-m", moment.title])?;
        if let Some(tag) = moment.tag {
            git(&work, &["tag", tag])?;
        }
        git(&work, &["push", "--quiet", "origin", "HEAD", "--tags"])?;
        let commit = output(Command::new("git").current_dir(&work).args(["rev-parse", "HEAD"]))?;
        if let Some(source) = moment.branch.filter(|_| moment.proposed) {
            git(&work, &["checkout", "--quiet", "main"])?;
            let about = ["propose", moment.project, "--forge", &self.forge_url, "--source", source, "--target", "main"];
            let outside = if moment.outside { &["--outside"][..] } else { &[] };
            output(practice().args(about).args(["--title", moment.title]).args(outside))?;
            return self.wait_for(moment.project, |run| run["occasion"]["event"] == "proposal" && run["commit_title"] == moment.title);
        }
        let event = if moment.tag.is_some_and(|tag| tag.starts_with("v1.")) { "tag" } else { "push" };
        if moment.branch.is_some() {
            git(&work, &["checkout", "--quiet", "main"])?;
        }
        self.wait_for(moment.project, |run| run["commit"] == commit.trim() && run["occasion"]["event"] == event)
    }

    /// The demo's files name the forge and the machines at their usual ports; where they listen at others, they are made to.
    fn mend_addresses(&self, work: &Path) -> Result<(), String> {
        for name in ["ordotaxis.toml", "ordotaxis/rules.toml", "stations.txt"] {
            let path = work.join(name);
            let Ok(text) = std::fs::read_to_string(&path) else { continue };
            let mut mended = text.replace("http://127.0.0.1:7080", &self.forge_url);
            for (usual, port) in &self.machines {
                mended = mended.replace(&format!("127.0.0.1:{usual}"), &format!("127.0.0.1:{port}"));
            }
            std::fs::write(&path, mended).map_err(|error| format!("{}: {error}", path.display()))?;
        }
        Ok(())
    }

    fn wait_for(&self, project: &str, fits: impl Fn(&Value) -> bool) -> Result<Value, String> {
        let until = Instant::now() + PATIENCE;
        while Instant::now() < until {
            let runs: Value = json(self.client().args(["--json", "runs", project]))?;
            let ours = runs.as_array().into_iter().flatten().find(|run| fits(run) && (!run["ended_at"].is_null() || run["held"] == true));
            if let Some(run) = ours {
                return Ok(run.clone());
            }
            std::thread::sleep(Duration::from_millis(100));
        }
        Err(format!("{project}: no verdict within {} s; see {}", PATIENCE.as_secs(), self.folder.display()))
    }

    /// Until everything that commits are to be told has been accepted.
    fn wait_until_quiet(&self) -> Result<(), String> {
        let until = Instant::now() + PATIENCE;
        while Instant::now() < until {
            if process::metric(&self.service_url, &self.token, "ordotaxis_outbox_unsent").as_deref() == Some("0") {
                return Ok(());
            }
            std::thread::sleep(Duration::from_millis(100));
        }
        Err(format!("not every commit could be told its verdict within {} s", PATIENCE.as_secs()))
    }

    /// Runs of the stations that failed and should not have: what passes elsewhere begins them, and each should pass.
    fn failed_stations(&self) -> Result<usize, String> {
        let runs: Value = json(self.client().args(["--json", "runs", "stations"]))?;
        let failed: Vec<&Value> = runs.as_array().into_iter().flatten().filter(|run| run["state"] == "failed").collect();
        for run in &failed {
            println!("{}: {}", run["run"].as_str().unwrap_or_default(), run["sentence"].as_str().unwrap_or_default());
        }
        let expected = HISTORY.iter().filter(|moment| moment.project == "stations" && moment.ends == "failed").count();
        Ok(failed.len().saturating_sub(expected))
    }

    fn invite(&self) -> Result<(), String> {
        let link = output(self.client().args(["sign-in", "--link"]))?;
        let binary = binary("ordotaxis");
        println!("\nThe demo is up. Sign in as Ines, its owner, once, with\n\n  {}\n\nor, in another browser, as", link.trim());
        for (name, what) in [("tomas", "an operator"), ("maren", "an operator"), ("odd", "a reader")] {
            let link = output(self.client().args(["--quiet", "person", "link", name]))?;
            println!("  {name:<6} {what:<12} {}", link.trim());
        }
        println!();
        println!("The practice forge is at {}, the mail that was sent at {}. Some commands to try:\n", self.forge_url, self.mail_url);
        println!("  export ORDOTAXIS_URL={} ORDOTAXIS_TOKEN={}", self.service_url, self.token);
        println!("  {binary} runs");
        println!("  {binary} show almanac");
        println!("  {binary} start tidegauge --watch");
        let runs: Value = json(self.client().args(["--json", "runs", "tidegauge"]))?;
        if let Some(held) = runs.as_array().into_iter().flatten().find(|run| run["held"] == true) {
            println!("  {binary} allow {}    # a proposal from outside waits for that", held["run"].as_str().unwrap_or_default());
        }
        println!();
        println!("Change a file in {} and push it. Ctrl-C ends the demo.", self.folder.join("work/tidegauge").display());
        Ok(())
    }
}

fn binary(name: &str) -> String {
    let target = std::env::var_os("CARGO_TARGET_DIR").map_or_else(|| setup::root().join("target"), PathBuf::from);
    target.join("debug").join(name).display().to_string()
}

fn ordotaxis() -> Command {
    Command::new(binary("ordotaxis"))
}

fn practice() -> Command {
    Command::new(binary("ordotaxis-practice"))
}

fn git(folder: &Path, arguments: &[&str]) -> Result<(), String> {
    output(Command::new("git").current_dir(folder).args(arguments)).map(drop)
}

fn output(command: &mut Command) -> Result<String, String> {
    let output = command.output().map_err(|error| format!("{command:?} could not be started: {error}"))?;
    if output.status.success() {
        return Ok(String::from_utf8_lossy(&output.stdout).into_owned());
    }
    Err(format!("{command:?} failed: {}", String::from_utf8_lossy(&output.stderr).trim()))
}

/// Runs a command with a text on its standard input.
fn with_input(command: &mut Command, text: &str) -> Result<(), String> {
    use std::io::Write as _;
    use std::process::Stdio;
    let mut child = command.stdin(Stdio::piped()).stdout(Stdio::null()).spawn().map_err(|error| error.to_string())?;
    if let Some(mut input) = child.stdin.take() {
        input.write_all(text.as_bytes()).map_err(|error| error.to_string())?;
    }
    let done = child.wait().map_err(|error| error.to_string())?;
    if done.success() { Ok(()) } else { Err(format!("{command:?} failed")) }
}

fn json(command: &mut Command) -> Result<Value, String> {
    serde_json::from_str(&output(command)?).map_err(|error| format!("{command:?} printed no JSON: {error}"))
}

fn print_table(rows: &[Vec<String>]) {
    let width = |column: usize| rows.iter().map(|row| row[column].chars().count()).max().unwrap_or(0);
    let widths: Vec<usize> = (0..rows[0].len()).map(width).collect();
    println!();
    for row in rows {
        let cells: Vec<String> = row.iter().zip(&widths).map(|(cell, width)| format!("{cell:<width$}")).collect();
        println!("{}", cells.join("  ").trim_end());
    }
}
