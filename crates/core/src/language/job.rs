//! Reads what a job, a pattern or `[defaults]` says.

use super::capacity::Capacity;
use super::extras::{Cache, Extras, Fact, Helper, Placed, Publish, Releases, Retry, Split, Upload};
use super::pipeline::{Body, Cell, CellSettings, CellsOf, CheckoutLine, Depth, GitFiles, GiveLine, Matrix, Take, Upon, WhenNone};
use super::place::At;
use super::reader::{self, Reader, Value};
use super::step::{Step, StepLine};
use crate::language::diagnostic::{Code, Diagnostic};
use indexmap::IndexMap;
use toml::de::{DeTable, DeValue};

impl Reader<'_> {
    /// The keys that jobs and patterns share.
    pub(super) fn body(&mut self, table: &DeTable<'_>) -> Body {
        let mut body = Body::default();
        for (key, value) in table {
            let key: &str = key.get_ref();
            match key {
                "steps" => body.steps = Some(self.steps(value)),
                "prepare" => body.prepare = Some(self.steps(value)),
                "where" => body.labels = Some(reader::templates(value)),
                "takes" => body.takes = Some(self.takes(value)),
                "gives" => body.gives = Some(gives(value)),
                "after" => body.after = Some(reader::texts(value)),
                "eager" => body.eager = reader::flag(value),
                "env" => body.env = reader::env(value),
                "timeout" => body.timeout_ms = reader::duration(value),
                "may_fail" => body.may_fail = reader::flag(value),
                "checkout" => body.checkout = checkout(value),
                "if" => body.condition = reader::text(value),
                "upon" => body.upon = Some(upon(value)),
                "cell" => body.settings = reader::items(value).iter().filter_map(settings).collect(),
                "each" | "except" | "also" => matrix(body.matrix.get_or_insert_default(), key, value),
                "at_once" => body.at_once = reader::number(value).and_then(|number| usize::try_from(number).ok()),
                "keep_going" => body.keep_going = reader::flag(value),
                "follows" => body.follows = reader::text(value),
                "given" => body.given = reader::env(value),
                "rollout" => body.extras.get_or_insert_default().rollout = self.rollout(value),
                "inputs" => {}
                _ => extra(body.extras.get_or_insert_default(), key, value),
            }
        }
        body
    }

    fn steps(&mut self, value: &Value<'_>) -> Vec<StepLine> {
        if matches!(value.get_ref(), DeValue::Array(list) if list.is_empty()) {
            self.error(Code::BadValue, value.span(), "`steps` is empty: a job runs at least one");
        }
        reader::items(value).iter().filter_map(step).collect()
    }

    fn takes(&mut self, value: &Value<'_>) -> Vec<At<Take>> {
        reader::items(value).iter().filter_map(|take| self.take(take)).collect()
    }

    /// Text or table: what is taken, where it is put, and of which cells.
    fn take(&mut self, value: &Value<'_>) -> Option<At<Take>> {
        let (from, to, cells) = match value.get_ref() {
            DeValue::Table(table) => {
                let cells = table.get("cells").map(cells_of).unwrap_or_default();
                (table.get("from").and_then(reader::text)?, table.get("to").and_then(reader::template), cells)
            }
            _ => (reader::text(value)?, None, CellsOf::All),
        };
        let Some((job, artifact)) = from.value.split_once('/') else {
            self.note(
                Diagnostic::error(Code::BadValue, from.span, format!("`{}` names no artifact", from.value))
                    .hint("write STAGE.NAME/ARTIFACT; to wait without taking anything, use `after`"),
            );
            return None;
        };
        let take = Take { job: job.to_owned(), artifact: artifact.to_owned(), to, cells };
        Some(At { value: take, span: from.span })
    }
}

fn cells_of(value: &Value<'_>) -> CellsOf {
    match value.get_ref() {
        DeValue::String(word) if word == "same" => CellsOf::Same,
        DeValue::Table(table) => CellsOf::These(cell(table)),
        _ => CellsOf::All,
    }
}

