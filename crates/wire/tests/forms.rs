//! The protocol of runners, version 8, as it goes over the wire. Runners and services of different builds meet, so a form
//! never changes: what is here must be read, and written back as it was.

use ordotaxis_wire::runner::{
    AskFiles, AskLarge, AskPack, AskPut, AttemptReports, Beat, Beaten, Claim, Claimed, Enrol, Enrolled, FilesAbout, FindCache, Finish,
    FoundCache, GiveBack, Lease, LetGo, LogAnswer, Phases, PutPlace, ReadPlaces, ReportsTaken, SaveCache, SavedCache, SignOff, SignOn,
    SignedOn, TakenAway, VERSION,
};
use serde::Serialize;
use serde::de::DeserializeOwned;
use serde_json::{Value, json};

/// Reads a message and gives what it is written as.
fn through<T: DeserializeOwned + Serialize>(message: &Value) -> Value {
    let read: T = serde_json::from_value(message.clone()).unwrap_or_else(|error| panic!("{error}: {message}"));
    serde_json::to_value(read).expect("JSON")
}

fn stays<T: DeserializeOwned + Serialize>(message: Value) {
    assert_eq!(through::<T>(&message), message, "{}", std::any::type_name::<T>());
}

fn phase() -> Value {
    json!({
        "name": "make test", "kind": "step", "started_at": "2026-03-01T08:00:00Z", "duration_ms": 12, "failed": false, "exit_code": 0,
        "log_from": 64, "log_line": 3
    })
}

fn least_lease() -> Value {
    json!({
        "attempt": "7-0-1", "project": "tidegauge", "commit": "c7",
        "run": "tidegauge/3", "job": "a.x", "steps": [], "env": {}, "takes": [], "gives": [], "checkout": { "files": { "dir": "." } },
        "timeout_ms": null
    })
}

#[test]
fn the_version_says_when_a_form_was_changed() {
    assert_eq!(VERSION, 8, "a new version needs its forms here, beside those of the last");
}

#[test]
fn a_runner_comes_and_goes() {
    stays::<Enrol>(json!({ "token": "oxi_1", "name": "quay" }));
    stays::<Enrolled>(json!({ "name": "quay", "credential": "oxr_1" }));
    let machine =
        json!({ "slots": 1, "jobs": 1, "lasts_ms": 7_200_000, "capacity": { "cores": 2, "memory_mib": 4096 }, "isolation": "sandbox" });
    stays::<Enrolled>(json!({ "name": "heavy-a1b2c3", "credential": "oxr_1", "machine": machine }));
    stays::<Enrolled>(json!({ "name": "heavy-a1b2c3", "credential": "oxr_1", "machine": { "slots": 1, "lasts_ms": 7_200_000 } }));
    stays::<TakenAway>(json!({ "session": "s1" }));
    stays::<LetGo>(json!({ "session": "s1", "why": "its machine was taken away" }));
    stays::<LetGo>(json!({ "session": "s1", "why": "its machine was taken away", "phases": [phase()] }));
    stays::<SignOn>(json!({
        "version": 8, "session": "s1", "slots": 2, "system": ["linux", "x86_64"], "labels": ["usb"], "isolation": "sandbox",
        "fence": "bubblewrap", "tools": [{ "name": "make", "version": "4.3" }], "cores": 2, "memory_bytes": 1024
    }));
    // As version 7 had it, and as one with graphics processors has it.
    for (version, gpus) in [(7, None), (8, Some(2))] {
        let mut said = json!({ "version": version, "session": "s1", "slots": 2, "system": [], "isolation": "host", "fence": "", "tools": [], "cores": 2, "memory_bytes": 1 });
        gpus.into_iter().for_each(|gpus: u32| said["gpus"] = gpus.into());
        stays::<SignOn>(said);
    }
    stays::<SignedOn>(json!({ "labels": ["linux", "usb"], "beat_ms": 5000, "lease_ms": 20000 }));
    stays::<SignOff>(json!({ "session": "s1" }));
    stays::<Claim>(json!({ "session": "s1", "slot": 1 }));
    stays::<Claimed>(json!({ "lease": null }));
    stays::<GiveBack>(json!({ "session": "s1", "slot": 1, "taken_at": 1_772_000_000_000_i64 }));
    stays::<Beat>(json!({ "session": "s1", "holding": ["7-0-1", "7-3-2"] }));
    stays::<Beaten>(json!({ "stop": ["7-0-1"], "unknown": [] }));
}

