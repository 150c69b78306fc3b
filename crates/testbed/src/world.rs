//! A whole Ordotaxis on free ports: the forge in this process, the service and runners as processes of their own, so
//! that they can be killed as a machine would.

use crate::port::free_port;
use crate::process::Process;
use crate::repository::Repository;
use crate::wait::{PATIENCE, until};
use nix::sys::signal::Signal;
use ordotaxis_practice::{Cloud, Dialect, Forge, Processes, Status, Weather};
use serde_json::{Value, json};
use std::path::{Path, PathBuf};
use std::process::Command;
use tempfile::TempDir;

/// Short leases, so that what a lost lease leads to is seen in a second or two.
const CONFIG: &str = "lease = \"2s\"\nbeat = \"300ms\"\ndrain = \"2s\"\nfetch_tries = 3\nretry_pause = \"50ms\"\n";

/// A service, a practice forge and the client in a folder of their own, with real processes on loopback. All ends with it.
pub struct World {
    pub forge: Forge,
    pub forge_url: String,
    pub url: String,
    pub token: String,
    pub service: Option<Process>,
    ordotaxis: PathBuf,
    config: &'static str,
    /// What the service has in its environment besides.
    pub environment: Vec<(String, String)>,
    runners: std::sync::atomic::AtomicU32,
    /// Last, so that it is removed when nobody writes to it any more.
    pub folder: TempDir,
}

/// The outcome of a client command.
#[derive(Debug)]
pub struct Ran {
    pub code: i32,
    pub out: String,
    pub err: String,
}

/// How a runner is started; see the default.
pub struct RunnerOptions<'a> {
    pub slots: u32,
    pub labels: &'a [&'a str],
    pub isolation: &'a str,
    /// Where it keeps its files; a folder of the world's when absent.
    pub folder: Option<PathBuf>,
    /// The text of its configuration file.
    pub config: Option<&'a str>,
    /// It does one job and leaves.
    pub once: bool,
    /// Where it finds the service, if not at its own address.
    pub url: Option<&'a str>,
    /// It runs as this user in place of the test's own.
    pub user: Option<u32>,
    /// Whether it takes proposals from outside: `no`, `yes`, `only`.
    pub outside: &'a str,
    /// What goes before its command: it runs in a name space of its own.
    pub within: Vec<String>,
}

impl Drop for World {
    /// Machines that are processes of the service's machine outlive the service: not the test.
    fn drop(&mut self) {
        if let Some(service) = self.service.take() {
            service.kill();
        }
        for process in self.pool_processes() {
            let _ = nix::sys::signal::killpg(nix::unistd::Pid::from_raw(process), nix::sys::signal::Signal::SIGKILL);
        }
    }
}

impl Default for RunnerOptions<'_> {
    fn default() -> Self {
        RunnerOptions {
            slots: 2,
            labels: &[],
            isolation: "host",
            folder: None,
            config: None,
            once: false,
            url: None,
            user: None,
            outside: "no",
            within: Vec::new(),
        }
    }
}

impl World {
    /// Starts forge and service. `ordotaxis` is the binary under test.
    pub async fn start(ordotaxis: impl Into<PathBuf>) -> World {
        World::start_with(ordotaxis, CONFIG).await
    }

    /// The same with a configuration of the service's own.
    pub async fn start_with(ordotaxis: impl Into<PathBuf>, config: &'static str) -> World {
        World::start_in(ordotaxis, config, tempfile::tempdir().expect("a folder")).await
    }

    /// The same in a folder that the caller has made ready.
    pub async fn start_in(ordotaxis: impl Into<PathBuf>, config: &'static str, folder: TempDir) -> World {
        World::start_speaking(ordotaxis, config, folder, Dialect::Practice).await
    }

    /// The same with a forge that speaks this dialect.
    pub async fn start_speaking(ordotaxis: impl Into<PathBuf>, config: &'static str, folder: TempDir, dialect: Dialect) -> World {
        let mut world = World::start_as(ordotaxis, config, folder, String::new(), dialect).await;
        let said = world.service.as_ref().map(Process::said).unwrap_or_default();
        let token = said.split_once("printed this once: ").expect("a token").1;
        world.token = token.lines().next().unwrap_or_default().to_owned();
        world
    }

    /// The same on what is in the folder already, where this token is good.
    pub async fn start_as(ordotaxis: impl Into<PathBuf>, config: &'static str, folder: TempDir, token: String, dialect: Dialect) -> World {
        // Clients of the tests themselves need it too; it fails only when another test was first.
        let _ = rustls::crypto::ring::default_provider().install_default();
        let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.expect("a port");
        let forge_url = format!("http://{}", listener.local_addr().expect("an address"));
        let forge = Forge::open(folder.path().join("forge"), forge_url.clone(), dialect).expect("a forge");
        tokio::spawn(forge.clone().serve(listener));
        let url = format!("http://127.0.0.1:{}", free_port());
        let mut world = World {
            folder,
            forge,
            forge_url,
            url,
            token,
            service: None,
            ordotaxis: ordotaxis.into(),
            config,
            environment: Vec::new(),
            runners: Default::default(),
        };
        world.start_service();
        world
    }

