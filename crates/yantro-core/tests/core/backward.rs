//! The way back in its details: what is brought back at all, from what, by which steps, and how that is said beforehand (R31).

use rstest::rstest;
use yantro_core::{
    plan::{Part, Release, Request, Step, StepId, Why},
    proof::{Answer, SeenState},
    run::{ActEnd, ActKind, DecisionKind, Input},
    words::kinds::{StepKind, Wish},
};

use crate::{
    by_hand::{began_so, decision},
    estates::{addresses, seen},
    played::{Played, night},
};

const FIRST: StepId = StepId(1);
const PATCH: &str =
    "work = [\"/bin/patch\"], on = \"h\", title = \"patch\", counter = { work = [\"/bin/unpatch\"], title = \"take it off\" }";

fn wished(relations: &str, more: &str, wish: Wish, chosen: &str, found: &str) -> Played {
    Played::of(began_so(relations, more, found, &Request::new(wish, addresses(chosen))), found)
}

/// The way back from how it stands, with these found otherwise.
fn back(played: &Played, but: &str) -> Vec<Step> {
    let mut stands = played.stands.clone();
    stands.extend(seen(but));
    played.run.run.way_back(&stands)
}

fn says(steps: &[Step]) -> Vec<String> {
    steps.iter().map(Step::says).collect()
}

/// What was not acted on is not brought back, and what was refused was not acted on.
#[rstest]
#[case::it_was_stopped(ActEnd::Exited { code: 0, output: String::new() }, &["start h/app"])]
#[case::it_failed(ActEnd::Exited { code: 1, output: String::new() }, &["start h/app"])]
#[case::it_was_refused(ActEnd::Refused { why: "no".into(), mend: "ask".into() }, &[])]
fn what_was_acted_on_is_brought_back(#[case] end: ActEnd, #[case] expected: &[&str]) {
    let mut played = wished("app -> db", "", Wish::Stop, "app db", "");
    let step = played.step(StepKind::Stop, "app");
    played.acts(step);
    played.ends(step, end);
    assert_eq!(says(&back(&played, "app=down db=down")), expected, "the database was not stopped by it");
}

/// Work that was refused changed nothing.
#[rstest]
#[case::it_failed(ActEnd::Exited { code: 1, output: String::new() }, &["take it off"])]
#[case::it_was_refused(ActEnd::Refused { why: "no".into(), mend: "ask".into() }, &[])]
fn what_was_worked_on_is_taken_back(#[case] end: ActEnd, #[case] expected: &[&str]) {
    let mut played = Played::of(night("zz", "", &[PATCH], ""), "");
    played.acts(FIRST);
    played.ends(FIRST, end);
    assert_eq!(says(&back(&played, "")), expected);
}

/// What our own start left unproven is cleared away before it is started anew; what climbs by itself is not.
#[rstest]
#[case::it_is_down(Wish::Restart, 2, "app=down", &["start h/app"])]
#[case::it_came_up(Wish::Restart, 2, "app=proven", &[])]
#[case::our_start_left_it_so(Wish::Restart, 2, "app=rising", &["stop h/app", "start h/app"])]
#[case::our_start_left_it_ailing(Wish::Restart, 2, "app=ailing", &["stop h/app", "start h/app"])]
#[case::it_climbs_by_itself(Wish::Restart, 1, "app=rising", &["start h/app"])]
fn what_our_start_left_behind_is_cleared_first(#[case] wish: Wish, #[case] steps: usize, #[case] stands: &str, #[case] expected: &[&str]) {
    let more = "[service.app]\nlike = \"x\"\nsteady = \"0s\"\nladder = [{ rung = \"port\", port = 1 }]\n";
    let mut played = wished("zz", more, wish, "app", "");
    played.goes_on(1);
    if steps == 2 {
        let step = played.step(StepKind::Start, "app");
        played.acts(step);
    }
    assert_eq!(says(&back(&played, stands)), expected);
}