#[test]
fn what_an_attempt_sends_while_it_runs_and_at_its_end() {
    stays::<Phases>(json!({ "phases": [phase()] }));
    for kind in
        ["checkout", "take", "step", "give", "cache", "save", "publish", "beside", "check", "watch", "switch", "checkpoint", "after"]
    {
        let mut phase = phase();
        phase["kind"] = kind.into();
        stays::<Phases>(json!({ "phases": [phase] }));
    }
    stays::<LogAnswer>(json!({ "offset": 4096 }));
    stays::<FindCache>(json!({ "key": "k-1", "otherwise": ["k-"] }));
    stays::<FoundCache>(json!({ "entry": { "key": "k-0", "tree": "ab", "run": "tidegauge/2" }, "may_save": true }));
    stays::<FoundCache>(json!({ "entry": null, "may_save": false }));
    stays::<SaveCache>(json!({ "key": "k-1", "tree": "ab", "bytes": 9 }));
    stays::<SavedCache>(json!({ "saved": false }));
    stays::<AttemptReports>(json!({}));
    stays::<AttemptReports>(json!({
        "facts": { "size": "640" }, "numbers": { "size": { "sum": 640_000 }, "lines": { "sum": 8, "of": 10 } },
        "cases": [
            { "suite": "gauge", "name": "height", "end": "passed" },
            { "suite": "gauge", "name": "drift", "end": "failed", "wavered": true, "ms": 3, "file": "t.c", "line": 4, "message": "was 2" }
        ],
        "coverage": { "t.c": { "4": 2 } },
        "findings": [{ "rule": "R1", "level": "error", "message": "no", "file": "t.c", "line": 4, "key": "ab" }],
        "bills": [{
            "file": "bom.json", "form": "cyclonedx", "document": "{}",
            "components": [{ "name": "zlib", "version": "1.3.1", "purl": "pkg:generic/zlib@1.3.1" }, { "name": "keel", "version": "" }]
        }]
    }));
    stays::<AttemptReports>(json!({ "bills": [] }));
    stays::<ReportsTaken>(json!({ "said": ["10 tests: 1 failed"], "first": "gauge drift" }));
    for outcome in ["passed", "failed", "timed_out", "stopped"] {
        stays::<Finish>(json!({
            "session": "s1", "slot": 0, "outcome": outcome, "exit_code": null, "why": null, "phases": [phase()],
            "artifacts": [{ "name": "bundle", "tree": "ab", "bytes": 9 }], "claim": true
        }));
    }
    stays::<Finish>(json!({
        "session": "s1", "slot": 0, "outcome": "failed", "exit_code": 3, "why": "step `make` exited with 3", "phases": [], "artifacts": [],
        "claim": false, "holding": ["7-1-1"], "ahead": true, "tests": { "t/one.py": 120 },
        "caches": [{
            "key": "k-1", "paths": ["target"], "restored": null, "from": null, "files": 0, "bytes": 0, "fetched_bytes": 0, "restore_ms": 0,
            "saved": true, "saved_files": 2, "saved_bytes": 80, "sent_bytes": 40, "save_ms": 5, "notices": []
        }]
    }));
}

