//! Every key of the language, table by table, with what its value may look like, one line for editors.

use super::shape::{Format, Key, Names, Shape};

const FLAG: &Shape = &Shape::Flag;
const FREE: &Shape = &Shape::Text(Format::Free);
const WORD: &Shape = &Shape::Text(Format::Word);
const NAME: &Shape = &Shape::Text(Format::Name);
const SIZE: &Shape = &Shape::Text(Format::Size);
const DURATION: &Shape = &Shape::Text(Format::Duration);
const TEMPLATE: &Shape = &Shape::Text(Format::Template);
const INNER: &Shape = &Shape::Text(Format::InnerTemplate);
const EXPRESSION: &Shape = &Shape::Text(Format::Expression);
const WORDS: &Shape = &Shape::List(WORD);
const INNERS: &Shape = &Shape::List(INNER);
const INNER_GLOBS: &Shape = &Shape::List(&Shape::Text(Format::InnerGlob));
const REF_GLOBS: &Shape = &Shape::List(&Shape::Text(Format::RefGlob));
const ENV: &Shape = &Shape::Map { names: Names::Variable, of: TEMPLATE, called: "a variable" };
const LABELS: &Shape = &Shape::List(&Shape::Text(Format::Label));
const OUTCOMES: &Shape = &Shape::List(&Shape::Choice(&["passed", "failed", "skipped", "stopped", "lost"]));
const ENDS: &Shape = &Shape::List(&Shape::Choice(&["passed", "failed", "stopped"]));
const ORDER_LINE: &Shape = &Shape::Text(Format::Order);
const ORDER: &Shape = &Shape::Either(&[ORDER_LINE, &Shape::List(ORDER_LINE)], "a line or a list of lines");
const STEP_LIST: &Shape = &Shape::List(&Shape::Either(
    &[&Shape::Text(Format::Free), &Shape::Table { keys: STEP, called: "a step" }],
    "a command (a string) or a table with `run`",
));
const CELLS: &Shape = &Shape::List(&Shape::Map { names: Names::Plain, of: &Shape::Scalar, called: "an axis" });

const fn key(name: &'static str, shape: &'static Shape, says: &'static str) -> Key {
    Key { name, shape, says, required: false }
}

const fn needed(name: &'static str, shape: &'static Shape, says: &'static str) -> Key {
    Key { name, shape, says, required: true }
}

pub(crate) const FILE: &[Key] = &[
    key("language", &Shape::Number { least: 1, most: 1 }, "the version of the language: 1"),
    key("title", FREE, "what the pipeline is called for people"),
    key("order", ORDER, "the order of stages: \"check, build > test > pack\""),
    key("keep_going", FLAG, "whether jobs that do not depend on a failed one still run; true when absent"),
    key("starts", &Shape::Table { keys: STARTS, called: "`[starts]`" }, "what makes a run begin"),
    key("env", ENV, "variables for every step of every job"),
    key("defaults", &Shape::Table { keys: DEFAULTS, called: "`[defaults]`" }, "what every job has that does not say it itself"),
    key(
        "stage",
        &Shape::Map { names: Names::Plain, of: &Shape::Table { keys: STAGE, called: "stage " }, called: "a stage" },
        "what holds for every job of a stage",
    ),
    key(
        "pattern",
        &Shape::Map { names: Names::Plain, of: &Shape::Table { keys: PATTERN, called: "pattern " }, called: "a pattern" },
        "definitions that jobs can follow",
    ),
    key(
        "borrow",
        &Shape::Map { names: Names::Plain, of: &Shape::Table { keys: BORROW, called: "borrow " }, called: "a borrow" },
        "patterns of another repository",
    ),
    key(
        "job",
        &Shape::Map {
            names: Names::Any,
            of: &Shape::Map { names: Names::Any, of: &Shape::Table { keys: JOB, called: "job " }, called: "a job" },
            called: "a stage",
        },
        "the jobs: [job.STAGE.NAME]",
    ),
];

