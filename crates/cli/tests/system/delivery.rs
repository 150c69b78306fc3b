//! Environments: what goes in, by which rules, with whose word; what is there, and what was.

use super::ORDOTAXIS;
use ordotaxis_testbed::{Process, Repository, RunnerOptions, World, until};
use serde_json::Value;

const CONFIG: &str = "beat = \"250ms\"\nretry_pause = \"100ms\"\n";
const RULES: &str = "rules = 1\n[environment.trial]\nurl = \"http://127.0.0.1:8301/now\"\n\
    [environment.\"pier-*\"]\nafter = [\"trial\"]\nfrom = [\"main\", \"tag:v*\"]\napprove = { of = 2, by = [\"lars\", \"@keepers\"] }\n";
/// What is built goes into `trial` by itself, then into two piers, one after the other.
const PIPELINE: &str = "language = 1\norder = \"build > trial > ship\"\n[job.build.gauge]\nsteps = [\"echo VERSION > gauge\"]\n\
    gives = { gauge = [\"gauge\"] }\n[job.trial.put]\ncheckout = false\ntakes = [\"build.gauge/gauge\"]\ndeploys = \"trial\"\nsteps = [\"cp gauge PLACE/trial\"]\n\
    [job.ship.pier]\ncheckout = false\neach = { pier = [\"north\", \"south\"] }\nat_once = 1\ntakes = [\"build.gauge/gauge\"]\ndeploys = \"pier-{each.pier}\"\n\
    env = { PIER = \"{each.pier}\" }\nsteps = [\"cp gauge PLACE/$PIER\"]\n";

/// A project that is delivered, a runner, and the tokens of people.
pub(super) struct Delivery {
    pub(super) world: World,
    pub(super) repository: Repository,
    pub(super) runner: Option<Process>,
}

impl Delivery {
    pub(super) async fn new(rules: &str) -> Delivery {
        Delivery::with(CONFIG, rules).await
    }

    async fn with(config: &'static str, rules: &str) -> Delivery {
        let world = World::start_with(ORDOTAXIS, config).await;
        let repository = world.project("stations").await;
        let runner = world.runner(RunnerOptions { slots: 4, ..RunnerOptions::default() }).await;
        std::fs::create_dir_all(repository.folder.join("ordotaxis")).expect("a folder");
        repository.write("ordotaxis/rules.toml", rules);
        Delivery { world, repository, runner: Some(runner) }
    }

    /// Adds a person who may operate the project; gives a token of theirs.
    pub(super) async fn person(&self, name: &str, role: &str) -> String {
        let token = super::rights::person(&self.world, name).await;
        let granted = self.world.run(&["grant", "set", name, role, "--project", "stations"]).await;
        assert_eq!(granted.code, 0, "{granted:?}");
        token
    }

    /// Runs the client as someone.
    pub(super) async fn say(&self, token: &str, arguments: &[&str]) -> ordotaxis_testbed::Ran {
        let mut all = vec!["--token", token];
        all.extend(arguments);
        self.world.run(&all).await
    }

    /// Pushes the pipeline with a version; gives the commit.
    pub(super) fn push(&self, version: &str) -> String {
        let place = self.world.folder.path().display().to_string();
        self.repository.push_pipeline(&PIPELINE.replace("VERSION", version).replace("PLACE", &place))
    }

    /// What was put somewhere.
    pub(super) fn there(&self, place: &str) -> String {
        std::fs::read_to_string(self.world.folder.path().join(place)).unwrap_or_default().trim().to_owned()
    }

    /// An environment, once it fits.
    pub(super) async fn environment(&self, name: &str, what: &str, fits: impl Fn(&Value) -> bool) -> Value {
        until(&format!("{name}: {what}"), || async {
            let all = self.world.json(&["environment", "list", "stations"]).await;
            all.as_array()?.iter().find(|one| one["name"] == name && fits(one)).cloned()
        })
        .await
    }

