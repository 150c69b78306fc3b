//! Reads a whole file: the tables that stand outside jobs, then each job.

use super::diagnostic::{Code, Diagnostic};
use super::pipeline::{At, Defaults, Pipeline, Span, Starts};
use super::reader::{Reader, Value};
use super::{FILE_LIMIT, JOB_LIMIT, keys};
use crate::order;
use toml::de::{DeTable, DeValue};

/// Reads a file's text. The pipeline holds what could be read; it must not run when a diagnostic is an error.
pub fn read(text: &str) -> (Pipeline, Vec<Diagnostic>) {
    if text.len() > FILE_LIMIT {
        let message = format!("the file is {} bytes long; at most {FILE_LIMIT} are read", text.len());
        let hint = "split it: each file in the folder `ordotaxis` is a pipeline of its own";
        return (Pipeline::default(), vec![Diagnostic::error(Code::Limit, 0..0, message).hint(hint)]);
    }
    let mut reader = Reader { text, diagnostics: Vec::new() };
    let (document, errors) = DeTable::parse_recoverable(text);
    for error in errors {
        let span = error.span().unwrap_or(0..0);
        reader.error(Code::Syntax, span, error.message().trim_end_matches('.').to_owned());
    }
    let pipeline = reader.file(document.get_ref());
    (pipeline, reader.diagnostics)
}

impl Reader<'_> {
    fn file(&mut self, table: &DeTable<'_>) -> Pipeline {
        let mut pipeline = Pipeline::default();
        self.check_keys(table, keys::FILE, "the file");
        if !table.contains_key("language") && self.diagnostics.is_empty() {
            self.note(
                Diagnostic::error(Code::MissingKey, 0..0, "the file does not say which language version it is written in")
                    .hint("write `language = 1` as its first line"),
            );
        }
        for (key, value) in table {
            let name: &str = key.get_ref();
            match name {
                "language" => self.language(value),
                "title" => pipeline.title = self.string(value, "`title`").map(|title| title.value),
                "order" => pipeline.order = self.order(value),
                "starts" => pipeline.starts = self.starts(value),
                "env" => pipeline.env = self.env(value, "`[env]`"),
                "defaults" => pipeline.defaults = self.defaults(value),
                "job" => self.jobs(value, &mut pipeline),
                _ => {}
            }
        }
        if pipeline.jobs.is_empty() && self.diagnostics.is_empty() {
            self.note(
                Diagnostic::error(Code::NoJobs, 0..0, "the file has no job")
                    .hint("add one, such as:  [job.test.unit]  and  steps = [\"make test\"]"),
            );
        }
        pipeline
    }

    fn language(&mut self, value: &Value<'_>) {
        let is_one = matches!(value.get_ref(), DeValue::Integer(number) if number.as_str() == "1" && number.radix() == 10);
        if !is_one {
            self.note(Diagnostic::error(Code::BadValue, value.span(), "this version knows language 1 only").hint("write `language = 1`"));
        }
    }

    fn order(&mut self, value: &Value<'_>) -> Vec<order::Line> {
        let lines = match value.get_ref() {
            DeValue::String(_) => self.string(value, "`order`").into_iter().collect(),
            _ => self.strings(value, "`order` (a line or a list of lines)").unwrap_or_default(),
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

    /// Turns a span inside a string's value into one of the file. A string with escapes is pointed at as a whole.
    fn inside(&self, string: &At<String>) -> impl Fn(Span) -> Span + use<> {
        let quoted = self.text.get(string.span.clone()).unwrap_or_default();
        let plain = quoted.get(1..quoted.len().saturating_sub(1)) == Some(string.value.as_str());
        let whole = string.span.clone();
        move |span: Span| if plain { whole.start + 1 + span.start..whole.start + 1 + span.end } else { whole.clone() }
    }

    fn starts(&mut self, value: &Value<'_>) -> Starts {
        let mut starts = Starts { push: Some(Vec::new()), by_hand: true };
        let Some(table) = self.table(value, "`[starts]`") else { return starts };
        self.check_keys(table, keys::STARTS, "`[starts]`");
        for (key, value) in table {
            let name: &str = key.get_ref();
            match name {
                "push" => starts.push = self.globs(value, "`push`"),
                "by_hand" => starts.by_hand = self.boolean(value, "`by_hand`").unwrap_or(true),
                _ => {}
            }
        }
        starts
    }

    fn globs(&mut self, value: &Value<'_>, what: &str) -> Option<Vec<String>> {
        let list = self.strings(value, what)?;
        for glob in &list {
            if let Err(error) = globset::Glob::new(glob.value.trim_start_matches('!')) {
                let message = format!("`{}` is not a glob: {}", glob.value, error.kind());
                self.error(Code::BadValue, glob.span.clone(), message);
            }
        }
        Some(list.into_iter().map(|glob| glob.value).collect())
    }

    fn defaults(&mut self, value: &Value<'_>) -> Defaults {
        let mut defaults = Defaults::default();
        let Some(table) = self.table(value, "`[defaults]`") else { return defaults };
        self.check_keys(table, keys::DEFAULTS, "`[defaults]`");
        for (key, value) in table {
            let name: &str = key.get_ref();
            match name {
                "where" => defaults.labels = self.labels(value),
                "env" => defaults.env = self.env(value, "`env`"),
                "timeout" => defaults.timeout_ms = self.duration_ms(value, "`timeout`"),
                "may_fail" => defaults.may_fail = self.boolean(value, "`may_fail`"),
                "eager" => defaults.eager = self.boolean(value, "`eager`"),
                "checkout" => defaults.checkout = self.checkout(value),
                _ => {}
            }
        }
        defaults
    }

    fn jobs(&mut self, value: &Value<'_>, pipeline: &mut Pipeline) {
        let Some(stages) = self.table(value, "`job`") else { return };
        for (stage, value) in stages {
            let stage_name: &str = stage.get_ref();
            if !self.name(stage_name, stage.span(), "a stage") {
                continue;
            }
            let Some(jobs) = self.table(value, &format!("`job.{stage_name}`")) else { continue };
            for (name, value) in jobs {
                let job_name: &str = name.get_ref();
                if jobs_misplaced(value) {
                    self.one_keyword_too_high(stage_name, job_name, name.span());
                } else if self.name(job_name, name.span(), "a job") {
                    pipeline.jobs.extend(self.job(stage_name, job_name, name.span(), value));
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
        let message = format!("`{key}` stands in `[job.{stage}]`, which is a stage; a job's table is `[job.STAGE.NAME]`");
        self.note(Diagnostic::error(Code::WrongType, span, message).hint(format!("write `[job.{stage}.NAME]` with a name for the job")));
    }
}

fn jobs_misplaced(value: &Value<'_>) -> bool {
    !matches!(value.get_ref(), DeValue::Table(_))
}
