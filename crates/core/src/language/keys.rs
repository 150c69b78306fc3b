//! Every key of the language, table by table: the one list that reading, "did you mean" and "not yet" share.
//! A key that the language knows and this version does not yet run is `later`: using it is an error, never silence.

pub(crate) struct Key {
    pub(crate) name: &'static str,
    pub(crate) runs: bool,
}

const fn now(name: &'static str) -> Key {
    Key { name, runs: true }
}

const fn later(name: &'static str) -> Key {
    Key { name, runs: false }
}

pub(crate) const FILE: &[Key] = &[
    now("language"),
    now("title"),
    now("order"),
    now("starts"),
    now("env"),
    now("defaults"),
    now("job"),
    later("keep_going"),
    later("stage"),
    later("pattern"),
    later("borrow"),
];

pub(crate) const STARTS: &[Key] = &[
    now("push"),
    now("by_hand"),
    later("proposal"),
    later("tag"),
    later("schedule"),
    later("inputs"),
    later("pipeline"),
    later("overtake"),
];

pub(crate) const DEFAULTS: &[Key] = &[
    now("where"),
    now("env"),
    now("timeout"),
    now("may_fail"),
    now("eager"),
    now("checkout"),
    later("prepare"),
    later("tools"),
    later("image"),
    later("network"),
    later("retry"),
    later("afterwards"),
];

pub(crate) const JOB: &[Key] = &[
    now("steps"),
    now("where"),
    now("takes"),
    now("gives"),
    now("after"),
    now("eager"),
    now("env"),
    now("timeout"),
    now("may_fail"),
    now("checkout"),
    later("tools"),
    later("image"),
    later("network"),
    later("facts"),
    later("each"),
    later("except"),
    later("also"),
    later("at_once"),
    later("keep_going"),
    later("split"),
    later("if"),
    later("upon"),
    later("by_hand"),
    later("deploys"),
    later("secrets"),
    later("cache"),
    later("reuse"),
    later("reports"),
    later("beside"),
    later("retry"),
    later("turn"),
    later("afterwards"),
    later("follows"),
    later("given"),
];

pub(crate) const STEP: &[Key] =
    &[now("name"), now("run"), now("env"), now("dir"), now("shell"), now("timeout"), now("may_fail"), later("if")];

pub(crate) const TAKE: &[Key] = &[now("from"), now("to"), later("cells")];

pub(crate) const GIVE: &[Key] = &[now("paths"), now("none"), later("keep"), later("upon")];

pub(crate) const CHECKOUT: &[Key] = &[now("dir"), later("depth"), later("submodules")];
