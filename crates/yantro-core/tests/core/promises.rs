//! What a run must never do, whatever comes in between: each test is named after what it keeps.

use std::collections::BTreeMap;

use rstest::rstest;
use yantro_core::{
    graph::EstateGraph,
    guards::{Newest, again, unconfirmed},
    holders::Rooms,
    model::{
        Estate,
        procedure::{FoundBy, Procedure},
    },
    plan::{
        Ask, Plan, Request, Shown, StepId,
        forecast::{Prefer, Usual},
        plan,
        procedure::{self, Asked, settle},
    },
    proof::{
        Answer, SeenState, Verdict,
        standing::{Look, Watched},
    },
    run::{
        ActEnd, ActId, ActKind, Begun, DecisionKind, Event, FoundProcess, Frozen, HoldCause, Input, Order, Refusal, Restriction, Run,
        RunId, RunState, StepState, Taken,
    },
    words::{
        ImpactLevel,
        kinds::{StepKind, Wish},
        name::Address,
        time::Timestamp,
    },
};

use crate::{
    by_hand::{Began, began, began_as_planned, began_so, begun_by, begun_now, decision},
    estates::{addresses, estate, facts, seen},
    world::{Operator, World},
};

fn at(name: &str) -> Address {
    format!("h/{name}").parse().unwrap()
}

fn acts(taken: &Taken) -> Vec<(u32, ActKind)> {
    taken.orders.iter().filter_map(|o| if let Order::Act { step, kind, .. } = o { Some((step.0, *kind)) } else { None }).collect()
}

fn planned(relations: &str, found: &str, request: &Request) -> yantro_core::plan::Plan {
    let (estate, graph) = estate(relations, "");
    plan(&estate, &graph, &facts(&estate, found), &Usual::default(), request)
}

// ---- neither up nor down (R14, R19) ----

#[rstest]
#[case::out_of_reach("out")]
#[case::never_looked_at("unknown")]
fn nothing_is_stopped_under_a_dependent_of_which_nobody_can_say_whether_it_runs(#[case] state: &str) {
    for wish in [Wish::Stop, Wish::Restart] {
        let plan = planned("app -> db", &format!("app={state}"), &Request::new(wish, addresses("db")));
        assert!(!plan.can_begin(), "{wish} goes ahead: {:?}", plan.left_alone);
        assert!(plan.obstacles[0].why.contains("h/app relies on h/db") && plan.obstacles[0].mend.contains("--left-standing h/app"));
        let named = Request { left_standing: addresses("app"), ..Request::new(wish, addresses("db")) };
        assert!(planned("app -> db", &format!("app={state}"), &named).can_begin(), "vouched for by name it goes ahead");
    }
}

#[rstest]
#[case::start(Wish::Start)]
#[case::stop(Wish::Stop)]
#[case::restart(Wish::Restart)]
fn what_was_never_looked_at_is_not_acted_on(#[case] wish: Wish) {
    let plan = planned("db", "db=unknown", &Request::new(wish, addresses("db")));
    assert!(plan.obstacles.iter().any(|o| o.why.contains("whether it runs cannot be said")), "{:?}", plan.obstacles);
}

#[rstest]
#[case::its_own_look("app=unknown db=proven")]
#[case::what_it_relies_on("app=down db=unknown")]
fn a_start_waits_for_a_look_that_could_not_look_and_then_holds(#[case] looked: &str) {
    let mut run = began_so("app -> db", "", "app=down", &Request::new(Wish::Start, addresses("app")));
    run.given(Input::Locked);
    run.given(Input::FirstLooked {
        seen: seen("app=down db=proven"),
        rungs: BTreeMap::new(),
        processes: BTreeMap::new(),
        unconfirmed: vec![],
    });
    let step = run.run.steps().find(|(s, _)| s.is_on(&at("app"))).unwrap().0.id;
    let mut looks = 0;
    while run.run.hold_no().is_none() {
        looks += 1;
        assert!(looks < 1_000, "it waits for ever");
        let taken = run.given(Input::FreshLooked { step, seen: seen(looked) });
        assert_eq!(acts(&taken), [], "nothing is begun on what nobody could look at");
        run.waits(300);
        run.given(Input::Tick);
    }
    assert!(looks > 5, "one look that could not look condemns nothing");
    let StepState::Failed { reason } = &run.run.step_now(step).state else { panic!("{:?}", run.run.step_now(step).state) };
    assert!(reason.contains("could not be looked at"), "{reason}");
}

#[test]
fn a_stop_under_a_dependent_out_of_reach_fails_and_does_not_act() {
    // Proven when it was planned: it goes with the stop, unless its host is gone by then.
    let mut run = began("app -> db", "db");
    run.first_looks(&[]);
    run.given(Input::FreshLooked { step: StepId(1), seen: seen("app=down db=proven") });
    let taken = run.given(Input::FreshLooked { step: StepId(2), seen: seen("app=out db=proven") });
    assert_eq!(acts(&taken), []);
    assert!(run.run.hold_no().is_some());
}

#[rstest]
#[case::out_of_reach("out")]
#[case::not_seen("unknown")]
#[case::going_down("sinking")]
fn only_what_is_down_lets_what_it_must_never_be_up_with_start(#[case] other: &str) {
    let more = "[service.standby]\nlike = \"x\"\nladder = [{ rung = \"port\", port = 9 }]\nnever_with = [\"active\"]\n\
                [service.active]\nlike = \"x\"\nladder = [{ rung = \"port\", port = 8 }]\n";
    let mut run = began_so("db", more, "standby=down active=down", &Request::new(Wish::Start, addresses("standby")));
    run.given(Input::Locked);
    let found = seen("standby=down active=down db=proven");
    run.given(Input::FirstLooked { seen: found, rungs: BTreeMap::new(), processes: BTreeMap::new(), unconfirmed: vec![] });
    let taken = run.given(Input::FreshLooked { step: StepId(1), seen: seen(&format!("standby=down active={other}")) });
    assert_eq!(acts(&taken), [], "it starts beside what is {other}");
}

fn look(runs: Option<bool>, answers: &[Verdict], pid: u32) -> Look {
    let rungs = answers.iter().map(|v| Answer { verdict: *v, says: format!("{v:?}") }).collect();
    let process = (pid > 0).then_some(FoundProcess { pid, started: 1 });
    Look { runs, rungs, total: 2, process, manager: None, started_at: None }
}

#[test]
fn a_look_that_could_not_look_is_no_fresh_proof() {
    use Verdict::*;
    let ms = Timestamp::from_ms;
    let patience = std::time::Duration::from_secs(60);
    let mut watched = Watched::unknown(2, ms(0));
    watched.take(&look(Some(true), &[Holds, Holds], 7), ms(1_000), patience, 2);
    assert_eq!(watched.as_looked_at(), SeenState::Proven);
    watched.take(&look(None, &[CouldNotLook], 0), ms(2_000), patience, 2);
    assert_eq!(watched.seen.state, SeenState::Proven, "the board goes on showing what was known");
    assert_eq!(watched.seen.as_of, ms(1_000), "with its age");
    assert_eq!(watched.as_looked_at(), SeenState::Unknown, "whoever acts on it is told that nobody could look");
    watched.take(&look(Some(true), &[Holds, CouldNotLook], 7), ms(3_000), patience, 2);
    assert_eq!(watched.as_looked_at(), SeenState::Ailing, "what is known to run is at least up, and not proven");
    watched.take(&look(Some(true), &[Holds, Holds], 7), ms(4_000), patience, 2);
    assert_eq!(watched.as_looked_at(), SeenState::Proven);
}

/// Its host's boot brought it up, or a person did: for its usual half minute it says that it is still starting.
#[test]
fn what_answers_that_it_is_still_starting_is_rising_whoever_started_it() {
    use Verdict::*;
    let ms = Timestamp::from_ms;
    let patience = std::time::Duration::from_secs(60);
    let mut watched = Watched::unknown(2, ms(0));
    let take = |watched: &mut Watched, look: &Look, at: i64| {
        watched.take(look, ms(at), patience, 2);
        watched.seen.state
    };
    assert_eq!(take(&mut watched, &look(Some(true), &[Holds, NotYet], 7), 1_000), SeenState::Rising);
    assert_eq!(take(&mut watched, &look(Some(true), &[Holds, NotYet], 7), 50_000), SeenState::Rising);
    assert_eq!(take(&mut watched, &look(Some(true), &[Holds, NotYet], 7), 70_000), SeenState::Ailing, "its patience is over");
    assert_eq!(take(&mut watched, &look(Some(true), &[Holds, Holds], 7), 71_000), SeenState::Proven);
    // Its host booted: another process, and not proven by what the one before it had shown.
    watched.out_of_reach("no way to it", ms(80_000));
    assert_eq!(take(&mut watched, &look(Some(true), &[Holds, NotYet], 9), 90_000), SeenState::Rising);
    assert_eq!(take(&mut watched, &look(Some(true), &[Holds, NotYet], 9), 160_000), SeenState::Ailing);
    // What speaks against it is no waiting.
    assert_eq!(take(&mut watched, &look(Some(true), &[Holds, Against], 11), 161_000), SeenState::Ailing);
}

#[test]
fn what_only_waits_comes_before_what_takes_away() {
    let plan = planned("front -> app, app -> cache, side -> db", "cache=out", &Request::new(Wish::Restart, addresses("front")));
    let awaits = plan.sequence.steps.iter().find(|s| s.kind() == StepKind::Await);
    // Front was up, and so is what it relies on: only a restart of app itself has to wait for the cache.
    assert!(awaits.is_none(), "{:?}", awaits);
    let plan = planned("front -> app, app -> cache, side -> db", "cache=out", &Request::new(Wish::Restart, addresses("app")));
    let awaits = plan.sequence.steps.iter().find(|s| s.kind() == StepKind::Await).expect("the cache is waited for").id;
    for stop in plan.sequence.steps.iter().filter(|s| s.kind() == StepKind::Stop) {
        assert!(stop.waits.iter().any(|w| w.step == awaits), "{} goes down before the cache is there", stop.says());
    }
}

// ---- an outcome that nobody knows (R21) ----

