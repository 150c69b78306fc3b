//! Wrong files as people write them, each with what they are told: code, place, words, hint.

use ordotaxis_core::language::Lines;
use ordotaxis_core::plan::check;

/// `text` (after `language = 1`, which is line 1), then what is told: "code line:column words… | hint".
const CASES: &[(&str, &[&str])] = &[
    ("[job.test.unit]\nwhere = ['linux']", &["missing-key 2:11 job test.unit has no `steps` | say what it runs"]),
    ("[job.test.unit]\nstpes = ['make']", &["unknown-key 3:1 job test.unit has no key `stpes` | did you mean `steps`?"]),
    ("[job.test]\nsteps = ['make']", &["wrong-type 3:1 `steps` stands in `[job.test]` | write `[job.test.NAME]`"]),
    ("[job.Test.unit]\nsteps = ['make']", &["bad-name 2:6 `Test` cannot be a stage's name | write `test`"]),
    ("[job.test.unit]\nsteps = 'make'", &["wrong-type 3:9 `steps` must be a list, not a string | "]),
    ("[job.test.unit]\nsteps = []", &["bad-value 3:9 `steps` is empty | "]),
    ("[job.test.unit]\nsteps = [{ name = 'x' }]", &["missing-key 3:10 this step has no `run` | say its command"]),
    ("[job.test.unit]\nsteps = ['x']\neach = { cc = ['gcc'] }", &["not-yet 4:1 `each` in job test.unit is not yet run | take it out"]),
    (
        "[job.test.unit]\nsteps = ['x']\ntimeout = '20 bells'",
        &["bad-value 4:11 `timeout` is not a length of time | write a number and a unit"],
    ),
    ("[job.test.unit]\nsteps = ['x']\ntimeout = 20", &["wrong-type 4:11 `timeout` must be a string, not a number | "]),
    (
        "[job.test.unit]\nsteps = ['x']\ntakes = ['build.gauge']",
        &["bad-value 4:10 `build.gauge` names no artifact | write STAGE.NAME/ARTIFACT"],
    ),
    (
        "[job.test.unit]\nsteps = ['x']\ntakes = ['build.gauge/fw']",
        &["unknown-job 4:10 there is no job `build.gauge` | a job is spoken of as STAGE.NAME"],
    ),
    (
        "[job.build.gauge]\nsteps=['x']\ngives={firmware=['a']}\n[job.test.unit]\nsteps = ['x']\ntakes = ['build.gauge/firmwear']",
        &["unknown-artifact 7:10 job build.gauge gives no artifact `firmwear` | did you mean `build.gauge/firmware`?"],
    ),
    (
        "[job.build.gauge]\nsteps=['x']\n[job.test.unit]\nsteps = ['x']\nafter = ['build.gage', 'gauge']",
        &[
            "unknown-job 6:10 there is no job and no stage `build.gage` | did you mean `build.gauge`?",
            "unknown-job 6:24 there is no job and no stage `gauge` | did you mean `build.gauge`?",
        ],
    ),
    (
        "[job.build.gauge]\nsteps=['x']\ngives={fw=['../x', '/etc/passwd']}",
        &["outside-path 4:12 the path `../x` leads outside | ", "outside-path 4:20 the path `/etc/passwd` leads outside | "],
    ),
    (
        "order = 'buidl > test'\n[job.build.a]\nsteps=['x']\n[job.test.b]\nsteps=['x']",
        &[
            "empty-stage 2:10 the order names stage `buidl`, but no job is in it | did you mean `build`?",
            "unordered-stage 3:12 stage `build` has jobs but no place in the order | the order says `buidl`",
        ],
    ),
    (
        "order = 'build >> test'\n[job.build.a]\nsteps=['x']\n[job.test.b]\nsteps=['x']",
        &["order-syntax 2:17 a stage's name is missing before this | a line reads like"],
    ),
    (
        "order = ['a > b', 'b > a']\n[job.a.x]\nsteps=['x']\n[job.b.x]\nsteps=['x']",
        &["circle 2:20 the order goes round in a circle | take one of these out"],
    ),
    (
        "[job.a.x]\nsteps=['x']\nafter=['a.y']\n[job.a.y]\nsteps=['x']\nafter=['a.x']",
        &["circle 4:8 these jobs wait for each other in a circle, so none could start: a.x waits for a.y waits for a.x | take out one"],
    ),
    ("[job.a.x]\nsteps=['x']\nafter=['a.x']", &["circle 4:8 job a.x waits for itself | take out one"]),
    ("[job.a.x]\nsteps=['x']\nafter=['a']", &["circle 4:8 job a.x waits for itself | take out one"]),
    (
        "[env]\n2X = 'a'\nORDOTAXIS_RUN = 'b'\nY = '{branch}'\n[job.a.x]\nsteps=['x']",
        &[
            "bad-name 3:1 `2X` cannot be a variable's name | ",
            "bad-name 4:1 `ORDOTAXIS_RUN`: variables that begin with ORDOTAXIS are set by the runner | ",
            "not-yet 5:5 placeholders in values are not yet run | write `{{` for a brace",
        ],
    ),
    (
        "[starts]\npush = ['main', '[']\nproposal = ['main']\n[job.a.x]\nsteps=['x']",
        &["bad-value 3:17 `[` is not a glob | ", "not-yet 4:1 `proposal` in `[starts]` is not yet run | take it out"],
    ),
    (
        "title = \n[job.b.y]\nsteps=['y']\nafetr=['a']",
        &["syntax 2:9 string values must be quoted | ", "unknown-key 5:1 job b.y has no key `afetr` | did you mean `after`?"],
    ),
    ("", &["no-jobs 1:1 the file has no job | add one"]),
    (
        "[job.a.x]\nsteps=['x']\n[job.b.y]\nsteps=['x']\ngives={o={none='never'}}",
        &["bad-value 6:16 `none` cannot be `never` | one of", "missing-key 6:10 artifact `o` has no `paths` | "],
    ),
    (
        "[job.a.x]\nsteps=[{run='x', shell=' ', dir='../up'}]\ncheckout={depth=1}",
        &[
            "bad-value 3:24 `shell` is empty | ",
            "outside-path 3:33 `dir` `../up` leads outside | ",
            "not-yet 4:11 `depth` in `checkout` is not yet run | take it out",
        ],
    ),
    (
        "[job.b.g]\nsteps=['x']\ngives={o=['o']}\n[job.t.u]\nsteps=['x']\ntakes=['b.g/o','b.g/o']",
        &["duplicate-take 7:16 `b.g/o` is taken twice | "],
    ),
];

