//! What a run offers to whoever decides, in which words, and what it answers to what does not fit (R30).

use rstest::rstest;
use yantro_core::{
    plan::{Request, StepId},
    proof::{Answer, SeenState},
    run::{ActEnd, Begun, Decision, DecisionKind, Event, HoldCause, Input, Order, Refusal, StepEnd, StepState},
    words::{
        kinds::{StepKind, Wish},
        time::Timestamp,
    },
};

use crate::{
    by_hand::{Began, began_so, decision},
    estates::{addresses, seen},
    played::{Played, night},
};

const FIRST: StepId = StepId(1);

fn wished(more: &str, wish: Wish, chosen: &str, found: &str) -> Played {
    Played::of(began_so("app -> db, log", more, found, &Request::new(wish, addresses(chosen))), found)
}

fn offered(run: &Began, kind: &DecisionKind) -> Option<String> {
    run.run.allowed().into_iter().find(|a| a.kind == *kind).map(|a| a.leads_to)
}

fn failed(code: i32) -> ActEnd {
    ActEnd::Exited { code, output: String::new() }
}

/// A start that was given once is cleared away before the next; one that was not, and a stop, have nothing to clear.
#[rstest]
#[case::a_start_that_ran(Wish::Start, true, "start h/app again, once the earlier attempt is gone, then goes on")]
#[case::a_start_that_did_not(Wish::Start, false, "start h/app again, then goes on")]
#[case::a_stop(Wish::Stop, true, "stop h/app again, then goes on")]
fn what_trying_again_leads_to(#[case] wish: Wish, #[case] acts: bool, #[case] expected: &str) {
    let more = "[service.app]\nlike = \"x\"\nladder = [{ rung = \"port\", port = 1 }]\nstop = { patience = \"30s\", force = \"never\" }\n";
    let is_start = wish == Wish::Start;
    let request = Request::new(wish, addresses("app"));
    let found = if is_start { "app=down" } else { "" };
    let mut played = Played::of(began_so("zz", more, found, &request), found);
    if acts {
        let act = played.acts(FIRST);
        played.given(Input::ActEnded { step: FIRST, act, end: failed(1) });
        if is_start {
            played.given(Input::RungLooked { step: FIRST, attempt: 1, rung: 0, answer: Answer::against("gone"), logs: vec![] });
        }
    } else {
        played.given(Input::FreshLooked { step: FIRST, seen: seen("app=ailing") });
    }
    assert!(matches!(played.run.run.step_now(FIRST).state, StepState::Failed { .. }), "{:?}", played.run.run.step_now(FIRST).state);
    assert_eq!(offered(&played.run, &DecisionKind::TryAgain { step: FIRST, change: None }).as_deref(), Some(expected));
}

/// To resume is offered where something else than a standstill holds the run, with what it leads to there.
#[rstest]
#[case::nothing(&[], None)]
#[case::an_operator(&[HoldCause::Operator { who: "tove".into() }], Some("goes on from here"))]
#[case::a_standstill(&[HoldCause::Standstill], None)]
#[case::both(
    &[HoldCause::Standstill, HoldCause::Operator { who: "tove".into() }],
    Some("answers its own hold: it goes on once the standstill is lifted")
)]
#[case::things_changed(
    &[HoldCause::Changed { acts: vec!["new: stop h/log".into()] }],
    Some("works it out anew from how things stand now, shows it, and goes on by that once confirmed")
)]
fn what_resuming_leads_to(#[case] causes: &[HoldCause], #[case] expected: Option<&str>) {
    let mut played = wished("", Wish::Stop, "app", "");
    for cause in causes {
        played.given(Input::Hold(cause.clone()));
    }
    assert_eq!(offered(&played.run, &DecisionKind::Resume).as_deref(), expected);
    assert_eq!(offered(&played.run, &DecisionKind::Hold).is_some(), causes.is_empty());
}