pub(crate) const STARTS: &[Key] = &[
    key("push", REF_GLOBS, "branches, as globs; `!` before one takes away"),
    key("proposal", REF_GLOBS, "a proposed change aimed at these branches, built as merged with its target"),
    key("tag", REF_GLOBS, "tags, as globs; `!` before one takes away"),
    key("schedule", &Shape::List(&Shape::Text(Format::Cron)), "cron fields, UTC unless a zone follows: \"0 4 * * 1-5 Europe/Oslo\""),
    key("pipeline", WORDS, "a passed run of another pipeline, NAME, or of another project's, PROJECT/NAME"),
    key("by_hand", FLAG, "whether someone may start it; true when absent"),
    key(
        "inputs",
        &Shape::Map { names: Names::Plain, of: &Shape::Table { keys: INPUT, called: "input " }, called: "an input" },
        "what is asked for when someone starts it",
    ),
    key("overtake", FLAG, "whether a newer commit of the same branch makes an older run pointless; true when absent"),
];

pub(crate) const INPUT: &[Key] = &[
    key("choices", &Shape::List(FREE), "the values it may have"),
    key("default", FREE, "the value when none is given"),
    key("says", FREE, "what it is for"),
];

const LIMIT: &Shape = &Shape::Either(
    &[&Shape::Text(Format::Limit), &Shape::Number { least: i64::MIN, most: i64::MAX }],
    "a number, or a text such as \">= 80\"",
);

/// A number's name is written with dots, which TOML reads as tables in each other.
macro_rules! gate_of {
    ($inner:expr) => {
        &Shape::Map { names: Names::Any, of: &Shape::Either(&[LIMIT, $inner], "a number, or a text such as \">= 80\""), called: "a number" }
    };
}

pub(crate) const STAGE: &[Key] = &[
    key("if", EXPRESSION, "an expression; false: the stage's jobs are skipped"),
    key("where", LABELS, "labels that a runner must all have"),
    key("env", ENV, "variables for every step of the stage's jobs"),
    key("gate", gate_of!(gate_of!(gate_of!(gate_of!(LIMIT)))), "numbers that must hold before the stage starts: tests.failed = 0"),
];

pub(crate) const BORROW: &[Key] = &[
    needed("git", WORD, "the repository, anything that git can fetch"),
    needed("at", WORD, "a tag or a commit; a branch moves and cannot be borrowed from"),
    needed("file", &Shape::Text(Format::InnerGlob), "the file with the patterns"),
];

const WHERE: Key = key("where", LABELS, "labels that a runner must all have");
const ENV_KEY: Key = key("env", ENV, "variables for its steps");
const TIMEOUT: Key = key("timeout", DURATION, "how long it may take, such as \"20m\"");
const MAY_FAIL: Key = key("may_fail", FLAG, "its failure does not count");
const EAGER: Key = key("eager", FLAG, "does not wait for earlier stages, only for what it takes and comes after");
const CHECKOUT_KEY: Key = key(
    "checkout",
    &Shape::Either(&[FLAG, &Shape::Table { keys: CHECKOUT, called: "`checkout`" }], "true, false or a table"),
    "false for an empty folder; a table for how",
);
const TOOLS: Key = key(
    "tools",
    &Shape::Map { names: Names::Any, of: &Shape::Text(Format::Version), called: "a tool" },
    "tools and versions that a runner must offer: make = \">=4\"",
);
const IMAGE: Key = key("image", TEMPLATE, "run in this container image");
const NETWORK: Key = key("network", FLAG, "false: no network inside the sandbox or container");
const CORES: Key = key("cores", &Shape::Number { least: 1, most: 65_536 }, "cores of a runner that it has for itself");
const MEMORY: Key = key("memory", SIZE, "memory that it has for itself, and no more: \"4GiB\"");
const GPUS: Key = key("gpus", &Shape::Number { least: 1, most: 1_024 }, "graphics processors of a runner that it has for itself");
const CHECKPOINT: Key = key("checkpoint", AFTER_LIST, "steps that are run when its machine is about to be taken away");
const RETRY: Key =
    key("retry", &Shape::Table { keys: RETRY_KEYS, called: "`retry`" }, "how often it is tried again, and after which outcomes");
const AFTERWARDS: Key = key("afterwards", &Shape::Table { keys: AFTERWARDS_KEYS, called: "`afterwards`" }, "steps run after the others");
const PREPARE: Key = key("prepare", STEP_LIST, "steps put before every job's own");

