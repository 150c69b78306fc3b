//! Diagnostics in the Static Analysis Results Interchange Format, SARIF 2.1.0 (OASIS standard), for programs that show
//! findings beside the source.

use ordotaxis_core::language::{Code, Severity};
use ordotaxis_wire::plan::DiagnosticView;
use serde_json::{Value, json};

pub(super) fn log(diagnostics: &[DiagnosticView]) -> Value {
    let rules: Vec<Value> =
        Code::ALL.iter().map(|code| json!({ "id": code.word(), "shortDescription": { "text": code.means() } })).collect();
    json!({
        "$schema": "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json",
        "version": "2.1.0",
        "runs": [{
            "tool": { "driver": { "name": "ordotaxis", "version": env!("CARGO_PKG_VERSION"), "rules": rules } },
            "columnKind": "unicodeCodePoints",
            "results": diagnostics.iter().map(result).collect::<Vec<_>>(),
        }],
    })
}

fn result(found: &DiagnosticView) -> Value {
    let level = match found.severity {
        Severity::Error => "error",
        Severity::Warning => "warning",
        Severity::Note => "note",
    };
    let text = match &found.hint {
        Some(hint) => format!("{}. {hint}", found.message),
        None => found.message.clone(),
    };
    let uri = found.file.replace('\\', "/").replace(' ', "%20");
    let related: Vec<Value> = found
        .related
        .iter()
        .map(|place| {
            json!({
                "message": { "text": place.message },
                "physicalLocation": { "artifactLocation": { "uri": uri }, "region": { "startLine": place.line, "startColumn": place.column } },
            })
        })
        .collect();
    let region = json!({
        "startLine": found.line,
        "startColumn": found.column,
        "endLine": found.end_line,
        "endColumn": found.end_column,
    });
    let mut result = json!({
        "ruleId": found.code,
        "level": level,
        "message": { "text": text },
        "locations": [{ "physicalLocation": { "artifactLocation": { "uri": uri }, "region": region } }],
    });
    if !related.is_empty() {
        result["relatedLocations"] = Value::Array(related);
    }
    result
}
