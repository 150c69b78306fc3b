//! Every key of the rules, with what its value may look like.

use crate::language::shape::{Format, Key, Names, Shape};

const WORDS: &Shape = &Shape::List(&Shape::Text(Format::Word));

const fn key(name: &'static str, shape: &'static Shape, says: &'static str) -> Key {
    Key { name, shape, says, required: false }
}

const APPROVALS: &[Key] = &[
    Key { name: "of", shape: &Shape::Number { least: 1, most: 20 }, says: "how many persons must approve", required: true },
    key("by", WORDS, "persons and @groups, of whom they must be; anybody who may operate the project when absent"),
    key("author", &Shape::Flag, "whether the author's own approval counts; false when absent"),
];

pub(super) const BRANCH: &[Key] = &[
    key(
        "land",
        &Shape::Choice(&["queue", "free"]),
        "\"queue\": proposals land one after another, each tested on top of those ahead; \"free\" when absent",
    ),
    key("wants", WORDS, "pipelines that must pass on the combined result; [\"main\"] when absent"),
    key("approvals", &Shape::Table { keys: APPROVALS, called: "`approvals`" }, "who must agree with the newest commit of a proposal"),
    key("how", &Shape::Choice(&["merge", "squash", "rebase"]), "how a proposal is put in; \"merge\" when absent"),
    key("ahead", &Shape::Number { least: 1, most: 16 }, "how many trials run at once, each on top of those ahead of it; 4 when absent"),
    key("together", &Shape::Number { least: 1, most: 50 }, "how many proposals are tried together; 1 when absent"),
    key("closed", WORDS, "times in which nothing lands: \"Fri 16:00 - Mon 06:00 Europe/Oslo\""),
];

const HOURS: &Shape = &Shape::Either(&[&Shape::Text(Format::Word), WORDS], "a string or a list of strings");
const LENGTH: &Shape = &Shape::Text(Format::Duration);

const AGREEMENT: &[Key] = &[
    Key { name: "of", shape: &Shape::Number { least: 1, most: 20 }, says: "how many persons must approve", required: true },
    key("by", WORDS, "persons and @groups, of whom they must be; anybody who may operate the project when absent"),
    key("author", &Shape::Flag, "whether the author of the change counts; false when absent"),
    key("within", LENGTH, "how long an approval counts; for ever when absent"),
];

const CHECK: &[Key] = &[
    key("url", &Shape::Text(Format::Word), "an address that must answer with a status from 200 to 299"),
    key("says", &Shape::Text(Format::Word), "what its answer must hold; may hold placeholders"),
    key("run", &Shape::Text(Format::Word), "or a command, in the job's folder, that must end with 0"),
    key("within", LENGTH, "how long the first good answer may take; 30s when absent"),
    key("for", LENGTH, "how long every answer must then be good"),
];

pub(super) const ENVIRONMENT: &[Key] = &[
    key("url", &Shape::Text(Format::Word), "where people look"),
    key("check", &Shape::Table { keys: CHECK, called: "`check`" }, "what must be well after the steps"),
    key(
        "on_failure",
        &Shape::Choice(&["stay", "roll-back"]),
        "\"roll-back\": what was there before is put there again, within the same run; \"stay\" when absent",
    ),
    key("after", WORDS, "environments in all of which the same artifacts must have been well"),
    key("from", &Shape::List(&Shape::Text(Format::RefGlob)), "branches and tags (\"tag:v*\") whose runs may come in; all when absent"),
    key("approve", &Shape::Table { keys: AGREEMENT, called: "`approve`" }, "who must agree with what comes in"),
    key("hours", HOURS, "when it is open: \"Mon-Fri 08:00-16:00 Europe/Oslo\"; always when absent"),
    key("still", LENGTH, "how long, at least, in each of `after` without trouble"),
    key("secrets", WORDS, "secrets that are lent to jobs that deploy here, and to no others"),
    key("preview", &Shape::Flag, "for proposals: it is closed with its proposal"),
    key("lasts", LENGTH, "when a preview is closed at the latest"),
    key("outside", &Shape::Flag, "whether proposals from outside may come in, without secrets; false when absent"),
    key("promote", &Shape::Choice(&["auto", "by-hand"]), "\"auto\": what may come in comes in by itself; \"by-hand\" when absent"),
    key("emergency", WORDS, "persons and @groups who may go past these rules"),
];

const OCCASIONS: &Shape =
    &Shape::List(&Shape::Choice(&["broke", "fixed", "landed", "left", "runner", "hook", "deployed", "rolled-back", "emergency"]));

pub(super) const NOTICE: &[Key] = &[
    key("on", OCCASIONS, "what is told; [\"broke\", \"fixed\"] when absent"),
    key("mail", WORDS, "mail addresses; each gets a message of its own"),
    key("url", &Shape::Text(Format::Free), "a webhook: it gets CloudEvents 1.0, signed after the Standard Webhooks specification"),
    key("secret", &Shape::Text(Format::Word), "the name of the project's secret that signs them, `whsec_` and base64"),
];

pub(super) const TOLD: &[Key] = &[
    key(
        "jobs",
        &Shape::Either(&[&Shape::Flag, WORDS], "true, false or a list of jobs"),
        "jobs with a status of their own; none when absent",
    ),
    key("comments", &Shape::Flag, "whether each proposal gets a comment that says how it is; true when absent"),
];

pub(super) const FILE: &[Key] = &[
    Key { name: "rules", shape: &Shape::Number { least: 1, most: 1 }, says: "the version of the rules: 1", required: true },
    key(
        "branch",
        &Shape::Map { names: Names::Any, of: &Shape::Table { keys: BRANCH, called: "branch" }, called: "a branch" },
        "how changes come into a branch: [branch.NAME]",
    ),
    key(
        "environment",
        &Shape::Map { names: Names::Any, of: &Shape::Table { keys: ENVIRONMENT, called: "environment" }, called: "an environment" },
        "what may come into an environment: [environment.NAME], or a pattern such as [environment.\"station-*\"]",
    ),
    key(
        "notice",
        &Shape::Map { names: Names::Any, of: &Shape::Table { keys: NOTICE, called: "notice" }, called: "an address that is told" },
        "an address that is told what happens: [notice.NAME]",
    ),
    key("told", &Shape::Table { keys: TOLD, called: "`[told]`" }, "what the forge is told besides each pipeline's verdict"),
];
