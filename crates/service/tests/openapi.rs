//! The description that the console's client is made from is the one the service gives.

#[test]
fn the_shipped_description_is_current() {
    let shipped = std::fs::read_to_string(concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/openapi.json")).expect("docs/openapi.json");
    let hint = "run: cargo run -p ordotaxis-service --example openapi > docs/openapi.json";
    assert_eq!(shipped.trim(), ordotaxis_service::openapi().trim(), "{hint}");
}

#[test]
fn every_call_has_a_name_of_its_own() {
    let description: serde_json::Value = serde_json::from_str(&ordotaxis_service::openapi()).expect("JSON");
    assert!(description["openapi"].as_str().is_some_and(|version| version.starts_with("3.1")));
    let mut names: Vec<&str> = Vec::new();
    for path in description["paths"].as_object().expect("paths").values() {
        names.extend(path.as_object().expect("calls").values().filter_map(|call| call["operationId"].as_str()));
    }
    let all = names.len();
    names.sort_unstable();
    names.dedup();
    assert_eq!(names.len(), all);
}