    /// Why a job waits, once that has these words.
    pub(super) async fn waits(&self, environment: &str, words: &str) -> Value {
        let says = |one: &Value| one["waiting"][0]["why"].as_str().is_some_and(|why| why.contains(words));
        self.environment(environment, words, says).await["waiting"][0].clone()
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn two_others_agree_with_exactly_what_was_well_in_the_trial() {
    let delivery = Delivery::new(RULES).await;
    let [lars, mara, odd] =
        [delivery.person("lars", "operator").await, delivery.person("mara", "operator").await, delivery.person("odd", "operator").await];
    let group = delivery.world.run(&["group", "set", "keepers", "mara"]).await;
    assert_eq!(group.code, 0, "{group:?}");
    let commit = delivery.push("1");
    let run = delivery.world.verdict("stations", &commit).await;
    assert_eq!(run["state"], "passed", "the verdict does not wait for people: {run}");
    let waits = delivery.waits("pier-north", "pier-north: 2 approvals by lars or @keepers are missing").await;
    assert_eq!((waits["commit"].as_str(), waits["reference"].as_str()), (Some(commit.as_str()), Some("main")));
    assert_eq!((delivery.there("trial"), delivery.there("north")), ("1".into(), String::new()));
    let why = delivery.world.run(&["why", "stations/1", "ship.pier[north]"]).await;
    assert!(why.out.contains("waits to go into pier-north: 2 approvals by lars or @keepers are missing"), "{why:?}");
    // Who is not named does not count; a reader may not even try.
    for (token, words) in [(&odd, "odd's approval does not count here: it takes lars or @keepers")] {
        let refused = delivery.say(token, &["approve", "stations/1"]).await;
        assert!(refused.code != 0 && refused.err.contains(words), "{refused:?}");
    }
    let needs = delivery.say(&lars, &["needs"]).await;
    assert!(needs.out.contains("ordotaxis approve stations/1 ship.pier[north]"), "{needs:?}");
    assert_eq!(delivery.say(&odd, &["needs"]).await.err.trim(), "nothing waits for you");
    for _ in 0..2 {
        let said = delivery.say(&lars, &["approve", "stations/1", "ship.pier[north]", "--reason", "looked at it"]).await;
        assert_eq!(said.code, 0, "{said:?}");
    }
    delivery.waits("pier-north", "1 approval by lars or @keepers is missing").await;
    assert_eq!(delivery.say(&mara, &["approve", "stations/1"]).await.code, 0);
    let north = delivery.environment("pier-north", "it is there", |one| one["present"]["commit"] == commit.as_str()).await;
    assert_eq!(north["present"]["approved_by"], serde_json::json!(["lars", "mara"]));
    assert_eq!((delivery.there("north"), delivery.there("south")), ("1".into(), String::new()), "one after the other");
    // A refusal ends the next one, with its reason.
    delivery.waits("pier-south", "2 approvals").await;
    let refused = delivery.say(&mara, &["refuse", "stations/1", "--reason", "the south pier floods"]).await;
    assert_eq!(refused.code, 0, "{refused:?}");
    let run = delivery.world.run_of("stations", &commit, "refused", |run| run["state"] == "refused").await;
    assert_eq!(run["sentence"], "Refused: ship.pier[south]: mara refused it: the south pier floods");
    let again = delivery.say(&mara, &["approve", "stations/1"]).await;
    assert!(again.code != 0 && again.err.contains("no job of stations/1 waits"), "{again:?}");
    let journal = delivery.world.json(&["journal", "stations", "--action", "deployment.approve"]).await;
    assert_eq!(journal.as_array().map(Vec::len), Some(4), "{journal}");
    let history = delivery.world.run(&["environment", "history", "stations/pier-north"]).await;
    assert!(history.out.contains("lars, mara") && history.out.contains("well, and there"), "{history:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_frozen_waits_and_goes_on_when_it_thaws_also_after_a_crash() {
    let mut delivery = Delivery::new("rules = 1\n").await;
    let first = delivery.push("1");
    delivery.environment("trial", "it is there", |one| one["present"]["commit"] == first.as_str()).await;
    delivery.environment("pier-south", "it is there", |one| one["present"]["commit"] == first.as_str()).await;
    let frozen = delivery.world.run(&["environment", "freeze", "stations/trial", "--reason", "stocktaking", "--until", "2h"]).await;
    assert!(frozen.code == 0 && frozen.out.contains("by owner: stocktaking"), "{frozen:?}");
    let journal = delivery.world.json(&["journal", "stations", "--action", "environment.freeze"]).await;
    assert!(journal[0]["after"]["until"].as_str().is_some_and(|until| until.ends_with('Z')), "{journal}");
    let second = delivery.push("2");
    let waits = delivery.waits("trial", "it is frozen until").await;
    assert!(waits["why"].as_str().is_some_and(|why| why.ends_with("by owner: stocktaking")), "{waits}");
    // A newer push takes its place.
    let third = delivery.push("3");
    let replaced =
        delivery.world.run_of("stations", &second, "overtaken", |run| World::job(run, "trial.put")["state"] == "overtaken").await;
    assert_eq!(World::job(&replaced, "trial.put")["why"], "overtaken by stations/3 trial.put, a newer commit");
    delivery.world.kill_service();
    delivery.world.start_service();
    delivery.environment("trial", "the newer waits", |one| one["waiting"][0]["commit"] == third.as_str()).await;
    assert_eq!(delivery.there("trial"), "1");
    assert_eq!(delivery.world.run(&["environment", "thaw", "stations/trial"]).await.code, 0);
    delivery.environment("trial", "it is there", |one| one["present"]["commit"] == third.as_str()).await;
    assert_eq!(delivery.there("trial"), "3");
    let page = delivery.world.json(&["environment", "show", "stations/trial"]).await;
    let told: Vec<(i64, &str, bool)> = page["deployments"]
        .as_array()
        .expect("a list")
        .iter()
        .map(|one| (one["number"].as_i64().unwrap_or(0), one["outcome"].as_str().unwrap_or(""), one["left_at"].is_null()))
        .collect();
    assert_eq!(told, [(2, "well", true), (1, "well", false)]);
    for (arguments, words) in [
        (vec!["environment", "show", "stations/trail"], "did you mean trial?"),
        (vec!["environment", "show", "trial"], "names no environment"),
        (vec!["environment", "freeze", "stations/trial", "--reason", "x", "--until", "yesterday"], "is no moment"),
        (vec!["environment", "freeze", "stations/trial", "--reason", "x", "--until", "2020-01-01T00:00:00Z"], "that moment is over"),
        (vec!["environment", "freeze", "stations/trial", "--reason", " "], "say why it is frozen"),
        (vec!["approve", "stations"], "a word is for one run"),
        (vec!["approve", "stations/3", "ship.boat"], "does not wait to go into an environment"),
    ] {
        let refused = delivery.world.run(&arguments).await;
        assert!(refused.code != 0 && refused.err.contains(words), "{arguments:?}: {refused:?}");
    }
}

const STEPS_ON: &str = "rules = 1\n[environment.\"pier-*\"]\nafter = [\"trial\"]\n[environment.pier-south]\nafter = [\"pier-north\"]\npromote = \"auto\"\n\
    approve = { of = 1, by = [\"lars\"] }\nemergency = [\"mara\"]\n[environment.trial]\nsecrets = [\"TRIAL_KEY\"]\n";
/// As before, with everything after the trial by hand, and a count of how often something was built.
const BY_HAND: &str = "language = 1\norder = \"build > trial > ship\"\n[job.build.gauge]\nsteps = [\"echo VERSION > gauge\", \"echo built >> PLACE/built\"]\n\
    gives = { gauge = [\"gauge\"] }\n[job.trial.put]\ncheckout = false\ntakes = [\"build.gauge/gauge\"]\ndeploys = \"trial\"\nsteps = [\"cp gauge PLACE/trial\"]\n\
    [job.ship.pier]\ncheckout = false\nby_hand = true\neach = { pier = [\"north\", \"south\"] }\ntakes = [\"build.gauge/gauge\"]\ndeploys = \"pier-{each.pier}\"\n\
    env = { PIER = \"{each.pier}\" }\nsteps = [\"cp gauge PLACE/$PIER\", \"test ! -e PLACE/broken\"]\n";

impl Delivery {
    fn push_by_hand(&self, version: &str) -> String {
        let place = self.world.folder.path().display().to_string();
        self.repository.push_pipeline(&BY_HAND.replace("VERSION", version).replace("PLACE", &place))
    }

    pub(super) async fn holds(&self, environment: &str, commit: &str) -> Value {
        self.environment(environment, "it is there", |one| one["present"]["commit"] == commit).await
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn what_was_tested_is_promoted_by_hand_and_by_itself_and_rolled_back_without_building_anything() {
    let delivery = Delivery::new(STEPS_ON).await;
    let [lars, mara] = [delivery.person("lars", "operator").await, delivery.person("mara", "operator").await];
    let early = delivery.world.run(&["promote", "stations", "--to", "pier-north"]).await;
    assert!(
        early.code != 0 && early.err.contains("the rules name nothing that pier-north comes after: say with `--run` which run"),
        "{early:?}"
    );
    let first = delivery.push_by_hand("1");
    delivery.holds("trial", &first).await;
    let promoted = delivery.say(&mara, &["promote", "stations", "--to", "pier-north", "--watch"]).await;
    assert_eq!(promoted.code, 0, "{promoted:?}");
    let run = delivery.world.json(&["show", "stations/2"]).await;
    assert_eq!((run["occasion"]["event"].as_str(), run["occasion"]["from"].as_str()), (Some("promotion"), Some("stations/1")));
    let build = World::job(&run, "build.gauge");
    assert_eq!((build["state"].as_str(), build["reused_from"].as_str()), (Some("reused"), Some("stations/1")));
    assert_eq!(World::job(&run, "ship.pier[south]")["state"], "skipped");
    delivery.holds("pier-north", &first).await;
    assert_eq!(delivery.there("north"), "1");
    // By the rules the next goes on by itself, once someone agrees.
    let waits = delivery.waits("pier-south", "1 approval by lars is missing").await;
    assert_eq!(waits["run"], "stations/3");
    assert_eq!(delivery.say(&lars, &["approve", "stations/3"]).await.code, 0);
    delivery.holds("pier-south", &first).await;
    assert_eq!(delivery.there("built").lines().count(), 1, "it was built once");
    // The same is not promoted twice, and a run of which nothing was put into the trial is not promoted at all.
    let again = delivery.world.run(&["promote", "stations", "--to", "pier-north"]).await;
    assert!(again.code != 0 && again.err.contains("nothing newer"), "{again:?}");
    let second = delivery.push_by_hand("2");
    delivery.holds("trial", &second).await;
    // An emergency passes by the approval, and says so until another person confirms it.
    let ask = ["start", "stations/4", "--job", "ship.pier[south]", "--emergency", "--reason", "the pier floods"];
    let refused = delivery.say(&lars, &ask).await;
    assert!(refused.code != 0 && refused.err.contains("let mara go past them, not lars"), "{refused:?}");
    let urgent = delivery.say(&mara, &ask).await;
    assert_eq!(urgent.code, 0, "{urgent:?}");
    let south = delivery.holds("pier-south", &second).await;
    assert_eq!(
        (south["present"]["way"].as_str(), south["unconfirmed"][0]["reason"].as_str()),
        (Some("emergency"), Some("the pier floods"))
    );
    assert!(delivery.say(&lars, &["needs"]).await.out.contains("mara put stations/4 ship.pier[south] into pier-south past the rules"));
    let own = delivery.say(&mara, &["approve", "stations/4", "ship.pier[south]"]).await;
    assert!(own.code != 0 && own.err.contains("someone else must confirm it"), "{own:?}");
    assert_eq!(delivery.say(&lars, &["approve", "stations/4", "ship.pier[south]"]).await.code, 0);
    let history = delivery.world.run(&["environment", "history", "stations/pier-south"]).await;
    assert!(history.out.contains("an emergency (the pier floods), confirmed by lars"), "{history:?}");
    // Back: what was there before, by the job's own steps, with one approval.
    let back = delivery.say(&mara, &["roll-back", "stations/pier-south"]).await;
    assert!(back.code == 0 && back.out.contains("with what stations/3 made"), "{back:?}");
    delivery.waits("pier-south", "1 approval by lars is missing").await;
    assert_eq!(delivery.say(&lars, &["approve", "stations/5"]).await.code, 0);
    let south = delivery.holds("pier-south", &first).await;
    assert_eq!((south["present"]["way"].as_str(), delivery.there("south")), (Some("roll_back"), "1".to_owned()));
    let page = delivery.world.json(&["environment", "show", "stations/pier-south"]).await;
    assert_eq!(page["deployments"][1]["trouble"], "it was rolled back", "{page}");
    assert_eq!(delivery.there("built").lines().count(), 2);
    // An emergency is over once it was let in: done again the job goes by the rules.
    assert_eq!(delivery.world.run(&["again", "stations/4", "--job", "ship.pier[south]"]).await.code, 0);
    assert_eq!(delivery.waits("pier-south", "1 approval by lars is missing").await["run"], "stations/4");
    let nothing = delivery.world.run(&["roll-back", "stations/trial", "--to", "9"]).await;
    assert!(nothing.code != 0 && nothing.err.contains("trial has no deployment 9 that ended well"), "{nothing:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_secret_of_an_environment_is_lent_to_what_deploys_there_and_to_nothing_else() {
    let delivery = Delivery::new(STEPS_ON).await;
    assert_eq!(delivery.world.run_with(&["secret", "set", "stations", "TRIAL_KEY"], "salt and mud").await.code, 0);
    let pipeline = "language = 1\n[defaults]\ncheckout = false\n[job.put.trial]\nsecrets = [\"TRIAL_KEY\"]\ndeploys = \"trial\"\nsteps = [\"test -n \\\"$TRIAL_KEY\\\"\"]\n\
        [job.put.boat]\nsecrets = [\"TRIAL_KEY\"]\ndeploys = \"boat\"\nsteps = [\"true\"]\n[job.put.nowhere]\nsecrets = [\"TRIAL_KEY\"]\nsteps = [\"true\"]\n";
    let run = delivery.world.verdict("stations", &delivery.repository.push_pipeline(pipeline)).await;
    assert_eq!(World::job(&run, "put.trial")["state"], "passed", "{run}");
    for job in ["put.boat", "put.nowhere"] {
        assert_eq!(World::job(&run, job)["why"], "secret TRIAL_KEY is lent to jobs that deploy to trial only", "{run}");
    }
    // A value of its own for one environment is lent there in place of the project's, and nowhere else.
    let world = &delivery.world;
    let set = |name: &'static str, environment: &'static str, value: &'static str| async move {
        world.run_with(&["secret", "set", "stations", name, "--environment", environment], value).await
    };
    assert_eq!(set("TRIAL_KEY", "trial", "reed and silt").await.code, 0);
    assert_eq!(set("BOAT_KEY", "boat", "tar and rope").await.code, 0);
    let job = |name: &str, key: &str, more: &str, value: &str| {
        format!("[job.put.{name}]\nsecrets = [\"{key}\"]\n{more}steps = [\"test \\\"${key}\\\" = '{value}'\"]\n")
    };
    let pipeline = [
        "language = 1\n[defaults]\ncheckout = false\n".to_owned(),
        job("trial", "TRIAL_KEY", "deploys = \"trial\"\n", "reed and silt"),
        job("boat", "BOAT_KEY", "deploys = \"boat\"\n", "tar and rope"),
        job("pier", "BOAT_KEY", "deploys = \"pier-x\"\n", ""),
        job("nowhere", "BOAT_KEY", "", ""),
    ];
    let run = delivery.world.verdict("stations", &delivery.repository.push_pipeline(&pipeline.concat())).await;
    for job in ["put.trial", "put.boat"] {
        assert_eq!(World::job(&run, job)["state"], "passed", "{run}");
    }
    assert_eq!(World::job(&run, "put.nowhere")["why"], "secret BOAT_KEY is set for jobs that deploy to boat only", "{run}");
    let list = delivery.world.run(&["secret", "list", "stations"]).await;
    assert!(list.out.contains("TRIAL_KEY  trial") && list.out.contains("BOAT_KEY   boat"), "{list:?}");
    let wrong = set("BOAT_KEY", "a/b", "tar and rope").await;
    assert!(wrong.code != 0 && wrong.err.contains("no environment is called a/b; did you mean a-b?"), "{wrong:?}");
    let wrong = set("BOAT_KEY", "//", "tar and rope").await;
    assert!(wrong.code != 0 && wrong.err.contains("an environment cannot be called `//`: that has no letter or digit"), "{wrong:?}");
    let removed = delivery.world.run(&["secret", "remove", "stations", "BOAT_KEY"]).await;
    assert!(removed.code != 0 && removed.err.contains("has no secret BOAT_KEY"), "the one for boat is another: {removed:?}");
    assert_eq!(delivery.world.run(&["secret", "remove", "stations", "BOAT_KEY", "--environment", "boat"]).await.code, 0);
    // No step of it began: nobody doubts what is there.
    let pier = delivery.environment("boat", "it ended", |one| one["inside"].is_null()).await;
    assert_eq!(pier["doubt"], Value::Null);
}

#[tokio::test(flavor = "multi_thread")]
async fn after_a_crash_in_the_middle_nobody_guesses_what_is_there() {
    let mut delivery = Delivery::with("beat = \"250ms\"\nlease = \"3s\"\nretry_pause = \"100ms\"\n", "rules = 1\n").await;
    let first = delivery.push_by_hand("1");
    delivery.holds("trial", &first).await;
    let began = delivery.world.folder.path().join("began");
    let pipeline = format!(
        "language = 1\n[job.trial.put]\ncheckout = false\ndeploys = \"trial\"\nsteps = [\"touch {}\", \"sleep 600\"]\n",
        began.display()
    );
    let second = delivery.repository.push_pipeline(&pipeline);
    until("it began", || async { began.exists().then_some(()) }).await;
    delivery.world.kill_service();
    delivery.world.start_service();
    let going = delivery.environment("trial", "it goes on", |one| one["inside"]["run"] == "stations/2").await;
    assert_eq!(going["present"]["commit"], first.as_str(), "what was last put there well");
    delivery.runner.take().expect("a runner").kill();
    let lost = delivery.environment("trial", "nobody knows", |one| !one["doubt"].is_null()).await;
    assert!(lost["sentence"].as_str().is_some_and(|words| words.starts_with("unknown since") && words.contains("before it was")), "{lost}");
    assert_eq!(lost["present"]["commit"], first.as_str());
    let runner = delivery.world.runner(RunnerOptions { slots: 2, ..RunnerOptions::default() }).await;
    let third = delivery.push_by_hand("3");
    let mended = delivery.holds("trial", &third).await;
    assert_eq!((&mended["doubt"], &mended["inside"]), (&Value::Null, &Value::Null), "{second}");
    drop(runner);
}

/// A host as simple as can be: it answers with what a file holds.
async fn host(file: std::path::PathBuf) -> u16 {
    use tokio::io::{AsyncReadExt, AsyncWriteExt};
    let listener = tokio::net::TcpListener::bind(("127.0.0.1", 0)).await.expect("a port");
    let port = listener.local_addr().expect("an address").port();
    tokio::spawn(async move {
        while let Ok((mut stream, _)) = listener.accept().await {
            let mut asked = [0; 1024];
            let _ = stream.read(&mut asked).await;
            let text = std::fs::read_to_string(&file).unwrap_or_default();
            let answer = format!("HTTP/1.1 200 OK\r\ncontent-length: {}\r\nconnection: close\r\n\r\n{text}", text.len());
            let _ = stream.write_all(answer.as_bytes()).await;
        }
    });
    port
}

#[tokio::test(flavor = "multi_thread")]
async fn what_fails_its_check_is_rolled_back_within_the_run_by_what_was_there() {
    let delivery = Delivery::new("rules = 1\n").await;
    let place = delivery.world.folder.path().display().to_string();
    let port = host(delivery.world.folder.path().join("trial")).await;
    let rules = format!(
        "rules = 1\n[environment.trial]\non_failure = \"roll-back\"\ncheck = {{ url = \"http://127.0.0.1:{port}/now\", says = \"{{commit}}\", within = \"2s\", for = \"300ms\" }}\n\
         [environment.quay]\ncheck = {{ run = \"test -e {place}/well\", within = \"1s\" }}\n"
    );
    delivery.repository.write("ordotaxis/rules.toml", &rules);
    // The file that ships lies in the repository, so that going back takes the earlier commit's.
    let push = |ships: &str| {
        delivery.repository.write("ship.sh", ships);
        delivery.repository.push_pipeline(&format!(
            "language = 1\norder = \"build > put\"\n[job.build.gauge]\nsteps = [\"echo $ORDOTAXIS_COMMIT > gauge\"]\ngives = {{ gauge = [\"gauge\"] }}\n\
             [job.put.trial]\ntakes = [\"build.gauge/gauge\"]\ndeploys = \"trial\"\nsteps = [\"sh ./ship.sh {place}/trial\"]\n"
        ))
    };
    let first = push("cp gauge $1\n");
    let there = delivery.holds("trial", &first).await;
    assert!(there["present"]["answer"].as_str().is_some_and(|answer| answer.contains(&first)), "{there}");
    let second = push("echo mischief > $1\n");
    let run = delivery.world.verdict("stations", &second).await;
    let job = World::job(&run, "put.trial");
    let why = job["why"].as_str().unwrap_or_default();
    assert!(
        why.starts_with(&format!(
            "the check failed: http://127.0.0.1:{port}/now was not well within 2.0 s: it does not say `{second}`: 200 `mischief`"
        )),
        "{why}"
    );
    assert!(why.ends_with("; what was there before is there again"), "{why}");
    assert_eq!(job["attempts"].as_array().map(Vec::len), Some(2), "{job}");
    let kinds = |attempt: usize| -> Vec<String> {
        let phases = job["attempts"][attempt]["phases"].as_array().cloned().unwrap_or_default();
        phases.iter().filter_map(|phase| phase["kind"].as_str().map(str::to_owned)).collect()
    };
    assert_eq!(kinds(1), ["checkout", "take", "step", "check"], "{job}");
    assert_eq!(delivery.there("trial"), first);
    let trial = delivery.environment("trial", "it ended", |one| one["inside"].is_null()).await;
    assert_eq!((trial["present"]["commit"].as_str(), &trial["doubt"]), (Some(first.as_str()), &Value::Null));
    let page = delivery.world.json(&["environment", "show", "stations/trial"]).await;
    let failed = &page["deployments"][0];
    assert_eq!((failed["outcome"].as_str(), failed["back"].as_bool()), (Some("failed"), Some(true)), "{failed}");
    // A name that is made of a fact has the same rules.
    let fact = "language = 1\norder = \"tell > put\"\n[defaults]\ncheckout = false\n[job.tell.name]\nfacts = [\"name\"]\nsteps = [\"printf quay > $ORDOTAXIS_FACTS/name\"]\n\
        [job.put.there]\ndeploys = \"{fact.tell.name.name}\"\nsteps = [\"true\"]\n";
    let run = delivery.world.verdict("stations", &delivery.repository.push_pipeline(fact)).await;
    assert!(World::job(&run, "put.there")["why"].as_str().is_some_and(|why| why.starts_with("the check failed: test -e")), "{run}");
    // A check by a command; and where nothing was there before, nobody knows what is.
    let quay = "language = 1\n[job.put.quay]\ncheckout = false\ndeploys = \"quay\"\nsteps = [\"true\"]\n";
    let run = delivery.world.verdict("stations", &delivery.repository.push_pipeline(quay)).await;
    assert!(
        World::job(&run, "put.quay")["why"].as_str().is_some_and(|why| why.contains("was not well within 1.0 s: step `check test -e")),
        "{run}"
    );
    delivery.environment("quay", "in doubt", |one| one["sentence"].as_str().is_some_and(|words| words.starts_with("unknown since"))).await;
    std::fs::write(delivery.world.folder.path().join("well"), "").expect("a file");
    let again = delivery.world.run(&["again", run["run"].as_str().unwrap_or_default(), "--failed", "--watch"]).await;
    assert_eq!(again.code, 0, "{again:?}");
    delivery.environment("quay", "well", |one| one["doubt"].is_null() && !one["present"].is_null()).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn the_time_limit_of_a_job_holds_for_what_is_asked_after_its_steps() {
    let delivery = Delivery::new("rules = 1\n").await;
    let port = host(delivery.world.folder.path().join("trial")).await;
    let rules = format!(
        "rules = 1\n[environment.trial]\ncheck = {{ url = \"http://127.0.0.1:{port}/now\", says = \"never\", within = \"10m\" }}\n\
         [environment.quay]\ncheck = {{ run = \"exit 1\", within = \"10m\" }}\n[environment.pier]\ncheck = {{ run = \"exit 0\", for = \"10m\" }}\n"
    );
    delivery.repository.write("ordotaxis/rules.toml", &rules);
    let job = |name: &str| format!("[job.put.{name}]\ndeploys = \"{name}\"\nsteps = [\"true\"]\n");
    let jobs = ["trial", "quay", "pier"].map(job).concat();
    let text = format!("language = 1\n[defaults]\ncheckout = false\ntimeout = \"1s\"\n{jobs}");
    let run = delivery.world.verdict("stations", &delivery.repository.push_pipeline(&text)).await;
    for (name, asked) in [("trial", format!("http://127.0.0.1:{port}/now")), ("quay", "exit 1".to_owned()), ("pier", "exit 0".to_owned())] {
        let job = World::job(&run, &format!("put.{name}"));
        let wanted = format!("the job's time limit was over while {asked} was looked at");
        assert!(job["why"].as_str().is_some_and(|why| why.starts_with(&wanted)), "{job}");
    }
}

/// What a proposal's run puts somewhere to look at, and what takes it away again.
const PREVIEW: &str = "language = 1\norder = \"build > preview\"\n[starts]\npush = [\"main\"]\nproposal = [\"main\"]\n\
    [job.build.gauge]\nsteps = [\"cat gauge > out\"]\ngives = { gauge = [\"out\"] }\n\
    [job.preview.put]\nif = \"event == 'proposal'\"\ncheckout = false\ntakes = [\"build.gauge/gauge\"]\ndeploys = \"preview-{proposal}\"\n\
    steps = [\"cp out PLACE/preview\"]\n\
    [job.preview.take]\ncheckout = false\ntakes = [\"build.gauge/gauge\"]\ncloses = \"preview-{proposal}\"\n\
    steps = [\"test ! -e PLACE/stuck\", \"cmp out PLACE/preview\", \"rm PLACE/preview\"]\n";
/// What must be well after it was put there is not asked once it was taken away.
const PREVIEW_RULES: &str = "rules = 1\n[environment.\"preview-*\"]\npreview = true\nurl = \"http://127.0.0.1:8301/{environment}\"\n\
    check = { run = \"test -e PLACE/preview\" }\n";

/// A project with a proposal whose preview is there.
async fn previewed(rules: &str) -> (Delivery, String) {
    let delivery = Delivery::with("beat = \"250ms\"\nretry_pause = \"20ms\"\n", rules).await;
    let repository = &delivery.repository;
    let place = delivery.world.folder.path().display().to_string();
    repository.write("ordotaxis/rules.toml", &rules.replace("PLACE", &place));
    repository.write("gauge", "gauge 1\n");
    repository.push_pipeline(&PREVIEW.replace("PLACE", &place));
    repository.git(&["checkout", "--quiet", "-b", "topic"]);
    repository.write("gauge", "gauge 2\n");
    let head = repository.commit("Another gauge");
    repository.git(&["push", "--quiet", "origin", "topic"]);
    delivery.world.propose("stations", "topic", false).await;
    delivery.environment("preview-1", "it is there", |one| !one["present"].is_null()).await;
    assert_eq!(delivery.there("preview"), "gauge 2");
    (delivery, head)
}

async fn closed(delivery: &Delivery) -> Value {
    until("the preview is closed", || async {
        let page = delivery.world.json(&["environment", "show", "stations/preview-1"]).await;
        (!page["environment"]["closed_at"].is_null()).then_some(page)
    })
    .await
}

#[tokio::test(flavor = "multi_thread")]
async fn a_preview_is_shown_to_its_proposal_and_goes_with_it_also_where_that_fails_at_first() {
    let (delivery, _) = previewed(PREVIEW_RULES).await;
    let comment = until("the comment names it", || async {
        let proposal = delivery.world.forge.proposal("stations", 1).ok()?;
        proposal.comments.iter().find(|one| one.text.contains("http://127.0.0.1:8301/preview-1")).cloned()
    })
    .await;
    assert!(comment.text.contains("To look at"), "{comment:?}");
    let run = delivery.world.json(&["show", "stations/2"]).await;
    let take = ordotaxis_testbed::World::job(&run, "preview.take");
    assert!(take["why"].as_str().is_some_and(|why| why.contains("it is done when preview-1 is closed")), "{take}");
    // Closing fails at first: that is said, and it is tried again by itself.
    std::fs::write(delivery.world.folder.path().join("stuck"), "").expect("a file");
    super::forges::act(&delivery.world, "people/stations/proposals/1/close", &serde_json::json!({ "by": "Odd" })).await;
    let stuck = delivery.environment("preview-1", "it could not be closed", |one| !one["unclosed"].is_null()).await;
    assert!(stuck["unclosed"].as_str().is_some_and(|why| why.contains("did not end well")), "{stuck}");
    assert_eq!(delivery.there("preview"), "gauge 2", "it is there still");
    std::fs::remove_file(delivery.world.folder.path().join("stuck")).expect("removed");
    let page = closed(&delivery).await;
    assert_eq!(delivery.there("preview"), "", "it was taken away with what had been put there");
    assert_eq!((&page["environment"]["present"], &page["environment"]["unclosed"]), (&Value::Null, &Value::Null));
    assert_eq!(page["deployments"][0]["way"], "close");
    let list = delivery.world.json(&["environment", "list", "stations"]).await;
    assert_eq!(list, serde_json::json!([]), "what was closed is not among what there is");
    until("the comment does not name it any more", || async {
        let proposal = delivery.world.forge.proposal("stations", 1).ok()?;
        proposal.comments.iter().all(|one| !one.text.contains("preview-1")).then_some(())
    })
    .await;
    let again = delivery.world.run(&["environment", "close", "stations/preview-1"]).await;
    assert!(again.code != 0 && again.err.contains("no preview that is open"), "{again:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_preview_is_closed_by_hand_or_when_its_time_is_over_and_comes_again_with_a_newer_commit() {
    let (delivery, _) = previewed(PREVIEW_RULES).await;
    let reader = delivery.person("odd", "reader").await;
    let refused = delivery.say(&reader, &["environment", "close", "stations/preview-1"]).await;
    assert!(refused.code != 0 && refused.err.contains("operator"), "{refused:?}");
    let closed_now = delivery.world.run(&["environment", "close", "stations/preview-1", "--watch"]).await;
    assert_eq!(closed_now.code, 0, "{closed_now:?}");
    closed(&delivery).await;
    let journal = delivery.world.json(&["journal", "stations", "--action", "environment.close"]).await;
    assert!(journal.as_array().is_some_and(|all| all.iter().any(|one| one["who"] == "owner" && one["refused"].is_null())), "{journal}");
    // A newer commit of the proposal puts it there again, and now it may stay for a moment only.
    delivery.repository.git(&["checkout", "--quiet", "main"]);
    let place = delivery.world.folder.path().display().to_string();
    delivery.repository.write("ordotaxis/rules.toml", &format!("{}lasts = \"1s\"\n", PREVIEW_RULES.replace("PLACE", &place)));
    delivery.repository.commit("Previews do not last");
    delivery.repository.push();
    delivery.repository.git(&["checkout", "--quiet", "topic"]);
    delivery.repository.write("gauge", "gauge 3\n");
    delivery.repository.commit("One more gauge");
    delivery.repository.git(&["push", "--quiet", "origin", "topic"]);
    until("it came again and went", || async {
        let page = delivery.world.json(&["environment", "show", "stations/preview-1"]).await;
        let ways: Vec<&str> = page["deployments"].as_array()?.iter().filter_map(|one| one["way"].as_str()).collect();
        (ways == ["close", "forward", "close", "forward"] && !page["environment"]["closed_at"].is_null()).then_some(())
    })
    .await;
    assert_eq!(delivery.there("preview"), "");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_preview_that_was_put_back_is_closed_with_what_is_there() {
    let rules = "rules = 1\n[environment.\"preview-*\"]\npreview = true\non_failure = \"roll-back\"\n\
        check = { run = \"! grep -q bad PLACE/preview\", within = \"1s\" }\n";
    let (delivery, _) = previewed(rules).await;
    delivery.repository.write("gauge", "gauge bad\n");
    delivery.repository.commit("A bad gauge");
    delivery.repository.git(&["push", "--quiet", "origin", "topic"]);
    until("what was there is there again", || async {
        let page = delivery.world.json(&["environment", "show", "stations/preview-1"]).await;
        let last = &page["deployments"][0];
        (last["outcome"] == "failed" && last["back"] == true).then_some(())
    })
    .await;
    assert_eq!(delivery.there("preview"), "gauge 2");
    let closed_now = delivery.world.run(&["environment", "close", "stations/preview-1", "--watch"]).await;
    assert_eq!(closed_now.code, 0, "{closed_now:?}");
    closed(&delivery).await;
    assert_eq!(delivery.there("preview"), "");
}

#[tokio::test(flavor = "multi_thread")]
async fn from_outside_a_preview_comes_only_where_the_rules_let_it() {
    let delivery = Delivery::with("beat = \"250ms\"\nretry_pause = \"20ms\"\n", PREVIEW_RULES).await;
    let (world, repository) = (&delivery.world, &delivery.repository);
    let _strangers = world.runner(RunnerOptions { outside: "only", ..RunnerOptions::default() }).await;
    assert_eq!(world.run(&["project", "outside", "stations", "run"]).await.code, 0);
    let place = world.folder.path().display().to_string();
    repository.write("gauge", "gauge 1\n");
    repository.push_pipeline(&PREVIEW.replace("PLACE", &place));
    repository.git(&["checkout", "--quiet", "-b", "fork"]);
    repository.write("gauge", "gauge 2\n");
    let head = repository.commit("From a fork");
    repository.git(&["push", "--quiet", "origin", "fork"]);
    world.propose("stations", "fork", true).await;
    let run = until("it is refused", || async {
        let runs = world.json(&["runs", "stations"]).await;
        let run = runs.as_array()?.iter().find(|run| run["occasion"]["event"] == "proposal" && run["state"] == "refused")?.clone();
        Some(run)
    })
    .await;
    assert!(run["sentence"].as_str().is_some_and(|why| why.contains("it comes from outside")), "{run} {head}");
    assert_eq!(delivery.there("preview"), "");
}

/// Whoever can approve may do so in a comment, by their name at the forge; what does not count is answered with why.
#[tokio::test(flavor = "multi_thread")]
async fn a_word_in_a_comment_counts_as_one_given_here() {
    let delivery = Delivery::new("rules = 1\n[environment.trial]\napprove = { of = 1, by = [\"lars\", \"mara\"] }\n").await;
    let (world, repository) = (&delivery.world, &delivery.repository);
    for name in ["lars", "mara", "odd"] {
        delivery.person(name, "operator").await;
        assert_eq!(world.run(&["person", "known", name, "--issuer", &world.forge_url, "--subject", name]).await.code, 0);
    }
    let first = delivery.push("1");
    delivery.waits("trial", "1 approval by lars or mara is missing").await;
    repository.git(&["checkout", "--quiet", "-b", "topic"]);
    repository.write("more", "1");
    repository.commit("Something to talk about");
    repository.git(&["push", "--quiet", "origin", "topic"]);
    world.propose("stations", "topic", false).await;
    let comment = async |by: &str, text: &str, words: &str| {
        super::forges::act(world, "people/stations/proposals/1/comment", &serde_json::json!({ "by": by, "text": text })).await;
        until(&format!("an answer to {by}: {words}"), || async {
            let proposal = world.forge.proposal("stations", 1).ok()?;
            proposal.comments.iter().any(|one| one.by == "ordotaxis" && one.text.contains(words)).then_some(())
        })
        .await;
    };
    comment("odd", "ordotaxis: approve stations/1", "approval does not count here").await;
    comment("lars", "ordotaxis: approve tidegauge/1", "tidegauge/1 is not of stations").await;
    comment("lars", "ordotaxis: approve stations/99", "there is no run stations/99").await;
    comment("lars", "ordotaxis: approve stations/1 trial.put", "it is approved").await;
    delivery.holds("trial", &first).await;
    repository.git(&["checkout", "--quiet", "main"]);
    let second = delivery.push("2");
    let of_it =
        |one: &Value| one["waiting"].as_array().and_then(|all| all.iter().find(|waits| waits["commit"] == second.as_str()).cloned());
    let waits = delivery.environment("trial", "the second waits", |one| of_it(one).is_some()).await;
    let run = of_it(&waits).expect("it waits")["run"].as_str().expect("a run").to_owned();
    comment("mara", &format!("ordotaxis: refuse {run}"), "it is refused").await;
    let run = world.run_of("stations", &second, "refused", |run| run["state"] == "refused").await;
    assert_eq!(run["sentence"], "Refused: trial.put: mara refused it");
}
