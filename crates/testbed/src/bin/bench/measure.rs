//! What every figure needs: a service of its own, its process, and the middle of many measurements.

use ordotaxis_testbed::World;
use serde_json::Value;
use std::path::PathBuf;
use std::process::Command;
use std::time::{Duration, Instant};

pub(super) const CONFIG: &str = "lease = \"20s\"\nbeat = \"5s\"\n";

pub(super) fn ordotaxis() -> PathBuf {
    let own = std::env::current_exe().expect("this program has a path");
    own.with_file_name("ordotaxis")
}

pub(super) fn row(figure: &str, measured: &str, limit: &str, note: &str) {
    println!("| {figure} | {measured} | {limit} | {note} |");
}

pub(super) fn median(mut values: Vec<f64>) -> f64 {
    values.sort_by(f64::total_cmp);
    values[values.len() / 2]
}

pub(super) fn percentile(values: &[f64], share: f64) -> f64 {
    let mut sorted = values.to_vec();
    sorted.sort_by(f64::total_cmp);
    let last = sorted.len() - 1;
    #[expect(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "a share of a small count")]
    let at = (share * last as f64).round() as usize;
    sorted[at.min(last)]
}

pub(super) fn ms(duration: Duration) -> f64 {
    duration.as_secs_f64() * 1000.0
}

pub(super) async fn world() -> World {
    World::start_with(ordotaxis(), CONFIG).await
}

pub(super) fn now_ns() -> f64 {
    std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).map(|since| since.as_secs_f64() * 1e9).unwrap_or_default()
}

/// A run once it has ended, asked for seldom: asking costs the machine that is measured.
pub(super) async fn end_of(world: &World, run: &str) -> Value {
    // One client for all calls: making one takes milliseconds of a core that is being measured.
    let client = reqwest::Client::new();
    loop {
        tokio::time::sleep(Duration::from_millis(200)).await;
        let call = client.get(format!("{}/api/v1/runs?project=bench", world.url)).bearer_auth(&world.token);
        let runs: Value = call.send().await.expect("an answer").json().await.expect("JSON");
        let ended = runs.as_array().into_iter().flatten().find(|one| one["run"] == run && !one["ended_at"].is_null());
        if let Some(ended) = ended {
            return ended.clone();
        }
    }
}

/// From the run's first claim to its verdict, by the service's own clock.
pub(super) fn span_ms(run: &Value) -> f64 {
    let time = |key: &str| run[key].as_str().and_then(|text| text.parse::<jiff::Timestamp>().ok()).expect("a time").as_millisecond();
    #[expect(clippy::cast_precision_loss, reason = "a few seconds")]
    let span = (time("ended_at") - time("created_at")) as f64;
    span
}

pub(super) fn xargs(count: u32) -> f64 {
    let begin = Instant::now();
    let status = Command::new("sh").args(["-c", &format!("seq {count} | xargs -P2 -I{{}} sh -c true")]).status();
    assert!(status.is_ok_and(|status| status.success()));
    ms(begin.elapsed())
}

pub(super) fn resident_mib(id: u32) -> f64 {
    let status = std::fs::read_to_string(format!("/proc/{id}/status")).unwrap_or_default();
    let line = status.lines().find_map(|line| line.strip_prefix("VmRSS:")).unwrap_or_default().trim().to_owned();
    line.trim_end_matches(" kB").parse::<f64>().unwrap_or(0.0) / 1024.0
}