/// One cause holds once: told a second time it is nothing new; and nothing holds a run that is given up.
#[test]
fn one_cause_holds_once() {
    let mut played = wished("", Wish::Stop, "app", "");
    played.acts(FIRST);
    let cause = HoldCause::Operator { who: "tove".into() };
    assert_eq!(played.given(Input::Hold(cause.clone())).events.len(), 1);
    assert_eq!(played.given(Input::Hold(cause.clone())).events, []);
    played.given(Input::Decide(decision(DecisionKind::GiveUp, None)));
    assert_eq!(played.given(Input::Hold(cause)).events, []);
}

/// A run that is given up offers nothing more while its last act ends, and no other procedure takes over.
#[test]
fn a_run_that_is_given_up_offers_nothing() {
    let mut played = wished("", Wish::Stop, "app", "");
    let act = played.acts(FIRST);
    assert!(played.run.run.divert_leads_to().is_some());
    played.given(Input::Decide(decision(DecisionKind::GiveUp, None)));
    assert!(!played.run.run.has_ended(), "its act is under way");
    assert_eq!((played.run.run.allowed(), played.run.run.divert_leads_to()), (vec![], None));
    // Its act ends, and is not proven any more.
    let taken = played.given(Input::ActEnded { step: FIRST, act, end: ActEnd::Sent });
    assert!(!taken.orders.iter().any(|o| matches!(o, Order::Climb { .. })), "{:?}", taken.orders);
    assert!(matches!(played.run.run.step_now(FIRST).state, StepState::Ended(StepEnd::PassedOver { .. })));
}

/// An ended run refuses what is decided of it, hears nothing more of what it did, and can be written notes about.
#[test]
fn of_an_ended_run_there_are_only_notes() {
    let mut played = wished("", Wish::Stop, "app", "");
    played.goes_on(1);
    let stands = played.stands.clone();
    played.given(Input::FinalLooked { seen: stands.clone() });
    assert!(played.run.run.has_ended());
    let refusal = played.run.refused(Input::Decide(decision(DecisionKind::Hold, None)));
    assert!(refusal.to_string().contains("finished"), "{refusal}");
    for input in [Input::Tick, Input::FinalLooked { seen: stands }, Input::Hold(HoldCause::Away)] {
        let taken = played.given(input);
        assert_eq!((taken.events, taken.orders), (vec![], vec![]));
    }
    let at = played.run.now;
    played.given(Input::Note { who: "tove".into(), text: "the log is quiet".into() });
    assert_eq!(played.run.run.notes(), [(at, "tove".to_owned(), "the log is quiet".to_owned())]);
}

/// Whoever leaves a way that is left already is told which one.
#[rstest]
#[case::back(DecisionKind::PutBack, DecisionKind::PutBack, "putting back")]
#[case::diverted(
    DecisionKind::Divert { procedure: "night".parse().unwrap() }, DecisionKind::Divert { procedure: "night".parse().unwrap() }, "diverted")]
fn a_way_is_left_once(#[case] first: DecisionKind, #[case] then: DecisionKind, #[case] word: &str) {
    let mut played = Played::of(night("app -> db, log", "", &["stop = [\"app\"]", "pause = \"1h\""], ""), "");
    played.goes_on(1);
    played.given(Input::Decide(decision(first, None)));
    let refusal = played.run.refused(Input::Decide(decision(then, None)));
    assert!(refusal.to_string().contains(word), "{refusal}");
}

// ---- leaving the way ----

