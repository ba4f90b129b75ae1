//! Forecasts: what is made of history, and a step graph played under its limits.

use std::time::Duration;

use proptest::prelude::*;
use rstest::rstest;
use yantro_core::{
    plan::{
        Request, Step,
        forecast::{
            Basis, Usual,
            plays::{Forecast, Limits, Standing, play, play_all},
        },
        plan,
    },
    proof::Facts,
    words::kinds::{StepKind, Wish},
};

use crate::estates::{addresses, estate, facts};

fn s(seconds: f64) -> Duration {
    Duration::from_secs_f64(seconds)
}

fn usual_of(samples: &[f64], more: &str) -> yantro_core::plan::forecast::Estimate {
    let (estate, _) = estate("db", more);
    let times = samples.iter().map(|t| s(*t)).collect();
    let usual = Usual::new([("h/db".to_owned(), "start".to_owned(), times)], &estate);
    usual.of(&estate.services[&"h/db".parse().unwrap()], StepKind::Start)
}

#[rstest]
#[case::many_alike(&[10.0, 10.2, 9.9, 10.1, 10.0, 9.8, 10.3], 9_500..10_500, 13_000)]
#[case::one_night_that_hung(&[10.0, 10.2, 9.9, 3600.0, 10.1, 10.0, 9.8], 9_500..10_800, 16_000)]
#[case::a_single_one(&[20.0], 19_000..21_000, 45_000)]
#[case::nothing_known(&[], 2_900..3_100, 7_000)]
fn the_middle_is_robust_and_few_samples_spread_wide(
    #[case] samples: &[f64],
    #[case] middle: std::ops::Range<u64>,
    #[case] slow_below: u64,
) {
    let estimate = usual_of(samples, "");
    assert!(middle.contains(&estimate.usual_ms), "{estimate:?}");
    assert!(estimate.slow_ms > estimate.usual_ms && estimate.slow_ms < slow_below, "{estimate:?}");
    assert_eq!(estimate.basis, if samples.is_empty() { Basis::Default } else { Basis::History });
    assert_eq!(estimate.samples, samples.len() as u32);
}

#[test]
fn few_samples_are_drawn_toward_what_is_declared_and_many_are_not() {
    let more = "[service.slow]\nlike = \"x\"\nladder = [{ rung = \"port\", port = 9 }]\nstart = { usually = \"60s\" }\n";
    let (estate, _) = estate("db", more);
    let of = |n: usize| {
        let usual = Usual::new([("h/slow".to_owned(), "start".to_owned(), vec![s(10.0); n])], &estate);
        usual.of(&estate.services[&"h/slow".parse().unwrap()], StepKind::Start)
    };
    let (none, one, many) = (of(0), of(1), of(25));
    assert_eq!((none.basis, none.usual_ms), (Basis::Declared, 60_000));
    assert!(one.usual_ms > 20_000 && one.usual_ms < 60_000, "{one:?}");
    assert!(many.usual_ms < 12_000, "{many:?}");
}

#[test]
fn without_a_history_of_its_own_the_groups_counts() {
    let more = "[group.g]\n[service.one]\nlike = \"x\"\ngroups = [\"g\"]\nladder = [{ rung = \"port\", port = 9 }]\n\
                [service.two]\nlike = \"x\"\ngroups = [\"g\"]\nladder = [{ rung = \"port\", port = 8 }]\n";
    let (estate, _) = estate("db", more);
    let usual = Usual::new([("h/one".to_owned(), "start".to_owned(), vec![s(40.0); 8])], &estate);
    let two = usual.of(&estate.services[&"h/two".parse().unwrap()], StepKind::Start);
    assert_eq!((two.basis, two.usual_ms), (Basis::Group, 40_000));
}

fn restart(relations: &str, more: &str, of: &str) -> (yantro_core::model::Estate, Vec<Step>) {
    let (estate, graph) = estate(relations, more);
    let steps = plan(&estate, &graph, &facts(&estate, ""), &Usual::default(), &Request::new(Wish::Restart, addresses(of))).sequence.steps;
    (estate, steps)
}

#[rstest]
#[case::side_by_side("", 4_000)]
#[case::two_at_once("[limits]\nat_once = 2\n", 8_000)]
#[case::one_by_one("[limits]\nper_host = 1\n", 16_000)]
fn limits_make_it_longer(#[case] limits: &str, #[case] planned_ms: u64) {
    let (estate, steps) = restart("a, b, c, d", limits, "a b c d");
    let forecast = play_all(&steps, &estate, None);
    assert_eq!(forecast.as_planned_ms, planned_ms, "each takes a second down and three up");
    assert!(forecast.rank_by_rank_ms >= forecast.as_planned_ms);
    assert!(forecast.soon_ms < forecast.likely_ms && forecast.likely_ms < forecast.late_ms);
}