fn cell(table: &DeTable<'_>) -> Cell {
    table.iter().filter_map(|(axis, value)| Some((axis.get_ref().to_string(), reader::scalar(value)?))).collect()
}

/// Text or table.
fn step(value: &Value<'_>) -> Option<StepLine> {
    let Some(table) = reader::table(value) else {
        return reader::text(value).map(plain_step);
    };
    let mut step = plain_step(reader::text(table.get("run")?)?);
    for (key, value) in table {
        match key.get_ref().as_ref() {
            "name" => step.name = reader::string(value)?,
            "if" => step.condition = reader::text(value),
            "env" => step.env = reader::env(value),
            "dir" => step.dir = reader::template(value),
            "shell" => step.shell = reader::string(value),
            "timeout" => step.timeout_ms = reader::duration(value),
            "may_fail" => step.may_fail = reader::flag(value).unwrap_or_default(),
            _ => {}
        }
    }
    Some(step)
}

/// A step that is only a command; its first line is its name.
fn plain_step(run: At<String>) -> StepLine {
    let name = run.value.trim().lines().next().unwrap_or_default().chars().take(60).collect();
    StepLine {
        name,
        run: run.value,
        span: run.span,
        condition: None,
        env: Default::default(),
        dir: None,
        shell: None,
        timeout_ms: None,
        may_fail: false,
    }
}

fn gives(value: &Value<'_>) -> Vec<GiveLine> {
    let mut gives = Vec::new();
    for (key, value) in reader::table(value).into_iter().flatten() {
        let keep_ms = reader::table(value).and_then(|table| table.get("keep")).and_then(reader::duration);
        let upon = reader::table(value).and_then(|table| table.get("upon")).map(upon).unwrap_or_default();
        let (paths, none) = match reader::table(value) {
            Some(table) => {
                let none = match table.get("none").and_then(reader::string).as_deref() {
                    Some("warn") => WhenNone::Warn,
                    Some("ignore") => WhenNone::Ignore,
                    _ => WhenNone::Fail,
                };
                (table.get("paths").map(reader::templates).unwrap_or_default(), none)
            }
            None => (reader::templates(value), WhenNone::Fail),
        };
        gives.push(GiveLine { artifact: key.get_ref().to_string(), paths, none, keep_ms, upon });
    }
    gives
}

fn checkout(value: &Value<'_>) -> Option<CheckoutLine> {
    match value.get_ref() {
        DeValue::Boolean(false) => Some(CheckoutLine::None),
        DeValue::Table(table) => {
            let flag = |key: &str| table.get(key).and_then(reader::flag).unwrap_or_default();
            let git = GitFiles {
                depth: table.get("depth").and_then(depth).unwrap_or_default(),
                submodules: flag("submodules"),
                lfs: flag("lfs"),
                paths: table.get("paths").map(reader::strings).unwrap_or_default(),
            };
            Some(CheckoutLine::Files { dir: table.get("dir").and_then(reader::template), git })
        }
        _ => Some(CheckoutLine::Files { dir: None, git: GitFiles::default() }),
    }
}

fn depth(value: &Value<'_>) -> Option<Depth> {
    reader::number(value).map(Depth::Commits).or_else(|| reader::string(value)?.parse().ok())
}

fn upon(value: &Value<'_>) -> Vec<Upon> {
    let word = |text: String| Upon::ALL.iter().find(|(word, _)| *word == text).map(|(_, upon)| *upon);
    reader::strings(value).into_iter().filter_map(word).collect()
}

