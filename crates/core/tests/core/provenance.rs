//! What is said of artifacts, and what proves it: nothing that was changed is believed.

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use ordotaxis_core::provenance::{Envelope, Made, PAYLOAD, Source, Taken, Untrusted, named, statement, to_sign};
use proptest::prelude::*;

fn made() -> Made {
    Made {
        artifact: "pack.bundle/bundle".into(),
        sha256: "aa".repeat(32),
        files: vec![("out/gauge.bin".into(), "bb".repeat(32))],
        service: "http://127.0.0.1:7070".into(),
        project: "tidegauge".into(),
        source: Source {
            git: "https://forge.saltmarsh.example/tidegauge.git".into(),
            commit: "c0ffee".into(),
            reference: "refs/heads/main".into(),
        },
        run: "tidegauge/41".into(),
        pipeline: "main".into(),
        plan_sha256: "cc".repeat(32),
        job: "pack.bundle".into(),
        attempt: 2,
        inputs: [("station".to_owned(), "north".to_owned())].into_iter().collect(),
        taken: vec![Taken { name: "build.gauge/firmware".into(), sha256: "dd".repeat(32) }],
        runner: "quay".into(),
        isolation: "sandbox".into(),
        started: Some("2026-11-20T08:00:00Z".into()),
        ended: None,
    }
}

/// A signature that only who knows the key can make, as far as these tests go: it depends on every byte.
fn toy(key: &str, bytes: &[u8]) -> Vec<u8> {
    use sha2::{Digest, Sha256};
    Sha256::digest([key.as_bytes(), bytes].concat()).to_vec()
}

fn signed(payload: &[u8]) -> Envelope {
    Envelope::new(payload, "k1", &toy("k1", &to_sign(PAYLOAD, payload)))
}

fn good(id: &str, bytes: &[u8], signature: &[u8]) -> Option<bool> {
    ["k1", "k2"].contains(&id).then(|| toy(id, bytes) == signature)
}

#[test]
fn a_statement_has_the_form_of_its_standards() {
    let said = statement(&made());
    insta::assert_snapshot!(serde_json::to_string_pretty(&said).expect("JSON"));
    assert_eq!(named(&said, &"BB".repeat(32)).as_deref(), Some("out/gauge.bin"), "digits of either case");
    let bare = statement(&Made { source: Source { reference: String::new(), ..made().source }, ..made() });
    let uri = &bare["predicate"]["buildDefinition"]["resolvedDependencies"][0]["uri"];
    assert_eq!(uri, "git+https://forge.saltmarsh.example/tidegauge.git");
}

#[test]
fn what_proves_nothing_says_why() {
    let whole = signed(br#"{"subject":[]}"#);
    assert_eq!(whole.opened(good).expect("a statement").1, "k1");
    let with = |change: &dyn Fn(&mut Envelope)| {
        let mut other = whole.clone();
        change(&mut other);
        other.opened(good).expect_err("nothing proven")
    };
    assert_eq!(with(&|one| one.signatures[0].keyid = "k9".into()), Untrusted::Stranger(vec!["k9".into()]));
    assert_eq!(with(&|one| one.signatures[0].keyid = "k2".into()), Untrusted::Changed("k2".into()), "another known key did not sign it");
    assert_eq!(with(&|one| one.signatures.clear()), Untrusted::Stranger(vec![]));
    assert!(matches!(with(&|one| one.payload_type = "text/plain".into()), Untrusted::Form(_)));
    assert!(matches!(with(&|one| one.payload = "%".into()), Untrusted::Form(_)));
    assert!(matches!(with(&|one| one.signatures[0].sig = "%".into()), Untrusted::Form(_)));
    assert_eq!(with(&|one| one.payload = STANDARD.encode(r#"{"subject":[1]}"#)), Untrusted::Changed("k1".into()));
    // Signed is not enough: it must be a statement.
    assert!(matches!(signed(b"no JSON").opened(good), Err(Untrusted::Form(_))));
    // One good signature among strangers'.
    let mut several = whole.clone();
    several.signatures.insert(0, ordotaxis_core::provenance::Signature { keyid: "k9".into(), sig: "AAAA".into() });
    assert!(several.opened(good).is_ok());
}

proptest! {
    /// However a signed statement is changed, it is not believed.
    #[test]
    fn no_change_goes_unseen(text in "[a-z ]{0,40}", at in any::<prop::sample::Index>(), flip in 1u8..) {
        let payload = serde_json::to_vec(&serde_json::json!({ "subject": [{ "name": text }] })).expect("JSON");
        let envelope = signed(&payload);
        let mut changed = payload.clone();
        let at = at.index(changed.len());
        changed[at] ^= flip;
        let forged = Envelope { payload: STANDARD.encode(&changed), ..envelope.clone() };
        prop_assert_eq!(forged.opened(good), Err(Untrusted::Changed("k1".into())));
        let (said, key) = envelope.opened(good).expect("a statement");
        prop_assert_eq!((said["subject"][0]["name"].as_str(), key.as_str()), (Some(text.as_str()), "k1"));
        // Whoever reads an envelope reads it as it was written.
        let read: Envelope = serde_json::from_str(&serde_json::to_string(&envelope).expect("JSON")).expect("an envelope");
        prop_assert_eq!(read, envelope);
    }

    /// Type and payload cannot be shifted into each other.
    #[test]
    fn what_is_signed_says_where_the_payload_begins(kind in "[ -~]{0,12}", payload in "[ -~]{0,12}", other in "[ -~]{0,12}", rest in "[ -~]{0,12}") {
        let same = to_sign(&kind, payload.as_bytes()) == to_sign(&other, rest.as_bytes());
        prop_assert_eq!(same, kind == other && payload == rest);
    }
}