/// A step of the way back tells which step it takes back and of which line, and is expected to take as long as it did before.
#[rstest]
#[case::as_it_is_known(Some((7_000, 9_000)), (7_000, 9_000))]
#[case::nothing_is_known(None, (3_000, 6_000))]
fn a_step_back_is_one_that_takes_another_back(#[case] known: Option<(u64, u64)>, #[case] expected: (u64, u64)) {
    let more = "[service.app]\nlike = \"x\"\nsteady = \"0s\"\nladder = [{ rung = \"port\", port = 1 }]\n\
                [service.app.acts.count]\ncommand = [\"/bin/count\"]\nchanges_nothing = true\n";
    let lines = ["pause = \"0s\"", "stop = [\"app\"]", "start = [\"app\"]", "act = \"count\", of = [\"app\"]", "stop = [\"app\"]"];
    let mut played = Played::of(night("zz", more, &lines, ""), "");
    let start = played.run.run.steps().find(|(s, _)| s.kind() == StepKind::Start).unwrap().0.id;
    let step = &mut played.run.run.begun.sequence.steps[start.0 as usize - 1];
    (step.usual_ms, step.slow_ms) = known.unwrap_or_default();
    played.given(Input::Tick);
    played.goes_on(1);
    let way = back(&played, "");
    assert_eq!(says(&way), ["start h/app"]);
    assert_eq!((way[0].usual_ms, way[0].slow_ms), expected);
    assert_eq!((way[0].why.clone(), way[0].line), (Why::TakesBack(StepId(2)), Some(2)), "the last that went the other way");
    assert_eq!((way[0].part, way[0].found), (Part::PutBack, SeenState::Down));
}

/// A stop on the way back that is not known is expected to take a second.
#[test]
fn a_stop_back_is_expected_to_take_a_second() {
    let more = "[service.app]\nlike = \"x\"\nsteady = \"0s\"\nladder = [{ rung = \"port\", port = 1 }]\n";
    let mut played = wished("zz", more, Wish::Start, "app", "app=down");
    played.goes_on(1);
    let way = back(&played, "");
    assert_eq!((says(&way), way[0].usual_ms, way[0].slow_ms), (vec!["stop h/app".to_owned()], 1_000, 2_000));
    assert_eq!(way[0].why, Why::TakesBack(FIRST));
}

/// Found ailing, it is put back to as many rungs as it had; found proven, to all.
#[rstest]
#[case::ailing("app=ailing", Some(2))]
#[case::proven("", None)]
fn what_was_found_ailing_needs_no_more_rungs_than_it_had(#[case] found: &str, #[case] rungs: Option<u32>) {
    let mut played = wished("app", "", Wish::Stop, "app", found);
    played.run.run.begun.found_rungs.insert("h/app".parse().unwrap(), 2);
    played.goes_on(1);
    let way = back(&played, "");
    assert_eq!((says(&way), way[0].set(|s| s.rungs)), (vec!["start h/app".to_owned()], rungs));
}

/// What takes work back waits for every step of the stage before it, and not only for those that nobody else waits for.
#[test]
fn what_takes_work_back_waits_for_all_before_it() {
    let lines = ["stop = [\"app\", \"db\"]", PATCH, "start = [\"app\", \"db\"]"];
    let mut played = Played::of(night("app ~> db", "", &lines, ""), "");
    played.goes_on(3);
    let way = back(&played, "app=proven db=proven");
    let of = |says: &str| way.iter().find(|s| s.says() == says).unwrap_or_else(|| panic!("{says}: {:?}", self::says(&way)));
    let waits = |step: &Step| step.waits.iter().filter(|w| w.release == Release::WhenGood).map(|w| w.step).collect::<Vec<_>>();
    let (app, db) = (of("stop h/app").id, of("stop h/db").id);
    assert!(of("stop h/db").waits.iter().any(|w| w.step == app && w.release == Release::WhenEnded));
    let mut waited = waits(of("take it off"));
    waited.sort();
    let mut both = vec![app, db];
    both.sort();
    assert_eq!(waited, both);
}

/// What putting back would do is said beforehand, with what only a person can.
#[rstest]
#[case::one(&["stop = [\"app\"]"], 1, "starts h/app, as it was found, in about 3 s")]
#[case::several(&["stop = [\"app\", \"db\"]"], 2, "starts 2 services, as it was found, in about 6 s")]
#[case::work(&[PATCH, "stop = [\"app\"]"], 2, "starts h/app, take it off, as it was found, in about ")]
#[case::what_only_a_person_can(
    &["work = [\"/bin/patch\"], on = \"h\", title = \"patch\"", "stop = [\"app\"]"],
    2,
    "starts h/app, as it was found, in about "
)]
#[case::nothing(&["work = [\"/bin/look\"], on = \"h\", changes_nothing = true", "stop = [\"app\"]"], 1, "ends the run: everything stands as found")]
fn what_putting_back_does_is_said(#[case] lines: &[&str], #[case] steps: usize, #[case] expected: &str) {
    let mut played = Played::of(night("app -> db", "", lines, ""), "");
    played.goes_on(steps);
    let hold = played.run.run.hold_no();
    assert_eq!(hold, None);
    let allowed = played.run.run.allowed();
    let Some(put_back) = allowed.iter().find(|a| a.kind == DecisionKind::PutBack) else { panic!("{allowed:?}") };
    assert!(put_back.leads_to.starts_with(expected), "{}", put_back.leads_to);
    let by_hand = put_back.leads_to.contains("; it holds where only a person can: take back step 1: patch");
    assert_eq!(by_hand, lines[0].contains("title = \"patch\"") && !lines[0].contains("counter"), "{}", put_back.leads_to);
}