fn procedure_run(steps: &str, more: &str, from_line: Option<u32>, found: &str) -> Began {
    let written = format!("{more}[procedure.night]\ntitle = \"Night\"\nsteps = [\n{steps}\n]\n");
    let (estate, graph) = estate("app -> db", &written);
    let night = &estate.procedures[&"night".parse().unwrap()];
    let values = settle(&estate, &graph, night, &BTreeMap::new()).unwrap();
    let asked = Asked { values, from_line, ..Asked::default() };
    let plan = procedure::plan(&estate, &graph, &facts(&estate, found), &Usual::default(), night, &asked);
    let begun = Begun { from_line, why: Some("for the test".into()), ..Begun::of(plan, &estate, 1, "maren", &BTreeMap::new()) };
    let now = Timestamp::from_ms(1_000);
    let stored = vec![(now, Event::Begun(Box::new(begun.clone())))];
    Began { run: Run::begin(RunId(1), now, begun), rooms: Rooms::unlimited(), now, stored }
}

fn gone_through_preflight(run: &mut Began, found: &str) -> Taken {
    run.given(Input::Locked);
    let taken =
        run.given(Input::FirstLooked { seen: seen(found), rungs: BTreeMap::new(), processes: BTreeMap::new(), unconfirmed: vec![] });
    let looks = taken.orders.iter().find_map(|o| if let Order::Preflight { looks } = o { Some(looks.clone()) } else { None });
    match looks {
        Some(looks) => run.given(Input::Preflighted { answers: looks.into_iter().map(|l| (l, Answer::holds("so"))).collect() }),
        None => taken,
    }
}

#[rstest]
#[case::work("  { work = [\"bin/patch\"], title = \"patch\" },", "")]
#[case::an_act_without_a_ladder("  { act = \"drain\", of = [\"db\"] },", "[service.db.acts.drain]\ncommand = [\"bin/drain\"]\n")]
fn work_that_nobody_knows_the_outcome_of_holds(#[case] step: &str, #[case] more: &str) {
    let mut run = procedure_run(step, more, None, "");
    let mut taken = gone_through_preflight(&mut run, "app=proven db=proven");
    if acts(&taken).is_empty() {
        taken = run.given(Input::FreshLooked { step: StepId(1), seen: seen("db=proven") });
    }
    assert_eq!(acts(&taken).len(), 1, "{:?}", taken.orders);
    let act = ActId(1);
    run.given(Input::ActBegun { step: StepId(1), act, begun: begun_now() });
    run.given(Input::ActUnknown { step: StepId(1), act });
    assert!(matches!(run.run.step_now(StepId(1)).state, StepState::OutcomeUnknown { .. }), "{:?}", run.run.step_now(StepId(1)).state);
    assert_eq!(run.run.state(), RunState::Held);
}

// ---- a start whose lines never came (R17) ----

#[test]
fn a_start_whose_lines_never_came_is_not_done_by_a_look() {
    let more =
        "[service.talker]\nlike = \"x\"\nladder = [{ rung = \"port\", port = 9 }]\nstart = { must_see = [\"ready\"], patience = \"5s\" }\n";
    let mut run = began_so("zz", more, "talker=down", &Request::new(Wish::Start, addresses("talker")));
    run.given(Input::Locked);
    let found = seen("talker=down");
    run.given(Input::FirstLooked { seen: found, rungs: BTreeMap::new(), processes: BTreeMap::new(), unconfirmed: vec![] });
    let step = StepId(1);
    run.given(Input::FreshLooked { step, seen: seen("talker=down") });
    run.given(Input::ActBegun { step, act: ActId(1), begun: begun_now() });
    let rungs = run.run.service(step).ladder_of(StepKind::Start).len() as u32;
    for rung in 0..rungs - 1 {
        run.given(Input::RungLooked { step, attempt: 1, rung, answer: Answer::holds("so"), logs: vec![] });
    }
    run.given(Input::RungLooked { step, attempt: 1, rung: rungs - 1, answer: Answer::not_yet("no line"), logs: vec![] });
    run.waits(6_000);
    run.given(Input::Tick);
    assert_eq!(run.run.state(), RunState::Held);
    let hold = run.run.hold_no();
    run.given(Input::Decide(decision(DecisionKind::TryAgain { step, change: None }, hold)));
    let taken = run.given(Input::FreshLooked { step, seen: seen("talker=proven") });
    assert!(!run.run.step_now(step).state.has_ended(), "done, and nothing was acted on and no line seen");
    assert_eq!(acts(&taken), [(1, ActKind::Clear)]);
}

#[test]
fn an_attempt_that_is_up_after_all_climbs_its_ladder_anew() {
    let mut run = began_so("db", "", "db=down", &Request::new(Wish::Start, addresses("db")));
    run.given(Input::Locked);
    let found = seen("db=down");
    run.given(Input::FirstLooked { seen: found, rungs: BTreeMap::new(), processes: BTreeMap::new(), unconfirmed: vec![] });
    let step = StepId(1);
    run.given(Input::FreshLooked { step, seen: seen("db=down") });
    run.given(Input::ActBegun { step, act: ActId(1), begun: begun_now() });
    run.given(Input::RungLooked { step, attempt: 1, rung: 0, answer: Answer::against("no"), logs: vec![] });
    let hold = run.run.hold_no();
    run.given(Input::Decide(decision(DecisionKind::TryAgain { step, change: None }, hold)));
    let taken = run.given(Input::FreshLooked { step, seen: seen("db=proven") });
    assert!(taken.orders.iter().any(|o| matches!(o, Order::Climb { .. })), "{:?}", taken.orders);
    assert!(matches!(run.run.step_now(step).state, StepState::Proving { .. }));
}

// ---- holding, forcing (R29, R36) ----

fn stubborn(evidence: &str) -> Began {
    let more = format!(
        "[service.stuck]\nlike = \"x\"\nladder = [{{ rung = \"port\", port = 9 }}]\nstop = {{ force = \"allow\", patience = \"5s\"{evidence} }}\n"
    );
    let mut run = began_so("zz", &more, "", &Request::new(Wish::Stop, addresses("stuck")));
    run.first_looks(&[]);
    run.given(Input::FreshLooked { step: StepId(1), seen: seen("stuck=proven") });
    run.given(Input::ActBegun { step: StepId(1), act: ActId(1), begun: begun_now() });
    run.given(Input::ActEnded { step: StepId(1), act: ActId(1), end: ActEnd::Sent });
    run.waits(6_000);
    run
}

#[rstest]
#[case::by_an_operator(Input::Decide(decision(DecisionKind::Hold, None)))]
#[case::by_the_one_switch(Input::Hold(HoldCause::Standstill))]
fn no_force_follows_evidence_once_the_run_is_held(#[case] held: Input) {
    let mut run = stubborn(", evidence = [[\"bin/dump\"]]");
    let taken = run.given(Input::Tick);
    assert_eq!(acts(&taken), [(1, ActKind::Evidence(0))]);
    run.given(held);
    let taken = run.given(Input::ActEnded { step: StepId(1), act: ActId(2), end: ActEnd::Exited { code: 0, output: String::new() } });
    assert_eq!(acts(&taken), [], "forced while held");
    assert!(matches!(run.run.step_now(StepId(1)).state, StepState::Asking { answer: None, .. }), "it is asked for instead");
}

#[test]
fn no_force_is_ordered_at_a_standstill() {
    let mut run = stubborn("");
    run.given(Input::Hold(HoldCause::Standstill));
    run.given(Input::Tick);
    assert!(matches!(run.run.step_now(StepId(1)).state, StepState::Asking { .. }));
    let hold = run.run.hold_no();
    let refused = run.refused(Input::Decide(decision(DecisionKind::Force { step: StepId(1) }, hold)));
    assert_eq!(refused, Refusal::Standstill { decision: "force" });
    assert!(!run.run.allowed().iter().any(|a| matches!(a.kind, DecisionKind::Force { .. })));
    run.given(Input::Unhold { cause: HoldCause::Standstill, by: "maren".into() });
    let hold = run.run.hold_no();
    let taken = run.given(Input::Decide(decision(DecisionKind::Force { step: StepId(1) }, hold)));
    assert_eq!(acts(&taken), [(1, ActKind::Force)]);
}

#[test]
fn a_rule_that_puts_back_waits_for_whoever_holds_the_run() {
    let more = "[service.db]\nlike = \"x\"\nladder = [{ rung = \"port\", port = 9 }]\nif_it_fails = \"put-back\"\n\
                [service.app]\nlike = \"x\"\nladder = [{ rung = \"port\", port = 8 }]\nrelies_on = [\"db\"]\n";
    let mut run = began_so("zz", more, "", &Request::new(Wish::Restart, addresses("db")));
    run.first_looks(&[]);
    let app = run.run.steps().find(|(s, _)| s.kind() == StepKind::Stop && s.is_on(&at("app"))).unwrap().0.id;
    let db = run.run.steps().find(|(s, _)| s.kind() == StepKind::Stop && s.is_on(&at("db"))).unwrap().0.id;
    run.given(Input::FreshLooked { step: app, seen: seen("app=proven") });
    run.given(Input::ActBegun { step: app, act: ActId(1), begun: begun_now() });
    run.given(Input::ActEnded { step: app, act: ActId(1), end: ActEnd::Sent });
    for rung in 0..3 {
        run.given(Input::RungLooked { step: app, attempt: 1, rung, answer: Answer::holds("gone"), logs: vec![] });
    }
    run.given(Input::FreshLooked { step: db, seen: seen("db=proven app=down") });
    run.given(Input::ActBegun { step: db, act: ActId(2), begun: begun_now() });
    run.given(Input::Decide(decision(DecisionKind::Hold, None)));
    let end = ActEnd::Exited { code: 1, output: "will not".into() };
    let taken = run.given(Input::ActEnded { step: db, act: ActId(2), end });
    assert!(run.run.hold_causes().any(|c| matches!(c, HoldCause::Operator { .. })), "the operator's hold is gone");
    assert_eq!(acts(&taken), []);
    assert_eq!(run.run.state(), RunState::Held);
    let taken = run.given(Input::FinalLooked { seen: seen("db=proven app=down") });
    assert_eq!(acts(&taken), [], "it begins to put back behind the operator's back");
    let hold = run.run.hold_no();
    run.given(Input::Decide(decision(DecisionKind::Resume, hold)));
    assert_eq!(run.run.state(), RunState::PuttingBack);
}