#[test]
fn every_mistake_is_told_with_its_place_and_a_hint() {
    for (rest, wanted) in CASES {
        let text = format!("language = 1\n{rest}");
        let lines = Lines::new(&text);
        let told: Vec<String> = check(&text)
            .iter()
            .map(|d| {
                let (line, column) = lines.position(d.span.start);
                format!("{} {line}:{column} {} | {}", d.code.word(), d.message, d.hint.as_deref().unwrap_or_default())
            })
            .collect();
        for wanted in *wanted {
            let (head, hint) = wanted.split_once(" | ").unwrap();
            let found = told.iter().any(|told| {
                let (told_head, told_hint) = told.rsplit_once(" | ").unwrap();
                told_head.starts_with(head) && told_hint.starts_with(hint)
            });
            assert!(found, "\n{text}\nwanted: {wanted}\ntold:\n  {}", told.join("\n  "));
        }
        if !told.iter().any(|told| told.starts_with("syntax")) {
            assert_eq!(told.len(), wanted.len(), "\n{text}\ntold:\n  {}", told.join("\n  "));
        }
    }
}

#[test]
fn the_language_version_is_asked_for() {
    let told = check("[job.a.x]\nsteps = ['x']");
    assert_eq!(told[0].code.word(), "missing-key");
    let told = check("language = 2\n[job.a.x]\nsteps = ['x']");
    assert_eq!(told[0].code.word(), "bad-value");
}