    /// Starts the service, for the first time or again.
    pub fn start_service(&mut self) {
        let config = self.folder.path().join("service.toml");
        // Tests' repositories lie in temporary folders, and their forge on this machine.
        let git = if self.config.contains("[git]") { "" } else { "\n[git]\nlocal = [\"/tmp\", \"/var/tmp\"]\nnear = true\n" };
        std::fs::write(&config, format!("{}{git}", self.config)).expect("a configuration");
        let listen = self.url.trim_start_matches("http://").to_owned();
        let mut command = Command::new(&self.ordotaxis);
        command.args(["serve", "--listen", &listen, "--data"]).arg(self.folder.path().join("service")).arg("--config").arg(config);
        command.envs(self.environment.iter().map(|(name, value)| (name, value)));
        let ready = if self.token.is_empty() { "printed this once" } else { "serves at" };
        self.service = Some(Process::start(&mut command, self.folder.path(), "service", ready));
    }

    /// Adds to the service's configuration; it counts from its next start.
    pub fn configure(&mut self, more: &str) {
        self.config = format!("{}{more}", self.config).leak();
    }

    /// SIGKILL to the service, as a crash would be; [`World::start_service`] brings it back.
    pub fn kill_service(&mut self) {
        if let Some(service) = self.service.take() {
            service.kill();
        }
    }

    /// Asks the service to end, and waits until it has.
    pub fn stop_service(&mut self) {
        if let Some(mut service) = self.service.take() {
            service.signal(Signal::SIGTERM);
            assert!(service.ended(PATIENCE).is_some_and(|status| status.success()), "the service ends in peace");
        }
    }

    /// A client command with the address of the service and a token.
    pub fn client(&self) -> Command {
        let mut command = Command::new(&self.ordotaxis);
        command
            .env("ORDOTAXIS_URL", &self.url)
            .env("ORDOTAXIS_TOKEN", &self.token)
            .env("XDG_CONFIG_HOME", self.folder.path().join("config"))
            .env("XDG_CACHE_HOME", self.folder.path().join("cache"))
            .current_dir(self.folder.path());
        command
    }

    /// The processes of pools whose machines are processes, whether they have ended or not.
    pub fn pool_processes(&self) -> Vec<i32> {
        let folders = |folder: PathBuf| std::fs::read_dir(folder).into_iter().flatten().flatten().map(|entry| entry.path());
        let machines = folders(self.folder.path().join("service/pools")).flat_map(folders);
        let process = |machine: PathBuf| {
            let text = std::fs::read_to_string(machine.join("process")).ok()?;
            text.split_once(' ')?.0.parse().ok().filter(|pid| *pid > 1)
        };
        machines.filter_map(process).collect()
    }

    /// A practice cloud whose machines run the binary under test, and its address.
    pub async fn cloud(&self, weather: Weather) -> (Cloud, String) {
        let boot = Processes { program: self.ordotaxis.clone(), folder: self.folder.path().join("cloud") };
        let cloud = Cloud::new(Box::new(boot));
        cloud.set_weather(weather);
        let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.expect("a port");
        let url = format!("http://{}", listener.local_addr().expect("an address"));
        tokio::spawn(cloud.clone().serve(listener));
        (cloud, url)
    }

    /// Runs a line of a guide, as a shell does.
    pub async fn shell(&self, line: &str) -> Ran {
        let client = self.client();
        let folder = Path::new(client.get_program()).parent().unwrap_or(Path::new("/")).display().to_string();
        let mut command = Command::new("sh");
        command.args(["-c", line]).current_dir(self.folder.path());
        command.envs(client.get_envs().filter_map(|(name, value)| Some((name, value?))));
        command.env("PATH", format!("{folder}:{}", std::env::var("PATH").unwrap_or_default()));
        ran(command).await
    }

    /// Runs the client off the runtime, so that the forge in this process goes on answering.
    pub async fn run(&self, arguments: &[&str]) -> Ran {
        self.run_in(self.folder.path(), arguments).await
    }

    /// The same in another working folder.
    pub async fn run_in(&self, folder: &Path, arguments: &[&str]) -> Ran {
        let mut command = self.client();
        command.args(arguments).current_dir(folder);
        ran(command).await
    }