pub(crate) const DEFAULTS: &[Key] = &[
    WHERE,
    ENV_KEY,
    TIMEOUT,
    MAY_FAIL,
    EAGER,
    CHECKOUT_KEY,
    PREPARE,
    TOOLS,
    IMAGE,
    NETWORK,
    CORES,
    MEMORY,
    GPUS,
    RETRY,
    AFTERWARDS,
    CHECKPOINT,
];

/// What jobs and patterns share; a job has these alone.
macro_rules! job_keys {
    ($($more:expr),*) => {
        &[
            key("steps", STEP_LIST, "commands in order; the first that fails ends the job"),
            WHERE,
            key("takes", &Shape::List(&Shape::Either(&[WORD, &Shape::Table { keys: TAKE, called: "a take" }], "STAGE.NAME/ARTIFACT or a table with `from`")), "artifacts of other jobs: waits for them and unpacks what they gave"),
            key("gives", &Shape::Map { names: Names::Plain, of: &Shape::Either(&[INNERS, &Shape::Table { keys: GIVE, called: "artifact" }], "a list of globs or a table with `paths`"), called: "an artifact" }, "artifacts by name: globs of files it leaves"),
            key("after", WORDS, "jobs or stages it comes after without taking anything"),
            EAGER,
            ENV_KEY,
            TIMEOUT,
            MAY_FAIL,
            CHECKOUT_KEY,
            key("if", EXPRESSION, "an expression; false: the job is skipped"),
            key("each", &Shape::Map { names: Names::Plain, of: &Shape::List(&Shape::Scalar), called: "an axis" }, "the matrix: axes and their values, a cell for each combination"),
            key("except", CELLS, "cells taken out: values of some axes"),
            key("also", CELLS, "cells added: values of all axes"),
            key("cell", &Shape::List(&Shape::Table { keys: CELL, called: "a cell's settings" }), "what is otherwise for some cells: for = { AXIS = VALUE }, and where, tools, image, timeout, env, cores, memory"),
            key("at_once", &Shape::Number { least: 1, most: 100_000 }, "how many cells run at the same time"),
            key("keep_going", FLAG, "whether other cells go on after one failed"),
            key("upon", OUTCOMES, "outcomes of what it waits for that let it start; [\"passed\"] when absent"),
            key("follows", WORD, "a pattern, or BORROW:PATTERN: everything it says, unless said here"),
            key("given", &Shape::Map { names: Names::Plain, of: TEMPLATE, called: "an input" }, "the pattern's inputs"),
            PREPARE,
            TOOLS,
            IMAGE,
            NETWORK,
            CORES,
            MEMORY,
            GPUS,
            RETRY,
            AFTERWARDS,
            CHECKPOINT,
            key("facts", &Shape::List(&Shape::Either(&[NAME, &Shape::Table { keys: FACT, called: "a fact" }], "a name or a table with `name`")), "small values it leaves for later jobs: writes $ORDOTAXIS_FACTS/NAME"),
            key("by_hand", FLAG, "starts only when someone starts it"),
            key("secrets", WORDS, "names of secrets it may read"),
            key("connections", WORDS, "connections that its steps get as variables: NAME_ADDRESS, NAME_USER, NAME_PASSWORD"),
            key("allows", &Shape::List(&Shape::Text(Format::Allowed)), "what its token ORDOTAXIS_TOKEN is for: \"start:PROJECT\", \"note\""),
            key("identity", &Shape::Map { names: Names::Variable, of: WORD, called: "a variable" }, "variables with signed tokens that say who the job is: name and audience"),
            key("turn", TEMPLATE, "a name that only one running job may hold, over all runs"),
            key("beside", &Shape::List(&Shape::Table { keys: BESIDE, called: "a helper" }), "helper processes started before the steps"),
            key("deploys", TEMPLATE, "the environment that it changes"),
            key("rollout", &Shape::Table { keys: ROLLOUT, called: "`rollout`" }, "in what order its cells come, each an environment of its own, and what must hold between them"),
            key("closes", TEMPLATE, "the preview that it takes away; it is done when that is closed"),
            key("releases", &Shape::Table { keys: RELEASES, called: "`releases`" }, "the release that is made once it has passed"),
            key("split", &Shape::Table { keys: SPLIT, called: "`split`" }, "copies that share its tests"),
            key("cache", &Shape::List(&Shape::Table { keys: CACHE, called: "a cache" }), "folders kept from run to run"),
            key("reuse", &Shape::Table { keys: REUSE, called: "`reuse`" }, "the result is taken from an earlier run when nothing that can change it has"),
            key("publish", &Shape::List(&Shape::Table { keys: PUBLISH, called: "a publication" }), "artifacts that are sent to a registry, an index or any address"),
            key("reports", &Shape::Table { keys: REPORTS, called: "`reports`" }, "files of test results and the like to read"),
            $($more),*
        ]
    };
}

