//! The demo's history: real commits by the scenario's people, with how each should end.

use std::path::Path;
use std::process::Command;

pub(super) struct Moment {
    pub(super) project: &'static str,
    /// A branch made for it; none: main.
    pub(super) branch: Option<&'static str>,
    pub(super) tag: Option<&'static str>,
    /// The branch is proposed to main, and the proposal's run is what is waited for.
    pub(super) proposed: bool,
    /// A machine that goes on with what it had, whatever it is given, until this is over.
    pub(super) trouble: Option<&'static str>,
    /// It comes from outside, and waits for someone to allow it.
    pub(super) outside: bool,
    pub(super) author: &'static str,
    pub(super) title: &'static str,
    pub(super) ends: &'static str,
    edits: &'static [Edit],
}

/// Text in a file replaced by other text.
struct Edit {
    file: &'static str,
    from: &'static str,
    to: &'static str,
}

const fn moment(project: &'static str, author: &'static str, title: &'static str, ends: &'static str, edits: &'static [Edit]) -> Moment {
    Moment { project, branch: None, tag: None, proposed: false, trouble: None, outside: false, author, title, ends, edits }
}

const fn edit(file: &'static str, from: &'static str, to: &'static str) -> Edit {
    Edit { file, from, to }
}

pub(super) const HISTORY: &[Moment] = &[
    Moment { tag: Some("v1"), ..moment("patterns", "Odd", "Sending, for whoever sends", "passed", &[]) },
    moment("stations", "Maren", "Three stations, one after another", "passed", &[]),
    Moment {
        tag: Some("v1.0"),
        ..moment("stations", "Maren", "Version 1.0 of the stations", "passed", &[edit("CHANGES.md", "## Not released yet", "## 1.0")])
    },
    Moment {
        trouble: Some("north-pier"),
        ..moment(
            "stations",
            "Tomas",
            "Stations say since when they run",
            "failed",
            &[edit("CHANGES.md", "## 1.0", "## 1.1\n\n- every station says since when it runs\n\n## 1.0")],
        )
    },
    Moment {
        branch: Some("release/1.1"),
        ..moment(
            "stations",
            "Tomas",
            "Version 1.1 of the stations",
            "passed",
            &[edit("CHANGES.md", "since when it runs", "since when it runs, and why")],
        )
    },
    Moment {
        branch: Some("topic/louder"),
        proposed: true,
        ..moment(
            "stations",
            "Odd",
            "Stations say it louder",
            "passed",
            &[edit("tools/pack.sh", "'version %s\\nsince  %s\\n'", "'VERSION %s\\nSINCE  %s\\n'")],
        )
    },
    moment("tidegauge", "Ines", "A gauge that smooths waves away", "passed", &[]),
    moment("almanac", "Maren", "Tables of high and low waters", "passed", &[]),
    moment(
        "tidegauge",
        "Tomas",
        "Take the drift off where samples are taken, too",
        "failed",
        &[edit("src/gauge.c", "gauge->drift * days;", "2.0 * gauge->drift * days;")],
    ),
    moment(
        "tidegauge",
        "Tomas",
        "Drift is taken off once",
        "passed",
        &[edit("src/gauge.c", "2.0 * gauge->drift * days;", "gauge->drift * days;")],
    ),
    moment(
        "tidegauge",
        "Odd",
        "Soak for longer",
        "failed",
        &[
            edit(
                "ordotaxis.toml",
                "steps    = [\"./tools/soak.sh $ORDOTAXIS_INPUT_ROUNDS\"]",
                "stpes    = [\"./tools/soak.sh $ORDOTAXIS_INPUT_ROUNDS\"]",
            ),
            edit("ordotaxis.toml", "default = \"2\"", "default = \"3\""),
        ],
    ),
    moment("tidegauge", "Odd", "Soak for longer, spelt right", "passed", &[edit("ordotaxis.toml", "stpes    = [", "steps    = [")]),
    Moment {
        branch: Some("topic/neap-tides"),
        ..moment("tidegauge", "Ines", "Replay a day of neap tides", "passed", &[edit("tests/day.txt", "highest 4200", "highest 4250")])
    },
    Moment {
        branch: Some("topic/spring-tides"),
        proposed: true,
        ..moment("tidegauge", "Odd", "Replay spring tides, too", "passed", &[edit("tests/day.txt", "lowest", "# spring tides\nlowest")])
    },
    Moment {
        tag: Some("v1.0"),
        ..moment("tidegauge", "Ines", "Version 1.0", "passed", &[edit("NOTICE", "Tide gauge firmware of", "Tide gauge firmware 1.0 of")])
    },
    Moment {
        branch: Some("topic/ebb"),
        proposed: true,
        outside: true,
        ..moment("tidegauge", "Odd", "Say when it ebbs", "waiting", &[edit("NOTICE", "Tide gauge", "Tide and ebb gauge")])
    },
    moment(
        "almanac",
        "Maren",
        "Tell heights above the datum in the text",
        "passed",
        &[edit("tools/text.sh", "%5d mm", "%5d mm above datum")],
    ),
    moment(
        "almanac",
        "Odd",
        "A week of new readings from the outer buoy",
        "failed",
        &[edit("readings/outer-buoy.txt", "\n40 ", "\n40 about ")],
    ),
];

impl Moment {
    /// Puts the change into the working tree: the demo's files at the beginning, else the edits.
    pub(super) fn change(&self, sources: &Path, work: &Path) -> Result<(), String> {
        if self.edits.is_empty() {
            let copied = Command::new("cp").arg("-R").arg(sources.join(".")).arg(work).status();
            return if copied.is_ok_and(|status| status.success()) {
                Ok(())
            } else {
                Err(format!("{} could not be copied", sources.display()))
            };
        }
        for edit in self.edits {
            let path = work.join(edit.file);
            let text = std::fs::read_to_string(&path).map_err(|error| format!("{}: {error}", path.display()))?;
            if !text.contains(edit.from) {
                return Err(format!("{}: `{}` is not in it; the history needs mending", path.display(), edit.from));
            }
            std::fs::write(&path, text.replacen(edit.from, edit.to, 1)).map_err(|error| format!("{}: {error}", path.display()))?;
        }
        Ok(())
    }
}