    /// Runs the client with something on its standard input.
    pub async fn run_with(&self, arguments: &[&str], input: &str) -> Ran {
        let mut command = self.client();
        command
            .args(arguments)
            .stdin(std::process::Stdio::piped())
            .stdout(std::process::Stdio::piped())
            .stderr(std::process::Stdio::piped());
        let input = input.to_owned();
        let run = move || {
            use std::io::Write;
            let mut child = command.spawn()?;
            if let Some(mut stdin) = child.stdin.take() {
                stdin.write_all(input.as_bytes())?;
            }
            child.wait_with_output()
        };
        let output = tokio::task::spawn_blocking(run).await.expect("a task").expect("the client runs");
        Ran {
            code: output.status.code().unwrap_or(-1),
            out: String::from_utf8_lossy(&output.stdout).into_owned(),
            err: String::from_utf8_lossy(&output.stderr).into_owned(),
        }
    }

    /// Offers a branch to main, on the forge.
    pub async fn propose(&self, repository: &str, source: &str, outside: bool) {
        let ask = json!({ "source": source, "target": "main", "title": "A change", "outside": outside });
        let made = reqwest::Client::new().post(format!("{}/api/repositories/{repository}/proposals", self.forge_url)).json(&ask);
        made.send().await.expect("an answer").error_for_status().expect("a proposal");
    }

    /// A proposal, by PROJECT/NUMBER, once it is known and fits.
    pub async fn proposal(&self, name: &str, what: &str, fits: impl Fn(&Value) -> bool) -> Value {
        until(&format!("{name}: {what}"), || async {
            let one = self.run(&["--json", "proposals", name]).await;
            serde_json::from_str::<Value>(&one.out).ok().filter(&fits)
        })
        .await
    }

    /// Runs the client and reads the JSON it prints.
    pub async fn json(&self, arguments: &[&str]) -> Value {
        let mut all = vec!["--json"];
        all.extend(arguments);
        let ran = self.run(&all).await;
        serde_json::from_str(&ran.out).unwrap_or_else(|error| panic!("{arguments:?} printed no JSON ({error}): {ran:?}"))
    }

    /// A call of the HTTP API as the owner.
    pub fn http(&self, method: reqwest::Method, path: &str) -> reqwest::RequestBuilder {
        reqwest::Client::new().request(method, format!("{}{path}", self.url)).bearer_auth(&self.token)
    }

    /// A repository on the forge and a project for it, connected both ways.
    pub async fn project(&self, name: &str) -> Repository {
        let client = reqwest::Client::new();
        let ask = client.post(format!("{}/api/repositories", self.forge_url)).json(&json!({ "name": name }));
        let made: Value = ask.send().await.expect("an answer").json().await.expect("JSON");
        let text = |value: &Value, key: &str| value[key].as_str().unwrap_or_default().to_owned();
        let (git, token) = (text(&made, "git_url"), text(&made, "token"));
        let add = [
            "project",
            "add",
            name,
            "--git",
            &git,
            "--forge",
            self.forge.dialect().word(),
            "--forge-url",
            &self.forge_url,
            "--forge-token",
            &token,
        ];
        let project = self.json(&add).await;
        let hook = json!({ "url": text(&project, "hook_url"), "secret": text(&project, "hook_secret") });
        client.put(format!("{}/api/repositories/{name}/hook", self.forge_url)).json(&hook).send().await.expect("an answer");
        Repository::new(self.folder.path().join("work").join(name), name, &git)
    }

    /// A repository on the forge that only who is `practice` with this password may read, and its address. It is no project
    /// yet.
    pub async fn private_repository(&self, name: &str, token: &str) -> (Repository, String) {
        let ask = reqwest::Client::new().post(format!("{}/api/repositories", self.forge_url));
        let ask = ask.json(&json!({ "name": name, "private": true, "token": token }));
        let made: Value = ask.send().await.expect("an answer").json().await.expect("JSON");
        let git = made["git_url"].as_str().unwrap_or_default().to_owned();
        let own = git.replace("http://", &format!("http://practice:{token}@"));
        (Repository::new(self.folder.path().join("work").join(name), name, &own), git)
    }

    /// What a repository's hook is signed with, and the token that its forge asks for.
    pub fn forge_token(&self, repository: &str) -> (String, String) {
        let book = std::fs::read_to_string(self.folder.path().join("forge/forge.json")).expect("the forge's book");
        let book: Value = serde_json::from_str(&book).expect("JSON");
        let known = &book["repositories"][repository];
        (known["hook"]["secret"].as_str().unwrap_or_default().to_owned(), known["token"].as_str().unwrap_or_default().to_owned())
    }

    /// A token that enrols one runner.
    pub async fn invitation(&self) -> String {
        let answer = self
            .http(reqwest::Method::POST, "/api/v1/runner-invitations")
            .json(&json!({ "grant": { "labels": ["simulated"] } }))
            .send()
            .await
            .expect("an answer");
        let invitation: Value = answer.json().await.expect("JSON");
        invitation["token"].as_str().unwrap_or_default().to_owned()
    }