#[test]
fn an_act_that_was_never_begun_is_worked_out_anew_and_not_while_held() {
    let mut run = began("app -> db", "db");
    run.first_looks(&[]);
    run.given(Input::FreshLooked { step: StepId(1), seen: seen("app=proven db=proven") });
    assert!(matches!(run.run.step_now(StepId(1)).state, StepState::Acting { .. }));
    run.given(Input::Hold(HoldCause::Standstill));
    let taken = run.given(Input::ActNeverBegun { step: StepId(1), act: ActId(1) });
    assert_eq!(acts(&taken), [], "given at a standstill");
    assert_eq!(run.run.step_now(StepId(1)).state, StepState::Waiting);
    let taken = run.given(Input::Unhold { cause: HoldCause::Standstill, by: "maren".into() });
    assert!(taken.orders.iter().any(|o| matches!(o, Order::FreshLook { step: StepId(1), .. })), "it is looked at anew");
    let taken = run.given(Input::FreshLooked { step: StepId(1), seen: seen("app=down db=proven") });
    assert!(!acts(&taken).contains(&(1, ActKind::Stop)), "there is nothing to stop any more");
    assert!(run.run.step_now(StepId(1)).state.has_ended());
}

// ---- what was down when it was planned, and what else something stands on (R1) ----

/// Its host's manager, or somebody, brought up meanwhile what relies on it.
#[rstest]
#[case::up_by_now("proven", false)]
#[case::on_its_way_up("sinking", false)]
#[case::still_down("down", true)]
fn a_stop_looks_again_at_what_was_down_when_it_was_planned(#[case] app: &str, #[case] acted: bool) {
    let mut run = began_as_planned("app -> db", "", "app=down", &Request::new(Wish::Stop, addresses("db")));
    assert_eq!(run.run.begun.sequence.acted_on(), addresses("db"), "it is left alone");
    run.given(Input::Locked);
    let found = seen("app=down db=proven");
    let taken = run.given(Input::FirstLooked { seen: found, rungs: BTreeMap::new(), processes: BTreeMap::new(), unconfirmed: vec![] });
    let asked = taken.orders.iter().find_map(|o| if let Order::FreshLook { addresses, .. } = o { Some(addresses.clone()) } else { None });
    assert!(asked.unwrap().contains(&at("app")), "it is not even looked at");
    let taken = run.given(Input::FreshLooked { step: StepId(1), seen: seen(&format!("app={app} db=proven")) });
    assert_eq!(acts(&taken), if acted { vec![(1, ActKind::Stop)] } else { vec![] });
    assert_eq!(run.run.hold_no().is_some(), !acted);
}

/// Two gates, one of which is enough: the other was proven when it was planned.
#[rstest]
#[case::and_is_still("proven", true)]
#[case::and_is_down_by_now("down", false)]
#[case::and_could_not_be_looked_at("unknown", false)]
fn what_else_a_dependent_stands_on_is_judged_by_the_look_before_the_act(#[case] other: &str, #[case] acted: bool) {
    let more = "[service.gate]\nlike = \"x\"\nladder = [{ rung = \"port\", port = \"{port}\" }]\n\
                copies = { a = { values = { port = 1 } }, b = { values = { port = 2 } } }\n\
                [service.hall]\nlike = \"x\"\nrelies_on = [{ service = \"gate\", copies = 1 }]\nladder = [{ rung = \"port\", port = 9 }]\n";
    let mut run = began_as_planned("zz", more, "", &Request::new(Wish::Stop, addresses("gate.a")));
    assert_eq!(run.run.begun.sequence.acted_on(), addresses("gate.a"), "the hall stays up on the other");
    run.given(Input::Locked);
    let found = seen("gate.a=proven gate.b=proven hall=proven");
    run.given(Input::FirstLooked { seen: found, rungs: BTreeMap::new(), processes: BTreeMap::new(), unconfirmed: vec![] });
    let taken = run.given(Input::FreshLooked { step: StepId(1), seen: seen(&format!("gate.a=proven gate.b={other} hall=proven")) });
    assert_eq!(acts(&taken), if acted { vec![(1, ActKind::Stop)] } else { vec![] });
}

// ---- what tightens holds at every act (R25) ----

#[test]
fn what_the_newest_edition_forbids_is_not_done_by_resuming() {
    let mut run = began("app -> db", "db");
    run.first_looks(&[]);
    let restriction = Restriction::Acts { why: "is hands-off now: it is looked at".into() };
    run.given(Input::Restricted([(at("app"), restriction)].into()));
    assert_eq!(run.run.state(), RunState::Held);
    let hold = run.run.hold_no();
    let mut taken = run.given(Input::Decide(decision(DecisionKind::Resume, hold)));
    for _ in 0..3 {
        assert_eq!(acts(&taken), []);
        taken = run.given(Input::FreshLooked { step: StepId(1), seen: seen("app=proven db=proven") });
    }
    assert!(run.run.hold_causes().any(|c| matches!(c, HoldCause::Restricted { .. })), "resumed, it says nothing of it any more");
    // Lifted by a newer one, it goes on by itself.
    run.given(Input::Restricted(BTreeMap::new()));
    assert_eq!(run.run.state(), RunState::Running);
    let taken = run.given(Input::FreshLooked { step: StepId(1), seen: seen("app=proven db=proven") });
    assert_eq!(acts(&taken), [(1, ActKind::Stop)]);
}

/// Editions come one after another: each says what it restricts, and what was said before of something else stands or falls alone.
#[test]
fn a_restriction_holds_until_it_is_lifted_and_is_told_by_its_newest_reason() {
    let acts_on = |why: &str| Restriction::Acts { why: why.into() };
    let causes = |run: &Began| -> Vec<String> { run.run.hold_causes().map(ToString::to_string).collect() };
    let mut run = began("app -> db", "db");
    run.first_looks(&[]);
    run.given(Input::Restricted([(at("app"), acts_on("is hands-off now"))].into()));
    let (hold, told) = (run.run.hold_no(), causes(&run));
    // Another is restricted besides: the first is held as before, and by the same hold.
    run.given(Input::Restricted([(at("app"), acts_on("is hands-off now")), (at("db"), acts_on("is looked at"))].into()));
    assert_eq!(run.run.hold_no(), hold);
    assert!(causes(&run).starts_with(&told) && causes(&run).len() == 2, "{:?}", causes(&run));
    // The reason changes: the old one is told no longer.
    run.given(Input::Restricted([(at("app"), acts_on("has its disks changed"))].into()));
    let told = causes(&run);
    assert!(told.len() == 1 && told[0].contains("has its disks changed"), "{told:?}");
    run.given(Input::Restricted(BTreeMap::new()));
    assert_eq!((run.run.hold_no(), run.run.state()), (None, RunState::Running));
}

#[test]
fn a_restriction_of_what_has_nothing_left_to_do_holds_nothing() {
    let mut run = began_so("app -> db", "", "", &Request::new(Wish::Stop, addresses("db")));
    run.first_looks(&[]);
    let step = run.run.steps().find(|(s, _)| s.is_on(&at("app"))).unwrap().0.id;
    run.given(Input::FreshLooked { step, seen: seen("app=down db=proven") });
    assert!(run.run.step_now(step).state.has_ended(), "found down, it has nothing to do: {:?}", run.run.step_now(step).state);
    run.given(Input::Restricted([(at("app"), Restriction::Acts { why: "is hands-off now".into() })].into()));
    assert_eq!(run.run.hold_no(), None);
}

#[test]
fn what_the_newest_edition_never_forces_is_not_forced() {
    let mut run = stubborn("");
    run.given(Input::Restricted([(at("stuck"), Restriction::Force)].into()));
    let hold = run.run.hold_no();
    run.given(Input::Decide(decision(DecisionKind::Resume, hold)));
    let taken = run.given(Input::Tick);
    assert_eq!(acts(&taken), []);
    assert!(matches!(run.run.step_now(StepId(1)).state, StepState::Failed { .. }));
}

// ---- room (R7) ----

#[test]
fn a_step_has_its_room_from_its_look_on() {
    let (estate, graph) = estate("a, b, c", "[limits]\nper_host = 1\n");
    let request = Request::new(Wish::Start, addresses("a b c"));
    let plan = plan(&estate, &graph, &facts(&estate, "a=down b=down c=down"), &Usual::default(), &request);
    let begun = Begun::of(plan, &estate, 1, "maren", &BTreeMap::new());
    let mut run = Run::begin(RunId(1), Timestamp::from_ms(1), begun);
    let give = |run: &mut Run, input: Input| {
        let mut rooms = Rooms::new(&estate);
        run.rooms_taken().for_each(|r| rooms.take(&r));
        run.take(input, Timestamp::from_ms(2), &mut rooms).unwrap()
    };
    give(&mut run, Input::Locked);
    let found = seen("a=down b=down c=down");
    let first = Input::FirstLooked { seen: found.clone(), rungs: BTreeMap::new(), processes: BTreeMap::new(), unconfirmed: vec![] };
    let mut taken = give(&mut run, first);
    let looks_asked = |taken: &Taken| taken.orders.iter().filter(|o| matches!(o, Order::FreshLook { .. })).count();
    assert_eq!(looks_asked(&taken), 1, "one look before an act at a time, as there is room for one act");
    let ticked = give(&mut run, Input::Tick);
    assert_eq!(looks_asked(&ticked), 0, "the room is taken while its step is only looking");
    let mut given = 0;
    // Whatever looks were asked for are answered before any act's news comes in.
    for _ in 0..5 {
        let looks: Vec<StepId> =
            taken.orders.iter().filter_map(|o| if let Order::FreshLook { step, .. } = o { Some(*step) } else { None }).collect();
        taken = Taken::default();
        for step in looks {
            let more = give(&mut run, Input::FreshLooked { step, seen: found.clone() });
            given += acts(&more).len();
            taken.orders.extend(more.orders);
        }
    }
    assert_eq!(given, 1, "one at a time on a host");
}

// ---- what was confirmed is what is done (R8, N54) ----

#[test]
fn things_changed_is_not_answered_by_resuming_blindly() {
    let mut run = began("app -> db", "db");
    run.first_looks(&["stop h/app, found proven"]);
    let hold = run.run.hold_no();
    let refused = run.refused(Input::Decide(decision(DecisionKind::Resume, hold)));
    assert_eq!(refused, Refusal::Changed { run: 1 });
    // Worked out anew and confirmed so, it does that and nothing else.
    let anew = began("app -> db, more -> db", "db").run.begun;
    let confirmed = decision(DecisionKind::Resume, hold);
    let known = run.run.event_count();
    assert!(run.run.may_be_told_since(known) && !run.run.may_be_told_since(known + 1) && !run.run.may_be_told_since(0));
    let taken = run.given(Input::Replanned { begun: Box::new(anew.clone()), decision: confirmed.clone() });
    assert!(taken.orders.contains(&Order::FirstLook), "and looks at everything again before its first act");
    assert_eq!((run.run.begun.sequence.clone(), run.run.state()), (anew.sequence.clone(), RunState::Running));
    // Whoever looks on has steps that are others now: it is told whole.
    assert!(!run.run.may_be_told_since(known) && run.run.may_be_told_since(run.run.event_count()));
    run.is_read_back();
    assert!(!run.run.may_be_told_since(known));
    let again = run.refused(Input::Replanned { begun: Box::new(anew), decision: confirmed });
    assert!(matches!(again, Refusal::Stale { .. }));
}

