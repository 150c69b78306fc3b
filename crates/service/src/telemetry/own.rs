//! The service's own spans: calls, batches of the keeper, work, git. They go where traces of runs go, a few seconds later; what
//! cannot be sent then is left out, since nobody is to wait for it. Without them nothing is made: no subscriber wants a span.

use super::otlp::FORM;
use crate::collector::{Collector, NotSent};
use crate::settings::Settings;
use opentelemetry::KeyValue;
use opentelemetry::trace::TracerProvider;
use opentelemetry_proto::tonic::collector::trace::v1::ExportTraceServiceRequest;
use opentelemetry_proto::transform::common::tonic::ResourceAttributesWithSchema;
use opentelemetry_proto::transform::trace::tonic::group_spans_by_resource_and_scope;
use opentelemetry_sdk::Resource;
use opentelemetry_sdk::error::{OTelSdkError, OTelSdkResult};
use opentelemetry_sdk::trace::{SdkTracerProvider, SpanData, SpanExporter};
use prost::Message;
use std::time::Duration;
use tokio::runtime::Handle;
use tracing::{Metadata, Subscriber};
use tracing_subscriber::Layer;
use tracing_subscriber::filter::filter_fn;
use tracing_subscriber::registry::LookupSpan;

/// A span that only gives lines of the log their call's id.
const FOR_THE_LOG: &str = "call";
const PATIENCE: Duration = Duration::from_secs(10);

/// Where the service's own spans go. [`OwnSpans::end`] sends the last.
pub struct OwnSpans(SdkTracerProvider);

impl OwnSpans {
    /// None where the configuration does not ask for them. Call it where a runtime is: they are sent on it.
    pub fn begin(settings: &Settings) -> Option<OwnSpans> {
        let traces = settings.traces.as_ref().filter(|traces| traces.own)?;
        let http = crate::outgoing::client(|with| with.timeout(PATIENCE)).ok()?;
        let resource = Resource::builder_empty()
            .with_attributes([KeyValue::new("service.name", "ordotaxis"), KeyValue::new("service.version", env!("CARGO_PKG_VERSION"))])
            .build();
        let out = Out { to: traces.to.clone(), http, runtime: Handle::current(), resource: ResourceAttributesWithSchema::from(&resource) };
        Some(OwnSpans(SdkTracerProvider::builder().with_batch_exporter(out).with_resource(resource).build()))
    }

    /// What hands spans over. Only this product's own are: packages name theirs otherwise.
    pub fn layer<S: Subscriber + for<'s> LookupSpan<'s>>(&self) -> impl Layer<S> + use<S> {
        let own = |about: &Metadata<'_>| about.is_span() && about.target().starts_with("ordotaxis") && about.name() != FOR_THE_LOG;
        tracing_opentelemetry::layer().with_tracer(self.0.tracer("ordotaxis")).with_filter(filter_fn(own))
    }

    /// Sends what is left.
    pub async fn end(self) {
        let sent = tokio::task::spawn_blocking(move || self.0.shutdown()).await;
        if let Ok(Err(error)) = sent {
            tracing::warn!(%error, "the last of the service's own spans were not sent");
        }
    }
}

/// Sends spans to the collector. It is called on a thread of its own, so calls go through the service's runtime.
#[derive(Debug)]
struct Out {
    to: Collector,
    http: reqwest::Client,
    runtime: Handle,
    resource: ResourceAttributesWithSchema,
}

impl SpanExporter for Out {
    async fn export(&self, batch: Vec<SpanData>) -> OTelSdkResult {
        let resource_spans = group_spans_by_resource_and_scope(batch, &self.resource);
        let body = ExportTraceServiceRequest { resource_spans }.encode_to_vec();
        let (to, http) = (self.to.clone(), self.http.clone());
        let sent = self.runtime.spawn(async move { to.send(&http, FORM, body).await }).await;
        let failed = |why: String| Err(OTelSdkError::InternalFailure(why));
        match sent {
            Ok(Ok(_)) => Ok(()),
            Ok(Err(NotSent::Passing { why, .. } | NotSent::Final(why))) => failed(why),
            Ok(Err(NotSent::TooLarge)) => failed("they are too large for it".into()),
            Err(error) => failed(error.to_string()),
        }
    }
}
