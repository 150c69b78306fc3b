//! `store verify`, `store sweep`.

use crate::api::Api;
use crate::failure::{Done, OK, failed};
use crate::out;
use clap::Subcommand;
use ordotaxis_wire::storage::Sweep;
use ordotaxis_wire::storage::{SweepView, SweptView, VerifiedView};
use ordotaxis_wire::words;
use reqwest::Method;

#[derive(Subcommand)]
pub(crate) enum StoreCommand {
    /// Read all that is stored and say what is damaged
    Verify,
    /// Show what is no longer needed
    Sweep {
        /// Take it away
        #[arg(long)]
        apply: bool,
    },
}

pub(super) async fn store(command: StoreCommand, api: &Api, json: bool) -> Done {
    match command {
        StoreCommand::Verify => verify(api, json).await,
        StoreCommand::Sweep { apply } => {
            let view: SweepView = api.read(api.request(Method::POST, "store/sweep").json(&Sweep { apply })).await?;
            if json {
                out::json(&view);
            } else {
                print_sweep(&view);
            }
            OK
        }
    }
}

async fn verify(api: &Api, json: bool) -> Done {
    let view: VerifiedView = api.read(api.request(Method::POST, "store/verify")).await?;
    if json {
        out::json(&view);
    } else {
        let sound = if view.damaged.is_empty() && view.broken.is_empty() { "all of it sound" } else { "not all of it sound" };
        out::print(format!("{} chunks in {} packs, {}: {sound}", view.chunks, view.packs, words::bytes(view.bytes)));
        for damage in &view.damaged {
            out::print(format!(
                "  pack {}: {}; {} chunks lost, to be sent again by whoever has them",
                damage.pack, damage.why, damage.chunks
            ));
        }
        view.broken.iter().for_each(|broken| out::print(format!("  not whole: {broken}")));
    }
    if view.damaged.is_empty() && view.broken.is_empty() { OK } else { Ok(failed()) }
}

fn print_sweep(view: &SweepView) {
    let (would, about) = if view.done { ("were swept away", "freed about") } else { ("would go", "would free about") };
    let list = |what: &str, all: &[SweptView]| {
        if !all.is_empty() {
            out::print(format!("{what} that {would}:"));
            all.iter().for_each(|one| out::print(format!("  {}  {}  {}", one.what, words::bytes(one.bytes), out::dim(&one.why))));
        }
    };
    list("artifacts", &view.artifacts);
    list("caches", &view.caches);
    print_old("runs", would, &view.runs);
    print_old("logs of runs", would, &view.logs);
    for old in &view.rows {
        out::print(format!("{} {} older than {}", old.count, old.what, old.age));
    }
    if view.packs + view.strays > 0 {
        out::print(format!("{} packs of which nothing or little is needed, {} that nothing knows", view.packs, view.strays));
    }
    if view.small > 0 {
        out::print(format!("{} small packs that {} joined", view.small, if view.done { "were" } else { "would be" }));
    }
    out::print(format!("{about} {}", words::bytes(view.bytes)));
    let named = [&view.artifacts, &view.caches, &view.runs, &view.logs].iter().any(|list| !list.is_empty());
    if !view.done && (named || view.packs + view.small + view.strays > 0 || !view.rows.is_empty()) {
        out::remark("nothing was changed; `ordotaxis store sweep --apply` does it");
    }
}

/// How many of many runs are named.
const NAMED: usize = 20;

fn print_old(what: &str, would: &str, all: &[SweptView]) {
    if all.is_empty() {
        return;
    }
    out::print(format!("{} {what} past their age that {would}:", all.len()));
    all.iter().take(NAMED).for_each(|one| out::print(format!("  {}  {}", one.what, out::dim(&one.why))));
    if all.len() > NAMED {
        out::print(format!("  and {} more; `--json` names all", all.len() - NAMED));
    }
}
