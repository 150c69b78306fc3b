//! From a thing to where it comes from and where it went; and proof of it that needs no service.

use super::delivery::Delivery;
use ordotaxis_testbed::{Ran, until};
use serde_json::Value;
use std::path::Path;

const RULES: &str = "rules = 1\n[environment.pier]\nafter = [\"trial\"]\n";
/// What it is made of is written down, too.
const PIPELINE: &str = "language = 1\norder = \"build > trial > ship\"\n[job.build.gauge]\n\
    steps = [\"mkdir out; echo VERSION > out/gauge; echo map > out/map; ln -s gauge out/latest\",\n\
    '''echo '{\"bomFormat\":\"CycloneDX\",\"components\":[{\"name\":\"zlib\",\"version\":\"ZLIB\"},{\"name\":\"tides\"}]}' > bom.json''']\n\
    gives = { bundle = [\"out\"] }\nreports = { sbom = [\"bom.json\"] }\n\
    [job.trial.put]\ncheckout = false\ntakes = [\"build.gauge/bundle\"]\ndeploys = \"trial\"\nsteps = [\"cat out/gauge\"]\n\
    [job.ship.pier]\ncheckout = false\ntakes = [\"build.gauge/bundle\"]\ndeploys = \"pier\"\nby_hand = true\nsteps = [\"cat out/gauge\"]\n";

async fn pushed(delivery: &Delivery, version: &str, zlib: &str) -> String {
    let commit = delivery.repository.push_pipeline(&PIPELINE.replace("VERSION", version).replace("ZLIB", zlib));
    delivery.holds("trial", &commit).await;
    signed(delivery, &commit).await;
    commit
}

/// A chain of a commit's artifact, once there is a statement of it.
async fn signed(delivery: &Delivery, thing: &str) -> Value {
    until("it is signed", || async {
        let view = delivery.world.json(&["trace", thing]).await;
        view["chains"].as_array()?.iter().find(|chain| chain["signed"] == true).cloned()
    })
    .await
}

async fn fetched(delivery: &Delivery, run: &str, to: &Path) {
    let got = delivery.world.run(&["artifacts", run, "get", "bundle", "--to", &to.display().to_string()]).await;
    assert_eq!(got.code, 0, "{got:?}");
}