    /// Enrols a runner and starts it.
    pub async fn runner(&self, options: RunnerOptions<'_>) -> Process {
        let number = self.runners.fetch_add(1, std::sync::atomic::Ordering::Relaxed) + 1;
        let name = format!("runner-{number}");
        let folder = options.folder.clone().unwrap_or_else(|| self.folder.path().join(&name));
        let mut invite = vec!["runner", "invite", "--outside", options.outside];
        options.labels.iter().for_each(|label| invite.extend(["--label", label]));
        let invitation = self.json(&invite).await["token"].as_str().unwrap_or_default().to_owned();
        let dir = folder.display().to_string();
        let ran = self.run(&["runner", "enrol", "--invitation", &invitation, "--name", &name, "--dir", &dir]).await;
        assert_eq!(ran.code, 0, "{ran:?}");
        if let Some(url) = options.url {
            let identity = folder.join("runner.toml");
            let text = std::fs::read_to_string(&identity).expect("its identity");
            std::fs::write(&identity, text.replace(&self.url, url)).expect("its identity");
        }
        if let Some(user) = options.user {
            for path in [folder.clone(), folder.join("runner.toml")] {
                std::os::unix::fs::chown(&path, Some(user), Some(user)).expect("another owner");
            }
        }
        self.start_runner(&name, &folder, &options)
    }

    /// Starts an enrolled runner, for the first time or again.
    pub fn start_runner(&self, name: &str, folder: &Path, options: &RunnerOptions<'_>) -> Process {
        let mut command = self.client();
        if let Some(user) = options.user {
            command = Command::new("setpriv");
            let user = user.to_string();
            command
                .args(["--reuid", &user, "--regid", &user, "--clear-groups", "--"])
                .arg(&self.ordotaxis)
                .env("HOME", folder)
                .current_dir("/");
        }
        if let Some((program, arguments)) = options.within.split_first() {
            command = Command::new(program);
            command.args(arguments).arg(&self.ordotaxis).current_dir(self.folder.path());
        }
        command.args(["runner", "work", "--isolation", options.isolation, "--slots", &options.slots.to_string(), "--dir"]).arg(folder);
        if let Some(text) = options.config {
            let path = self.folder.path().join(format!("{name}.config.toml"));
            std::fs::write(&path, text).expect("a configuration");
            command.arg("--config").arg(path);
        }
        if options.once {
            command.arg("--once");
        }
        Process::start(&mut command, self.folder.path(), name, "works at")
    }

    /// The run of a commit, once there is one that fits.
    pub async fn run_of(&self, project: &str, commit: &str, what: &str, fits: impl Fn(&Value) -> bool) -> Value {
        until(&format!("{project} {commit}: {what}"), || async {
            let response = self.http(reqwest::Method::GET, &format!("/api/v1/runs?project={project}")).send().await.ok()?;
            let runs: Value = response.json().await.ok()?;
            let run = runs.as_array()?.iter().find(|run| run["commit"] == commit)?["run"].as_str()?.to_owned();
            let run: Value = self.http(reqwest::Method::GET, &format!("/api/v1/runs/{run}")).send().await.ok()?.json().await.ok()?;
            fits(&run).then_some(run)
        })
        .await
    }

    /// The run of a commit, once it has ended.
    pub async fn verdict(&self, project: &str, commit: &str) -> Value {
        self.run_of(project, commit, "a verdict", |run| !run["ended_at"].is_null()).await
    }

    /// The statuses of a commit on the forge, once the newest has this state.
    pub async fn statuses_until(&self, project: &str, commit: &str, state: &str) -> Vec<Status> {
        until(&format!("a status {state} on {project} {commit}"), || async {
            let statuses = self.forge.statuses(project, commit);
            statuses.last().is_some_and(|status| status.state == state).then_some(statuses)
        })
        .await
    }

    /// A job of a run's view.
    pub fn job<'v>(run: &'v Value, id: &str) -> &'v Value {
        run["jobs"].as_array().into_iter().flatten().find(|job| job["id"] == id).unwrap_or_else(|| panic!("no job {id} in {run}"))
    }

    /// The whole log of a job's newest attempt, as `ordotaxis logs` prints it.
    pub async fn log(&self, run: &Value, job: &str) -> String {
        let ran = self.run(&["logs", run["run"].as_str().unwrap_or_default(), job]).await;
        assert_eq!(ran.code, 0, "{ran:?}");
        ran.out
    }
}

async fn ran(mut command: Command) -> Ran {
    let output = tokio::task::spawn_blocking(move || command.output()).await.expect("a task").expect("the command starts");
    Ran {
        code: output.status.code().unwrap_or(-1),
        out: String::from_utf8_lossy(&output.stdout).into_owned(),
        err: String::from_utf8_lossy(&output.stderr).into_owned(),
    }
}
