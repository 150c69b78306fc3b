//! The cloud's addresses, and a plain page.

use super::order::Order;
use super::sky::{Cloud, Counts};
use super::weather::Weather;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use axum::response::Html;
use axum::routing::{get, post, put};
use axum::{Json, Router};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::fmt::Write;
use std::time::Duration;

#[derive(Deserialize)]
struct Wanted {
    #[serde(default)]
    cores: u32,
    #[serde(default)]
    memory_mib: u32,
    #[serde(default)]
    environment: BTreeMap<String, String>,
}

#[derive(Serialize)]
struct Listed {
    name: String,
    state: &'static str,
    words: String,
}

#[derive(Deserialize)]
struct Take {
    #[serde(default)]
    notice_ms: u64,
}

impl Cloud {
    /// Answers calls until the listener fails.
    pub async fn serve(self, listener: tokio::net::TcpListener) -> std::io::Result<()> {
        axum::serve(listener, router(self)).await
    }
}

fn router(cloud: Cloud) -> Router {
    Router::new()
        .route("/", get(page))
        .route("/weather", put(weather))
        .route("/counts", get(counts))
        .route("/machines", get(list))
        .route("/machines/{name}", put(make).delete(remove))
        .route("/machines/{name}/console", get(console))
        .route("/machines/{name}/taking", post(take))
        .with_state(cloud)
}

/// As slow as the weather is; where the cloud is away, never.
async fn answer(cloud: &Cloud) {
    let weather = cloud.state().weather.clone();
    if weather.away {
        return std::future::pending().await;
    }
    tokio::time::sleep(Duration::from_millis(weather.slow_ms)).await;
}

async fn make(State(cloud): State<Cloud>, Path(name): Path<String>, Json(wanted): Json<Wanted>) -> (StatusCode, String) {
    answer(&cloud).await;
    let silent = {
        let state = cloud.state();
        Weather::hits(state.weather.silent_each, state.ordered + 1) && !state.machines.contains_key(&name)
    };
    let order = Order { name, cores: wanted.cores, memory_mib: wanted.memory_mib, environment: wanted.environment };
    let done = cloud.order(order);
    if silent {
        return (StatusCode::BAD_GATEWAY, "the answer was lost".into());
    }
    match done {
        Ok(words) => (StatusCode::CREATED, words),
        Err(refused) => (StatusCode::from_u16(refused.status).unwrap_or(StatusCode::CONFLICT), refused.why),
    }
}

async fn list(State(cloud): State<Cloud>) -> (StatusCode, String) {
    answer(&cloud).await;
    let state = cloud.state();
    if state.weather.garbled {
        return (StatusCode::OK, "<html>are you there?</html>".into());
    }
    let listed = state.machines.iter().map(|(name, machine)| Listed { name: name.clone(), state: machine.state(), words: machine.words() });
    (StatusCode::OK, serde_json::to_string(&listed.collect::<Vec<_>>()).unwrap_or_default())
}

async fn remove(State(cloud): State<Cloud>, Path(name): Path<String>) -> StatusCode {
    answer(&cloud).await;
    if cloud.remove(&name) { StatusCode::NO_CONTENT } else { StatusCode::NOT_FOUND }
}

async fn console(State(cloud): State<Cloud>, Path(name): Path<String>) -> (StatusCode, String) {
    answer(&cloud).await;
    match cloud.state().machines.get(&name) {
        Some(machine) => (StatusCode::OK, machine.console()),
        None => (StatusCode::NOT_FOUND, format!("there is no machine {name}")),
    }
}

async fn take(State(cloud): State<Cloud>, Path(name): Path<String>, Json(take): Json<Take>) -> StatusCode {
    if cloud.take(&name, Duration::from_millis(take.notice_ms)) { StatusCode::NO_CONTENT } else { StatusCode::NOT_FOUND }
}

async fn weather(State(cloud): State<Cloud>, Json(weather): Json<Weather>) -> StatusCode {
    cloud.set_weather(weather);
    StatusCode::NO_CONTENT
}

async fn counts(State(cloud): State<Cloud>) -> Json<Counts> {
    Json(cloud.counts())
}

async fn page(State(cloud): State<Cloud>) -> Html<String> {
    let counts = cloud.counts();
    let mut text = format!(
        "<!doctype html><meta charset=utf-8><title>practice cloud</title><h1>Practice cloud</h1><p>{} made, {} removed, {} taken away, {} s paid for</p><table>",
        counts.made,
        counts.removed,
        counts.taken,
        counts.paid_ms / 1000
    );
    for (name, machine) in &cloud.state().machines {
        let plain: String = name.chars().filter(|c| c.is_ascii_alphanumeric() || "-_.".contains(*c)).collect();
        let _ = write!(text, "<tr><td>{plain}<td>{}", machine.state());
    }
    text.push_str("</table>");
    Html(text)
}