const NIGHT: &str = "  { stop = [\"db\"] },\n  { work = [\"bin/patch\"], title = \"patch\" },\n  { start = [\"db\"] },";

#[test]
fn a_look_that_contradicts_a_vouch_has_to_be_named() {
    let (estate, graph) = estate("app -> db", &format!("[procedure.night]\nsteps = [\n{NIGHT}\n]\n"));
    let night = &estate.procedures[&"night".parse().unwrap()];
    let planned = |found: &str, named: &str| {
        let asked = Asked {
            values: settle(&estate, &graph, night, &BTreeMap::new()).unwrap(),
            from_line: Some(2),
            vouched_for: addresses(named),
            ..Asked::default()
        };
        procedure::plan(&estate, &graph, &facts(&estate, found), &Usual::default(), night, &asked)
    };
    let plan = planned("", "");
    let asks: Vec<&Ask> = plan.asks.iter().filter(|a| matches!(a, Ask::AgainstVouch { .. })).collect();
    assert_eq!(asks.len(), 2, "app and db are up: {:?}", plan.asks);
    let Ask::AgainstVouch { says, .. } = asks[1] else { unreachable!() };
    assert_eq!(says, "beginning at line 2 vouches that h/db is down, and it is proven");
    assert!(!plan.vouched.is_empty() && Shown::of(&plan, 1).steps[0].ends_with("vouched for"), "{:?}", Shown::of(&plan, 1).steps);
    assert!(planned("", "app db").can_begin());
    assert!(planned("app=down db=down", "").can_begin());
}

#[test]
fn what_is_vouched_for_is_looked_at_once_more_before_the_first_act() {
    let mut run = procedure_run(NIGHT, "", Some(2), "app=down db=down");
    let taken = gone_through_preflight(&mut run, "app=down db=proven");
    assert_eq!(acts(&taken), [], "a running database is patched");
    assert!(run.run.hold_causes().any(|c| matches!(c, HoldCause::Changed { acts } if acts[0].contains("h/db is down, and it is proven"))));
}

#[test]
fn a_digest_is_the_same_for_what_is_the_same_and_another_for_all_that_is_done_otherwise() {
    let of = |relations: &str, found: &str, edition: u64| {
        let request = Request::new(Wish::Restart, addresses("db"));
        Shown::of(&planned(relations, found, &request), edition)
    };
    let shown = of("app -> db, side -> db", "", 3);
    assert_eq!(shown.digest(), of("app -> db, side -> db", "", 3).digest());
    assert_eq!(shown.difference(&of("app -> db, side -> db", "", 3)), [""; 0]);
    for (other, says) in [
        (of("app -> db, side -> db", "", 4), "the estate is edition 4 now, and was edition 3"),
        (of("app -> db, side -> db", "side=down", 3), "no longer: stop h/side"),
        (of("app -> db, side -> db", "db=down app=down side=down", 3), "no longer: stop h/app"),
        (of("app -> db, side -> db, side -> app", "", 3), "the same steps, in another order or with other settings"),
    ] {
        assert_ne!(shown.digest(), other.digest());
        assert!(shown.difference(&other).iter().any(|d| d == says), "{:?}", shown.difference(&other));
    }
}

// ---- the final word ----

#[test]
fn a_run_that_leaves_something_otherwise_than_it_set_out_to_is_not_finished() {
    let (estate, _) = estate("app -> db", "");
    let mut world = World::new(estate.clone(), &facts(&estate, ""), BTreeMap::new());
    world.comes_back = Some(at("db"));
    let run = world.play(&Request::new(Wish::Stop, addresses("db")), Operator::GivesUp).unwrap();
    assert_eq!(run.state(), RunState::FinishedWithExceptions, "db was to be down, and is up again");
    let otherwise = &run.otherwise()[0];
    assert_eq!((otherwise.address.clone(), otherwise.meant, otherwise.now), (at("db"), SeenState::Down, SeenState::Proven));
}

#[test]
fn what_a_divert_took_down_is_put_back() {
    let more = "[procedure.rescue]\nsteps = [{ stop = [\"side\"] }, { work = [\"bin/look\"], title = \"look\", changes_nothing = true }]\n\
                [procedure.night]\nif_it_fails = { divert = \"rescue\" }\nsteps = [{ stop = [\"app\"] }, { work = [\"bin/patch\"], title = \"patch\", changes_nothing = true }]\n";
    let (estate, _) = estate("app -> db, side -> db", more);
    let mut world = World::new(estate.clone(), &facts(&estate, ""), BTreeMap::new());
    world.failing_work = vec!["patch".into(), "look".into()];
    let run = world.play_procedure("night", &[], Operator::PutsBack).unwrap();
    assert!(run.diverted_to().is_some());
    assert_eq!(run.state(), RunState::PutBack);
    for name in ["app", "side"] {
        assert_eq!(world.state(&at(name)), SeenState::Proven, "{name} was taken down and is not put back");
    }
    assert!(world.events.iter().any(|(_, e)| matches!(e, Event::DivertPlanned { found, .. } if found.contains_key(&at("side")))));
}

// ---- what can be told apart, and what may become a command ----

fn vetted(services: &str) -> Vec<(String, String)> {
    let text = format!(
        "[estate]\nname = \"t\"\nstands_for = \"test\"\n[host.h]\nreach = \"here\"\n[host.k]\nreach = \"here\"\naddress = \"127.0.0.2\"\n\
         [like.x]\nrun_by = \"process\"\nhost = \"h\"\nladder = [{{ rung = \"process\" }}]\n{services}"
    );
    let faults = yantro_core::text::vet(&text, "/e").faults;
    faults.into_iter().filter(|f| f.severity == yantro_core::text::Severity::Error).map(|f| (f.kind.to_string(), f.message)).collect()
}

#[rstest]
#[case::nothing_at_all("", "", true)]
#[case::another_environment("env = { LANE = \"A\" }", "env = { LANE = \"B\" }", false)]
#[case::an_environment_and_none("env = { LANE = \"A\" }", "", false)]
#[case::another_folder("dir = \"/srv/a\"", "dir = \"/srv/b\"", false)]
#[case::another_account("user = \"fares\"", "user = \"gates\"", false)]
#[case::other_arguments("args = [\"a\"]", "args = [\"b\"]", false)]
fn services_whose_processes_nothing_tells_apart_are_a_fault(#[case] one: &str, #[case] other: &str, #[case] is_fault: bool) {
    let process = |more: &str| {
        let comma = if more.is_empty() { "" } else { ", " };
        format!("process = {{ program = \"/bin/gate\"{comma}{more} }}\n")
    };
    // Two hosts that are both this machine are one machine.
    let services = format!("[service.one]\nlike = \"x\"\n{}[service.other]\nlike = \"x\"\nhost = \"k\"\n{}", process(one), process(other));
    let faults = vetted(&services);
    assert_eq!(faults.iter().any(|(kind, says)| kind == "not-told-apart" && says.contains("h/one")), is_fault, "{faults:?}");
}

fn work_of(step: &str, questions: &str, values: &[(&str, &str)]) -> yantro_core::model::task::Work {
    let more = format!("[procedure.night]\nquestions = {{ {questions} }}\nsteps = [{{ {step}, changes_nothing = true }}]\n");
    let (estate, _) = estate("db", &more);
    let night = &estate.procedures[&"night".parse().unwrap()];
    let yantro_core::model::procedure::Does::Task { task } = &night.lines[0].does else { panic!("no task") };
    let values = values.iter().map(|(n, v)| ((*n).to_owned(), (*v).to_owned())).collect();
    let yantro_core::model::task::Task::Work(work) = task.filled(&values).unwrap() else { panic!("no work") };
    work
}

#[rstest]
#[case::in_its_environment("work = [\"bin/patch\"], env = { P = \"{p}\" }", "P", true)]
#[case::behind_something_that_looks_like_a_reference("work = [\"bin/patch\"], env = { P = \"file:{p}\" }", "P", true)]
#[case::of_a_script("script = \"echo $VALUE_P\"", "VALUE_P", true)]
#[case::a_secret_is_one("work = [\"bin/patch\"], env = { K = \"{k}\" }", "K", false)]
#[case::a_secret_of_a_script_is_one("script = \"echo $VALUE_K\"", "VALUE_K", false)]
#[case::the_estates_own_is_one("work = [\"bin/patch\"], env = { K = \"file:/etc/key\" }", "K", false)]
fn a_value_from_outside_is_no_reference(#[case] step: &str, #[case] name: &str, #[case] to_the_letter: bool) {
    let questions = "p = { asks = \"Which?\", kind = \"text\" }, k = { asks = \"Key?\", kind = \"secret\" }";
    let work = work_of(step, questions, &[("p", "file:/etc/shadow"), ("k", "env:KEY"), ("dir", "/e")]);
    assert!(work.env.contains_key(name), "{:?}", work.env);
    assert_eq!(work.to_the_letter.contains(name), to_the_letter, "{:?}", work.to_the_letter);
}

#[test]
fn code_with_a_value_in_it_is_a_fault_that_says_how_to_do_it() {
    let more = "[procedure.night]\nquestions = { package = { asks = \"Which?\", kind = \"text\" } }\n\
                steps = [{ work = [\"env\", \"A=b\", \"sh\", \"-c\", \"echo {package}\"], changes_nothing = true }]\n";
    let faults = yantro_core::text::vet(&crate::estates::toml("db", more), "/e").faults;
    let fault = faults.iter().find(|f| f.kind == "value-in-code").unwrap_or_else(|| panic!("{faults:?}"));
    assert!(fault.mend.contains("`script`") && fault.mend.contains("$VALUE_PACKAGE"), "{}", fault.mend);
}

