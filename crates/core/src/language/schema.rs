//! The table of keys as JSON Schema, for editors. Format: JSON Schema 2020-12. What needs names to be known, such as
//! whether a taken artifact exists, a schema cannot say; `check` does.

use super::keys;
use super::shape::{Format, Key, Names, Shape};
use serde_json::{Map, Value, json};

/// The schema of a pipeline file.
pub fn schema() -> Value {
    let mut schema = of_file("urn:ordotaxis:language:1", "Ordotaxis pipeline, language 1", keys::FILE);
    schema.insert("required".into(), json!(["language"]));
    Value::Object(schema)
}

/// The schema of a file with these keys at its top.
pub(crate) fn of_file(id: &str, title: &str, keys: &'static [Key]) -> Map<String, Value> {
    let mut schema = Map::new();
    schema.insert("$schema".into(), json!("https://json-schema.org/draft/2020-12/schema"));
    schema.insert("$id".into(), json!(id));
    schema.insert("title".into(), json!(title));
    schema.extend(table(keys));
    schema
}

fn table(keys: &'static [Key]) -> Map<String, Value> {
    let mut properties = Map::new();
    for key in keys {
        let mut value = shape(key.shape);
        if let Value::Object(value) = &mut value {
            value.insert("description".into(), json!(key.says));
        }
        properties.insert(key.name.into(), value);
    }
    let required: Vec<&str> = keys.iter().filter(|key| key.required).map(|key| key.name).collect();
    let mut schema = Map::new();
    schema.insert("type".into(), json!("object"));
    schema.insert("properties".into(), Value::Object(properties));
    schema.insert("additionalProperties".into(), json!(false));
    if !required.is_empty() {
        schema.insert("required".into(), json!(required));
    }
    schema
}

fn shape(of: &'static Shape) -> Value {
    match of {
        Shape::Flag => json!({ "type": "boolean" }),
        Shape::Text(format) => text(*format),
        Shape::Number { least, most } => json!({ "type": "integer", "minimum": least, "maximum": most }),
        Shape::Choice(choices) => json!({ "enum": choices }),
        Shape::Anything => json!({}),
        Shape::Scalar => json!({ "type": ["string", "integer", "boolean"] }),
        Shape::List(item) => json!({ "type": "array", "items": shape(item) }),
        Shape::Map { names: Names::Any, of, .. } => json!({ "type": "object", "additionalProperties": shape(of) }),
        Shape::Map { names, of, .. } => {
            let pattern = if *names == Names::Variable { "^[A-Za-z_][A-Za-z0-9_]*$" } else { "^[a-z0-9_-]{1,64}$" };
            json!({ "type": "object", "patternProperties": { pattern: shape(of) }, "additionalProperties": false })
        }
        Shape::Table { keys, .. } => Value::Object(table(keys)),
        Shape::Either(shapes, _) => json!({ "anyOf": shapes.iter().map(|of| shape(of)).collect::<Vec<_>>() }),
    }
}

fn text(format: Format) -> Value {
    match format {
        Format::Word => json!({ "type": "string", "pattern": "\\S" }),
        Format::Pointer => json!({ "type": "string", "pattern": "^(/.*)?$" }),
        Format::Header => json!({ "type": "string", "pattern": "^[A-Za-z0-9-]+$" }),
        Format::Statuses => json!({ "type": "string", "pattern": "^[1-5]([0-9][0-9]|xx)$" }),
        Format::Name => json!({ "type": "string", "pattern": "^[a-z0-9_-]{1,64}$" }),
        Format::Size => json!({ "type": "string", "pattern": "^\\s*[0-9]+\\s*(MiB|GiB|TiB)\\s*$" }),
        Format::Duration => json!({ "type": "string", "pattern": "^\\s*([0-9]+\\s*[A-Za-z]+\\s*)+$" }),
        _ => json!({ "type": "string" }),
    }
}
