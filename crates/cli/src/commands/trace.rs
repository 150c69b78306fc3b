//! `trace`, `components`: where things come from and where they went.

use super::verify::digest_of;
use crate::api::Api;
use crate::failure::{Done, Failure, OK};
use crate::out;
use crate::written;
use ordotaxis_wire::trace::{BillView, ComponentView, TraceChain, TraceView, TracedStay};
use reqwest::Method;
use std::path::Path;

/// `trace`
#[derive(clap::Args)]
pub(crate) struct TraceOptions {
    /// A commit, a digest (`sha256:…`), a file or folder here, or `PROJECT/` and a run's number, an environment or a version
    thing: String,
}

/// `components`
#[derive(clap::Args)]
pub(crate) struct ComponentsOptions {
    /// As bills of materials call it
    name: String,
    /// Only versions before this one
    #[arg(long)]
    below: Option<String>,
    /// What runs made, in place of what is in environments
    #[arg(long)]
    runs: bool,
}

pub(super) async fn trace(options: TraceOptions, api: &Api, json: bool) -> Done {
    let view = asked(&options.thing, api).await?;
    if json {
        out::json(&view);
        return OK;
    }
    out::print(&view.sentence);
    let mut before = "";
    for chain in &view.chains {
        if chain.run != before {
            run(chain);
        }
        before = &chain.run;
        artifact(chain);
    }
    if view.more {
        out::remark("there are more; name one of these to see what belongs to it");
    }
    OK
}

/// A file here is known by its digest; what is not known by that may still be a name.
async fn asked(thing: &str, api: &Api) -> Result<TraceView, Failure> {
    let path = Path::new(thing);
    let get = |thing: &str| api.read::<TraceView>(api.request(Method::GET, "trace").query(&[("thing", thing)]));
    if !path.exists() {
        return get(thing).await;
    }
    let found = get(&format!("sha256:{}", digest_of(path)?)).await;
    match found {
        Err(missing) if missing.says("nothing here comes from") => match get(thing).await {
            Ok(view) => Ok(view),
            Err(_) => Err(missing),
        },
        found => found,
    }
}

fn run(chain: &TraceChain) {
    let commit = chain.commit.get(..8).unwrap_or(&chain.commit);
    let of = if chain.reference.is_empty() { String::new() } else { format!(" of {}", chain.reference) };
    let line = format!("{}  {}  {commit}{of}  {}", out::bold(&chain.run), out::state(chain.state), chain.title);
    out::print(out::fit(&line));
    out::print(out::dim(&format!("  by {}, {}", chain.author, out::moment(chain.at))));
}

fn artifact(chain: &TraceChain) {
    if let (Some(job), Some(name), Some(digest)) = (&chain.job, &chain.artifact, &chain.digest) {
        let path = chain.path.as_ref().map(|path| format!(": {path}")).unwrap_or_default();
        let words = [(!chain.signed, "nothing is signed yet"), (!chain.kept, "swept away")];
        let words: Vec<&str> = words.iter().filter(|(is, _)| *is).map(|(_, word)| *word).collect();
        let more = if words.is_empty() { String::new() } else { format!("  ({})", words.join(", ")) };
        out::print(format!("  {job}/{name}{path}  {}{more}", out::dim(digest.get(..19).unwrap_or(digest))));
    }
    chain.published.iter().for_each(|address| out::print(format!("    published to {address}")));
    chain.releases.iter().for_each(|one| out::print(format!("    in release {} ({})", one.version, one.state)));
    chain.stays.iter().for_each(|stay| out::print(format!("    {}", stayed(stay))));
}

fn stayed(stay: &TracedStay) -> String {
    let since = out::moment(stay.since);
    let by = format!("put there by {} {}", stay.run, stay.job);
    match stay.until {
        None => format!("in {} since {since}, {by}", out::bold(&stay.environment)),
        Some(until) => format!("was in {} from {since} to {}, {by}", stay.environment, out::moment(until)),
    }
}

pub(super) async fn components(options: ComponentsOptions, api: &Api, json: bool) -> Done {
    let mut query = vec![("name", options.name.clone())];
    query.extend(options.below.clone().map(|below| ("below", below)));
    query.extend(options.runs.then(|| ("runs", "true".to_owned())));
    let all: Vec<ComponentView> = api.read(api.request(Method::GET, "components").query(&query)).await?;
    if json {
        out::json(&all);
        return OK;
    }
    let head = ["component", "version", "in", "run", "bill"].map(str::to_owned).to_vec();
    let row = |one: &ComponentView| {
        let place = one.environment.clone().unwrap_or_default();
        vec![one.name.clone(), one.version.clone(), place, one.run.clone(), format!("{} {}", one.job, one.file)]
    };
    let rows: Vec<Vec<String>> = std::iter::once(head).chain(all.iter().map(row)).collect();
    let place = if options.runs { "no run made anything of it" } else { "no environment holds it" };
    let below = options.below.map(|below| format!(" in a version before {below}")).unwrap_or_default();
    out::table(&rows, &format!("{place}{below}"));
    OK
}

/// The bills of materials of a run, or one of them as its job wrote it.
pub(super) async fn bills(run: &str, one: Option<(&str, &str)>, api: &Api, json: bool) -> Done {
    if let Some((job, file)) = one {
        let answer = api.send(api.request(Method::GET, &format!("runs/{run}/bill")).query(&[("job", job), ("file", file)])).await?;
        let bytes = answer.bytes().await.map_err(|_| Failure::new(3, "the bill broke off", "ask for it again"))?;
        written::bytes(&bytes);
        return OK;
    }
    let all: Vec<BillView> = api.get(&format!("runs/{run}/bills")).await?;
    if json {
        out::json(&all);
        return OK;
    }
    let head = ["job", "bill", "form", "components", ""].map(str::to_owned).to_vec();
    let row = |one: &BillView| {
        let kept = if one.kept { "" } else { "the document is not kept any more" };
        vec![one.job.clone(), one.file.clone(), one.form.clone(), one.components.to_string(), kept.to_owned()]
    };
    let rows: Vec<Vec<String>> = std::iter::once(head).chain(all.iter().map(row)).collect();
    out::table(&rows, "its jobs left no bill of materials: `reports.sbom` names one");
    OK
}