/// R18: the look before another act is the first to see it.
#[test]
fn a_loss_that_the_look_before_another_act_sees_first_is_a_loss() {
    let mut run = began_so("app -> db, side -> db", "", "app=down side=down", &Request::new(Wish::Start, addresses("app side")));
    run.given(Input::Locked);
    let found = seen("app=down side=down db=proven");
    run.given(Input::FirstLooked { seen: found, rungs: BTreeMap::new(), processes: BTreeMap::new(), unconfirmed: vec![] });
    let app = run.run.steps().find(|(s, _)| s.is_on(&at("app"))).unwrap().0.id;
    let taken = run.given(Input::FreshLooked { step: app, seen: seen("app=down db=down") });
    assert!(taken.events.iter().any(|e| matches!(e, Event::ServiceLost { address, .. } if *address == at("db"))), "{:?}", taken.events);
}

/// R25: it came while the service was being stopped, and its patience is over.
#[test]
fn what_is_forbidden_half_way_through_an_attempt_is_decided_on() {
    let mut run = stubborn(", evidence = [[\"bin/dump\"]]");
    let restriction = Restriction::Acts { why: "is hands-off now".into() };
    run.given(Input::Restricted([(at("stuck"), restriction)].into()));
    let hold = run.run.hold_no();
    run.given(Input::Decide(decision(DecisionKind::Resume, hold)));
    let taken = run.given(Input::Tick);
    assert_eq!(acts(&taken), []);
    assert!(run.run.allowed().iter().any(|a| matches!(a.kind, DecisionKind::PassOver { .. })), "nobody can decide on it");
}

/// Nobody decides on a run that is given up: it ends once what was under way is over, whatever became of that.
#[test]
fn a_run_given_up_ends_though_nobody_knows_what_became_of_its_work() {
    let mut run = procedure_run("  { work = [\"bin/patch\"], title = \"patch\" },", "", None, "");
    gone_through_preflight(&mut run, "app=proven db=proven");
    let act = ActId(1);
    run.given(Input::ActBegun { step: StepId(1), act, begun: begun_now() });
    run.given(Input::Decide(decision(DecisionKind::GiveUp, None)));
    run.given(Input::ActUnknown { step: StepId(1), act });
    run.given(Input::FinalLooked { seen: seen("app=proven db=proven") });
    assert_eq!(run.run.state(), RunState::GivenUp, "{:?}", run.run.step_now(StepId(1)).state);
}

#[test]
fn a_run_given_up_proves_nothing_more() {
    let mut run = began("app -> db", "db");
    run.first_looks(&[]);
    run.given(Input::FreshLooked { step: StepId(1), seen: seen("app=proven db=proven") });
    run.given(Input::Decide(decision(DecisionKind::GiveUp, None)));
    run.given(Input::ActUnknown { step: StepId(1), act: ActId(1) });
    run.given(Input::FinalLooked { seen: seen("app=proven db=proven") });
    assert_eq!(run.run.state(), RunState::GivenUp, "{:?}", run.run.step_now(StepId(1)).state);
}

/// What was lost before is nobody's to wait for any more.
#[test]
fn a_run_given_up_asks_for_no_deadline_but_that_of_what_acts() {
    let mut run = began_so("app -> db, side -> db", "", "app=down side=down", &Request::new(Wish::Start, addresses("app side")));
    run.given(Input::Locked);
    let found = seen("app=down side=down db=proven");
    run.given(Input::FirstLooked { seen: found, rungs: BTreeMap::new(), processes: BTreeMap::new(), unconfirmed: vec![] });
    run.given(Input::FreshLooked { step: StepId(1), seen: seen("app=down db=proven") });
    run.given(Input::Seen { address: at("db"), state: SeenState::Down, says: "gone".into() });
    run.given(Input::Decide(decision(DecisionKind::GiveUp, None)));
    run.now = run.run.next_deadline().expect("what acts has its patience");
    run.given(Input::Tick);
    assert!(run.run.next_deadline().is_none_or(|at| at > run.now), "it asks for a time that is over, again and again");
}

/// Others act on it since, and its lock is theirs.
#[test]
fn what_takes_over_does_not_act_on_what_was_let_go_of() {
    let more = "[procedure.dusk]\nsteps = [{ stop = [\"db\"] }]\n";
    let (estate, graph) = estate("app -> db", more);
    let mut run = began_as_planned("app -> db", more, "", &Request::new(Wish::Restart, addresses("db")));
    run.first_looks(&[]);
    run.given(Input::FreshLooked { step: StepId(1), seen: seen("app=proven db=proven") });
    run.given(Input::ActEnded { step: StepId(1), act: ActId(1), end: ActEnd::Exited { code: 1, output: String::new() } });
    run.given(Input::Decide(decision(DecisionKind::Hold, None)));
    let hold = run.run.hold_no();
    run.given(Input::Decide(decision(DecisionKind::Release { address: at("db") }, hold)));
    let dusk: yantro_core::words::name::ProcedureName = "dusk".parse().unwrap();
    let hold = run.run.hold_no();
    run.given(Input::Decide(decision(DecisionKind::Divert { procedure: dusk.clone() }, hold)));
    let after = run.run.begun.sequence.steps.len() as u32;
    let facts = facts(&estate, "app=down");
    let planned = yantro_core::run::plan_divert(&estate, &graph, &facts, &Usual::default(), &dusk, ["", "so"], after).unwrap();
    run.given(Input::ActEnded { step: StepId(1), act: ActId(1), end: ActEnd::Sent });
    let taken = run.given(Input::DivertPlanned(Ok(planned)));
    assert!(run.run.hold_causes().any(|c| matches!(c, HoldCause::CannotDivert { why } if why.contains("let go of"))), "{taken:?}");
}

const DESK_ACTS: &str = "[service.desk]\nlike = \"x\"\nladder = [{ rung = \"port\", port = 9 }]\n\
    [service.desk.acts.drain]\ncommand = [\"bin/drain\"]\nimpact = { level = \"brief\", says = \"Nobody is served.\" }\nchanges_nothing = true\n\
    [service.desk.acts.rotate]\ncommand = [\"bin/rotate\"]\nchanges_nothing = true\n";

fn frozen() -> Input {
    Input::Frozen(BTreeMap::from([("boats".to_owned(), Frozen { says: "boats are sailing".into(), impact: ImpactLevel::None })]))
}

/// Only starts and the way back go on in a freeze: what takes over stops no more than the way forward does (R25).
#[test]
fn a_freeze_that_begins_while_a_divert_goes_on_holds_its_next_stop() {
    let more = "[procedure.dusk]\nsteps = [{ stop = [\"side\"] }]\n";
    let (estate, graph) = estate("app -> db, side -> db", more);
    let mut run = began_as_planned("app -> db, side -> db", more, "", &Request::new(Wish::Restart, addresses("app")));
    run.first_looks(&[]);
    let up = "app=proven db=proven side=proven";
    run.given(Input::FreshLooked { step: StepId(1), seen: seen(up) });
    run.given(Input::ActEnded { step: StepId(1), act: ActId(1), end: ActEnd::Exited { code: 1, output: String::new() } });
    let dusk: yantro_core::words::name::ProcedureName = "dusk".parse().unwrap();
    let hold = run.run.hold_no();
    run.given(Input::Decide(decision(DecisionKind::Divert { procedure: dusk.clone() }, hold)));
    let after = run.run.begun.sequence.steps.len() as u32;
    let planned = yantro_core::run::plan_divert(&estate, &graph, &facts(&estate, ""), &Usual::default(), &dusk, ["", "so"], after).unwrap();
    run.given(Input::DivertPlanned(Ok(planned)));
    assert!(run.run.diverted_to().is_some());
    let step = run.run.steps().find(|(s, _)| s.part == yantro_core::plan::Part::Divert).unwrap().0.id;
    let mut going = Began { run: run.run.clone(), rooms: Rooms::unlimited(), now: run.now, stored: run.stored.clone() };
    let looked = || Input::FreshLooked { step, seen: seen(up) };
    assert_eq!(acts(&going.given(looked())), [(step.0, ActKind::Stop)], "without a freeze it goes on");
    run.given(frozen());
    assert_eq!(acts(&run.given(looked())), []);
    assert!(run.run.hold_causes().any(|c| c.to_string().contains("boats are sailing")), "{:?}", run.run.state());
}

/// A further act that users notice is refused in a freeze, and held by one that begins meanwhile; one that they do not is not.
#[rstest]
#[case::noticed("drain", true)]
#[case::not_noticed("rotate", false)]
fn a_freeze_holds_further_acts_that_users_notice(#[case] act: &str, #[case] holds: bool) {
    let mut run = procedure_run(&format!("{{ act = \"{act}\", of = [\"desk\"] }}"), DESK_ACTS, None, "");
    gone_through_preflight(&mut run, "");
    run.given(frozen());
    let taken = run.given(Input::FreshLooked { step: StepId(1), seen: seen("desk=proven") });
    assert_eq!(acts(&taken).is_empty(), holds, "{:?}", run.run.state());
    assert_eq!(run.run.hold_causes().any(|c| c.to_string().contains("boats are sailing")), holds);
}

/// A divert is asked what every plan is asked: what users notice of its further acts belongs to it.
#[test]
fn what_users_notice_of_a_diverts_further_acts_is_known() {
    let more =
        format!("{DESK_ACTS}[procedure.dusk]\nsteps = [{{ act = \"drain\", of = [\"desk\"] }}, {{ act = \"rotate\", of = [\"desk\"] }}]\n");
    let (estate, graph) = estate("app -> db", &more);
    let dusk: yantro_core::words::name::ProcedureName = "dusk".parse().unwrap();
    let planned = yantro_core::run::plan_divert(&estate, &graph, &facts(&estate, ""), &Usual::default(), &dusk, ["", "so"], 3).unwrap();
    let hits = planned.as_plan(&dusk, &estate).hits;
    assert_eq!(hits.iter().map(|h| (h.address.clone(), h.impact.level)).collect::<Vec<_>>(), [(at("desk"), ImpactLevel::Brief)]);
}

/// Proven when it was planned, a service that nobody may act on needs nothing; by the time of its step it does (R11).
#[test]
fn what_is_hands_off_is_not_started_though_it_was_proven_when_it_was_planned() {
    let more = "[service.theirs]\nlike = \"x\"\nladder = [{ rung = \"port\", port = 9 }]\nhands_off = \"others see to it\"\n";
    let mut run = began_so("zz", more, "", &Request::new(Wish::Start, addresses("theirs")));
    run.given(Input::Locked);
    let found = seen("theirs=proven");
    run.given(Input::FirstLooked { seen: found, rungs: BTreeMap::new(), processes: BTreeMap::new(), unconfirmed: vec![] });
    let taken = run.given(Input::FreshLooked { step: StepId(1), seen: seen("theirs=down") });
    assert_eq!(acts(&taken), []);
    assert!(matches!(&run.run.step_now(StepId(1)).state, StepState::Failed { reason } if reason.contains("hands-off")));
}