#[test]
fn packs_go_to_storage_and_come_from_it() {
    stays::<AskPut>(json!({ "bytes": 300_000 }));
    stays::<PutPlace>(json!({ "open": false }));
    stays::<PutPlace>(json!({ "open": true, "put": { "name": "ab", "url": "https://objects.example/arrived/ab?X-Amz-Signature=1" } }));
    stays::<ReadPlaces>(json!({ "open": true }));
    stays::<ReadPlaces>(json!({ "open": true, "pieces": [{ "url": "https://objects.example/packs/ab/abc", "from": 8, "last": 4103 }] }));
}

#[test]
fn a_lease_may_say_what_trace_it_belongs_to() {
    let mut lease = least_lease();
    lease["parent"] = "00-0af7651916cd43dd8448eb211c80319c-b7ad6b7169203331-01".into();
    let read: Lease = serde_json::from_value(lease.clone()).expect("a lease");
    assert_eq!(serde_json::to_value(&read).expect("JSON")["parent"], lease["parent"]);
    for wrong in ["", "00-0af7-b7ad-01", "no trace"] {
        lease["parent"] = wrong.into();
        assert!(serde_json::from_value::<Lease>(lease.clone()).is_err(), "{wrong}");
    }
}

#[test]
fn a_commits_files_are_asked_for_and_told() {
    stays::<AskFiles>(json!({ "depth": 1 }));
    stays::<AskFiles>(json!({ "within": ["deps/keel"], "depth": "all", "submodules": true, "lfs": true }));
    stays::<FilesAbout>(json!({ "commit": "c7", "address": "https://forge.example/gauge.git" }));
    stays::<FilesAbout>(json!({
        "commit": "c7", "address": "https://forge.example/gauge.git", "apart": true,
        "tags": [{ "name": "v1.0", "id": "t1", "commit": "c7" }],
        "submodules": [{ "name": "keel", "path": "deps/keel", "address": "https://forge.example/keel.git" }],
        "large": [{ "oid": "ab", "bytes": 130_000 }]
    }));
    stays::<AskPack>(json!({ "within": ["deps/keel"], "depth": 3, "haves": ["c5"], "shallows": ["c5"] }));
    stays::<AskLarge>(json!({ "within": ["deps/keel"], "oid": "ab" }));
    for wrong in [json!({ "depth": 0 }), json!({ "depth": -1 }), json!({ "depth": "some" }), json!({ "within": "x" })] {
        assert!(serde_json::from_value::<AskFiles>(wrong.clone()).is_err(), "{wrong}");
    }
}

#[test]
fn a_lease_without_what_later_versions_added_means_what_it_meant() {
    let lease: Lease = serde_json::from_value(least_lease()).expect("a lease");
    assert!(lease.network && !lease.late && !lease.fresh && !lease.holds_turn);
    assert!(lease.secrets.is_empty() && lease.caches.is_empty() && lease.tools.is_empty() && lease.image.is_none());
    assert_eq!((lease.log_limit, lease.taken_at), (256 * 1024 * 1024, 0));
    let written = through::<Lease>(&least_lease());
    for (field, value) in least_lease().as_object().expect("an object") {
        assert_eq!(&written[field], value, "{field}");
    }
}

#[test]
fn a_slot_without_a_lease_in_hand_is_answered_as_it_ever_was() {
    let old: Finish = serde_json::from_value(json!({
        "session": "s1", "slot": 0, "outcome": "passed", "exit_code": 0, "why": null, "phases": [], "artifacts": [], "claim": true
    }))
    .expect("a result");
    assert!(old.claim && !old.ahead && old.holding.is_empty());
    let mut lease = least_lease();
    lease["taken_at"] = 7.into();
    let both = through::<Claimed>(&json!({ "lease": null, "ahead": lease }));
    assert_eq!((&both["lease"], &both["ahead"]["taken_at"]), (&Value::Null, &json!(7)));
}

