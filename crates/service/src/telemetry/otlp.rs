//! The forms of OTLP, filled: attributes, resources.

use opentelemetry_proto::tonic::common::v1::{AnyValue, InstrumentationScope, KeyValue, any_value::Value};
use opentelemetry_proto::tonic::resource::v1::Resource;

/// The media type of its messages.
pub(crate) const FORM: &str = "application/x-protobuf";

/// An attribute that is a text.
pub(crate) fn text(key: &str, value: impl Into<String>) -> KeyValue {
    attribute(key, Value::StringValue(value.into()))
}

/// An attribute that is a number.
pub(crate) fn number(key: &str, value: i64) -> KeyValue {
    attribute(key, Value::IntValue(value))
}

fn attribute(key: &str, value: Value) -> KeyValue {
    KeyValue { key: key.to_owned(), value: Some(AnyValue { value: Some(value) }), ..KeyValue::default() }
}

/// Who says it: this service, at its address.
pub(crate) fn resource(url: &str, more: Vec<KeyValue>) -> Resource {
    let own = [text("service.name", "ordotaxis"), text("service.version", env!("CARGO_PKG_VERSION")), text("service.instance.id", url)];
    Resource { attributes: own.into_iter().chain(more).collect(), ..Resource::default() }
}

pub(crate) fn scope() -> InstrumentationScope {
    InstrumentationScope { name: "ordotaxis".into(), version: env!("CARGO_PKG_VERSION").into(), ..InstrumentationScope::default() }
}

/// Milliseconds since 1970 as nanoseconds.
pub(crate) fn nanos(ms: i64) -> u64 {
    ms.max(0).unsigned_abs().saturating_mul(1_000_000)
}