pub(crate) const JOB: &[Key] = job_keys!();

pub(crate) const PATTERN: &[Key] = job_keys!(key(
    "inputs",
    &Shape::Map { names: Names::Plain, of: &Shape::Table { keys: INPUT, called: "input " }, called: "an input" },
    "what a follower may or must give"
));

pub(crate) const STEP: &[Key] = &[
    needed("run", FREE, "its command"),
    key("name", FREE, "what it is called in logs"),
    key("if", EXPRESSION, "an expression; false: the step is left out"),
    ENV_KEY,
    key("dir", INNER, "a folder below the job's own"),
    key("shell", WORD, "program and options that take the command last; \"sh -eu\" when absent"),
    TIMEOUT,
    MAY_FAIL,
];

pub(crate) const TAKE: &[Key] = &[
    needed("from", WORD, "STAGE.NAME/ARTIFACT"),
    key("to", INNER, "the folder it is unpacked in"),
    key(
        "cells",
        &Shape::Either(
            &[&Shape::Choice(&["all", "same"]), &Shape::Map { names: Names::Plain, of: &Shape::Scalar, called: "an axis" }],
            "\"all\", \"same\" or a table of values",
        ),
        "which cells: \"all\", \"same\" (with the same values) or a table of values",
    ),
];

pub(crate) const CELL: &[Key] = &[
    needed(
        "for",
        &Shape::Map { names: Names::Plain, of: &Shape::Scalar, called: "an axis" },
        "values of some axes: the cells that have them",
    ),
    WHERE,
    TOOLS,
    IMAGE,
    TIMEOUT,
    ENV_KEY,
    NETWORK,
    CORES,
    MEMORY,
    GPUS,
    MAY_FAIL,
];

pub(crate) const GIVE: &[Key] = &[
    needed("paths", INNERS, "globs of files below the job's folder"),
    key("none", &Shape::Choice(&["fail", "warn", "ignore"]), "what happens when nothing matches"),
    key("keep", DURATION, "how long it is kept, such as \"90d\""),
    key("upon", ENDS, "outcomes upon which it is given"),
];

pub(crate) const CHECKOUT: &[Key] = &[
    key("dir", INNER, "the folder the files are put in"),
    key(
        "depth",
        &Shape::Either(&[&Shape::Number { least: 1, most: 1_000_000 }, &Shape::Choice(&["all"])], "a number of commits, or \"all\""),
        "how many commits of history, or \"all\"; 1 when absent",
    ),
    key("submodules", FLAG, "whether submodules are checked out too, and theirs"),
    key("lfs", FLAG, "whether files kept by git-lfs are there in place of the pointers to them"),
    key("paths", INNER_GLOBS, "globs: only files that fit one of these are checked out"),
];

const RETRY_KEYS: &[Key] = &[
    needed("times", &Shape::Number { least: 1, most: 10 }, "how often at most"),
    key("on", &Shape::List(&Shape::Text(Format::Outcome)), "outcomes: \"failed\", \"timeout\", \"lost\", \"exit:75\""),
];

const AFTER_LIST: &Shape = &Shape::List(&Shape::Either(
    &[&Shape::Text(Format::Free), &Shape::Table { keys: AFTER_STEP, called: "a step" }],
    "a command (a string) or a table with `run`",
));

const AFTER_STEP: &[Key] = &[
    needed("run", FREE, "its command"),
    key("name", FREE, "what it is called in logs"),
    key("shell", WORD, "program and options that take the command last; \"sh -eu\" when absent"),
    TIMEOUT,
    MAY_FAIL,
];

const AFTERWARDS_KEYS: &[Key] = &[
    key("passed", AFTER_LIST, "when the steps passed"),
    key("failed", AFTER_LIST, "when one failed or went past its time"),
    key("always", AFTER_LIST, "in any case, also after a stop"),
];