#[test]
fn a_lease_with_everything_is_written_as_it_was_read() {
    let mut lease = least_lease();
    let more = json!({
        "tags_mark": "5f", "checkout": { "files": { "dir": "src", "depth": "all", "submodules": true, "lfs": true, "paths": ["src/**"] } },
        "steps": [
            { "name": "make", "run": "make" },
            { "name": "t", "run": "make test", "env": { "A": "b" }, "dir": "t", "shell": "bash -c", "timeout_ms": 10, "may_fail": true }
        ],
        "env": { "TZ": "UTC", "A": "b" },
        "takes": [{ "name": "build.gauge/bin", "tree": "ab", "to": "out" }, { "name": "build.gauge/none", "tree": null, "to": null }],
        "timeout_ms": 60_000, "late": true, "tools": { "make": "4" }, "image": "registry.example/gauge", "network": false,
        "secrets": [{ "name": "KEY", "value": "s" }, { "name": "OTHER", "value": null, "why": "it is not set" }],
        "share": { "index": 1, "count": 2, "by_time": true, "usual": { "t/one.py": 120 } },
        "caches": [{ "paths": ["target"], "key": "k-{hash:Cargo.lock}", "otherwise": ["k-"], "save": "passed" }],
        "fresh": true, "reports": { "junit": ["out/*.xml"] }, "known_facts": { "build.gauge.size": "640" },
        "publish": [{
            "artifact": "bundle", "to": "https://store.example/{fact.build.gauge.size}", "form": "artifact", "fact": "where",
            "with": { "name": "store", "user": "odd", "password": null, "why": "it is not set" }
        }, {
            "artifact": "wheel", "to": "https://index.example/", "form": "artifact",
            "upload": { "fields": [[":action", "file_upload"]], "file": "content", "digest": "sha256_digest" }
        }],
        "environment": "pier-north", "back": true, "forbidden": "it is frozen",
        "check": { "url": "http://pier.example/now", "says": "1.4", "run": null, "within_ms": 30_000, "for_ms": 5_000, "switched": true },
        "watch": { "run": "./ask.sh", "for_ms": 600_000, "every_ms": 30_000, "bad": 2 },
        "switch": [{ "name": "point", "run": "./point.sh" }],
        "log_limit": 1024, "holds_turn": true, "taken_at": 1_772_000_000_000_i64
    });
    for (field, value) in more.as_object().expect("an object") {
        lease[field] = value.clone();
    }
    stays::<Lease>(lease);
}

#[test]
fn what_a_newer_one_adds_is_passed_over_and_what_is_wrong_is_refused() {
    let mut lease = least_lease();
    lease["lanterns"] = json!(["red", "green"]);
    assert_eq!(through::<Lease>(&lease), through::<Lease>(&least_lease()));
    for (field, wrong) in [("attempt", json!("7-0")), ("attempt", json!("a-b-c")), ("steps", json!({})), ("timeout_ms", json!(-1))] {
        let mut lease = least_lease();
        lease[field] = wrong.clone();
        assert!(serde_json::from_value::<Lease>(lease).is_err(), "{field}: {wrong}");
    }
    assert!(serde_json::from_value::<Beat>(json!({ "session": "s1", "holding": ["7-0-1-2"] })).is_err());
}

#[test]
fn no_secret_is_in_what_is_printed_of_a_lease() {
    let mut lease = least_lease();
    lease["secrets"] = json!([{ "name": "KEY", "value": "very-secret-word" }]);
    lease["publish"] = json!([{
        "artifact": "bundle", "to": "https://store.example", "form": "artifact",
        "with": { "name": "store", "user": "odd", "password": "very-secret-word" }
    }]);
    let lease: Lease = serde_json::from_value(lease).expect("a lease");
    let printed = format!("{lease:?}");
    assert!(printed.contains("LeaseSecret(KEY)") && printed.contains("LeaseConnection(store)"), "{printed}");
    assert!(!printed.contains("very-secret-word"));
}
