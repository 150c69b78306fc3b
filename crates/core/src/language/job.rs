//! Reads one job's table: steps, what it takes and gives, limits.

use super::diagnostic::{Code, Diagnostic, nearest};
use super::keys;
use super::pipeline::{At, Checkout, Give, Job, Span, Step, Take, WhenNone};
use super::reader::{Reader, Value};
use toml::de::{DeTable, DeValue};

impl Reader<'_> {
    pub(super) fn job(&mut self, stage: &str, name: &str, span: Span, value: &Value<'_>) -> Option<Job> {
        let place = format!("job {stage}.{name}");
        let table = self.table(value, &place)?;
        self.check_keys(table, keys::JOB, &place);
        if !table.contains_key("steps") && !table.contains_key("follows") && !misspells_steps(table) {
            self.note(
                Diagnostic::error(Code::MissingKey, span.clone(), format!("{place} has no `steps`"))
                    .hint("say what it runs, such as `steps = [\"make test\"]`"),
            );
        }
        let mut job = blank(stage, name, span);
        for (key, value) in table {
            let key: &str = key.get_ref();
            self.job_key(&mut job, key, value);
        }
        Some(job)
    }

    fn job_key(&mut self, job: &mut Job, key: &str, value: &Value<'_>) {
        match key {
            "steps" => job.steps = self.steps(value),
            "where" => job.labels = self.labels(value),
            "takes" => job.takes = self.takes(value),
            "gives" => job.gives = self.gives(value),
            "after" => job.after = self.strings(value, "`after`").unwrap_or_default(),
            "eager" => job.eager = self.boolean(value, "`eager`"),
            "env" => job.env = self.env(value, "`env`"),
            "timeout" => job.timeout_ms = self.duration_ms(value, "`timeout`"),
            "may_fail" => job.may_fail = self.boolean(value, "`may_fail`"),
            "checkout" => job.checkout = self.checkout(value),
            _ => {}
        }
    }

    pub(super) fn labels(&mut self, value: &Value<'_>) -> Option<Vec<String>> {
        Some(self.strings(value, "`where`")?.into_iter().map(|label| label.value).collect())
    }

    pub(super) fn checkout(&mut self, value: &Value<'_>) -> Option<Checkout> {
        match value.get_ref() {
            DeValue::Boolean(true) => Some(Checkout::default()),
            DeValue::Boolean(false) => Some(Checkout::None),
            DeValue::Table(table) => {
                self.check_keys(table, keys::CHECKOUT, "`checkout`");
                let dir = table.get("dir").and_then(|dir| self.string(dir, "`dir`"));
                let dir = dir.and_then(|dir| self.inner_path(dir, "`dir`"));
                Some(Checkout::Files { dir: dir.unwrap_or_else(|| ".".into()) })
            }
            _ => {
                self.error(Code::WrongType, value.span(), "`checkout` must be true, false or a table");
                None
            }
        }
    }

    fn steps(&mut self, value: &Value<'_>) -> Vec<Step> {
        let Some(list) = self.list(value, "`steps`") else { return Vec::new() };
        if list.is_empty() {
            self.error(Code::BadValue, value.span(), "`steps` is empty: a job runs at least one");
        }
        list.iter().filter_map(|step| self.step(step)).collect()
    }

    fn step(&mut self, value: &Value<'_>) -> Option<Step> {
        match value.get_ref() {
            DeValue::String(_) => self.string(value, "a step").map(|run| plain_step(run.value)),
            DeValue::Table(table) => self.step_table(table, value.span()),
            _ => {
                self.error(Code::WrongType, value.span(), "a step must be a command (a string) or a table with `run`");
                None
            }
        }
    }

    fn step_table(&mut self, table: &DeTable<'_>, span: Span) -> Option<Step> {
        self.check_keys(table, keys::STEP, "a step");
        let Some(run) = table.get("run") else {
            self.note(
                Diagnostic::error(Code::MissingKey, span, "this step has no `run`").hint("say its command, such as `run = \"make\"`"),
            );
            return None;
        };
        let mut step = plain_step(self.string(run, "`run`")?.value);
        for (key, value) in table {
            let key: &str = key.get_ref();
            match key {
                "name" => step.name = self.string(value, "`name`")?.value,
                "env" => step.env = self.env(value, "`env`"),
                "dir" => step.dir = self.string(value, "`dir`").and_then(|dir| self.inner_path(dir, "`dir`")),
                "shell" => step.shell = self.shell(value),
                "timeout" => step.timeout_ms = self.duration_ms(value, "`timeout`"),
                "may_fail" => step.may_fail = self.boolean(value, "`may_fail`").unwrap_or_default(),
                _ => {}
            }
        }
        Some(step)
    }

    fn shell(&mut self, value: &Value<'_>) -> Option<String> {
        let shell = self.string(value, "`shell`")?;
        if shell.value.trim().is_empty() {
            self.error(Code::BadValue, shell.span, "`shell` is empty: name a program, such as \"bash -eu\"");
            return None;
        }
        Some(shell.value)
    }

    fn takes(&mut self, value: &Value<'_>) -> Vec<At<Take>> {
        let Some(list) = self.list(value, "`takes`") else { return Vec::new() };
        list.iter().filter_map(|take| self.take(take)).collect()
    }

    fn take(&mut self, value: &Value<'_>) -> Option<At<Take>> {
        let (from, to) = match value.get_ref() {
            DeValue::Table(table) => {
                self.check_keys(table, keys::TAKE, "a take");
                let Some(from) = table.get("from") else {
                    self.error(Code::MissingKey, value.span(), "this take has no `from`");
                    return None;
                };
                let to = table.get("to").and_then(|to| self.string(to, "`to`"));
                (self.string(from, "`from`")?, to.and_then(|to| self.inner_path(to, "`to`")))
            }
            _ => (self.string(value, "a take")?, None),
        };
        let Some((job, artifact)) = from.value.split_once('/') else {
            self.note(
                Diagnostic::error(Code::BadValue, from.span, format!("`{}` names no artifact", from.value))
                    .hint("write STAGE.NAME/ARTIFACT; to wait without taking anything, use `after`"),
            );
            return None;
        };
        let take = Take { job: job.to_owned(), artifact: artifact.to_owned(), to };
        Some(At { value: take, span: from.span })
    }

    fn gives(&mut self, value: &Value<'_>) -> Vec<Give> {
        let Some(table) = self.table(value, "`gives`") else { return Vec::new() };
        let mut gives = Vec::new();
        for (key, value) in table {
            let artifact: &str = key.get_ref();
            if !self.name(artifact, key.span(), "an artifact") {
                continue;
            }
            let (paths, none) = match value.get_ref() {
                DeValue::Table(table) => self.give_table(table, artifact, value.span()),
                _ => (self.strings(value, &format!("`{artifact}`")).unwrap_or_default(), WhenNone::Fail),
            };
            let paths = paths.into_iter().filter_map(|path| self.give_glob(path)).collect();
            gives.push(Give { artifact: artifact.to_owned(), paths, none });
        }
        gives
    }

    fn give_table(&mut self, table: &DeTable<'_>, artifact: &str, span: Span) -> (Vec<At<String>>, WhenNone) {
        self.check_keys(table, keys::GIVE, &format!("artifact `{artifact}`"));
        let paths = match table.get("paths") {
            Some(paths) => self.strings(paths, "`paths`").unwrap_or_default(),
            None => {
                self.error(Code::MissingKey, span, format!("artifact `{artifact}` has no `paths`"));
                Vec::new()
            }
        };
        let none = table.get("none").and_then(|none| self.string(none, "`none`"));
        let none = match none.as_ref().map(|none| none.value.as_str()) {
            None | Some("fail") => WhenNone::Fail,
            Some("warn") => WhenNone::Warn,
            Some("ignore") => WhenNone::Ignore,
            Some(other) => {
                let span = none.as_ref().map_or(0..0, |none| none.span.clone());
                self.note(
                    Diagnostic::error(Code::BadValue, span, format!("`none` cannot be `{other}`"))
                        .hint("one of \"fail\", \"warn\", \"ignore\""),
                );
                WhenNone::Fail
            }
        };
        (paths, none)
    }

    fn give_glob(&mut self, path: At<String>) -> Option<String> {
        if let Err(error) = globset::Glob::new(&path.value) {
            self.error(Code::BadValue, path.span, format!("`{}` is not a glob: {}", path.value, error.kind()));
            return None;
        }
        self.inner_path(path, "the path")
    }
}

/// A misspelt `steps` is told as that alone.
fn misspells_steps(table: &DeTable<'_>) -> bool {
    table.keys().any(|key| {
        let key: &str = key.get_ref();
        nearest(key, keys::JOB.iter().map(|known| known.name)) == Some("steps")
    })
}

fn blank(stage: &str, name: &str, span: Span) -> Job {
    Job {
        stage: stage.to_owned(),
        name: name.to_owned(),
        span,
        steps: Vec::new(),
        labels: None,
        takes: Vec::new(),
        gives: Vec::new(),
        after: Vec::new(),
        eager: None,
        env: Default::default(),
        timeout_ms: None,
        may_fail: None,
        checkout: None,
    }
}

fn plain_step(run: String) -> Step {
    let name = run.trim().lines().next().unwrap_or_default().chars().take(60).collect();
    Step { name, run, env: Default::default(), dir: None, shell: None, timeout_ms: None, may_fail: false }
}