/// What is under way is awaited, what only waits for something is left, and what has not begun is called so.
#[test]
fn who_leaves_the_way_awaits_what_acts_and_nothing_else() {
    let lines = [
        "stop = [\"app\"]",
        "until = [{ rung = \"file\", path = \"/e/there\" }], on = \"h\", alongside = true",
        "pause = \"1h\", alongside = true",
        "work = [\"/bin/long\"], on = \"h\", alongside = true",
        "stop = [\"db\"]",
    ];
    let mut played = Played::of(night("app -> db, log", "", &lines, ""), "");
    let stop = played.step(StepKind::Stop, "app");
    let work = played.run.run.steps().find(|(s, _)| s.kind() == StepKind::Work).unwrap().0.id;
    let act = played.acts(stop);
    played.acts(work);
    played.given(Input::ActEnded { step: stop, act, end: ActEnd::Sent });
    assert!(matches!(played.run.run.step_now(stop).state, StepState::Proving { .. }));
    let taken = played.given(Input::Decide(decision(DecisionKind::PutBack, None)));
    let stopped: Vec<StepKind> = taken
        .orders
        .iter()
        .filter_map(|o| if let Order::StopLooking { step } = o { Some(played.run.run.begun.sequence.step(*step).kind()) } else { None })
        .collect();
    assert_eq!(stopped, [StepKind::Until, StepKind::Pause]);
    let words: Vec<&str> = played.run.run.steps().map(|(_, n)| n.state.word()).collect();
    assert_eq!(words, ["proving", "passed over", "passed over", "acting", "not begun"]);
}

/// A step that waits for its next attempt has begun: it is passed over.
#[rstest]
#[case::before_its_first_attempt(false, "not begun")]
#[case::before_its_next_attempt(true, "passed over")]
fn what_was_attempted_has_begun(#[case] attempted: bool, #[case] word: &str) {
    let more = "[service.app]\nlike = \"x\"\nladder = [{ rung = \"port\", port = 1 }]\nstart = { pause_before = \"9s\", attempts = 2, gap = \"9s\" }\n";
    let lines = ["work = [\"/bin/one\"], on = \"h\"", "start = [\"app\"]"];
    let mut played = Played::of(night("zz", more, &lines, "app=down"), "app=down");
    played.goes_on(1);
    let start = played.step(StepKind::Start, "app");
    if attempted {
        played.run.waits(9_000);
        played.given(Input::Tick);
        let act = played.acts(start);
        played.given(Input::ActEnded { step: start, act, end: failed(1) });
        played.given(Input::RungLooked { step: start, attempt: 1, rung: 0, answer: Answer::against("gone"), logs: vec![] });
    }
    assert!(matches!(played.run.run.step_now(start).state, StepState::Pausing { after_act: false, .. }));
    played.given(Input::Decide(decision(DecisionKind::PutBack, None)));
    assert_eq!(played.run.run.step_now(start).state.word(), word);
}

/// What takes over is planned when it was asked for, and only then.
#[test]
fn a_divert_is_planned_when_it_was_asked_for() {
    let lines = ["stop = [\"app\"]", "pause = \"1h\""];
    let divert = || DecisionKind::Divert { procedure: "night".parse().unwrap() };
    let cannot = || Input::DivertPlanned(Err("no such thing".into()));
    let mut played = Played::of(night("app -> db, log", "", &lines, ""), "");
    assert_eq!(played.given(cannot()).events, [], "nobody asked");
    played.goes_on(1);
    let asked = played.given(Input::Decide(decision(divert(), None)));
    assert!(asked.orders.iter().any(|o| matches!(o, Order::PlanDivert { .. })));
    // The server ends, and is answered once more than it asked.
    let mut anew = Played::of(night("app -> db, log", "", &lines, ""), "");
    anew.goes_on(1);
    anew.given(Input::Decide(decision(divert(), None)));
    let before = format!("{:?}", anew.run.run.lasting());
    anew.run.is_read_back();
    assert_eq!(format!("{:?}", anew.run.run.lasting()), before, "that it asked is no part of what lasts");
    assert_eq!(anew.run.run.take(cannot(), anew.run.now, &mut anew.run.rooms.clone()).unwrap().events, []);
    // Put back meanwhile, nothing takes over.
    played.given(Input::Decide(decision(DecisionKind::PutBack, None)));
    assert_eq!(played.given(cannot()).events, []);
}

// ---- beginning at a later line, and what was worked out anew ----

