//! Plans of random pipelines against the matrices.

use super::model::sketch;
use ordotaxis_core::plan::{check, dot, edges};
use proptest::prelude::*;

proptest! {
    #![proptest_config(ProptestConfig::with_cases(1_000))]

    #[test]
    fn a_plan_exists_exactly_when_nothing_goes_in_a_circle(sketch in sketch()) {
        let diagnostics = check(&sketch.text());
        let circle = diagnostics.iter().any(|d| d.code.word() == "circle");
        prop_assert_eq!(circle, sketch.has_circle(), "{:?}\n{}", diagnostics, sketch.text());
        prop_assert_eq!(sketch.plan().is_some(), !circle, "{:?}", diagnostics);
    }

    #[test]
    fn edges_are_the_waits_and_implied_means_implied(sketch in sketch()) {
        let Some(plan) = sketch.plan() else { return Ok(()) };
        let places = sketch.places(&plan);
        let (waits, reach, edges) = (sketch.waits(), sketch.reach(), edges(&plan));
        for j in 0..waits.len() {
            for i in 0..waits.len() {
                let edge = edges[places[j]].iter().find(|edge| edge.job == places[i]);
                prop_assert_eq!(edge.is_some(), waits[j][i], "{} on {}", sketch.id(j), sketch.id(i));
                let implied = (0..waits.len()).any(|middle| waits[j][middle] && reach[middle][i]);
                if let Some(edge) = edge {
                    prop_assert_eq!(edge.implied, implied, "{} on {}\n{}", sketch.id(j), sketch.id(i), sketch.text());
                }
            }
        }
    }

    #[test]
    fn stages_and_jobs_stand_in_an_order_that_can_be_followed(sketch in sketch()) {
        let Some(plan) = sketch.plan() else { return Ok(()) };
        for (at, stage) in plan.stages.iter().enumerate() {
            prop_assert!(stage.before.iter().all(|&before| before < at));
        }
        prop_assert!(plan.jobs.windows(2).all(|pair| pair[0].stage <= pair[1].stage));
    }

    #[test]
    fn the_same_text_gives_the_same_bytes(sketch in sketch()) {
        let Some(plan) = sketch.plan() else { return Ok(()) };
        let again = sketch.plan().unwrap();
        prop_assert_eq!(serde_json::to_string(&plan).unwrap(), serde_json::to_string(&again).unwrap());
        prop_assert_eq!(dot(&plan), dot(&again));
        let back: ordotaxis_core::plan::Plan = serde_json::from_str(&serde_json::to_string(&plan).unwrap()).unwrap();
        prop_assert_eq!(back, plan);
    }
}