/// Where the way there is left, what it came to meanwhile is left by that word.
#[rstest]
#[case::put_back(DecisionKind::PutBack, "putting back")]
#[case::divert(DecisionKind::Divert { procedure: "night".parse().unwrap() }, "diverting")]
fn what_fails_once_its_way_is_left_is_left_with_it(#[case] kind: DecisionKind, #[case] by: &str) {
    let mut played = Played::of(night("app -> db", "", &["stop = [\"app\"]", "stop = [\"db\"]"], ""), "");
    let act = played.acts(FIRST);
    played.given(Input::Decide(decision(kind, None)));
    played.given(Input::ActEnded { step: FIRST, act, end: ActEnd::Exited { code: 1, output: String::new() } });
    let state = format!("{:?}", played.run.run.step_now(FIRST).state);
    assert!(state.contains("PassedOver") && state.contains(&format!("by: \"{by}\"")), "{state}");
    assert_eq!(played.run.run.step_now(FIRST).acts[0].kind, ActKind::Stop);
}

/// What the last act that went the other way did is taken back, and not what went the same way since and came to nothing.
#[test]
fn what_came_to_nothing_is_not_what_is_taken_back() {
    let more = "[service.app]\nlike = \"x\"\nsteady = \"0s\"\nladder = [{ rung = \"port\", port = 1 }]\n";
    let mut played = wished("zz", more, Wish::Restart, "app", "");
    played.goes_on(1);
    let start = played.step(StepKind::Start, "app");
    played.acts(start);
    let way = back(&played, "app=down");
    assert_eq!((says(&way), way[0].why.clone()), (vec!["start h/app".to_owned()], Why::TakesBack(FIRST)));
}

/// What an earlier attempt of the way back left is cleared to its last rung, however few a start there needs.
#[test]
fn what_is_cleared_on_the_way_back_is_cleared_wholly() {
    let more = "[service.app]\nlike = \"x\"\nsteady = \"0s\"\nladder = [{ rung = \"process\" }, { rung = \"port\", port = 1 }]\n\
                start = { attempts = 2, gap = \"1s\" }\n";
    let mut run = night("zz", more, &["stop = [\"app\"]", "pause = \"1h\""], "app=ailing");
    run.run.begun.found_rungs.insert("h/app".parse().unwrap(), 1);
    let mut played = Played::of(run, "app=ailing");
    played.run.run.begun.found_rungs.insert("h/app".parse().unwrap(), 1);
    played.goes_on(1);
    played.given(Input::Decide(decision(DecisionKind::PutBack, None)));
    let stands = played.stands.clone();
    played.given(Input::FinalLooked { seen: stands });
    let start = played.step(StepKind::Start, "app");
    let act = played.acts(start);
    played.given(Input::RungLooked { step: start, attempt: 1, rung: 0, answer: Answer::against("it does not answer"), logs: vec![] });
    played.given(Input::ActEnded { step: start, act, end: ActEnd::Exited { code: 1, output: String::new() } });
    played.run.waits(1_000);
    played.given(Input::Tick);
    played.given(Input::FreshLooked { step: start, seen: seen("app=ailing") });
    assert_eq!(played.run.run.last_act(start).unwrap().kind, ActKind::Clear);
    let act = played.act(start);
    played.given(Input::ActBegun { step: start, act, begun: crate::by_hand::begun_now() });
    played.given(Input::ActEnded { step: start, act, end: ActEnd::Sent });
    let rungs = played.run.run.service(start).ladder_of(StepKind::Stop).len() as u32;
    assert!(rungs > 1);
    for rung in 0..rungs {
        assert_eq!(played.run.run.step_now(start).state.word(), "proving", "rung {rung} of {rungs}");
        played.given(Input::RungLooked { step: start, attempt: 1, rung, answer: Answer::holds("gone"), logs: vec![] });
    }
    assert_eq!(played.run.run.step_now(start).state.word(), "pausing");
}
