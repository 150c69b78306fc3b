//! Matrices against plain loops, and who takes from which cell.

use ordotaxis_core::plan::{Because, BorrowedFiles, Change, Occasion, Plan, Source, compare, edges, plan, svg};
use proptest::prelude::*;
use std::collections::BTreeSet;

fn planned(text: &str) -> Plan {
    let borrowed = BorrowedFiles::new();
    plan(Source { text, name: "main", borrowed: &borrowed }, &Occasion::by_hand()).unwrap_or_else(|found| panic!("{found:?}\n{text}")).plan
}

fn list(prefix: &str, count: usize) -> String {
    (0..count).map(|value| format!("\"{prefix}{value}\"")).collect::<Vec<_>>().join(", ")
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(800))]

    #[test]
    fn a_matrix_is_its_loops_without_what_is_taken_out(a in 1..5usize, b in 1..5usize, out in prop::collection::btree_set((0..5usize, 0..5usize), 0..4)) {
        let out: BTreeSet<(usize, usize)> = out.into_iter().filter(|(x, y)| *x < a && *y < b).collect();
        let mut wanted = Vec::new();
        for x in 0..a {
            for y in 0..b {
                if !out.contains(&(x, y)) {
                    wanted.push(format!("s.j[a{x},b{y}]"));
                }
            }
        }
        prop_assume!(!wanted.is_empty());
        wanted.push("s.j[more,b0]".into());
        let except: Vec<String> = out.iter().map(|(x, y)| format!("{{ one = \"a{x}\", two = \"b{y}\" }}")).collect();
        let text = format!(
            "language = 1\n[job.s.j]\neach = {{ one = [{}], two = [{}] }}\nexcept = [{}]\nalso = [{{ two = \"b0\", one = \"more\" }}]\nsteps = [\"true\"]\n",
            list("a", a), list("b", b), except.join(", ")
        );
        let ids: Vec<String> = planned(&text).jobs.iter().map(|job| job.id.to_string()).collect();
        prop_assert_eq!(ids, wanted);
    }

    #[test]
    fn same_takes_from_the_cells_with_the_same_values(shared in 1..4usize, theirs in 1..4usize, own in 1..4usize) {
        let text = format!(
            "language = 1\n[job.a.giver]\neach = {{ s = [{0}], t = [{1}] }}\ngives = {{ out = [\"out\"] }}\nsteps = [\"true\"]\n\
             [job.b.taker]\neach = {{ o = [{2}], s = [{0}] }}\ntakes = [{{ from = \"a.giver/out\", cells = \"same\" }}]\nsteps = [\"true\"]\n",
            list("s", shared), list("t", theirs), list("o", own)
        );
        let plan = planned(&text);
        let edges = edges(&plan);
        for (at, job) in plan.jobs.iter().enumerate().filter(|(_, job)| job.name == "taker") {
            let from: BTreeSet<usize> = edges[at].iter().filter(|edge| edge.because == Because::Takes).map(|edge| edge.job).collect();
            let wanted: BTreeSet<usize> = (0..plan.jobs.len()).filter(|&on| plan.jobs[on].name == "giver" && plan.jobs[on].cell["s"] == job.cell["s"]).collect();
            prop_assert_eq!(&from, &wanted);
            let taken: BTreeSet<usize> = job.takes.iter().flat_map(|take| take.job..take.job + take.cells).collect();
            prop_assert_eq!(taken, wanted);
            prop_assert!(job.takes.iter().all(|take| take.apart == (theirs > 1)));
        }
    }

    #[test]
    fn all_cells_are_waited_for_as_one(cells in 1..40usize, takers in 1..40usize) {
        let text = format!(
            "language = 1\n[job.a.giver]\neach = {{ n = [{}] }}\ngives = {{ out = [\"out\"] }}\nsteps = [\"true\"]\n[job.b.taker]\neach = {{ m = [{}] }}\ntakes = [\"a.giver/out\"]\nsteps = [\"true\"]\n",
            list("n", cells), list("m", takers)
        );
        let plan = planned(&text);
        for (at, job) in plan.jobs.iter().enumerate().filter(|(_, job)| job.name == "taker") {
            prop_assert_eq!(job.waits.len(), 1, "one wait, however many cells");
            prop_assert_eq!(edges(&plan)[at].len(), cells);
        }
    }

    #[test]
    fn a_plan_compared_with_itself_has_not_changed(cells in 1..6usize) {
        let text = format!("language = 1\norder = \"a > b\"\n[job.a.x]\neach = {{ n = [{}] }}\nsteps = [\"true\"]\n[job.b.y]\nsteps = [\"<&>\"]\n", list("n", cells));
        let plan = planned(&text);
        prop_assert!(compare(&plan, &plan).is_empty());
        let more = planned(&text.replace("[job.b.y]", "[job.b.z]\nsteps = [\"new\"]\n[job.b.y]"));
        prop_assert_eq!(compare(&plan, &more).len(), 1);
        prop_assert_eq!(compare(&more, &plan).len(), 1);
        let picture = svg(&plan);
        prop_assert!(picture.contains("cell") && picture.matches("<g").count() == picture.matches("</g>").count());
    }
}

/// Why a job is skipped depends on what began the run as well; its condition is told apart, and only where it can be seen in both.
#[test]
fn what_is_skipped_is_told_apart_from_what_is_written() {
    let text = "language = 1\n[job.a.x]\nif = \"ref.branch == 'main'\"\nsteps = ['true']\n";
    let planned = |branch: &str| {
        let borrowed = BorrowedFiles::new();
        plan(Source { text, name: "main", borrowed: &borrowed }, &Occasion::push(branch)).expect("a plan").plan
    };
    let keys = |one: &Plan, other: &Plan| {
        let key = |change: Change| if let Change::KeyChanged { key, .. } = change { key } else { panic!("{change:?}") };
        compare(one, other).into_iter().map(key).collect::<Vec<_>>()
    };
    let (main, topic) = (planned("main"), planned("topic/a"));
    assert!(topic.jobs[0].skipped.is_some());
    assert_eq!(keys(&main, &topic), ["skipped"]);
    let mut late = main.clone();
    late.jobs[0].conditions = vec!["facts.a == '1'".into()];
    assert_eq!((keys(&main, &late), keys(&topic, &late)), (vec!["if".to_owned()], vec!["skipped".to_owned()]));
}
