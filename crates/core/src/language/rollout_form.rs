//! Reads a job's `rollout`, and says what does not fit together within it.

use super::diagnostic::{Code, Diagnostic};
use super::job::plain_steps;
use super::reader::{self, Reader, Value};
use super::rollout::{First, Rollout, RolloutWay, Watch};
use toml::de::{DeTable, DeValue};

/// Looks so far apart where the file says nothing.
const EVERY_MS: u64 = 10_000;
/// And not closer to each other than that.
const LEAST_MS: u64 = 100;

impl Reader<'_> {
    /// None where its form is a mistake that was reported.
    pub(super) fn rollout(&mut self, value: &Value<'_>) -> Option<Rollout> {
        let table = reader::table(value)?;
        let way = RolloutWay::from_word(&reader::string(table.get("way")?)?)?;
        let rollout = Rollout {
            way,
            still_ms: table.get("still").and_then(reader::duration),
            first: table.get("first").and_then(|value| self.first(value)),
            watch: table.get("watch").and_then(|value| self.watch(value)),
            switch: table.get("switch").map(plain_steps).unwrap_or_default(),
        };
        let of = [
            ("still", RolloutWay::OneByOne),
            ("first", RolloutWay::PartFirst),
            ("watch", RolloutWay::PartFirst),
            ("switch", RolloutWay::TwoSides),
        ];
        for (key, whose) in of.into_iter().filter(|(_, whose)| *whose != way) {
            if let Some(value) = table.get(key) {
                let message = format!("`{key}` is for way = \"{}\"", whose.word());
                self.note(
                    Diagnostic::error(Code::BadValue, value.span(), message).hint(format!("this one is \"{}\": leave it out", way.word())),
                );
            }
        }
        if way == RolloutWay::TwoSides && rollout.switch.is_empty() {
            let diagnostic = Diagnostic::error(Code::BadValue, value.span(), "nothing puts the new side in use");
            self.note(diagnostic.hint("say how in `switch`: its steps run when the new side is well"));
        }
        Some(rollout)
    }

    fn first(&mut self, value: &Value<'_>) -> Option<First> {
        let (found, fits) = match value.get_ref() {
            DeValue::Array(_) => (First::Named(reader::strings(value)), true),
            DeValue::String(text) => match text.strip_suffix('%').map(str::parse) {
                Some(Ok(share)) => (First::Share(share), (1..=100).contains(&share)),
                Some(Err(_)) => (First::Share(0), false),
                None => (First::Named(vec![text.to_string()]), true),
            },
            _ => (First::Cells(usize::try_from(reader::number(value)?).ok()?), true),
        };
        if !fits {
            self.error(Code::BadValue, value.span(), "`first` is a number of cells, a share such as \"10%\", or values of cells");
        }
        fits.then_some(found)
    }

    fn watch(&mut self, value: &Value<'_>) -> Option<Watch> {
        let table: &DeTable<'_> = reader::table(value)?;
        let text = |key: &str| table.get(key).and_then(reader::string);
        let watch = Watch {
            for_ms: table.get("for").and_then(reader::duration)?,
            every_ms: table.get("every").and_then(reader::duration).unwrap_or(EVERY_MS),
            bad: table.get("bad").and_then(reader::number).unwrap_or(1),
            run: text("run"),
            url: text("url"),
            says: text("says"),
        };
        if watch.every_ms < LEAST_MS {
            self.error(Code::BadValue, value.span(), format!("`every` is {LEAST_MS} ms at least: looking is work, too"));
        }
        if watch.run.is_some() == watch.url.is_some() {
            self.error(Code::BadValue, value.span(), "a watch either runs a command or asks an address: one of `run` and `url`");
        }
        if watch.says.is_some() && watch.url.is_none() {
            self.error(Code::BadValue, value.span(), "`says` is about what an address answers: a watch that runs a command has none");
        }
        Some(watch)
    }
}
