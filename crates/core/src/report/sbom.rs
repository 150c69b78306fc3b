//! Bills of materials: CycloneDX (ECMA-424) and SPDX 2.3 (ISO/IEC 5962), both as JSON → the components that they name.

use super::error::ReportError;
use super::results::{Bill, BillForm, Component, NAME, cut};
use serde_json::Value;

/// Of one bill no more components are kept.
const MOST: usize = 50_000;
/// Components may hold components; no tool nests deeper than a handful.
const DEEPEST: usize = 32;

/// Reads a bill of materials. Errors when it is not JSON, or neither of the two forms.
pub fn bill(bytes: &[u8]) -> Result<Bill, ReportError> {
    let value: Value = serde_json::from_slice(bytes).map_err(|error| ReportError::Json(error.to_string()))?;
    let mut components = Vec::new();
    let form = if value["bomFormat"] == "CycloneDX" {
        cyclonedx(&value, 0, &mut components);
        BillForm::CycloneDx
    } else if value["spdxVersion"].as_str().is_some_and(|version| version.starts_with("SPDX-2")) {
        components.extend(value["packages"].as_array().into_iter().flatten().filter_map(spdx));
        BillForm::Spdx
    } else {
        return Err(ReportError::Kind("a bill of materials as CycloneDX or SPDX 2 JSON"));
    };
    components.sort();
    components.dedup();
    components.truncate(MOST);
    Ok(Bill { form, components })
}

fn text(value: &Value) -> String {
    cut(value.as_str().unwrap_or_default(), NAME)
}

fn cyclonedx(value: &Value, depth: usize, into: &mut Vec<Component>) {
    if depth > DEEPEST {
        return;
    }
    for one in value["components"].as_array().into_iter().flatten() {
        let (group, name) = (text(&one["group"]), text(&one["name"]));
        if !name.is_empty() {
            let name = if group.is_empty() { name } else { format!("{group}/{name}") };
            into.push(Component { name, version: text(&one["version"]), purl: one["purl"].as_str().map(|purl| cut(purl, NAME)) });
        }
        cyclonedx(one, depth + 1, into);
    }
}

fn spdx(one: &Value) -> Option<Component> {
    let name = text(&one["name"]);
    let references = one["externalRefs"].as_array().into_iter().flatten();
    let purl =
        references.filter(|reference| reference["referenceType"] == "purl").find_map(|reference| reference["referenceLocator"].as_str());
    (!name.is_empty()).then(|| Component { name, version: text(&one["versionInfo"]), purl: purl.map(|purl| cut(purl, NAME)) })
}
