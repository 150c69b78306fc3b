//! `pool`: runners that are made when jobs queue, and their machines.

use super::pool_set::{SetOptions, settings};
use crate::api::Api;
use crate::failure::{Done, Failure, OK};
use crate::global::Global;
use crate::out::{self, table};
use clap::Subcommand;
use jiff::Timestamp;
use ordotaxis_core::language::Capacity;
use ordotaxis_core::pool::Stage;
use ordotaxis_wire::pool::{ConsoleView, KeepMachine, MachineView, PoolView};
use ordotaxis_wire::words;
use reqwest::Method;
use std::path::PathBuf;
use std::time::Duration;

#[derive(Subcommand)]
pub(crate) enum PoolCommand {
    /// All pools: what each may do, what is there, and why
    List,
    /// One pool with its machines
    Show { name: String },
    /// Set a pool; of one that is there what is said here is changed, and the rest stays
    Set {
        name: String,
        #[command(flatten)]
        options: Box<SetOptions>,
    },
    /// Remove a pool: it makes no more machines, and goes when the last has ended its jobs
    Remove { name: String },
    /// One machine; with --remove it is removed now, and what it does is lost
    Machine {
        id: String,
        #[arg(long)]
        remove: bool,
    },
    /// The last of what a machine wrote to its console
    Console { id: String },
    /// Keep a machine for a look: it takes no more jobs, and is not removed
    Keep {
        id: String,
        /// How long, seven days at most
        #[arg(long = "for", default_value = "4h", value_parser = humantime::parse_duration, value_name = "TIME")]
        length: Duration,
        /// Let it be as any other again
        #[arg(long)]
        undo: bool,
    },
    /// Try a program that makes machines: every question of the protocol, with a machine that is removed again
    Try {
        program: PathBuf,
        /// What a pool would hand to it, as `KEY=VALUE`
        #[arg(long = "setting", value_name = "KEY=VALUE")]
        settings: Vec<String>,
    },
    /// Print what such a program is asked and answers, as JSON Schema
    Schema,
}

/// What `pool schema` prints.
const SCHEMA: &str = include_str!("../../../../docs/pool-program.schema.json");

pub(super) async fn pool(command: PoolCommand, global: &Global) -> Done {
    let json = global.json;
    let api = || Api::new(global);
    match command {
        PoolCommand::List => list(&api()?, json).await,
        PoolCommand::Show { name } => show(&api()?, &name, json).await,
        PoolCommand::Set { name, options } => set(&api()?, &name, *options).await,
        PoolCommand::Remove { name } => {
            let api = api()?;
            api.send(api.request(Method::DELETE, &format!("pools/{name}"))).await?;
            out::print(format!("pool {name} makes no more machines; it goes when the last of them has"));
            OK
        }
        PoolCommand::Machine { id, remove: true } => {
            let api = api()?;
            api.send(api.request(Method::DELETE, &format!("machines/{id}"))).await?;
            out::print(format!("machine {id} is being removed"));
            OK
        }
        PoolCommand::Machine { id, remove: false } => machine(&api()?, &id, json).await,
        PoolCommand::Console { id } => console(&api()?, &id, json).await,
        PoolCommand::Keep { id, length, undo } => keep(&api()?, &id, (!undo).then_some(length)).await,
        PoolCommand::Try { program, settings } => try_it(program, settings).await,
        PoolCommand::Schema => {
            out::print(SCHEMA.trim_end());
            OK
        }
    }
}

async fn list(api: &Api, json: bool) -> Done {
    let pools: Vec<PoolView> = api.get("pools").await?;
    if json {
        out::json(&pools);
        return OK;
    }
    let head = ["pool", "provider", "most", "coming", "waiting", "busy", "leaving", "last day", "cost", "why"].map(str::to_owned).to_vec();
    let row = |pool: &PoolView| {
        let settings = &pool.settings;
        let least = settings.least.filter(|least| *least > 0).map(|least| format!("{least} to ")).unwrap_or_default();
        let day = format!("{} made, {} jobs", pool.made_day, pool.jobs_day);
        let numbers = [pool.coming, pool.waiting, pool.busy, pool.leaving].map(|count| count.to_string());
        let first = [pool.name.clone(), settings.provider.word().to_owned(), format!("{least}{}", settings.most)];
        first.into_iter().chain(numbers).chain([day, money(pool.cost_day), pool.why.clone()]).collect()
    };
    let rows: Vec<Vec<String>> = std::iter::once(head).chain(pools.iter().map(row)).collect();
    table(&rows, "no pool is set; `ordotaxis pool set NAME --provider process --most 2` makes one of processes of the service's machine");
    OK
}

async fn show(api: &Api, name: &str, json: bool) -> Done {
    let pools: Vec<PoolView> = api.get("pools").await?;
    let machines: Vec<MachineView> = api.get("machines").await?;
    let names: Vec<&str> = pools.iter().map(|pool| pool.name.as_str()).collect();
    let pool = pools.iter().find(|pool| pool.name == name).ok_or_else(|| {
        let there = if names.is_empty() { "there is none".to_owned() } else { format!("there are: {}", names.join(", ")) };
        Failure::new(2, format!("there is no pool {name}; {there}"), "")
    })?;
    let own: Vec<&MachineView> = machines.iter().filter(|machine| machine.pool == name).collect();
    if json {
        out::json(&serde_json::json!({ "pool": pool, "machines": own }));
        return OK;
    }
    out::print(format!("{}: {}", out::bold(&pool.name), pool.why));
    out::print(format!("  set by {}", pool.set_by));
    let text = toml::to_string(&pool.settings).unwrap_or_default();
    text.lines().filter(|line| !line.is_empty()).for_each(|line| out::print(format!("  {line}")));
    out::print("");
    machines_table(&own);
    OK
}