fn stays(chain: &Value) -> Vec<(String, bool)> {
    let one = |stay: &Value| (stay["environment"].as_str().unwrap_or_default().to_owned(), stay["until"].is_null());
    chain["stays"].as_array().into_iter().flatten().map(one).collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_thing_leads_to_its_commit_and_to_every_place_that_it_was_put_into() {
    let delivery = Delivery::new(RULES).await;
    let first = pushed(&delivery, "1", "1.2.13").await;
    let second = pushed(&delivery, "2", "1.3.1").await;
    let promoted = delivery.world.run(&["promote", "stations", "--to", "pier", "--run", "stations/1", "--watch"]).await;
    assert_eq!(promoted.code, 0, "{promoted:?}");
    delivery.holds("pier", &first).await;
    let world = &delivery.world;
    let folder = world.folder.path().join("fetched");
    fetched(&delivery, "stations/1", &folder).await;
    let file = folder.join("out/gauge").display().to_string();
    // From the commit, by its beginning, from the digest, from a file and from the folder here, from the run, from where it is.
    let digest = world.json(&["trace", &first[..9]]).await["chains"][0]["digest"].as_str().expect("a digest").to_owned();
    let whole = folder.display().to_string();
    for (thing, kind) in [
        (first.as_str(), "commit"),
        (digest.as_str(), "artifact"),
        (file.as_str(), "file"),
        (whole.as_str(), "artifact"),
        ("stations/1", "run"),
        ("stations/pier", "environment"),
    ] {
        let view = world.json(&["trace", thing]).await;
        assert_eq!(view["kind"], kind, "{thing}: {view}");
        let chains = view["chains"].as_array().expect("chains");
        let chain = chains.iter().find(|chain| chain["run"] == "stations/1").unwrap_or_else(|| panic!("{thing}: {view}"));
        assert_eq!((chain["commit"].as_str(), chain["digest"].as_str()), (Some(first.as_str()), Some(digest.as_str())), "{thing}");
        assert_eq!(stays(chain), [("pier".to_owned(), true), ("trial".to_owned(), false)], "{thing}: {chain}");
        assert_eq!((&chain["job"], &chain["artifact"], &chain["kept"]), (&"build.gauge".into(), &"bundle".into(), &true.into()));
    }
    let view = world.json(&["trace", &file]).await;
    assert_eq!(view["chains"][0]["path"], "out/gauge");
    // In words.
    let told = world.run(&["trace", "stations/trial"]).await;
    assert!(told.out.contains(&second[..8]) && told.out.contains("build.gauge/bundle") && told.out.contains("in trial since"), "{told:?}");
    // What both versions hold is in both places.
    let map = folder.join("out/map").display().to_string();
    let both = world.run(&["trace", &map]).await;
    assert!(both.out.contains("it is in pier, trial now"), "{both:?}");
    let strange = ["abc", "0123456789", "stations/nowhere", "nowhere/1", "sha256:xyz"];
    for thing in strange {
        let none = world.run(&["trace", thing]).await;
        assert!(none.code == 2 && !none.err.is_empty(), "{thing}: {none:?}");
    }
    let never = world.run(&["trace", &format!("sha256:{}", "0".repeat(64))]).await;
    assert!(never.err.contains("files of artifacts are known once their run has ended"), "{never:?}");
    components(&delivery).await;
    // Who may not see the project learns nothing of it.
    assert_eq!(world.run(&["project", "seen", "stations", "granted"]).await.code, 0);
    let stranger = super::rights::person(world, "stranger").await;
    for thing in [first.as_str(), digest.as_str(), "stations/pier"] {
        let hidden = delivery.say(&stranger, &["trace", thing]).await;
        assert!(hidden.code == 2 && !hidden.err.contains("gauge"), "{hidden:?}");
    }
    assert_eq!(delivery.say(&stranger, &["components", "zlib"]).await.out, "");
}

/// Trial holds the new version of a component, the pier the old one.
async fn components(delivery: &Delivery) {
    let world = &delivery.world;
    let places = async |arguments: &[&str]| -> Vec<(String, String)> {
        let all = world.json(arguments).await;
        let text = |value: &Value| value.as_str().unwrap_or_default().to_owned();
        let mut found: Vec<_> =
            all.as_array().expect("a list").iter().map(|one| (text(&one["environment"]), text(&one["version"]))).collect();
        found.sort();
        found
    };
    let pair = |place: &str, version: &str| (place.to_owned(), version.to_owned());
    assert_eq!(places(&["components", "zlib"]).await, [pair("pier", "1.2.13"), pair("trial", "1.3.1")]);
    assert_eq!(places(&["components", "zlib", "--below", "1.3"]).await, [pair("pier", "1.2.13")]);
    assert_eq!(places(&["components", "zlib", "--below", "1.2"]).await, []);
    assert_eq!(places(&["components", "tides", "--below", "9"]).await, [], "nobody knows which version that is");
    assert_eq!(places(&["components", "zlib", "--runs"]).await.len(), 2);
    let none = world.run(&["components", "lib"]).await;
    assert!(none.code == 2 && none.err.contains("known are zlib"), "{none:?}");
    let bills = world.run(&["artifacts", "stations/1", "bills"]).await;
    assert!(bills.out.contains("bom.json") && bills.out.contains("cyclonedx"), "{bills:?}");
    let bill = world.run(&["artifacts", "stations/1", "bills", "build.gauge", "bom.json"]).await;
    assert!(bill.out.contains("\"bomFormat\":\"CycloneDX\""), "{bill:?}");
    assert_eq!(world.run(&["artifacts", "stations/1", "bills", "build.gauge", "../bom.json"]).await.code, 2);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_file_is_verified_without_the_service_and_nothing_false_is() {
    let mut delivery = Delivery::new("rules = 1\n").await;
    let commit = pushed(&delivery, "1", "1.3.1").await;
    let folder = delivery.world.folder.path().join("fetched");
    fetched(&delivery, "stations/1", &folder).await;
    let place = delivery.world.folder.path().to_owned();
    let at = |name: &str| place.join(name).display().to_string();
    let (statement, keys) = (at("fetched.intoto.json"), at("keys.json"));
    let got = delivery.world.run(&["artifacts", "stations/1", "statement", "bundle", "--to", &statement]).await;
    assert_eq!(got.code, 0, "{got:?}");
    std::fs::write(&keys, delivery.world.run(&["keys"]).await.out).expect("a file");
    let gauge = at("fetched/out/gauge");
    let whole = at("fetched");
    // With the keys of the service that answers.
    let good = delivery.world.run(&["verify", &whole]).await;
    assert!(good.code == 0 && good.out.contains("is build.gauge/bundle"), "{good:?}");
    delivery.world.kill_service();
    let verify = async |file: &str, more: &[&str]| -> Ran {
        let mut all = vec!["verify", file, "--statement", statement.as_str()];
        all.extend(more);
        delivery.world.run(&all).await
    };
    let good = verify(&gauge, &["--keys", &keys]).await;
    for words in ["is out/gauge of build.gauge/bundle", "stations/1", commit.as_str(), "refs/heads/main"] {
        assert!(good.code == 0 && good.out.contains(words), "{words}: {good:?}");
    }
    let away = verify(&gauge, &[]).await;
    assert!(away.code == 3 && away.err.contains("name the service with --url, or a file with --keys"), "{away:?}");
    // A file that was changed; one that is of no artifact; another file's place in the folder.
    std::fs::write(&gauge, "1 \n").expect("a file");
    for file in [&gauge, &whole] {
        let changed = verify(file, &["--keys", &keys]).await;
        assert!(changed.code == 1 && changed.err.contains("does not name that"), "{changed:?}");
    }
    std::fs::write(&gauge, "1\n").expect("a file");
    assert_eq!(verify(&whole, &["--keys", &keys]).await.code, 0, "as it was");
    // A statement that was changed, and keys of someone else.
    let text = std::fs::read_to_string(&statement).expect("the statement");
    let mut forged: Value = serde_json::from_str(&text).expect("JSON");
    let sig = forged["signatures"][0]["sig"].as_str().expect("a signature").to_owned();
    let turned = sig.strip_prefix('A').map_or_else(|| format!("A{}", &sig[1..]), |rest| format!("B{rest}"));
    forged["signatures"][0]["sig"] = turned.into();
    let (bad, other) = (at("forged.json"), at("other-keys.json"));
    std::fs::write(&bad, forged.to_string()).expect("a file");
    let refused = delivery.world.run(&["verify", &gauge, "--statement", &bad, "--keys", &keys]).await;
    assert!(refused.code == 1 && refused.err.contains("it was changed after it was signed"), "{refused:?}");
    std::fs::write(&other, r#"{"keys":[]}"#).expect("a file");
    let stranger = verify(&gauge, &["--keys", &other]).await;
    assert!(stranger.code == 1 && stranger.err.contains("none of the known keys signed it"), "{stranger:?}");
    for (file, words) in [("nonsense", "it is not one"), ("not-there.json", "cannot be read")] {
        if file == "nonsense" {
            std::fs::write(at(file), "nonsense").expect("a file");
        }
        let wrong = delivery.world.run(&["verify", &gauge, "--statement", &at(file), "--keys", &keys]).await;
        assert!(wrong.code == 2 && wrong.err.contains(words), "{file}: {wrong:?}");
    }
    // After a restart the same keys are known, and what was signed stays as it was.
    delivery.world.start_service();
    let again = delivery.world.run(&["artifacts", "stations/1", "statement", "bundle"]).await;
    assert_eq!(serde_json::from_str::<Value>(&again.out).ok(), serde_json::from_str(&text).ok());
    let keys_again: Value = serde_json::from_str(&delivery.world.run(&["keys"]).await.out).expect("keys");
    assert_eq!(Some(keys_again), serde_json::from_str(&std::fs::read_to_string(&keys).expect("the keys")).ok());
}
