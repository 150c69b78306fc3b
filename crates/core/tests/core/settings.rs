//! Cells that carry settings: placeholders in `where` and `tools`, and `cell`.

use ordotaxis_core::language::{Code, Diagnostic};
use ordotaxis_core::plan::{BorrowedFiles, Occasion, Plan, PlannedJob, Source, check, plan};
use proptest::prelude::*;

fn planned(text: &str) -> Plan {
    let text = format!("language = 1\n{text}");
    let borrowed = BorrowedFiles::new();
    let planned = plan(Source { text: &text, name: "main", borrowed: &borrowed }, &Occasion::push("main"));
    planned.unwrap_or_else(|found| panic!("{text}\n{found:?}")).plan
}

fn found(text: &str) -> Vec<Diagnostic> {
    check(&format!("language = 1\n{text}"))
}

fn job<'p>(plan: &'p Plan, id: &str) -> &'p PlannedJob {
    plan.jobs.iter().find(|job| job.id.as_str() == id).unwrap_or_else(|| panic!("no job {id}"))
}

fn tool(job: &PlannedJob, name: &str) -> Option<String> {
    job.extras.as_ref()?.tools.get(name).map(|wanted| wanted.0.value.source())
}

#[test]
fn a_cell_chooses_its_runner_and_tools() {
    let plan = planned(
        "[job.test.unit]\neach = { py = [\"3.11\", \"3.12\"], os = [\"linux\", \"arm\"] }\nwhere = [\"{each.os}\", \"quay\"]\n\
         tools = { python = \"{each.py}\", make = \">=4\" }\nsteps = [\"true\"]\ntimeout = \"10m\"\n\
         cell = [\n  { for = { os = \"arm\" }, where = [\"arm64\"], timeout = \"40m\", env = { SLOW = \"{each.py} is slow\" } },\n\
         { for = { os = \"arm\", py = \"3.12\" }, may_fail = true, network = false, image = \"tide:{each.py}\", tools = { python = \"~3.12\" } },\n]\n",
    );
    let plain = job(&plan, "test.unit[3.11,linux]");
    assert_eq!(
        (plain.labels.as_slice(), plain.timeout_ms, plain.may_fail),
        (&["linux".to_owned(), "quay".to_owned()][..], Some(600_000), false)
    );
    assert_eq!((tool(plain, "python").as_deref(), tool(plain, "make").as_deref()), (Some("3.11"), Some(">=4")));
    assert!(!plain.env.contains_key("SLOW"));
    let arm = job(&plan, "test.unit[3.11,arm]");
    assert_eq!((arm.labels.as_slice(), arm.timeout_ms, arm.may_fail), (&["arm64".to_owned()][..], Some(2_400_000), false));
    assert_eq!(arm.env["SLOW"], "3.11 is slow");
    let last = job(&plan, "test.unit[3.12,arm]");
    let extras = last.extras.as_ref().expect("extras");
    assert!(last.may_fail && extras.network == Some(false) && last.timeout_ms == Some(2_400_000));
    assert_eq!(extras.image.as_ref().map(|image| image.0.value.source()).as_deref(), Some("tide:3.12"));
    assert_eq!((tool(last, "python").as_deref(), tool(last, "make").as_deref()), (Some("~3.12"), Some(">=4")));
}

#[test]
fn a_pattern_lends_its_settings_and_inputs() {
    let plan = planned(
        "[pattern.on]\ninputs.place = {}\nwhere = [\"{given.place}\"]\nsteps = [\"true\"]\neach = { cc = [\"gcc\", \"clang\"] }\n\
         cell = [{ for = { cc = \"clang\" }, env = { WARN = \"1\" } }]\n\
         [job.a.b]\nfollows = \"on\"\ngiven = { place = \"quay\" }\n[job.a.c]\nfollows = \"on\"\ngiven = { place = \"pier\" }\ncell = [{ for = { cc = \"gcc\" }, where = [\"x\"] }]\n",
    );
    assert_eq!(job(&plan, "a.b[gcc]").labels, ["quay"]);
    assert!(job(&plan, "a.b[clang]").env.contains_key("WARN"));
    assert_eq!(
        (job(&plan, "a.c[gcc]").labels.as_slice(), job(&plan, "a.c[clang]").labels.as_slice()),
        (&["x".to_owned()][..], &["pier".to_owned()][..])
    );
    assert!(!job(&plan, "a.c[clang]").env.contains_key("WARN"), "what the job says itself counts");
    let by_stage = planned("[stage.a]\nwhere = [\"{each.os}\"]\n[job.a.b]\neach = { os = [\"x\"] }\nsteps = [\"true\"]\n");
    assert_eq!(by_stage.jobs[0].labels, ["x"]);
    let by_default = planned("[defaults]\nwhere = [\"{each.os}\"]\n[job.a.b]\neach = { os = [\"x\"] }\nsteps = [\"true\"]\n");
    assert_eq!(by_default.jobs[0].labels, ["x"]);
}