/// Lines before it are vouched for by whoever began there, and no other; what the first look contradicts there is told.
#[test]
fn lines_before_the_one_that_is_begun_at_are_vouched_for() {
    let lines = ["stop = [\"app\"]", "stop = [\"db\"]", "work = [\"/bin/patch\"], on = \"h\""];
    let begun = |stands: &str| {
        let mut run = night("app -> db, log", "", &lines, "");
        let begun = Begun { from_line: Some(2), ..run.run.begun.clone() };
        run = crate::by_hand::begun_by(begun);
        let mut played = Played::of(run, stands);
        let words: Vec<&str> = played.run.run.steps().map(|(_, n)| n.state.word()).collect();
        let causes: Vec<HoldCause> = played.run.run.hold_causes().cloned().collect();
        let words: Vec<String> = words.into_iter().map(str::to_owned).collect();
        played.given(Input::Tick);
        (words, causes)
    };
    let (words, causes) = begun("app=down");
    assert_eq!((words[0].as_str(), words[2].as_str(), causes.len()), ("vouched", "waiting", 0));
    assert_ne!(words[1], "vouched");
    let (words, causes) = begun("");
    assert_eq!(words[0], "waiting");
    let [HoldCause::Changed { acts }] = causes.as_slice() else { panic!("{causes:?}") };
    assert_eq!(acts.len(), 1, "of the line that is begun at nothing is vouched: {acts:?}");
}

/// What was worked out anew is taken where things had changed, by whoever answers that hold; every hold of its own is over then, and a
/// standstill is not.
#[test]
fn what_is_worked_out_anew_answers_the_hold_that_it_was_for() {
    let mut run = began_so("app -> db, log", "", "", &Request::new(Wish::Stop, addresses("app")));
    run.first_looks(&["new: stop h/log"]);
    run.given(Input::Hold(HoldCause::Operator { who: "tove".into() }));
    run.given(Input::Hold(HoldCause::Standstill));
    let (begun, hold) = (run.run.begun.clone(), run.run.hold_no());
    let answers = |hold: Option<u32>| Input::Replanned { begun: Box::new(begun.clone()), decision: decision(DecisionKind::Resume, hold) };
    run.refused(answers(Some(9)));
    run.refused(answers(None));
    run.given(answers(hold));
    assert_eq!(run.run.hold_causes().cloned().collect::<Vec<_>>(), [HoldCause::Standstill]);
    let hold = run.run.hold_no();
    run.refused(answers(hold));
}

// ---- what must not be given ----

/// What the newest edition has against a service holds what has not begun, and fails what is half way through an attempt.
#[rstest]
#[case::not_begun(false)]
#[case::half_way(true)]
fn what_is_restricted_meanwhile_is_held_or_decided_on(#[case] half_way: bool) {
    use yantro_core::run::Restriction;
    let more = "[service.app]\nlike = \"x\"\nladder = [{ rung = \"port\", port = 1 }]\nstart = { pause_before = \"5s\", attempts = 3, gap = \"2s\" }\n";
    let mut played = Played::of(began_so("zz", more, "app=down", &Request::new(Wish::Start, addresses("app"))), "app=down");
    if half_way {
        played.run.waits(5_000);
        played.given(Input::Tick);
        let act = played.acts(FIRST);
        played.given(Input::ActEnded { step: FIRST, act, end: failed(1) });
        played.given(Input::RungLooked { step: FIRST, attempt: 1, rung: 0, answer: Answer::against("gone"), logs: vec![] });
    }
    let address = "h/app".parse().unwrap();
    let why = "is hands-off now: theirs".to_owned();
    played.given(Input::Restricted([(address, Restriction::Acts { why })].into()));
    // It is held at once; somebody resumes, and it is asked again at the act.
    let hold = played.run.run.hold_no();
    assert!(hold.is_some());
    played.run.waits(10_000);
    played.given(Input::Tick);
    played.given(Input::Decide(decision(DecisionKind::Resume, hold)));
    played.given(Input::Tick);
    let stands = played.stands.clone();
    let taken = played.given(Input::FreshLooked { step: FIRST, seen: stands });
    assert!(!taken.orders.iter().any(|o| matches!(o, Order::Act { .. })));
    let is_failed = matches!(played.run.run.step_now(FIRST).state, StepState::Failed { .. });
    assert_eq!(is_failed, half_way, "{:?}", played.run.run.step_now(FIRST).state);
    assert!(played.run.run.hold_no().is_some());
}

