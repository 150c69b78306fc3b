//! What an environment's history comes to, against the plainest way to count it.

use ordotaxis_core::delivery::{Kind, Past, Went, figures};
use proptest::prelude::*;

const DAY: i64 = 86_400_000;

fn past() -> impl Strategy<Value = Vec<Past>> {
    let went = prop_oneof![
        4 => Just(Went::Well),
        1 => (0..DAY).prop_map(Went::Undone),
        1 => any::<bool>().prop_map(|back| Went::Failed { back }),
    ];
    let one = (0..20_u8, 0..DAY, 1..DAY / 4, proptest::bool::weighted(0.2), went, any::<bool>());
    proptest::collection::vec(one, 0..40).prop_map(|list| {
        let mut now = 0;
        let made = |(commit, pause, length, back, went, known): (u8, i64, i64, bool, Went, bool)| {
            let let_in_at = now + pause;
            now = let_in_at + length;
            Past {
                commit: format!("c{commit}"),
                committed_at: known.then_some(let_in_at - i64::from(commit) * 1_000),
                let_in_at,
                ended_at: now,
                kind: if back { Kind::Back } else { Kind::New },
                went: if let Went::Undone(after) = went { Went::Undone(now + after) } else { went },
            }
        };
        list.into_iter().map(made).collect()
    })
}

proptest! {
    #[test]
    fn the_parts_are_the_whole_and_each_deployment_counts_once(past in past(), since in 0..10_i64, days in 1..40_i64) {
        let (since, until) = (since * DAY, (since + days) * DAY);
        let found = figures(&past, since, until, DAY);
        let new = || past.iter().filter(|one| one.kind == Kind::New && (since..until).contains(&one.ended_at));
        prop_assert_eq!(found.count, new().count());
        prop_assert_eq!(found.failed, new().filter(|one| one.went != Went::Well).count());
        prop_assert_eq!(found.parts.len(), usize::try_from(days).expect("small"));
        prop_assert_eq!(found.parts.iter().map(|part| part.well + part.failed).sum::<usize>(), found.count);
        prop_assert_eq!(found.parts.iter().map(|part| part.failed).sum::<usize>(), found.failed);
        // A commit's way there is told once, of the first time that it was well there.
        let first = |one: &Past| !past.iter().any(|other| other.ended_at < one.ended_at && other.commit == one.commit && !matches!(other.went, Went::Failed { .. }));
        let mut leads: Vec<i64> = new().filter(|one| !matches!(one.went, Went::Failed { .. }) && first(one)).filter_map(|one| Some(one.ended_at - one.committed_at?)).collect();
        leads.sort_unstable();
        prop_assert_eq!(found.lead, leads.get(leads.len() / 2).copied());
        prop_assert!(found.mend.is_none_or(|length| length >= 0));
        // Something is open when the last that matters failed and left nobody knows what.
        let last = past.iter().rev().find(|one| one.went != Went::Well || one.kind == Kind::New || one.kind == Kind::Back);
        prop_assert_eq!(found.open, last.is_some_and(|one| one.went == Went::Failed { back: false }));
    }
}

#[test]
fn trouble_lasts_until_the_environment_is_well_again() {
    let one =
        |at: i64, kind, went| Past { commit: format!("c{at}"), committed_at: Some(at - 50), let_in_at: at, ended_at: at + 10, kind, went };
    let mend = |past: &[Past]| {
        let found = figures(past, 0, 10_000, 10_000);
        (found.mend, found.open, found.failed, found.lead)
    };
    assert_eq!(mend(&[]), (None, false, 0, None));
    assert_eq!(mend(&[one(100, Kind::New, Went::Well)]), (None, false, 0, Some(60)));
    let failed = Went::Failed { back: false };
    assert_eq!(mend(&[one(100, Kind::New, failed)]), (None, true, 1, None), "it is not over");
    let mended = [one(100, Kind::New, failed), one(200, Kind::New, failed), one(300, Kind::New, Went::Well)];
    assert_eq!(mend(&mended), (Some(210), false, 2, Some(60)), "from the first that failed");
    assert_eq!(mend(&[one(100, Kind::New, Went::Failed { back: true })]), (Some(10), false, 1, None), "as long as it took to put back");
    let undone = [one(100, Kind::New, Went::Undone(400)), one(390, Kind::Back, Went::Well)];
    assert_eq!(mend(&undone), (Some(290), false, 1, Some(60)), "as long as it was there");
}