#[test]
fn settings_that_fit_nothing_are_told() {
    let with = |more: &str| format!("[job.a.b]\neach = {{ os = [\"linux\", \"arm\"], cc = [\"gcc\"] }}\nsteps = [\"true\"]\n{more}\n");
    for (more, code, words, hint) in [
        ("cell = [{ for = { oss = \"arm\" }, timeout = \"1m\" }]", Code::Matrix, "has no axis `oss`", "did you mean `os`?"),
        ("cell = [{ for = { colour = \"red\" }, timeout = \"1m\" }]", Code::Matrix, "has no axis `colour`", "its axes are `os`, `cc`"),
        ("cell = [{ for = { os = \"amr\" }, timeout = \"1m\" }]", Code::Matrix, "has no cell", "did you mean `arm`?"),
        ("cell = [{ timeout = \"1m\" }]", Code::MissingKey, "has no `for`", "values of some axes"),
        ("cell = [{ for = { os = \"arm\" }, steps = [\"x\"] }]", Code::UnknownKey, "has no key `steps`", ""),
        ("where = [\"{each.oss}\"]", Code::Placeholder, "has no axis `oss`", "os"),
        ("where = [\"{os}\"]", Code::Placeholder, "decides which one takes it", "name an axis"),
        ("tools = { make = \"{hash:x}\" }", Code::Placeholder, "decides which one takes it", "name an axis"),
        ("where = [\"\"]", Code::BadValue, "is empty", ""),
        ("tools = { make = \"four\" }", Code::BadValue, "says no version", ""),
    ] {
        let all = found(&with(more));
        let one = all.iter().find(|one| one.code == code && one.message.contains(words));
        let one = one.unwrap_or_else(|| panic!("{more}: {all:?}"));
        assert!(one.hint.as_deref().unwrap_or_default().contains(hint), "{more}: {one:?}");
    }
    // Known only when it is filled.
    let all = found(&with("tools = { cc = \"{each.cc}\" }"));
    assert!(all.iter().any(|one| one.message.contains("`gcc`, as cell linux,gcc has it, says no version of cc")), "{all:?}");
}

#[test]
fn a_value_with_a_point_is_told_once_and_words_of_elsewhere_are_known() {
    let all = found("[job.a.b]\neach = { py = [3.11, 3.12] }\nsteps = [\"echo $EACH_PY\"]\n");
    let told: Vec<(&str, Option<&str>)> = all.iter().map(|one| (one.message.as_str(), one.hint.as_deref())).collect();
    assert_eq!(
        told,
        [
            ("a value with a point may lose digits", Some("write \"3.11\"")),
            ("a value with a point may lose digits", Some("write \"3.12\"")),
        ]
    );
    for (word, ours) in [
        ("needs = []", "`after`"),
        ("depends = []", "`takes`"),
        ("script = []", "`steps`"),
        ("commands = []", "`steps`"),
        ("run = \"x\"", "`steps`"),
        ("matrix = {}", "`each`"),
        ("when = \"x\"", "`if`"),
        ("artifacts = []", "`gives`"),
        ("variables = {}", "`env`"),
    ] {
        let all = found(&format!("[job.a.b]\nsteps = [\"true\"]\n{word}\n"));
        assert!(
            all.iter().any(|one| one.code == Code::UnknownKey && one.hint.as_ref().is_some_and(|hint| hint.contains(ours))),
            "{word}: {all:?}"
        );
    }
}

proptest! {
    /// However cells and settings are mixed: each cell has, for each key, what the last settings that fit it say, else the job's.
    #[test]
    fn the_last_settings_that_fit_count(settings in prop::collection::vec((0usize..4, 0usize..4, prop::option::of(1u64..60), prop::option::of(0usize..3)), 0..6)) {
        let (os, cc) = (["linux", "arm", "mips"], ["gcc", "clang", "tcc"]);
        let mut text = "[job.a.b]\neach = { os = [\"linux\", \"arm\", \"mips\"], cc = [\"gcc\", \"clang\", \"tcc\"] }\nsteps = [\"true\"]\ntimeout = \"99m\"\nwhere = [\"{each.os}\"]\ncell = [\n".to_owned();
        for (at_os, at_cc, minutes, label) in &settings {
            let of: Vec<String> = [os.get(*at_os).map(|os| format!("os = \"{os}\"")), cc.get(*at_cc).map(|cc| format!("cc = \"{cc}\""))].into_iter().flatten().collect();
            text += &format!("  {{ for = {{ {} }}", of.join(", "));
            minutes.iter().for_each(|minutes| text += &format!(", timeout = \"{minutes}m\""));
            label.iter().for_each(|label| text += &format!(", where = [\"l{label}-{{each.cc}}\"]"));
            text += " },\n";
        }
        let plan = planned(&(text + "]\n"));
        for job in &plan.jobs {
            let (mut minutes, mut label) = (99, job.cell["os"].clone());
            for (at_os, at_cc, own_minutes, own_label) in &settings {
                let fits = os.get(*at_os).is_none_or(|os| job.cell["os"] == *os) && cc.get(*at_cc).is_none_or(|cc| job.cell["cc"] == *cc);
                if fits {
                    minutes = own_minutes.unwrap_or(minutes);
                    label = own_label.map_or(label, |label| format!("l{label}-{}", job.cell["cc"]));
                }
            }
            prop_assert_eq!(job.timeout_ms, Some(minutes * 60_000));
            prop_assert_eq!(&job.labels, &[label]);
        }
    }
}