/// What is looked at again while another has the room is looked at once that is over, and not all the time.
#[test]
fn a_step_without_room_asks_for_no_time_that_is_over() {
    let request = Request::new(Wish::Start, addresses("a b"));
    let mut run = began_as_planned("a, b", "", "a=down b=down", &request);
    run.run.begun.at_once = Some(1);
    run.given(Input::Locked);
    run.given(Input::FirstLooked { seen: seen("a=down b=down"), rungs: BTreeMap::new(), processes: BTreeMap::new(), unconfirmed: vec![] });
    // Nobody could look: it is looked at again a little later, and the other begins meanwhile.
    run.given(Input::FreshLooked { step: StepId(1), seen: seen("a=unknown") });
    run.given(Input::FreshLooked { step: StepId(2), seen: seen("b=down") });
    run.waits(300);
    run.given(Input::Tick);
    assert!(run.run.next_deadline().is_none_or(|at| at > run.now), "it asks for a time that is over, again and again");
}

/// A run that waits for a time of day, begun at 01:00 for 02:30.
fn waits_for_half_past_two() -> Began {
    let mut run = procedure_run("  { until_time = \"02:30\" }, { work = [\"bin/patch\"], title = \"patch\" },", "", None, "");
    let one = Timestamp::from_ms(1_782_867_600_000 + 3_600_000);
    run.now = one;
    let begun = run.run.begun.clone();
    run.stored = vec![(one, Event::Begun(Box::new(begun.clone())))];
    run.run = Run::begin(RunId(1), one, begun);
    gone_through_preflight(&mut run, "app=proven db=proven");
    run
}

/// R34: it comes when it comes, however long the server was away before.
#[rstest]
#[case::back_before_it(60 * 60_000)]
#[case::never_away(0)]
fn a_time_of_day_does_not_move_with_the_time_the_server_was_away(#[case] away_ms: u64) {
    let mut run = waits_for_half_past_two();
    let StepState::Pausing { until, .. } = run.run.step_now(StepId(1)).state else { panic!("{:?}", run.run.step_now(StepId(1)).state) };
    run.waits(away_ms);
    run.is_read_back();
    run.given(Input::Away { for_ms: away_ms });
    assert_eq!(run.run.next_deadline(), Some(until));
    run.now = until;
    run.given(Input::Tick);
    assert!(run.run.step_now(StepId(1)).state.has_ended());
}

/// R34: one that came and went meanwhile is asked about.
#[test]
fn a_time_of_day_that_came_while_the_server_was_away_is_asked_about() {
    let mut run = waits_for_half_past_two();
    run.waits(3 * 3_600_000);
    run.is_read_back();
    run.given(Input::Away { for_ms: 3 * 3_600_000 });
    let taken = run.given(Input::Tick);
    assert!(
        matches!(&run.run.step_now(StepId(1)).state, StepState::Asking { reason, .. } if reason.contains("is past since")),
        "{taken:?}"
    );
    let answer = DecisionKind::Answer { step: StepId(1), value: "yes".into() };
    run.given(Input::Decide(decision(answer, None)));
    assert!(run.run.step_now(StepId(1)).state.has_ended());
}

/// R7, R34: half an hour of a server that was there.
#[test]
fn a_queued_run_does_not_expire_by_the_time_the_server_was_away() {
    let mut run = began("app -> db", "db");
    run.given(Input::Queued { behind: vec!["run 7".into()] });
    let ends = run.run.queue_ends().expect("it is queued");
    run.waits(40 * 60_000);
    run.is_read_back();
    run.given(Input::Away { for_ms: 40 * 60_000 });
    assert_eq!(run.run.queue_ends(), Some(ends + std::time::Duration::from_secs(40 * 60)));
    run.given(Input::Locked);
    assert_eq!(run.run.queue_ends(), None);
}

/// R7: a run that does not get its locks is given up when its time in the queue is over, held or not, and not before; with its reason.
#[rstest]
#[case::in_the_queue(false)]
#[case::held_in_the_queue(true)]
fn a_run_that_does_not_get_its_locks_is_given_up(#[case] held: bool) {
    let mut run = began("app -> db", "db");
    run.given(Input::Queued { behind: vec!["run 7".into()] });
    if held {
        run.given(Input::Decide(decision(DecisionKind::Hold, None)));
    }
    let ends = run.run.queue_ends().expect("it is queued");
    assert_eq!(run.run.next_deadline(), Some(ends));
    run.waits((ends.as_ms() - run.now.as_ms() - 1) as u64);
    run.given(Input::Tick);
    assert!(!run.run.has_ended());
    run.waits(1);
    let taken = run.given(Input::Tick);
    assert_eq!(run.run.state(), RunState::GivenUp);
    let why = taken.events.iter().find_map(|e| if let Event::Decided { decision } = e { decision.why.clone() } else { None });
    assert_eq!(why.as_deref(), Some("its locks did not come free within 30m"));
    assert_eq!(run.run.next_deadline(), None);
}

/// R8: whoever was asked took long to answer, and what was looked at before may not hold any more.
#[rstest]
#[case::at_once(1_000, false)]
#[case::after_twenty_minutes(20 * 60_000, true)]
fn looks_before_the_first_act_are_taken_again_after_a_long_question(#[case] ms: u64, #[case] again: bool) {
    let steps = "  { question = { asks = \"Is the last boat in?\" } }, { work = [\"bin/patch\"], title = \"patch\" },";
    let mut run = procedure_run(steps, "", None, "");
    gone_through_preflight(&mut run, "app=proven db=proven");
    run.waits(ms);
    let answer = DecisionKind::Answer { step: StepId(1), value: "yes".into() };
    let taken = run.given(Input::Decide(decision(answer, None)));
    assert_eq!(taken.orders.iter().any(|o| matches!(o, Order::Preflight { .. })), again, "{:?}", taken.orders);
    assert_eq!(acts(&taken).is_empty(), again);
}

// ---- a rolling restart (R20) ----

#[rstest]
#[case::comes_back_late(true)]
#[case::does_not_come_back(false)]
fn a_member_waits_for_another_on_its_way_back_beyond_its_own_patience(#[case] comes_back: bool) {
    let member = |name: &str, port: u32| {
        format!(
            "[service.{name}]\nlike = \"x\"\nladder = [{{ rung = \"port\", port = {port} }}]\ngroups = [\"gates\"]\nstop = {{ patience = \"5s\" }}\nstart = {{ patience = \"60s\" }}\n"
        )
    };
    let more = format!("{}{}[group.gates]\nkeep_up = 1\n", member("left", 8), member("right", 9));
    let mut run = began_so("zz", &more, "", &Request::new(Wish::Restart, addresses("left right")));
    run.first_looks(&[]);
    let both = "left=proven right=proven";
    let steps: Vec<(StepId, StepKind, String)> = run.run.steps().map(|(s, _)| (s.id, s.kind(), s.row())).collect();
    let of = |kind: StepKind, name: &str| steps.iter().find(|(_, k, r)| *k == kind && r.contains(name)).unwrap().0;
    let (stop, other) = (of(StepKind::Stop, "left"), of(StepKind::Stop, "right"));
    let taken = run.given(Input::FreshLooked { step: other, seen: seen(both) });
    assert_eq!(acts(&taken), [], "the first is looked at for its own");
    run.given(Input::FreshLooked { step: stop, seen: seen(both) });
    run.given(Input::ActBegun { step: stop, act: ActId(1), begun: begun_now() });
    run.given(Input::ActEnded { step: stop, act: ActId(1), end: ActEnd::Sent });
    let rungs = run.run.service(stop).ladder_of(StepKind::Stop).len() as u32;
    for rung in 0..rungs {
        run.given(Input::RungLooked { step: stop, attempt: 1, rung, answer: Answer::holds("gone"), logs: vec![] });
    }
    let start = of(StepKind::Start, "left");
    run.given(Input::FreshLooked { step: start, seen: seen("left=down") });
    run.given(Input::ActBegun { step: start, act: ActId(2), begun: begun_now() });
    // It takes many times the other's own patience, which has nothing to do with it.
    for _ in 0..100 {
        run.waits(500);
        let asked = run.given(Input::Tick).orders;
        if asked.iter().any(|o| matches!(o, Order::FreshLook { step, .. } if *step == other)) {
            run.given(Input::FreshLooked { step: other, seen: seen("left=rising right=proven") });
        }
        assert_ne!(run.run.state(), RunState::Held, "{:?}", run.run.step_now(other).state);
    }
    if comes_back {
        for rung in 0..run.run.service(start).ladder_of(StepKind::Start).len() as u32 {
            run.given(Input::RungLooked { step: start, attempt: 1, rung, answer: Answer::holds("so"), logs: vec![] });
        }
        run.waits(500);
        run.given(Input::Tick);
        let taken = run.given(Input::FreshLooked { step: other, seen: seen(both) });
        assert_eq!(acts(&taken), [(other.0, ActKind::Stop)]);
    } else {
        run.waits(20_000);
        let taken = run.given(Input::Tick);
        assert_eq!(run.run.state(), RunState::Held, "its own patience is over");
        assert_eq!(acts(&taken), []);
    }
}

// ---- exits (of a service, and of a command) ----

#[rstest]
#[case::of_a_unit("run_by = \"systemd\"", 0, true)]
#[case::of_a_unit_whose_command_failed("run_by = \"systemd\"", 143, false)]
#[case::of_commands("run_by = \"commands\"\ncommands = { start = [\"/a\"], stop = [\"/b\"], state = [\"/c\"] }", 143, true)]
#[case::of_commands_that_say_another("run_by = \"commands\"\ncommands = { start = [\"/a\"], stop = [\"/b\"], state = [\"/c\"] }", 0, false)]
fn exits_that_are_accepted_are_those_of_a_services_own_commands(#[case] runner: &str, #[case] code: i32, #[case] good: bool) {
    let more =
        format!("[service.gate]\nhost = \"h\"\n{runner}\nstop = {{ accept_exits = [143] }}\nladder = [{{ rung = \"port\", port = 8 }}]\n");
    let mut run = began_so("zz", &more, "", &Request::new(Wish::Stop, addresses("gate")));
    run.first_looks(&[]);
    let step = StepId(1);
    run.given(Input::FreshLooked { step, seen: seen("gate=proven") });
    run.given(Input::ActBegun { step, act: ActId(1), begun: begun_now() });
    run.given(Input::ActEnded { step, act: ActId(1), end: ActEnd::Exited { code, output: String::new() } });
    let state = &run.run.step_now(step).state;
    assert_eq!(matches!(state, StepState::Proving { .. }), good, "{state:?}");
}

