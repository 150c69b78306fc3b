//! Bills of materials: both forms, and what is neither.

use ordotaxis_core::report::{BillForm, Component, ReportError, bill};
use proptest::prelude::*;
use serde_json::json;

fn component(name: &str, version: &str, purl: Option<&str>) -> Component {
    Component { name: name.into(), version: version.into(), purl: purl.map(Into::into) }
}

#[test]
fn both_forms_are_read() {
    let cyclonedx = json!({
        "bomFormat": "CycloneDX", "specVersion": "1.6", "metadata": { "component": { "name": "gauge" } },
        "components": [
            { "type": "library", "name": "zlib", "version": "1.3.1", "purl": "pkg:generic/zlib@1.3.1" },
            { "name": "tide", "group": "org.saltmarsh", "version": "2", "components": [{ "name": "moon", "version": "0.1" }] },
            { "name": "zlib", "version": "1.3.1", "purl": "pkg:generic/zlib@1.3.1" },
            { "version": "without a name" }
        ]
    });
    let read = bill(cyclonedx.to_string().as_bytes()).expect("a bill");
    assert_eq!(read.form, BillForm::CycloneDx);
    let wanted = [
        component("moon", "0.1", None),
        component("org.saltmarsh/tide", "2", None),
        component("zlib", "1.3.1", Some("pkg:generic/zlib@1.3.1")),
    ];
    assert_eq!(read.components, wanted, "each once, those within others too");
    let spdx = json!({
        "spdxVersion": "SPDX-2.3",
        "packages": [
            { "name": "zlib", "versionInfo": "1.3.1", "externalRefs": [
                { "referenceType": "cpe23Type", "referenceLocator": "cpe:2.3:a:zlib" },
                { "referenceType": "purl", "referenceLocator": "pkg:deb/debian/zlib1g@1.3.1" }
            ] },
            { "name": "keel" }
        ]
    });
    let read = bill(spdx.to_string().as_bytes()).expect("a bill");
    assert_eq!((read.form.word(), read.form), ("spdx", BillForm::Spdx));
    assert_eq!(read.components, [component("keel", "", None), component("zlib", "1.3.1", Some("pkg:deb/debian/zlib1g@1.3.1"))]);
}

#[test]
fn what_is_none_is_refused_and_what_is_huge_is_cut() {
    for text in ["{}", "[]", "1", r#"{"bomFormat":"other"}"#, r#"{"spdxVersion":"SPDX-9.0"}"#] {
        assert!(matches!(bill(text.as_bytes()), Err(ReportError::Kind(_))), "{text}");
    }
    assert!(matches!(bill(b"<xml/>"), Err(ReportError::Json(_))));
    let deep = (0..200).fold(json!({ "name": "innermost" }), |inner, n| json!({ "name": format!("n{n}"), "components": [inner] }));
    let text = json!({ "bomFormat": "CycloneDX", "components": [deep] });
    // What nests deeper than any tool's output is left out; what cannot even be read is an error.
    if let Ok(read) = bill(text.to_string().as_bytes()) {
        assert!(read.components.len() < 40);
    }
    let many: Vec<serde_json::Value> = (0..60_000).map(|n| json!({ "name": format!("c{n}") })).collect();
    let read = bill(json!({ "bomFormat": "CycloneDX", "components": many }).to_string().as_bytes()).expect("a bill");
    assert_eq!(read.components.len(), 50_000);
}

proptest! {
    #[test]
    fn no_bytes_make_it_panic(bytes in proptest::collection::vec(any::<u8>(), 0..200), text in "\\PC{0,60}") {
        let _ = bill(&bytes);
        let _ = bill(json!({ "bomFormat": "CycloneDX", "components": [{ "name": text, "version": 7, "purl": [] }, text] }).to_string().as_bytes());
    }
}