fn matrix(matrix: &mut Matrix, key: &str, value: &Value<'_>) {
    let cells = || -> Vec<At<Cell>> {
        let tables = reader::items(value).iter();
        tables.filter_map(|item| Some(At { value: cell(reader::table(item)?), span: item.span() })).collect()
    };
    match key {
        "except" => matrix.except = cells(),
        "also" => matrix.also = cells(),
        _ => {
            matrix.span = value.span();
            for (axis, values) in reader::table(value).into_iter().flatten() {
                let DeValue::Array(list) = values.get_ref() else { continue };
                let values = list.iter().filter_map(|value| Some(At { value: reader::scalar(value)?, span: value.span() }));
                matrix.each.insert(axis.get_ref().to_string(), values.collect());
            }
        }
    }
}

fn tools(value: &Value<'_>) -> IndexMap<String, Placed> {
    let entries = reader::table(value).into_iter().flatten();
    entries.filter_map(|(tool, wanted)| Some((tool.get_ref().to_string(), Placed(reader::template(wanted)?)))).collect()
}

/// What is otherwise for some cells.
fn settings(value: &Value<'_>) -> Option<CellSettings> {
    let table = reader::table(value)?;
    let mut asks = Capacity::default();
    for key in ["cores", "memory", "gpus"] {
        if let Some(value) = table.get(key) {
            capacity(&mut asks, key, value);
        }
    }
    Some(CellSettings {
        span: value.span(),
        of: cell(reader::table(table.get("for")?)?),
        labels: table.get("where").map(reader::templates),
        tools: table.get("tools").map(tools).unwrap_or_default(),
        image: table.get("image").and_then(reader::template).map(Placed),
        network: table.get("network").and_then(reader::flag),
        capacity: asks,
        timeout_ms: table.get("timeout").and_then(reader::duration),
        may_fail: table.get("may_fail").and_then(reader::flag),
        env: table.get("env").map(reader::env).unwrap_or_default(),
    })
}

fn extra(extras: &mut Extras, key: &str, value: &Value<'_>) {
    let placed = || reader::template(value).map(Placed);
    match key {
        "tools" => {
            extras.tools = tools(value);
        }
        "image" => extras.image = placed(),
        "network" => extras.network = reader::flag(value),
        "cores" | "memory" | "gpus" => capacity(&mut extras.capacity, key, value),
        "checkpoint" => extras.checkpoint = plain_steps(value),
        "facts" => extras.facts = reader::items(value).iter().filter_map(fact).collect(),
        "publish" => extras.publish = reader::items(value).iter().filter_map(|item| publish(reader::table(item)?)).collect(),
        "by_hand" => extras.by_hand = reader::flag(value).unwrap_or_default(),
        "secrets" => extras.secrets = reader::strings(value),
        "connections" => extras.connections = reader::strings(value),
        "allows" => extras.allows = reader::strings(value),
        "identity" => {
            let entries = reader::table(value).into_iter().flatten();
            extras.identity =
                entries.filter_map(|(name, audience)| Some((name.get_ref().to_string(), reader::string(audience)?))).collect();
        }
        "deploys" => extras.deploys = placed(),
        "closes" => extras.closes = placed(),
        "turn" => extras.turn = placed(),
        "releases" => extras.releases = reader::table(value).and_then(releases),
        "split" => extras.split = reader::table(value).map(split),
        "retry" => extras.retry = reader::table(value).map(retry),
        "cache" => extras.cache = reader::items(value).iter().filter_map(|item| cache(reader::table(item)?)).collect(),
        "reuse" => extras.reuse = reader::table(value).and_then(|table| table.get("inputs")).map(reader::strings),
        "reports" => {
            let entries = reader::table(value).into_iter().flatten();
            extras.reports = entries.map(|(kind, globs)| (kind.get_ref().to_string(), reader::strings(globs))).collect();
        }
        "beside" => extras.beside = reader::items(value).iter().filter_map(|item| helper(reader::table(item)?)).collect(),
        "afterwards" => {
            let entries = reader::table(value).into_iter().flatten();
            extras.afterwards = entries.map(|(when, list)| (when.get_ref().to_string(), plain_steps(list))).collect();
        }
        _ => {}
    }
}