/// The way back is never frozen, whatever it takes from users (R25).
#[test]
fn a_stop_of_the_way_back_goes_on_in_a_freeze() {
    use yantro_core::{run::Frozen, words::ImpactLevel};
    let more = "[service.app]\nlike = \"x\"\nsteady = \"0s\"\nladder = [{ rung = \"port\", port = 1 }]\n";
    let mut played = Played::of(night("zz", more, &["start = [\"app\"]", "pause = \"1h\""], "app=down"), "app=down");
    played.goes_on(1);
    let frozen = Frozen { says: "boats are sailing".into(), impact: ImpactLevel::None };
    played.given(Input::Frozen([("boats".to_owned(), frozen)].into()));
    played.given(Input::Decide(decision(DecisionKind::PutBack, None)));
    let stands = played.stands.clone();
    played.given(Input::FinalLooked { seen: stands });
    let stop = played.step(StepKind::Stop, "app");
    let stands = played.stands.clone();
    let taken = played.given(Input::FreshLooked { step: stop, seen: stands });
    assert!(taken.orders.iter().any(|o| matches!(o, Order::Act { .. })), "{:?}", played.run.run.hold_causes().collect::<Vec<_>>());
}

// ---- the looks that are taken for an act ----

/// A look that nobody asked for gives no act.
#[test]
fn a_look_that_nobody_asked_for_gives_no_act() {
    let mut played = Played::of(night("app -> db, log", "", &["pause = \"1h\"", "stop = [\"app\"]"], ""), "");
    let stop = played.step(StepKind::Stop, "app");
    let stands = played.stands.clone();
    let taken = played.given(Input::FreshLooked { step: stop, seen: stands });
    assert_eq!((taken.events, taken.orders), (vec![], vec![]));
}

/// Where a look shows that nothing is to be done, the room that it took is the next one's at once.
#[test]
fn room_that_a_look_did_not_need_is_the_next_ones_at_once() {
    let request = Request::new(Wish::Start, addresses("app log"));
    let mut run = began_so("app, log", "", "app=down log=down", &request);
    run.run.begun.at_once = Some(1);
    let mut played = Played::of(run, "app=down log=down");
    assert_eq!(played.asked.len(), 1);
    let step = *played.asked.first().unwrap();
    let address = played.run.run.begun.sequence.step(step).address().unwrap().clone();
    played.stands.insert(address, SeenState::Proven);
    let stands = played.stands.clone();
    let taken = played.given(Input::FreshLooked { step, seen: stands });
    assert!(taken.events.iter().any(|e| matches!(e, Event::StepEnded { end: StepEnd::Unneeded, .. })));
    assert_eq!(played.asked.len(), 1, "the other is looked at now");
    assert!(!played.asked.contains(&step));
}

/// What could not be said is looked at again as long as its patience lasts, to its very end.
#[rstest]
#[case::a_start(Wish::Start, 60_000)]
#[case::a_reload(Wish::Reload, 60_000)]
fn what_cannot_be_said_has_its_patience(#[case] wish: Wish, #[case] patience: u64) {
    let more = "[service.app]\nlike = \"x\"\nladder = [{ rung = \"port\", port = 1 }]\nreload = {}\n";
    let found = if wish == Wish::Start { "app=down" } else { "" };
    let mut played = Played::of(began_so("zz", more, found, &Request::new(wish, addresses("app"))), found);
    let mut blind = |ms: u64| {
        played.run.waits(ms);
        played.given(Input::Tick);
        played.given(Input::FreshLooked { step: FIRST, seen: seen("app=unknown") });
        played.run.run.step_now(FIRST).state.clone()
    };
    assert_eq!(blind(0), StepState::Waiting);
    assert_eq!(blind(patience), StepState::Waiting, "it has its patience to the end");
    let reason = "h/app could not be acted on within 1m: h/app could not be looked at".to_owned();
    assert_eq!(blind(250), StepState::Failed { reason });
}