// ---- the gap between attempts ----

#[test]
fn the_next_attempt_waits_for_its_gap() {
    let more = "[service.slow]\nlike = \"x\"\nladder = [{ rung = \"port\", port = 8 }]\nstart = { attempts = 2, gap = \"7s\", patience = \"5s\" }\n";
    let mut run = began_so("zz", more, "slow=down", &Request::new(Wish::Start, addresses("slow")));
    run.given(Input::Locked);
    run.given(Input::FirstLooked { seen: seen("slow=down"), rungs: BTreeMap::new(), processes: BTreeMap::new(), unconfirmed: vec![] });
    let step = StepId(1);
    run.given(Input::FreshLooked { step, seen: seen("slow=down") });
    run.given(Input::ActBegun { step, act: ActId(1), begun: begun_now() });
    run.given(Input::RungLooked { step, attempt: 1, rung: 0, answer: Answer::against("it ended"), logs: vec![] });
    let asks = |taken: &Taken| taken.orders.iter().any(|o| matches!(o, Order::FreshLook { .. }));
    run.waits(6_900);
    assert!(!asks(&run.given(Input::Tick)), "it is not through with its gap");
    assert_eq!(run.run.next_deadline().map(|at| at.since(run.now).as_millis()), Some(100));
    run.waits(100);
    assert!(asks(&run.given(Input::Tick)), "{:?}", run.run.step_now(step).state);
}

// ---- what is watched after it was proven (R17) ----

#[rstest]
#[case::for_lines_that_must_not_come("start = { must_not_see = [\"FATAL\"] }", true)]
#[case::where_none_is_forbidden("start = { must_see = [\"ready\"] }", false)]
fn what_was_started_is_watched_for_forbidden_lines(#[case] start: &str, #[case] watched: bool) {
    let more = format!(
        "[service.talker]\nlike = \"x\"\nladder = [{{ rung = \"port\", port = 9 }}]\nlogs = [\"/l\"]\n{start}\n[service.user]\nlike = \"x\"\nrelies_on = [\"talker\"]\nladder = [{{ rung = \"port\", port = 10 }}]\n"
    );
    let mut run = began_so("zz", &more, "talker=down user=down", &Request::new(Wish::Start, addresses("user")));
    run.given(Input::Locked);
    let found = seen("talker=down user=down");
    run.given(Input::FirstLooked { seen: found, rungs: BTreeMap::new(), processes: BTreeMap::new(), unconfirmed: vec![] });
    let step = StepId(1);
    run.given(Input::FreshLooked { step, seen: seen("talker=down") });
    run.given(Input::ActBegun { step, act: ActId(1), begun: begun_now() });
    let mut orders = Vec::new();
    for rung in 0..run.run.service(step).ladder_of(StepKind::Start).len() as u32 {
        orders.extend(run.given(Input::RungLooked { step, attempt: 1, rung, answer: Answer::holds("so"), logs: vec![] }).orders);
    }
    let watches = |orders: &[Order]| orders.iter().any(|o| matches!(o, Order::WatchLog { address, .. } if *address == at("talker")));
    assert_eq!(watches(&orders), watched);
    run.is_read_back();
    assert_eq!(watches(&run.run.recover()), watched, "after a restart, too");
}

// ---- what was confirmed, and what it would come to now (R8) ----

#[rstest]
#[case::all_are_named(6, "")]
#[case::some_more(7, " and 2 more")]
fn what_a_run_would_do_now_is_told_with_how_much_more(#[case] up: usize, #[case] more: &str) {
    let relations: Vec<String> = (0..up - 1).map(|n| format!("a{n} -> db")).collect();
    let (estate, graph) = estate(&relations.join(", "), "");
    let down: Vec<String> = (0..up - 1).map(|n| format!("a{n}=down")).collect();
    let request = Request::new(Wish::Restart, addresses("db"));
    let planned = plan(&estate, &graph, &facts(&estate, &down.join(" ")), &Usual::default(), &request);
    let begun = Begun::of(planned, &estate, 1, "maren", &BTreeMap::new());
    let now = facts(&estate, "");
    let stands: BTreeMap<Address, SeenState> = now.0.clone().into_iter().collect();
    let changed = unconfirmed(&Newest { edition: 1, estate: &estate, graph: &graph }, &begun, &now, &stands);
    let all = changed.last().unwrap();
    assert!(all.starts_with("in all it would now stop h/a0, "), "{all}");
    assert!(all.ends_with(more) && (all.contains(" more") != more.is_empty()), "{all}");
}

/// What a run would come to by facts that are as they were when it was planned.
fn anew(estate: &Estate, graph: &EstateGraph, planned: Plan, found: &str) -> Plan {
    let begun = Begun::of(planned, estate, 1, "maren", &BTreeMap::new());
    let newest = Newest { edition: 1, estate, graph };
    let found = facts(estate, found);
    let stands: BTreeMap<Address, SeenState> = found.0.clone().into_iter().collect();
    assert_eq!(unconfirmed(&newest, &begun, &found, &stands), Vec::<String>::new());
    again(&newest, &begun, &found, &Usual::default()).expect("it is in the estate")
}

fn says(plan: &Plan) -> Vec<String> {
    plan.sequence.steps.iter().map(|s| s.says()).collect()
}

/// What was said of a wish at its begin is not forgotten when it is worked out anew (R8).
#[test]
fn a_wish_is_worked_out_anew_with_all_that_was_said_of_it() {
    let (estate, graph) = estate("app -> db, web -> db", "");
    let request = Request { alone: true, ..Request::new(Wish::Stop, addresses("db")) };
    let mut planned = plan(&estate, &graph, &facts(&estate, "app=down web=down"), &Usual::default(), &request);
    planned.prefer(Prefer::LeastFelt, &estate);
    planned.asked_with.along = ["h:exporter.service".to_owned()].into();
    let was = planned.asked_with.clone();
    let now = anew(&estate, &graph, planned.clone(), "app=down web=down");
    assert_eq!((says(&now), &now.asked_with), (says(&planned), &was));
    // One of those that rely on it came up: it was to be stopped alone, and is not without a word.
    let begun = Begun::of(planned, &estate, 1, "maren", &BTreeMap::new());
    let newest = Newest { edition: 1, estate: &estate, graph: &graph };
    let again = again(&newest, &begun, &facts(&estate, "web=down"), &Usual::default()).unwrap();
    assert!(!says(&again).contains(&"stop h/app".to_owned()) && !again.can_begin(), "{:?}", says(&again));
}

/// A procedure that brings up what an earlier run had found up means the same services when it is worked out anew (R8, R37).
#[test]
fn what_an_earlier_run_had_found_up_is_the_same_when_it_is_worked_out_anew() {
    let more = "[procedure.evening]\nsteps = [{ stop = [\"*\"] }]\n[procedure.morning]\nsteps = [{ start = [\"as-found-by:evening\"] }]\n";
    let (estate, graph) = estate("app -> db, web -> db", more);
    let found_by: FoundBy = [("as-found-by:evening".to_owned(), addresses("db app"))].into();
    let procedure = estate.procedures[&"morning".parse().unwrap()].clone().with_found(&found_by);
    let asked = Asked { found_by, ..Asked::default() };
    let all_down = "app=down web=down db=down";
    let planned = procedure::plan(&estate, &graph, &facts(&estate, all_down), &Usual::default(), &procedure, &asked);
    assert_eq!(says(&planned), ["start h/db", "start h/app"]);
    assert_eq!(says(&anew(&estate, &graph, planned.clone(), all_down)), says(&planned));
}

/// A further act that somebody asked for is no procedure, whatever procedures are called.
#[test]
fn an_act_that_is_called_as_a_procedure_is_not_taken_for_it() {
    let more = "[service.cache]\nlike = \"x\"\nladder = [{ rung = \"port\", port = 9 }]\n[service.cache.acts.purge]\ncommand = [\"purge\"]\n\
                [procedure.purge]\nif_it_fails = \"carry-on\"\nheld_at_most = \"1h\"\nsteps = [{ stop = [\"db\"] }]\n";
    let (estate, graph) = estate("app -> db", more);
    let procedure = Procedure::of_one_act("purge".parse().unwrap(), "purge", &["cache".to_owned()]);
    let asked = Asked { by_itself: true, ..Asked::default() };
    let planned = procedure::plan(&estate, &graph, &facts(&estate, ""), &Usual::default(), &procedure, &asked);
    let begun = Begun::of(planned.clone(), &estate, 1, "maren", &BTreeMap::new());
    assert_eq!((&begun.if_it_fails, begun.held_at_most), (&None, None));
    let written: Begun = serde_json::from_str(&serde_json::to_string(&begun).unwrap()).unwrap();
    assert_eq!(written.sequence.of, begun.sequence.of);
    assert_eq!(begun.sequence.of.says(), "purge cache");
    assert_eq!(says(&anew(&estate, &graph, planned.clone(), "")), says(&planned));
}

// ---- what must be down or up while work goes on ----

const PATCH: &str =
    "[procedure.patch]\n[[procedure.patch.steps]]\nwork = [\"bin/patch\"]\nwhile_down = [\"db\"]\nwhile_up = [\"queue\"]\nattempts = 2\n";

fn patching(found: &str) -> (Plan, Estate) {
    let (estate, graph) = estate("db, queue", PATCH);
    let patch = &estate.procedures[&"patch".parse().unwrap()];
    (procedure::plan(&estate, &graph, &facts(&estate, found), &Usual::default(), patch, &Asked::default()), estate)
}

#[rstest]
#[case::as_it_must_be("db=down", "")]
#[case::still_up("", "h/db is proven there, and must be down while this works")]
#[case::nobody_can_say("db=unknown", "h/db is unknown there, and must be down while this works")]
#[case::down_too("db=down queue=down", "h/queue is down there, and must be proven while this works")]
fn work_is_not_planned_beside_what_must_not_be(#[case] found: &str, #[case] why: &str) {
    let (plan, _) = patching(found);
    assert!(if why.is_empty() { plan.can_begin() } else { plan.obstacles.iter().any(|o| o.why == why) }, "{:?}", plan.obstacles);
}