fn capacity(capacity: &mut Capacity, key: &str, value: &Value<'_>) {
    let read = if key == "memory" { reader::size(value) } else { reader::number(value) };
    let place = match key {
        "cores" => &mut capacity.cores,
        "memory" => &mut capacity.memory_mib,
        _ => &mut capacity.gpus,
    };
    *place = read.unwrap_or_default();
}

fn fact(value: &Value<'_>) -> Option<Fact> {
    let Some(table) = reader::table(value) else { return reader::string(value).map(|name| Fact { name, number: false }) };
    Some(Fact { name: reader::string(table.get("name")?)?, number: table.get("number").and_then(reader::flag).unwrap_or_default() })
}

fn publish(table: &DeTable<'_>) -> Option<Publish> {
    let text = |key: &str| table.get(key).and_then(reader::string);
    Some(Publish {
        artifact: text("artifact")?,
        to: Placed(table.get("to").and_then(reader::template)?),
        form: text("as").unwrap_or_else(|| "artifact".into()),
        with: text("with"),
        fact: text("fact"),
        upload: ["form", "file", "digest"].iter().any(|key| table.contains_key(*key)).then(|| upload(table)),
    })
}

/// Any of its keys makes it a form; one without fields of its own has the file alone.
fn upload(table: &DeTable<'_>) -> Upload {
    let text = |key: &str| table.get(key).and_then(reader::string);
    let fields = table
        .get("form")
        .and_then(reader::table)
        .into_iter()
        .flatten()
        .filter_map(|(name, value)| Some((name.get_ref().to_string(), Placed(reader::template(value)?))));
    Upload { fields: fields.collect(), file: text("file").unwrap_or_else(|| "file".into()), digest: text("digest") }
}

/// Steps that have neither conditions nor variables of their own.
pub(super) fn plain_steps(list: &Value<'_>) -> Vec<Step> {
    reader::items(list).iter().filter_map(step).map(plain).collect()
}

/// A step that has neither condition nor variables of its own.
fn plain(step: StepLine) -> Step {
    let StepLine { name, run, shell, timeout_ms, may_fail, .. } = step;
    Step { name, run, env: Default::default(), dir: None, shell, timeout_ms, may_fail, condition: None }
}

fn releases(table: &DeTable<'_>) -> Option<Releases> {
    let text = |key: &str| table.get(key).and_then(reader::string);
    Some(Releases {
        version: Placed(table.get("version").and_then(reader::template)?),
        notes: text("notes"),
        title: text("title"),
        assets: table.get("assets").map(reader::strings).unwrap_or_default(),
        tag: text("tag"),
        draft: table.get("draft").and_then(reader::flag).unwrap_or_default(),
    })
}

fn split(table: &DeTable<'_>) -> Split {
    let by = table.get("by").and_then(reader::string).unwrap_or_else(|| "time".into());
    Split { into: table.get("into").and_then(reader::number).unwrap_or(2), by }
}

fn retry(table: &DeTable<'_>) -> Retry {
    let on = table.get("on").map_or_else(|| vec!["failed".into(), "timeout".into(), "lost".into()], reader::strings);
    Retry { times: table.get("times").and_then(reader::number).unwrap_or(1), on }
}

fn cache(table: &DeTable<'_>) -> Option<Cache> {
    let placed = |key: &str| table.get(key).map(reader::templates).unwrap_or_default().into_iter().map(Placed).collect();
    Some(Cache {
        paths: placed("paths"),
        key: Placed(table.get("key").and_then(reader::template)?),
        otherwise: placed("else"),
        save: table.get("save").and_then(reader::string).unwrap_or_else(|| "passed".into()),
    })
}

fn helper(table: &DeTable<'_>) -> Option<Helper> {
    let text = |key: &str| table.get(key).and_then(reader::string);
    Some(Helper { name: text("name")?, run: text("run")?, ready: text("ready"), within_ms: table.get("within").and_then(reader::duration) })
}
