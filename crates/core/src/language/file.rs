//! Reads a whole file: the tables that stand outside jobs, then each job.

use super::diagnostic::{Code, Diagnostic};
use super::document;
use super::pipeline::{Borrow, Input, Job, JobId, Pattern, Pipeline, StageRules, Starts};
use super::place::{At, Span};
use super::reader::{self, Reader, Value};
use super::shape::Place;
use super::{FILE_LIMIT, JOB_LIMIT, keys};
use crate::order;
use indexmap::IndexMap;
use std::str::FromStr;
use toml::de::{DeTable, DeValue};

/// Reads a file's text. The pipeline holds what could be read; it must not run when a diagnostic is an error.
pub fn read(text: &str) -> (Pipeline, Vec<Diagnostic>) {
    if text.len() > FILE_LIMIT {
        let message = format!("the file is {} bytes long; at most {FILE_LIMIT} are read", text.len());
        let hint = "split it: each file in the folder `ordotaxis` is a pipeline of its own";
        return (Pipeline::default(), vec![Diagnostic::error(Code::Limit, 0..0, message).hint(hint)]);
    }
    read_any_length(text)
}

/// As [`read`], for a text whose length the caller answers for.
pub fn read_any_length(text: &str) -> (Pipeline, Vec<Diagnostic>) {
    document::read(text, |reader, table| reader.file(table))
}

impl Reader<'_> {
    fn file(&mut self, table: &DeTable<'_>) -> Pipeline {
        let mut pipeline = Pipeline::default();
        if !table.contains_key("language") && self.diagnostics.is_empty() {
            self.note(
                Diagnostic::error(Code::MissingKey, 0..0, "the file does not say which language version it is written in")
                    .hint("write `language = 1` as its first line"),
            );
        }
        for (key, value) in table {
            let name: &str = key.get_ref();
            match keys::FILE.iter().find(|known| known.name == name) {
                None => self.unknown_file_key(name, key.span(), value),
                Some(_) if name == "job" => self.jobs(value, &mut pipeline),
                Some(_) if name == "language" => self.language(value),
                Some(known) => {
                    self.fits(value, known.shape, Place::Fixed(name));
                    self.file_key(name, value, &mut pipeline);
                }
            }
        }
        if pipeline.jobs.is_empty() && self.diagnostics.is_empty() && pipeline.patterns.is_empty() {
            self.note(
                Diagnostic::error(Code::NoJobs, 0..0, "the file has no job")
                    .hint("add one, such as:  [job.test.unit]  and  steps = [\"make test\"]"),
            );
        }
        pipeline
    }

    /// One key at the top of the file.
    fn file_key(&mut self, name: &str, value: &Value<'_>, pipeline: &mut Pipeline) {
        match name {
            "title" => pipeline.title = reader::string(value),
            "order" => pipeline.order = self.order(value),
            "keep_going" => pipeline.stops_at_failure = reader::flag(value) == Some(false),
            "starts" => pipeline.starts = starts(value),
            "env" => pipeline.env = reader::env(value),
            "defaults" => pipeline.defaults = reader::table(value).map(|table| self.body(table)).unwrap_or_default(),
            "stage" => pipeline.stages = named(value, stage),
            "borrow" => pipeline.borrows = named(value, borrow),
            "pattern" => {
                for (key, value) in reader::table(value).into_iter().flatten() {
                    let Some(table) = reader::table(value) else { continue };
                    let inputs = table.get("inputs").map(|inputs| named(inputs, input)).unwrap_or_default();
                    let pattern = Pattern { span: key.span(), inputs, body: self.body(table) };
                    pipeline.patterns.insert(key.get_ref().to_string(), pattern);
                }
            }
            _ => {}
        }
    }

    /// A key that stands outside of any job though it belongs into one is the commonest of these.
    fn unknown_file_key(&mut self, name: &str, span: Span, value: &Value<'_>) {
        let diagnostic = Diagnostic::error(Code::UnknownKey, span, format!("the file has no key `{name}`"));
        let own = super::nearest(name, keys::FILE.iter().map(|key| key.name));
        self.note(match own {
            Some(near) => diagnostic.hint(format!("did you mean `{near}`?")),
            None if keys::JOB.iter().any(|key| key.name == name) => {
                diagnostic.hint(format!("`{name}` belongs to a job: put it below [job.STAGE.NAME], or below [defaults] for all"))
            }
            None if matches!(value.get_ref(), DeValue::Table(_)) => {
                diagnostic.hint(format!("a job's table is [job.STAGE.NAME], a pattern's [pattern.{name}]"))
            }
            None => diagnostic,
        });
    }

    fn language(&mut self, value: &Value<'_>) {
        let is_one = matches!(value.get_ref(), DeValue::Integer(number) if number.as_str() == "1" && number.radix() == 10);
        if !is_one {
            self.note(Diagnostic::error(Code::BadValue, value.span(), "this version knows language 1 only").hint("write `language = 1`"));
        }
    }

    fn order(&mut self, value: &Value<'_>) -> Vec<order::Line> {
        let lines = match reader::text(value) {
            Some(line) => vec![line],
            None => reader::texts(value),
        };
        lines.into_iter().filter_map(|line| self.order_line(&line)).collect()
    }

    fn order_line(&mut self, line: &At<String>) -> Option<order::Line> {
        let inside = self.inside(line);
        match order::parse(&line.value) {
            Ok(parsed) => Some(parsed.placed(&inside)),
            Err(mistake) => {
                let code = if mistake.too_deep { Code::Limit } else { Code::OrderSyntax };
                let hint = "a line reads like \"check, build > test > pack\": `>` for after, `,` for side by side";
                self.note(Diagnostic::error(code, inside(mistake.span), mistake.message).hint(hint));
                None
            }
        }
    }

    fn jobs(&mut self, value: &Value<'_>, pipeline: &mut Pipeline) {
        let Some(stages) = reader::table(value) else {
            return self.error(Code::WrongType, value.span(), "`job` must be a table: [job.STAGE.NAME]");
        };
        for (stage, value) in stages {
            let stage_name: &str = stage.get_ref();
            if !self.name(stage_name, stage.span(), "a stage") {
                continue;
            }
            let Some(jobs) = reader::table(value) else {
                self.error(Code::WrongType, value.span(), format!("`job.{stage_name}` must be a table: [job.{stage_name}.NAME]"));
                continue;
            };
            for (name, value) in jobs {
                let job_name: &str = name.get_ref();
                match reader::table(value) {
                    None => self.one_keyword_too_high(stage_name, job_name, name.span()),
                    Some(table) if misplaced_table(job_name, table) => self.one_keyword_too_high(stage_name, job_name, name.span()),
                    Some(table) if self.name(job_name, name.span(), "a job") => {
                        let id = JobId::new(stage_name, job_name);
                        self.fits_table(table, keys::JOB, Place::Named("job ", id.as_str()), name.span());
                        let body = self.body(table);
                        pipeline.jobs.push(Job { stage: stage_name.to_owned(), name: job_name.to_owned(), span: name.span(), body });
                    }
                    Some(_) => {}
                }
                if pipeline.jobs.len() > JOB_LIMIT {
                    let message = format!("the file has more than {JOB_LIMIT} jobs");
                    return self.error(Code::Limit, name.span(), message);
                }
            }
        }
    }

    /// `[job.test]` with `steps`: the commonest slip, a job without its stage.
    fn one_keyword_too_high(&mut self, stage: &str, key: &str, span: Span) {
        let message = format!("`{key}` is in `[job.{stage}]`, which is a stage; a job's table is `[job.STAGE.NAME]`");
        self.note(Diagnostic::error(Code::WrongType, span, message).hint(format!("write `[job.{stage}.NAME]` with a name for the job")));
    }
}