#[test]
fn what_waits_for_nothing_in_its_rank_gains_on_rank_by_rank() {
    let (estate, mut steps) = restart("a -> b, c -> d", "", "b d");
    // One chain is slow below, the other above: rank by rank each waits for the other's slow step.
    for step in &mut steps {
        let slow = matches!((step.kind(), step.row().as_str()), (StepKind::Start, "h/b" | "h/c"));
        (step.usual_ms, step.slow_ms) = if slow { (30_000, 40_000) } else { (1_000, 1_500) };
    }
    let forecast = play_all(&steps, &estate, None);
    assert_eq!((forecast.as_planned_ms, forecast.rank_by_rank_ms), (33_000, 62_000));
    let away = |name: &str| forecast.away.iter().find(|a| a.address.service.as_str() == name).unwrap().likely_ms.unwrap();
    assert!(away("d") < away("a"), "each service is away from its stop until it is back");
}

#[test]
fn a_step_that_goes_on_longer_than_usual_moves_the_end() {
    let (estate, steps) = restart("a -> b", "", "b");
    let limits = Limits::new(&estate, &steps, None);
    let mut standing = vec![Standing::Waits; steps.len()];
    let fresh = play(&steps, &limits, &standing).likely_ms;
    standing[0] = Standing::GoesOn(60_000);
    let late = play(&steps, &limits, &standing);
    assert!(late.likely_ms > fresh, "what took a minute already is taken to last longer: {} and {fresh}", late.likely_ms);
    let all: Vec<Standing> = steps.iter().map(|_| Standing::Ended(5)).collect();
    assert_eq!(play(&steps, &limits, &all).likely_ms, 0);
}

#[test]
fn the_chance_to_have_ended_grows_with_time() {
    let (estate, steps) = restart("a -> b, c -> b, d -> a", "", "b");
    let forecast = play_all(&steps, &estate, None);
    let chances: Vec<u32> = (0..40).map(|i| forecast.chance_by(i * 1_000)).collect();
    assert!(chances.is_sorted() && chances[0] == 0 && chances[39] == 100, "{chances:?}");
    assert!((45..=55).contains(&forecast.chance_by(forecast.likely_ms)), "half of all plays end by the likely end");
    assert!((85..=95).contains(&forecast.chance_by(forecast.late_ms)));
}

/// When each step begins and ends as it usually goes.
fn spans(forecast: &Forecast) -> Vec<(u64, u64)> {
    forecast.steps.iter().map(|s| (s.begins_ms, s.ends_ms)).collect()
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 60, ..ProptestConfig::default() })]

    /// Under any limit: nothing begins before what it waits for, no more than the limit go on at once, the same
    /// input gives the same forecast, and a tighter limit never makes it shorter than the critical path.
    #[test]
    fn a_play_respects_waits_and_limits(
        relations in prop::collection::vec((0usize..8, 0usize..8), 0..14),
        lengths in prop::collection::vec(100u64..5_000, 20),
        at_once in 1u32..5,
    ) {
        let names: Vec<String> = (0..8).map(|i| format!("s{i}")).collect();
        let mut text: Vec<String> = names.clone();
        text.extend(relations.iter().filter(|(a, b)| a > b).map(|(a, b)| format!("s{a} -> s{b}")));
        let (estate, graph) = estate(&text.join(", "), "");
        let up: Facts = facts(&estate, "");
        let all = estate.services.keys().cloned().collect();
        let mut steps = plan(&estate, &graph, &up, &Usual::default(), &Request::new(Wish::Restart, all)).sequence.steps;
        for (step, length) in steps.iter_mut().zip(lengths.iter().cycle()) {
            // No spread: every play is the same, and the median is what happened.
            (step.usual_ms, step.slow_ms) = (*length, *length);
        }
        let length = yantro_core::plan::lay_out(&mut steps, 1);
        let forecast = play_all(&steps, &estate, Some(at_once));
        prop_assert_eq!(&forecast, &play_all(&steps, &estate, Some(at_once)));
        prop_assert!(forecast.as_planned_ms >= length);
        prop_assert!(forecast.rank_by_rank_ms >= length);
        let spans = spans(&forecast);
        for (i, step) in steps.iter().enumerate() {
            for wait in &step.waits {
                prop_assert!(spans[i].0 + 1 >= spans[wait.step.0 as usize - 1].1, "step {} begins before {} ends", step.id, wait.step);
            }
            let beside = spans.iter().filter(|(from, to)| *from <= spans[i].0 && spans[i].0 + 2 < *to).count();
            prop_assert!(beside <= at_once as usize, "{} at once, and {} may be", beside, at_once);
        }
        prop_assert_eq!(forecast.likely_ms, forecast.late_ms);
        prop_assert_eq!(play_all(&steps, &estate, None).as_planned_ms, length, "without limits the critical path is all");
    }
}