fn machines_table(machines: &[&MachineView]) {
    let head = ["machine", "stage", "since", "jobs", "doing", "cost", "why"].map(str::to_owned).to_vec();
    let row = |machine: &&MachineView| {
        let doing: Vec<String> = machine.now.iter().map(|doing| format!("{} {}", doing.run, doing.job)).collect();
        let why = match (machine.kept_until, machine.words.is_empty()) {
            (Some(until), _) => format!("{}, until {}", machine.why, out::moment(until)),
            (None, false) if machine.stage != Stage::Gone => format!("{}; {}", machine.why, machine.words),
            _ => machine.why.clone(),
        };
        let since = words::age(Timestamp::now().as_millisecond() - machine.since.as_millisecond());
        vec![
            machine.id.clone(),
            machine.stage.word().to_owned(),
            since,
            machine.jobs.to_string(),
            doing.join(", "),
            money(machine.cost),
            why,
        ]
    };
    let rows: Vec<Vec<String>> = std::iter::once(head).chain(machines.iter().map(row)).collect();
    table(&rows, "it has no machine, and had none within a day");
}

fn money(cost: Option<f64>) -> String {
    cost.map(|cost| format!("{cost:.4}")).unwrap_or_default()
}

async fn set(api: &Api, name: &str, options: SetOptions) -> Done {
    let pools: Vec<PoolView> = api.get("pools").await?;
    let known = pools.into_iter().find(|pool| pool.name == name && !pool.ended).map(|pool| pool.settings);
    let settings = settings(options, known)?;
    api.send(api.request(Method::PUT, &format!("pools/{name}")).json(&settings)).await?;
    out::print(format!("pool {name} makes at most {} machines by {}", settings.most, settings.provider.word()));
    OK
}

async fn machine(api: &Api, id: &str, json: bool) -> Done {
    let machine: MachineView = api.get(&format!("machines/{id}")).await?;
    if json {
        out::json(&machine);
        return OK;
    }
    out::print(format!(
        "{} of pool {}: {} since {}",
        out::bold(&machine.id),
        machine.pool,
        machine.stage.word(),
        out::moment(machine.since)
    ));
    out::print(format!("  {}", machine.why));
    let size = Capacity { cores: machine.cores, memory_mib: machine.memory_mib, gpus: machine.gpus };
    let line = |what: &str, text: String| if text.is_empty() { None } else { Some(format!("  {what:<12}{text}")) };
    let moment = |at: Option<Timestamp>| at.map(out::moment).unwrap_or_default();
    let doing: Vec<String> = machine.now.iter().map(|doing| format!("{} {}", doing.run, doing.job)).collect();
    let lines = [
        line("size", size.words()),
        line("wanted", out::moment(machine.wanted_at)),
        line("made", moment(machine.made_at)),
        line("registered", moment(machine.registered_at)),
        line("gone", moment(machine.gone_at)),
        line("kept until", moment(machine.kept_until)),
        line("jobs", machine.jobs.to_string()),
        line("doing", doing.join(", ")),
        line("cost", money(machine.cost)),
        line("its provider", machine.words.clone()),
    ];
    lines.into_iter().flatten().for_each(out::print);
    OK
}

async fn console(api: &Api, id: &str, json: bool) -> Done {
    let console: ConsoleView = api.get(&format!("machines/{id}/console")).await?;
    if json {
        out::json(&console);
    } else {
        // What a machine wrote is not to speak to this terminal.
        let plain: String = console.text.chars().filter(|c| !c.is_control() || matches!(c, '\n' | '\t')).collect();
        out::print(plain.trim_end());
    }
    OK
}

async fn keep(api: &Api, id: &str, length: Option<Duration>) -> Done {
    let for_ms = length.map(|length| i64::try_from(length.as_millis()).unwrap_or(i64::MAX));
    api.send(api.request(Method::PUT, &format!("machines/{id}/kept")).json(&KeepMachine { for_ms })).await?;
    out::print(match length {
        Some(length) => format!("machine {id} takes no more jobs, and is kept for {}", humantime::format_duration(length)),
        None => format!("machine {id} is as any other again"),
    });
    OK
}

async fn try_it(program: PathBuf, settings: Vec<String>) -> Done {
    let wrong = |text: &str| Failure::new(2, format!("`{text}` is no setting"), "write KEY=VALUE");
    let mut map = serde_json::Map::new();
    for text in &settings {
        let (key, value) = text.split_once('=').ok_or_else(|| wrong(text))?;
        map.insert(key.to_owned(), value.into());
    }
    let path = program
        .canonicalize()
        .map_err(|error| Failure::new(2, format!("{} cannot be tried: {error}", program.display()), "name a program that can be run"))?;
    let done = ordotaxis_service::try_program(&path, map, |line| out::print(format!("good  {line}"))).await;
    done.map_err(|error| Failure::new(1, error.to_string(), "`ordotaxis pool schema` says what is asked and answered"))?;
    out::print(format!("{} makes and removes machines as it should", program.display()));
    OK
}