/// Up to when a run waits in the queue is known from its begin.
#[test]
fn a_run_waits_in_the_queue_for_half_an_hour() {
    let run = began_so("app -> db, log", "", "", &Request::new(Wish::Stop, addresses("app")));
    assert_eq!(run.run.queue_ends(), Some(Timestamp::from_ms(1_000 + 30 * 60_000)));
}

/// Who has a run is told, from its begin on.
#[test]
fn who_has_a_run_is_told() {
    let mut run = began_so("app -> db, log", "", "", &Request::new(Wish::Stop, addresses("app")));
    assert_eq!(run.run.taken_by(), (run.now, "maren"));
    run.waits(10);
    run.given(Input::TakeOn { who: "tove".into() });
    assert_eq!(run.run.taken_by(), (run.now, "tove"));
    assert_eq!(run.given(Input::TakeOn { who: "tove".into() }).events, []);
}

#[test]
fn a_decision_without_a_hold_is_taken_where_none_is_asked_for() {
    let mut played = wished("", Wish::Stop, "app", "");
    let input = Input::Decide(Decision { kind: DecisionKind::Hold, hold: None, who: "tove".into(), why: None });
    assert_eq!(played.given(input).events.len(), 2);
    assert_eq!(played.run.run.state().word(), "held");
}

/// Every refusal says how to go on, with a command that is there where it names one.
#[test]
fn a_refusal_says_how_to_go_on() {
    let (run, step, address) = (7, FIRST, "h/app".parse().unwrap());
    let refusals = [
        (Refusal::Ended { run, word: "finished" }, "plan a new run"),
        (Refusal::Stale { by: "tove decided: resume".into() }, "look at the run as it stands now"),
        (Refusal::StepsFirst { step }, "try it again, pass it over, vouch for it, or give up the run"),
        (Refusal::NotHeld { run }, "hold it first, or let it go on"),
        (Refusal::NoReason { decision: "vouch" }, "say why, for those who read the record"),
        (Refusal::NotHolding { run, address }, "see the run's steps"),
        (Refusal::NoStep { run, step }, "see the run's steps"),
        (Refusal::Untouched { run }, "give it up instead: there is nothing to put back"),
        (Refusal::OffTheWay { run, word: "diverted" }, "see how it stands; a step that fails there is decided by itself"),
    ];
    for (refusal, hint) in refusals {
        assert_eq!(refusal.hint(), hint, "{refusal}");
    }
    assert_eq!(yantro_core::run::RunId(7).to_string(), "7");
}

/// Who lets go of a service is told how many other steps that leaves out, its own not among them.
#[rstest]
#[case::nobody_waits("app", "leaves out what is left to do with h/app, and lets other runs act on it")]
#[case::one_waits("db", "leaves out what is left to do with h/db and the step that waits on it, and lets other runs act on it")]
fn what_letting_go_leads_to(#[case] name: &str, #[case] expected: &str) {
    let mut played = Played::of(night("app -> db, log", "", &["restart = [\"app\"]"], ""), "");
    if name == "db" {
        played =
            Played::of(night("app -> db, log", "", &["start = [\"db\"]", "start = [\"app\"]"], "app=down db=down"), "app=down db=down");
    }
    played.given(Input::Hold(HoldCause::Operator { who: "tove".into() }));
    let kind = DecisionKind::Release { address: format!("h/{name}").parse().unwrap() };
    assert_eq!(offered(&played.run, &kind).as_deref(), Some(expected));
}

/// A run waits until it has its locks, and is called so.
#[test]
fn a_run_without_its_locks_is_queued() {
    let mut run = began_so("app -> db, log", "", "", &Request::new(Wish::Stop, addresses("app")));
    assert_eq!(run.run.state().word(), "queued");
    run.given(Input::Locked);
    assert_eq!(run.run.state().word(), "running");
}
