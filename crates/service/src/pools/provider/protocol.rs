//! What a program that makes machines is asked, on its standard input, and what it answers, on its standard output: one JSON object
//! each. `docs/pool-program.schema.json` says the same as a JSON Schema.

use ordotaxis_core::pool::Listed;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};

/// The version of questions and answers.
pub(super) const VERSION: u32 = 1;

#[derive(Debug, Serialize)]
pub(super) struct Question<'a> {
    pub(super) version: u32,
    pub(super) pool: &'a str,
    /// From the pool's settings.
    pub(super) settings: &'a Map<String, Value>,
    #[serde(flatten)]
    pub(super) asks: Asks<'a>,
}

#[derive(Debug, Serialize)]
#[serde(tag = "ask", rename_all = "lowercase")]
pub(super) enum Asks<'a> {
    Make {
        name: &'a str,
        cores: u32,
        memory_mib: u32,
        gpus: u32,
        /// The longest that it may live.
        lasts_s: i64,
        /// What the machine needs in its environment to run `ordotaxis runner join`.
        join: Join<'a>,
    },
    List,
    Remove {
        name: &'a str,
    },
    Console {
        name: &'a str,
    },
}

#[derive(Debug, Serialize)]
pub(super) struct Join<'a> {
    #[serde(rename = "ORDOTAXIS_URL")]
    pub(super) url: &'a str,
    #[serde(rename = "ORDOTAXIS_MACHINE")]
    pub(super) machine: &'a str,
    #[serde(rename = "ORDOTAXIS_INVITATION")]
    pub(super) invitation: &'a str,
}

/// An answer: its version, and what was asked for, or why not.
#[derive(Debug, Deserialize)]
pub(super) struct Answer {
    version: u32,
    made: Option<Made>,
    machines: Option<Vec<Machine>>,
    removed: Option<bool>,
    console: Option<String>,
    /// A sentence: nothing was done.
    refused: Option<String>,
}

#[derive(Debug, Deserialize)]
struct Made {
    #[serde(default)]
    words: String,
}

#[derive(Debug, Deserialize)]
struct Machine {
    name: String,
    state: MachineState,
    #[serde(default)]
    words: String,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "lowercase")]
enum MachineState {
    Coming,
    Running,
    Ended,
}

/// Why an answer is none.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum NoAnswer {
    /// It said no.
    Refused(String),
    /// It is not what was asked for.
    Wrong(String),
}

impl Answer {
    /// Reads an answer. What is not one, or of another version, is told as such.
    pub(super) fn read(bytes: &[u8]) -> Result<Answer, NoAnswer> {
        let answer: Answer =
            serde_json::from_slice(bytes).map_err(|error| NoAnswer::Wrong(format!("its answer is not understood: {error}")))?;
        if answer.version != VERSION {
            let why = format!("it answers in version {} of the protocol; this service speaks version {VERSION}", answer.version);
            return Err(NoAnswer::Wrong(why));
        }
        match answer.refused {
            Some(why) => Err(NoAnswer::Refused(why)),
            None => Ok(answer),
        }
    }

    pub(super) fn made(self) -> Result<String, NoAnswer> {
        self.made.map(|made| made.words).ok_or_else(|| lacks("made"))
    }

    pub(super) fn listed(self) -> Result<Vec<Listed>, NoAnswer> {
        let machines = self.machines.ok_or_else(|| lacks("machines"))?;
        let listed = |one: Machine| Listed { name: one.name, ended: one.state == MachineState::Ended, words: one.words };
        Ok(machines.into_iter().map(listed).collect())
    }

    pub(super) fn removed(self) -> Result<(), NoAnswer> {
        if self.removed == Some(true) { Ok(()) } else { Err(lacks("removed")) }
    }

    pub(super) fn console(self) -> Result<String, NoAnswer> {
        self.console.ok_or_else(|| lacks("console"))
    }
}

fn lacks(key: &str) -> NoAnswer {
    NoAnswer::Wrong(format!("its answer has no `{key}`"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn questions_and_answers_are_as_the_schema_says() {
        let join = Join { url: "http://here", machine: "m-1", invitation: "oxi_1" };
        let asks = Asks::Make { name: "m-1", cores: 2, memory_mib: 1024, gpus: 0, lasts_s: 7200, join };
        let settings = Map::from_iter([("zone".to_owned(), Value::from("north"))]);
        let question = serde_json::to_value(Question { version: VERSION, pool: "m", settings: &settings, asks }).expect("JSON");
        assert_eq!(
            question,
            serde_json::json!({
                "version": 1, "pool": "m", "settings": { "zone": "north" }, "ask": "make", "name": "m-1", "cores": 2, "memory_mib": 1024,
                "gpus": 0, "lasts_s": 7200,
                "join": { "ORDOTAXIS_URL": "http://here", "ORDOTAXIS_MACHINE": "m-1", "ORDOTAXIS_INVITATION": "oxi_1" }
            })
        );
        let read = |text: &str| Answer::read(text.as_bytes());
        assert_eq!(read(r#"{"version":1,"made":{"words":"i-7"}}"#).and_then(Answer::made), Ok("i-7".into()));
        assert_eq!(read(r#"{"version":1,"made":{}}"#).and_then(Answer::made), Ok(String::new()));
        let listed = read(r#"{"version":1,"machines":[{"name":"m-1","state":"running"},{"name":"m-2","state":"ended","words":"x"}]}"#);
        let ended: Vec<bool> = listed.and_then(Answer::listed).expect("a list").iter().map(|one| one.ended).collect();
        assert_eq!(ended, [false, true]);
        assert_eq!(read(r#"{"version":1,"removed":true}"#).and_then(Answer::removed), Ok(()));
        assert_eq!(read(r#"{"version":1,"refused":"quota"}"#).and_then(Answer::made), Err(NoAnswer::Refused("quota".into())));
        for wrong in
            ["", "[]", "{}", "hello", r#"{"version":2,"made":{}}"#, r#"{"version":1}"#, r#"{"version":1,"machines":[{"name":"x"}]}"#]
        {
            let got = read(wrong).and_then(Answer::made);
            assert!(matches!(got, Err(NoAnswer::Wrong(_))), "{wrong}: {got:?}");
        }
        assert!(matches!(read(r#"{"version":1,"removed":false}"#).and_then(Answer::removed), Err(NoAnswer::Wrong(_))));
    }
}