/// A table that belongs to a job: `[job.test.env]` is a job without a name, unless it runs something itself.
fn misplaced_table(name: &str, table: &DeTable<'_>) -> bool {
    !table.contains_key("steps")
        && !table.contains_key("follows")
        && matches!(name, "env" | "gives" | "each" | "given" | "retry" | "afterwards" | "reports" | "reuse" | "checkout")
}

fn named<T>(value: &Value<'_>, read: impl Fn(&DeTable<'_>, Span) -> T) -> IndexMap<String, T> {
    let entries = reader::table(value).into_iter().flatten();
    entries.filter_map(|(key, value)| Some((key.get_ref().to_string(), read(reader::table(value)?, key.span())))).collect()
}

fn input(table: &DeTable<'_>, span: Span) -> Input {
    let text = |key: &str| table.get(key).and_then(reader::string);
    Input { span, choices: table.get("choices").map(reader::strings), default: text("default"), says: text("says") }
}

fn stage(table: &DeTable<'_>, span: Span) -> StageRules {
    StageRules {
        span,
        condition: table.get("if").and_then(reader::text),
        labels: table.get("where").map(reader::templates),
        env: table.get("env").map(reader::env).unwrap_or_default(),
        gate: table.get("gate").map(super::gate::rules).unwrap_or_default(),
    }
}

fn borrow(table: &DeTable<'_>, span: Span) -> At<Borrow> {
    let text = |key: &str| table.get(key).and_then(reader::string).unwrap_or_default();
    At { value: Borrow { git: text("git"), at: text("at"), file: text("file") }, span }
}

fn starts(value: &Value<'_>) -> Starts {
    let mut starts = Starts { push: Some(Vec::new()), ..Starts::default() };
    for (key, value) in reader::table(value).into_iter().flatten() {
        match key.get_ref().as_ref() {
            "push" => starts.push = Some(reader::strings(value)),
            "proposal" => starts.proposal = reader::strings(value),
            "tag" => starts.tag = reader::strings(value),
            "schedule" => {
                let lines = reader::strings(value).into_iter();
                starts.schedule = lines.filter_map(|line| Some((line.clone(), super::schedule::Schedule::from_str(&line).ok()?))).collect();
            }
            "pipeline" => starts.pipeline = reader::texts(value),
            "by_hand" => starts.by_hand = reader::flag(value).unwrap_or(true),
            "inputs" => starts.inputs = named(value, input),
            "overtake" => starts.overtake = reader::flag(value).unwrap_or(true),
            _ => {}
        }
    }
    starts
}