/// At its first look a run of it stands ready to work.
fn ready_to_patch() -> Began {
    let (plan, estate) = patching("db=down");
    let mut run = begun_by(Begun::of(plan, &estate, 1, "maren", &BTreeMap::new()));
    run.given(Input::Locked);
    let (rungs, processes) = (BTreeMap::new(), BTreeMap::new());
    run.given(Input::FirstLooked { seen: seen("db=down queue=proven"), rungs, processes, unconfirmed: Vec::new() });
    let answers = run.run.begun.preflight.iter().map(|look| (look.clone(), Answer::holds("so"))).collect();
    run.given(Input::Preflighted { answers });
    run
}

fn works(taken: &Taken) -> bool {
    acts(taken).iter().any(|(_, kind)| *kind == ActKind::Work)
}

fn held_for(run: &Began) -> String {
    match run.run.steps().next().map(|(_, now)| &now.state) {
        Some(StepState::Failed { reason }) => reason.clone(),
        _ => String::new(),
    }
}

#[rstest]
#[case::as_it_must_be("db=down queue=proven", true, "")]
#[case::up("db=proven queue=proven", false, "h/db is proven, and must be down")]
#[case::out_of_reach("db=out queue=proven", false, "h/db is out of reach, and must be down")]
#[case::down("db=down queue=ailing", false, "h/queue is ailing, and must be proven")]
#[case::nobody_can_say("db=unknown queue=proven", false, "")]
fn work_begins_only_beside_what_must_be(#[case] now: &str, #[case] begins: bool, #[case] why: &str) {
    let mut run = ready_to_patch();
    let taken = run.given(Input::FreshLooked { step: StepId(1), seen: seen(now) });
    assert_eq!(works(&taken), begins, "{taken:?}");
    assert!(held_for(&run).contains(why) && held_for(&run).is_empty() == why.is_empty(), "{}", held_for(&run));
    if now.contains("unknown") {
        // It is looked at again, and held where nobody can say within its patience.
        run.waits(2_000);
        let taken = run.given(Input::Tick);
        assert!(taken.orders.iter().any(|o| matches!(o, Order::FreshLook { .. })), "{taken:?}");
        run.waits(120_000);
        run.given(Input::FreshLooked { step: StepId(1), seen: seen(now) });
        assert!(held_for(&run).contains("h/db could not be looked at"), "{}", held_for(&run));
    }
}

#[rstest]
#[case::as_it_must_be("db", SeenState::Down, "")]
#[case::came_up("db", SeenState::Proven, "h/db was proven meanwhile, and had to be down")]
#[case::went_down("queue", SeenState::Down, "h/queue was down meanwhile, and had to be proven")]
#[case::nobody_can_say("db", SeenState::Unknown, "")]
fn work_is_not_done_where_what_must_be_did_not_stay_so(
    #[case] of: &str,
    #[case] state: SeenState,
    #[case] why: &str,
    #[values(false, true)] is_over: bool,
    #[values(false, true)] read_back: bool,
) {
    let mut run = ready_to_patch();
    run.given(Input::FreshLooked { step: StepId(1), seen: seen("db=down queue=proven") });
    run.given(Input::Seen { address: at(of), state, says: "the look after it".to_owned() });
    if is_over {
        // That it stands again as it must takes nothing back.
        let before = if of == "db" { SeenState::Down } else { SeenState::Proven };
        run.given(Input::Seen { address: at(of), state: before, says: "a later look".to_owned() });
    }
    if read_back {
        run.is_read_back();
    }
    let taken = run.given(Input::ActEnded { step: StepId(1), act: ActId(1), end: ActEnd::Exited { code: 0, output: String::new() } });
    assert!(held_for(&run).contains(why) && held_for(&run).is_empty() == why.is_empty(), "{}: {taken:?}", held_for(&run));
    // It is done once, and not again by itself.
    run.waits(120_000);
    assert!(!works(&run.given(Input::Tick)));
}

/// A second attempt is no less asked than the first.
#[test]
fn work_tried_again_is_asked_again() {
    let mut run = ready_to_patch();
    run.given(Input::FreshLooked { step: StepId(1), seen: seen("db=down queue=proven") });
    run.given(Input::ActEnded { step: StepId(1), act: ActId(1), end: ActEnd::Exited { code: 1, output: String::new() } });
    run.waits(60_000);
    let taken = run.given(Input::Tick);
    assert!(!works(&taken) && taken.orders.iter().any(|o| matches!(o, Order::FreshLook { .. })), "{taken:?}");
    run.given(Input::FreshLooked { step: StepId(1), seen: seen("db=proven queue=proven") });
    assert!(held_for(&run).contains("h/db is proven, and must be down"), "{}", held_for(&run));
}

/// What came beside one attempt is not held against the next.
#[test]
fn work_tried_again_is_judged_by_what_came_beside_it_then() {
    let mut run = ready_to_patch();
    let so = || Input::FreshLooked { step: StepId(1), seen: seen("db=down queue=proven") };
    run.given(so());
    run.given(Input::Seen { address: at("db"), state: SeenState::Proven, says: "somebody's".to_owned() });
    run.given(Input::ActEnded { step: StepId(1), act: ActId(1), end: ActEnd::Exited { code: 1, output: String::new() } });
    run.waits(60_000);
    run.given(Input::Tick);
    assert!(works(&run.given(so())));
    run.given(Input::ActEnded { step: StepId(1), act: ActId(2), end: ActEnd::Exited { code: 0, output: String::new() } });
    assert_eq!(held_for(&run), "");
}

/// What must be down is nobody else's to start meanwhile, and what must be up nobody else's to stop.
#[test]
fn what_must_stay_so_while_work_goes_on_is_held_against_other_runs() {
    let wants = ready_to_patch().run.wants();
    let mut locks = yantro_core::holders::Locks::default();
    locks.take(RunId(1), &wants).unwrap();
    for (chosen, wish) in [("db", Wish::Start), ("queue", Wish::Stop)] {
        let other = began_as_planned("db, queue", "", "db=down", &Request::new(wish, addresses(chosen)));
        assert!(locks.take(RunId(2), &other.run.wants()).is_err(), "{wish} {chosen}");
    }
}

// ---- what putting back would do is said before it is decided ----

#[rstest]
#[case::one("zz", "a", "starts h/a, as it was found, in about ")]
#[case::two("a -> b", "b", "starts 2 services, as it was found, in about ")]
fn what_putting_back_does_is_told_beforehand(#[case] relations: &str, #[case] chosen: &str, #[case] says: &str) {
    let more = "[service.a]\nlike = \"x\"\nladder = [{ rung = \"port\", port = 90 }]\n";
    let more = if relations == "zz" { more } else { "" };
    let mut run = began_so(relations, more, "", &Request::new(Wish::Restart, addresses(chosen)));
    run.first_looks(&[]);
    let stops: Vec<StepId> = run.run.steps().filter(|(s, _)| s.kind() == StepKind::Stop).map(|(s, _)| s.id).collect();
    let mut down = Vec::new();
    for (i, step) in stops.into_iter().enumerate() {
        let act = ActId(i as u32 + 1);
        let all: Vec<String> = run
            .run
            .begun
            .services
            .keys()
            .map(|a| {
                let state = if down.contains(&a.service.to_string()) { "down" } else { "proven" };
                format!("{}={state}", a.service)
            })
            .collect();
        run.given(Input::FreshLooked { step, seen: seen(&all.join(" ")) });
        run.given(Input::ActBegun { step, act, begun: begun_now() });
        run.given(Input::ActEnded { step, act, end: ActEnd::Sent });
        for rung in 0..run.run.service(step).ladder_of(StepKind::Stop).len() as u32 {
            run.given(Input::RungLooked { step, attempt: 1, rung, answer: Answer::holds("gone"), logs: vec![] });
        }
        down.push(run.run.service(step).address.service.to_string());
    }
    run.given(Input::Decide(decision(DecisionKind::Hold, None)));
    let all = run.run.allowed();
    let put_back = all.iter().find(|a| matches!(a.kind, DecisionKind::PutBack)).unwrap();
    assert!(put_back.leads_to.starts_with(says), "{}", put_back.leads_to);
}

// ---- holds have numbers of their own (R30) ----

/// Each hold is another: what was decided of an earlier one is refused of a later.
#[test]
fn a_later_hold_is_not_answered_by_what_was_decided_of_an_earlier() {
    let mut run = began("app -> db", "db");
    run.first_looks(&[]);
    for hold in 1..=3 {
        run.given(Input::Decide(decision(DecisionKind::Hold, None)));
        assert_eq!(run.run.hold_no(), Some(hold));
        for other in (1..=4).filter(|o| *o != hold) {
            run.refused(Input::Decide(decision(DecisionKind::Resume, Some(other))));
        }
        run.is_read_back();
        run.given(Input::Decide(decision(DecisionKind::Resume, Some(hold))));
        assert_eq!(run.run.hold_no(), None);
    }
}

/// A look tells a run something new where its service stands otherwise than it knows, or is proven while it was awaited.
#[test]
fn a_look_is_news_where_it_tells_of_a_change_or_of_what_is_awaited() {
    let mut run = began("app -> db", "db");
    run.first_looks(&[]);
    let told = |run: &Began, name: &str, state: SeenState| run.run.is_news(&at(name), state);
    assert!(!told(&run, "app", SeenState::Proven), "it is known");
    assert!(told(&run, "app", SeenState::Down), "it changed");
    assert!(!told(&run, "elsewhere", SeenState::Down), "it is none of its own");
    run.given(Input::Hold(HoldCause::Lost { address: at("app") }));
    assert!(told(&run, "app", SeenState::Proven), "it is awaited");
    assert!(!told(&run, "db", SeenState::Proven), "another is not");
}

/// Whoever knows a run as of an event is told what changed since, and who it queues behind.
#[test]
fn what_changed_since_an_event_is_known() {
    let mut run = began("app -> db", "db");
    run.given(Input::Queued { behind: vec!["run 7".into()] });
    assert_eq!(run.run.queued_behind(), ["run 7"]);
    run.first_looks(&[]);
    assert_eq!(run.run.in_flight().count(), 0);
    let before = run.run.event_count();
    let seen = run.found();
    run.given(Input::FreshLooked { step: StepId(1), seen });
    let now = run.run.event_count();
    assert!(run.run.changed_since(StepId(1), before) && !run.run.changed_since(StepId(1), now));
    assert!(!run.run.changed_since(StepId(2), before));
    assert_eq!(run.run.in_flight().collect::<Vec<_>>(), [&at("app")]);
}