const SPLIT: &[Key] = &[
    needed("into", &Shape::Number { least: 2, most: 1_000 }, "how many copies"),
    key("by", &Shape::Choice(&["time", "count"]), "what is shared out evenly"),
];

const CACHE: &[Key] = &[
    needed("paths", INNERS, "folders or files to keep"),
    needed("key", TEMPLATE, "what the entry is called; the same key, the same content"),
    key("else", &Shape::List(TEMPLATE), "beginnings of keys that will do when the key is not there"),
    key("save", &Shape::Choice(&["passed", "always", "never"]), "when it is saved"),
];

const FACT: &[Key] = &[
    needed("name", NAME, "what it is called"),
    key("number", FLAG, "it is a number: kept over runs, shown as a line, and known to gates"),
];

const PUBLISH: &[Key] = &[
    needed("artifact", NAME, "an artifact that the job gives"),
    needed("to", TEMPLATE, "oci://HOST/NAME:TAG, or an address for HTTP PUT; with `form` for POST"),
    key(
        "form",
        &Shape::Map { names: Names::Any, of: TEMPLATE, called: "a field" },
        "fields of a form that each file is sent with, by HTTP POST (multipart)",
    ),
    key("file", WORD, "with `form`: the field that carries the file; `file` when absent"),
    key("digest", WORD, "with `form`: a field that gets the file's SHA-256, in hexadecimal digits"),
    key("as", &Shape::Choice(&["artifact", "image"]), "in a registry: an artifact of its files, or an image whose file system they are"),
    key("with", WORD, "the connection whose user and password are used for it"),
    key("fact", NAME, "a fact that takes the digest of what was published"),
];

const ROLLOUT: &[Key] = &[
    needed("way", &Shape::Choice(&["all", "one-by-one", "part-first", "two-sides"]), "how it goes out over the cells"),
    key("still", DURATION, "one by one: so long between a cell's end and the next"),
    key(
        "first",
        &Shape::Either(&[&Shape::Number { least: 1, most: 100_000 }, WORD, WORDS], "a number of cells, \"10%\", or values of cells"),
        "part first: the cells that come first; one when absent",
    ),
    key("watch", &Shape::Table { keys: WATCH, called: "`watch`" }, "part first: what must stay well in these before the rest follows"),
    key("switch", AFTER_LIST, "two sides: commands that put the side in use that has been made ready"),
];

const WATCH: &[Key] = &[
    needed("for", DURATION, "how long they are watched, such as \"10m\""),
    key("run", FREE, "a command that must end with 0"),
    key("url", WORD, "an address that must answer"),
    key("says", FREE, "what the address's answer must hold"),
    key("every", DURATION, "the time from one look to the next; 10 s when absent"),
    key("bad", &Shape::Number { least: 1, most: 1_000 }, "with so many bad looks it has failed; 1 when absent"),
];

const RELEASES: &[Key] = &[
    needed("version", TEMPLATE, "the version: \"{tag|after:v}\", \"{branch|after:release/}\""),
    key("notes", FREE, "its notes: FILE, FILE#HEADING or \"collected\"; {version} may stand in it"),
    key("title", FREE, "what it is called for people; the version when absent"),
    key("assets", WORDS, "artifacts that it takes or gives, as STAGE.NAME/ARTIFACT: kept for good"),
    key("tag", WORD, "the tag that is made where the run is of a branch; \"v{version}\" when absent"),
    key("draft", FLAG, "whether someone publishes it later"),
];

const REUSE: &[Key] = &[needed("inputs", INNER_GLOBS, "globs of every file that can change the result")];

const REPORTS: &[Key] = &[
    key("junit", INNER_GLOBS, "JUnit XML"),
    key("tap", INNER_GLOBS, "TAP"),
    key("lcov", INNER_GLOBS, "LCOV coverage"),
    key("cobertura", INNER_GLOBS, "Cobertura coverage"),
    key("sarif", INNER_GLOBS, "SARIF findings"),
    key("sbom", INNER_GLOBS, "bills of materials: CycloneDX or SPDX, as JSON"),
];

const BESIDE: &[Key] = &[
    needed("name", NAME, "what it is called in logs"),
    needed("run", FREE, "its command"),
    key("ready", WORD, "a URL, tcp:PORT, or a command: waited for until it answers"),
    key("within", DURATION, "how long it is waited for; 1 minute when absent"),
];
