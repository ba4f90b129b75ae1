//! Single acts: how long each may take, when it came out as it should, and what is said of one that did not.

use std::{collections::BTreeMap, time::Duration};

use rstest::rstest;
use yantro_core::{
    plan::{Request, StepId},
    proof::{Answer, SeenState, logs::LogCount},
    run::{ActEnd, ActId, ActKind, DecisionKind, Event, HoldCause, Input, LogEvidence, Order, StepState, Taken},
    words::{
        kinds::{StepKind, Wish},
        name::Address,
        time::Timestamp,
    },
};

use crate::{
    by_hand::{Began, began_so, begun_now, decision},
    estates::addresses,
};

/// A service in each way to be carried, each with codes of its own that count as good.
const THREE: &str = "[service.command]\nhost = \"h\"\nrun_by = \"commands\"\n\
    commands = { start = [\"/on\"], stop = [\"/off\"], state = [\"/is\"], reload = [\"/read\"], force = [\"/kill\"], within = \"7s\" }\n\
    start = { patience = \"40s\", attempts = 1, accept_exits = [0, 7] }\nsteady = \"STEADY\"\n\
    stop = { patience = \"30s\", force = \"FORCE\", evidence = [[\"/dump\"], [\"/trace\"]], accept_exits = [0, 8] }\nreload = { accept_exits = [0, 9] }\n\
    [service.unit]\nhost = \"h\"\nrun_by = \"systemd\"\nstart = { attempts = 1, accept_exits = [0, 7] }\n\
    stop = { patience = \"30s\", accept_exits = [0, 8] }\n\
    [service.process]\nlike = \"x\"\nladder = [{ rung = \"port\", port = 10 }, { rung = \"port\", port = 11 }]\nstart = { patience = \"40s\", attempts = 1 }\n\
    stop = { patience = \"30s\", force = \"FORCE\" }\n";

fn at(name: &str) -> Address {
    format!("h/{name}").parse().unwrap()
}

fn over(ms: u64) -> Duration {
    Duration::from_millis(ms)
}

/// A run of one step, whose first act was intended just now.
fn acting(wish: Wish, name: &str, more: &str) -> Began {
    let is_down = wish == Wish::Start;
    let found = if is_down { format!("{name}=down") } else { String::new() };
    let mut run = began_so("zz", more, &found, &Request::new(wish, addresses(name)));
    run.given(Input::Locked);
    let state = if is_down { SeenState::Down } else { SeenState::Proven };
    let seen = BTreeMap::from([(at(name), state)]);
    run.given(Input::FirstLooked { seen: seen.clone(), rungs: BTreeMap::new(), processes: BTreeMap::new(), unconfirmed: vec![] });
    run.given(Input::FreshLooked { step: StepId(1), seen });
    run
}

fn three(force: &str, steady: &str) -> String {
    THREE.replace("FORCE", force).replace("STEADY", steady)
}

fn exited(code: i32, output: &str) -> ActEnd {
    ActEnd::Exited { code, output: output.to_owned() }
}

fn ends(run: &mut Began, act: u32, end: ActEnd) -> Taken {
    run.given(Input::ActBegun { step: StepId(1), act: ActId(act), begun: begun_now() });
    run.given(Input::ActEnded { step: StepId(1), act: ActId(act), end })
}

fn looks(run: &mut Began, rung: u32, answer: Answer) -> Taken {
    run.given(Input::RungLooked { step: StepId(1), attempt: 1, rung, answer, logs: vec![] })
}

fn why_failed(run: &Began) -> Option<String> {
    run.stored.iter().rev().find_map(|(_, e)| match e {
        Event::StepFailed { reason, .. } | Event::AttemptFailed { reason, .. } => Some(reason.clone()),
        _ => None,
    })
}

fn kinds_intended(run: &Began) -> Vec<(ActKind, u32, Timestamp)> {
    let of = |e: &Event| match e {
        Event::ActIntended { kind, attempt, patience_ends, .. } => Some((*kind, *attempt, *patience_ends)),
        _ => None,
    };
    run.stored.iter().filter_map(|(_, e)| of(e)).collect()
}

// ---- which ends are good ----

/// The manager's command is not the service: its exits are none of the service's.
#[rstest]
#[case::start(Wish::Start, "command", 7, true)]
#[case::start_by_the_stops_exit(Wish::Start, "command", 8, false)]
#[case::stop(Wish::Stop, "command", 8, true)]
#[case::stop_by_the_starts_exit(Wish::Stop, "command", 7, false)]
#[case::reload(Wish::Reload, "command", 9, true)]
#[case::reload_by_the_starts_exit(Wish::Reload, "command", 7, false)]
#[case::start_by_a_manager(Wish::Start, "unit", 7, false)]
#[case::good_start_by_a_manager(Wish::Start, "unit", 0, true)]
#[case::stop_by_a_manager(Wish::Stop, "unit", 8, false)]
#[case::good_stop_by_a_manager(Wish::Stop, "unit", 0, true)]
fn an_act_is_good_by_the_exits_of_its_own_kind(#[case] wish: Wish, #[case] name: &str, #[case] code: i32, #[case] is_good: bool) {
    let mut run = acting(wish, name, &three("never", "0s"));
    ends(&mut run, 1, exited(code, "mooring\n  at once\n"));
    let state = &run.run.step_now(StepId(1)).state;
    assert_eq!(matches!(state, StepState::Proving { .. }), is_good, "{state:?}");
    let word = kinds_intended(&run)[0].0.word();
    let why = format!("the {word} command ended with exit code {code}, saying \"mooring\"");
    assert_eq!(why_failed(&run), (!is_good).then_some(why));
}

/// What is set in belongs to a line before it; where all is, the last of it is told.
#[rstest]
#[case::its_last_line("casting off\nno water\n", ", saying \"no water\"")]
#[case::before_what_is_set_in("no water\n  at quay 3\n\n", ", saying \"no water\"")]
#[case::where_all_is_set_in("  first\n  last\n", ", saying \"last\"")]
#[case::nothing("\n \n", "")]
fn how_a_command_ended_is_told_with_its_last_word(#[case] output: &str, #[case] said: &str) {
    for (end, how) in [
        (exited(3, output), "ended with exit code 3"),
        (ActEnd::Signalled { signal: 15, output: output.to_owned() }, "was ended by signal 15"),
        (ActEnd::TimedOut { output: output.to_owned() }, "took longer than it may"),
    ] {
        let mut run = acting(Wish::Stop, "command", &three("never", "0s"));
        ends(&mut run, 1, end);
        assert_eq!(why_failed(&run).unwrap(), format!("the stop command {how}{said}"));
    }
}

/// What a climb finds against a start is told with how its act ended: as the service's own end where Yantro started it itself, as its
/// command's where that may have done all it was to do.
#[rstest]
#[case::its_own_end("process", 0, exited(3, ""), "gone: ended with exit code 3")]
#[case::its_own_good_end("process", 0, exited(0, ""), "gone: ended with exit code 0")]
#[case::another_rung("process", 1, exited(3, ""), "gone")]
#[case::its_command_did_it_all("command", 0, exited(0, ""), "gone")]
#[case::its_command_ended_otherwise("command", 0, exited(7, ""), "gone; the start command ended with exit code 7")]
fn what_is_against_a_start_is_told_with_how_its_act_ended(#[case] name: &str, #[case] rung: u32, #[case] end: ActEnd, #[case] why: &str) {
    let mut run = acting(Wish::Start, name, &three("never", "0s"));
    ends(&mut run, 1, end);
    if rung == 1 {
        looks(&mut run, 0, Answer::holds("it listens"));
    }
    looks(&mut run, rung, Answer::against("gone"));
    assert_eq!(why_failed(&run).as_deref(), Some(why));
}

// ---- how long each may take ----

/// The recorder ends a command at its own limit, and its end is awaited five seconds more; then nobody knows what became of it, and its
/// ladder has one look's time to tell.
#[rstest]
#[case::of_commands("command", 40 + 7 + 5, "40s")]
#[case::of_a_manager("unit", 60 + 5, "1m")]
fn an_act_that_does_not_end_is_unknown_once_its_recorder_would_have_ended_it(
    #[case] name: &str,
    #[case] seconds: u64,
    #[case] patience: &str,
) {
    let mut run = acting(Wish::Start, name, &three("never", "0s"));
    run.given(Input::ActBegun { step: StepId(1), act: ActId(1), begun: begun_now() });
    run.waits(seconds * 1000 - 1);
    run.given(Input::Tick);
    assert!(matches!(run.run.step_now(StepId(1)).state, StepState::Acting { .. }), "it is not over yet");
    assert_eq!(run.run.next_deadline(), Some(run.now + over(1)));
    run.waits(1);
    run.given(Input::Tick);
    assert!(matches!(run.run.step_now(StepId(1)).state, StepState::Proving { .. }));
    looks(&mut run, 0, Answer::not_yet("not so"));
    assert_eq!(run.run.next_deadline(), Some(run.now + over(5_000)));
    run.waits(5_000);
    run.given(Input::Tick);
    assert_eq!(why_failed(&run).unwrap(), format!("what became of the act is unknown, and not proven within {}: not so", patience));
    assert!(matches!(run.run.step_now(StepId(1)).state, StepState::OutcomeUnknown { .. }));
}

/// Evidence in its order, then force, and no further attempt by any of it; whatever comes of evidence, force follows.
#[rstest]
#[case::evidence_is_had(0)]
#[case::evidence_cannot_be_had(1)]
fn evidence_comes_before_force_and_is_no_attempt(#[case] code: i32) {
    let mut run = acting(Wish::Stop, "command", &three("allow", "0s"));
    let began = run.now;
    ends(&mut run, 1, exited(0, ""));
    looks(&mut run, 0, Answer::not_yet("it still listens"));
    run.waits(29_999);
    run.given(Input::Tick);
    assert_eq!(kinds_intended(&run).len(), 1, "its patience is not over");
    run.waits(1);
    run.given(Input::Tick);
    let since = run.now;
    assert_eq!(since, began + over(30_000));
    for act in [2, 3] {
        ends(&mut run, act, exited(code, ""));
    }
    let expected = [
        (ActKind::Stop, 1, began + over(30_000)),
        (ActKind::Evidence(0), 1, since + over(30_000)),
        (ActKind::Evidence(1), 1, since + over(30_000)),
        (ActKind::Force, 1, since + over(10_000)),
    ];
    assert_eq!(kinds_intended(&run), expected);
}

/// Held between evidence and force it is asked for; and where an operator ordered the force of this step, it is not asked for again.
#[rstest]
#[case::held_meanwhile(HoldCause::Operator { who: "tove".into() })]
#[case::at_a_standstill(HoldCause::Standstill)]
fn no_force_follows_where_the_run_is_held_meanwhile(#[case] cause: HoldCause) {
    let mut run = acting(Wish::Stop, "command", &three("allow", "0s"));
    ends(&mut run, 1, exited(0, ""));
    looks(&mut run, 0, Answer::not_yet("it still listens"));
    run.waits(30_000);
    run.given(Input::Tick);
    run.given(Input::Hold(cause));
    ends(&mut run, 2, exited(0, ""));
    assert!(matches!(run.run.step_now(StepId(1)).state, StepState::Asking { answer: None, .. }));
    assert!(!kinds_intended(&run).iter().any(|(k, ..)| *k == ActKind::Force));
}

/// A start that is tried again while the earlier one is there has that cleared first: with the patience of a stop, and its gap after.
#[test]
fn an_earlier_attempt_is_cleared_before_the_next() {
    let more = three("never", "0s").replace("attempts = 1 }", "attempts = 2, gap = \"3s\" }");
    let mut run = acting(Wish::Start, "process", &more);
    run.given(Input::ActBegun { step: StepId(1), act: ActId(1), begun: begun_now() });
    looks(&mut run, 0, Answer::not_yet("nothing listens"));
    run.waits(40_000);
    run.given(Input::Tick);
    assert!(why_failed(&run).unwrap().starts_with("not proven within 40s: "), "{:?}", why_failed(&run));
    run.waits(3_000);
    run.given(Input::Tick);
    run.given(Input::FreshLooked { step: StepId(1), seen: BTreeMap::from([(at("process"), SeenState::Ailing)]) });
    let clear = *kinds_intended(&run).last().unwrap();
    assert_eq!(clear, (ActKind::Clear, 1, run.now + over(30_000)));
    ends(&mut run, 2, ActEnd::Sent);
    for rung in 0..run.run.service(StepId(1)).ladder_of(StepKind::Stop).len() as u32 {
        looks(&mut run, rung, Answer::holds("gone"));
    }
    let StepState::Pausing { until, after_act: false } = run.run.step_now(StepId(1)).state else {
        panic!("{:?}", run.run.step_now(StepId(1)).state)
    };
    assert_eq!(until, run.now + over(3_000));
}

// ---- climbing ----

/// A rung that was climbed and no longer holds is lost; one that is still to be climbed is not, and one that could not be looked at is
/// neither.
#[rstest]
#[case::climbed(0, Answer::not_yet("it no longer listens"), true)]
#[case::to_be_climbed(1, Answer::not_yet("nothing listens"), false)]
#[case::not_looked_at(0, Answer::could_not("no answer"), false)]
fn a_rung_is_lost_only_once_it_was_climbed(#[case] rung: u32, #[case] answer: Answer, #[case] is_lost: bool) {
    let mut run = acting(Wish::Start, "process", &three("never", "0s"));
    run.given(Input::ActBegun { step: StepId(1), act: ActId(1), begun: begun_now() });
    looks(&mut run, 0, Answer::holds("it listens"));
    let taken = looks(&mut run, rung, answer);
    assert_eq!(taken.events.iter().any(|e| matches!(e, Event::RungLost { .. })), is_lost, "{:?}", taken.events);
}

/// A rung is climbed in its turn: one further up proves nothing before it, and one that was climbed is not climbed twice.
#[rstest]
#[case::further_up(1, 0)]
#[case::in_its_turn(0, 1)]
fn rungs_are_climbed_in_their_turn(#[case] rung: u32, #[case] climbed: u32) {
    let mut run = acting(Wish::Start, "process", &three("never", "0s"));
    run.given(Input::ActBegun { step: StepId(1), act: ActId(1), begun: begun_now() });
    for _ in 0..2 {
        looks(&mut run, rung, Answer::holds("it listens"));
    }
    assert!(matches!(run.run.step_now(StepId(1)).state, StepState::Proving { climbed: is, .. } if is == climbed));
}

/// A look of an earlier attempt says nothing of this one, whatever it says.
#[test]
fn a_look_of_another_attempt_counts_for_nothing() {
    let mut run = acting(Wish::Start, "process", &three("never", "0s"));
    run.given(Input::ActBegun { step: StepId(1), act: ActId(1), begun: begun_now() });
    for answer in [Answer::holds("it listens"), Answer::against("gone")] {
        let taken = run.given(Input::RungLooked { step: StepId(1), attempt: 2, rung: 0, answer, logs: vec![] });
        assert_eq!(taken.events, []);
    }
}

/// What was read of logs is kept once for each time that it is other than before.
#[test]
fn what_a_log_shows_is_kept_where_it_is_new() {
    let mut run = acting(Wish::Start, "process", &three("never", "0s"));
    run.given(Input::ActBegun { step: StepId(1), act: ActId(1), begun: begun_now() });
    let evidence = |lines: u64| {
        vec![LogEvidence { source: "/l".into(), count: LogCount { lines, ..LogCount::default() }, hits: vec![], complete: true }]
    };
    for (logs, is_kept) in [(vec![], false), (evidence(1), true), (evidence(1), false), (evidence(2), true), (vec![], false)] {
        let answer = Answer::not_yet("nothing listens");
        let taken = run.given(Input::RungLooked { step: StepId(1), attempt: 1, rung: 0, answer, logs });
        assert_eq!(taken.events.iter().any(|e| matches!(e, Event::LogKept { .. })), is_kept, "{:?}", taken.events);
    }
}

/// After its last rung a service has to stay so; a tenth of a second before that is over its followers are looked at already.
#[rstest]
#[case::for_nothing("0s", None, None)]
#[case::for_no_longer_than_a_look_ahead("100ms", Some(100), None)]
#[case::for_longer("2s", Some(2_000), Some(1_900))]
fn what_is_proven_stays_so_for_a_while(#[case] steady: &str, #[case] done_after: Option<u64>, #[case] ahead_after: Option<u64>) {
    let mut run = acting(Wish::Start, "command", &three("never", steady));
    ends(&mut run, 1, exited(0, ""));
    looks(&mut run, 0, Answer::holds("it listens"));
    let began = run.now;
    assert_eq!(run.run.step_now(StepId(1)).state.has_ended(), done_after.is_none());
    let Some(done_after) = done_after else { return };
    assert_eq!(run.run.next_deadline(), Some(began + over(ahead_after.unwrap_or(done_after))));
    run.waits(done_after - 1);
    run.given(Input::Tick);
    assert!(!run.run.step_now(StepId(1)).state.has_ended(), "it has not stayed so long yet");
    run.waits(1);
    run.given(Input::Tick);
    assert!(run.run.step_now(StepId(1)).state.has_ended());
}

/// An act's end is heard once, and that of an act before it changes nothing any more.
#[test]
fn an_end_is_heard_once() {
    let mut run = acting(Wish::Start, "command", &three("never", "0s"));
    ends(&mut run, 1, exited(0, ""));
    let again = run.given(Input::ActEnded { step: StepId(1), act: ActId(1), end: exited(5, "") });
    assert_eq!((again.events, again.orders), (vec![], vec![]));
    assert!(matches!(run.run.step_now(StepId(1)).state, StepState::Proving { .. }));
}

/// An outcome that comes after its patience leaves time for one look all the same: what was never looked at is not judged.
#[test]
fn what_came_late_is_looked_at_once() {
    let mut run = acting(Wish::Start, "command", &three("never", "0s"));
    run.given(Input::ActBegun { step: StepId(1), act: ActId(1), begun: begun_now() });
    run.waits(40_000);
    let taken = run.given(Input::ActEnded { step: StepId(1), act: ActId(1), end: exited(0, "") });
    let proving =
        taken.events.iter().find_map(|e| if let Event::StepProving { patience_ends, .. } = e { Some(*patience_ends) } else { None });
    assert_eq!(proving, Some(run.now + over(5_000)));
    assert!(taken.orders.iter().any(|o| matches!(o, Order::Climb { .. })));
}

/// A force that an operator ordered is given though the run is held by others' word, and asked for no second time.
#[test]
fn a_force_that_was_ordered_follows_its_evidence() {
    let mut run = acting(Wish::Stop, "command", &three("ask", "0s"));
    ends(&mut run, 1, exited(0, ""));
    looks(&mut run, 0, Answer::not_yet("it still listens"));
    run.waits(30_000);
    run.given(Input::Tick);
    let hold = run.run.hold_no();
    run.given(Input::Decide(decision(DecisionKind::Force { step: StepId(1) }, hold)));
    run.given(Input::Hold(HoldCause::Operator { who: "tove".into() }));
    for act in [2, 3] {
        ends(&mut run, act, exited(0, ""));
    }
    assert_eq!(kinds_intended(&run).last().unwrap().0, ActKind::Force);
}

// ---- outcomes that nobody knows, and what comes after a restart of the server (R21) ----

/// A run of one piece of work, which was begun just now.
fn working(line: &str) -> Began {
    let mut run = crate::tasks::begun(&format!("work = [\"/bin/patch\"], on = \"h\", {line}"));
    run.given(Input::ActBegun { step: StepId(1), act: ActId(1), begun: begun_now() });
    assert_eq!(kinds_intended(&run).len(), 1);
    run
}

/// What became of work is for a person to find out, whatever rule is said: nothing goes on, back or over to another on it.
#[rstest]
#[case("hold")]
#[case("carry-on")]
#[case("put-back")]
fn work_whose_outcome_nobody_knows_holds_whatever_its_rule(#[case] rule: &str) {
    let mut run = working(&format!("if_it_fails = \"{rule}\""));
    run.given(Input::ActUnknown { step: StepId(1), act: ActId(1) });
    assert!(matches!(run.run.step_now(StepId(1)).state, StepState::OutcomeUnknown { .. }));
    assert_eq!(run.run.hold_causes().collect::<Vec<_>>(), [&HoldCause::Step { step: StepId(1) }]);
    assert_eq!(kinds_intended(&run).len(), 1, "nothing else began");
}

/// Work that changes nothing is ended in the middle once the run is given up, also by the server that comes after; other work is not.
#[rstest]
#[case::it_changes_nothing("changes_nothing = true", true)]
#[case::it_changes_something("title = \"patch\"", false)]
fn only_work_that_changes_nothing_is_ended_in_the_middle(#[case] line: &str, #[case] is_recalled: bool) {
    let mut run = working(line);
    let recalls = |orders: &[Order]| orders.iter().any(|o| matches!(o, Order::Recall { .. }));
    let finds = |orders: &[Order]| orders.iter().any(|o| matches!(o, Order::FindAct { .. }));
    assert!(finds(&run.run.recover()) && !recalls(&run.run.recover()), "the run goes on");
    let given_up = run.given(Input::Decide(decision(DecisionKind::GiveUp, None)));
    assert_eq!(recalls(&given_up.orders), is_recalled, "{:?}", given_up.orders);
    run.is_read_back();
    assert!(finds(&run.run.recover()));
    assert_eq!(recalls(&run.run.recover()), is_recalled);
}

/// An act of which it turns out that it never began leaves its step to begin anew; of a run that is given up it ends with it.
#[rstest]
#[case::the_run_goes_on(false)]
#[case::it_is_given_up(true)]
fn what_never_began_begins_anew_or_not_at_all(#[case] is_given_up: bool) {
    let mut run = working("title = \"patch\"");
    if is_given_up {
        run.given(Input::Decide(decision(DecisionKind::GiveUp, None)));
    }
    run.given(Input::ActNeverBegun { step: StepId(1), act: ActId(2) });
    assert!(matches!(run.run.step_now(StepId(1)).state, StepState::Acting { .. }), "it is another act");
    run.given(Input::ActNeverBegun { step: StepId(1), act: ActId(1) });
    assert_eq!(run.run.step_now(StepId(1)).state.has_ended(), is_given_up);
    assert_eq!(kinds_intended(&run).len(), if is_given_up { 1 } else { 2 });
}

/// A later server climbs on where the earlier one was, by the ladder of what is proven.
#[test]
fn a_climb_goes_on_where_it_was() {
    let more = three("never", "0s").replace("attempts = 1 }", "attempts = 2, gap = \"3s\" }");
    let mut run = acting(Wish::Start, "process", &more);
    run.given(Input::ActBegun { step: StepId(1), act: ActId(1), begun: begun_now() });
    looks(&mut run, 0, Answer::holds("it listens"));
    let climbs = |run: &Began| match &run.run.recover()[..] {
        [Order::Climb { kind, from, act, attempt, .. }] => (*kind, *from, *act, *attempt),
        other => panic!("{other:?}"),
    };
    run.is_read_back();
    assert_eq!(climbs(&run), (StepKind::Start, 1, Some(ActId(1)), 1));
    run.waits(40_000);
    run.given(Input::Tick);
    run.waits(3_000);
    run.given(Input::Tick);
    run.given(Input::FreshLooked { step: StepId(1), seen: BTreeMap::from([(at("process"), SeenState::Ailing)]) });
    ends(&mut run, 2, ActEnd::Sent);
    run.is_read_back();
    assert_eq!(climbs(&run), (StepKind::Stop, 0, Some(ActId(2)), 1), "what is cleared away climbs down");
}

/// Attempts and their gaps are those of the act's own kind, or what the line says.
#[rstest]
#[case::a_stop("patience = \"30s\", force", "patience = \"30s\", attempts = 2, gap = \"4s\", force", Some(4_000))]
#[case::one_attempt("patience = \"30s\", force", "patience = \"30s\", force", None)]
fn a_stop_is_tried_again_after_its_gap(#[case] is: &str, #[case] would_be: &str, #[case] gap: Option<u64>) {
    let mut run = acting(Wish::Stop, "process", &three("never", "0s").replace(is, would_be));
    ends(&mut run, 1, ActEnd::Sent);
    looks(&mut run, 0, Answer::not_yet("it still listens"));
    run.waits(30_000);
    run.given(Input::Tick);
    let next = run.stored.iter().find_map(|(_, e)| if let Event::AttemptFailed { next_at, .. } = e { Some(*next_at) } else { None });
    assert_eq!(next, gap.map(|ms| run.now + over(ms)));
    assert_eq!(run.run.hold_no().is_some(), gap.is_none());
}

#[rstest]
#[case::as_it_goes_without_saying("attempts = 2", 5_000)]
#[case::as_the_line_says("attempts = 2, gap = \"9s\"", 9_000)]
fn work_is_tried_again_as_its_line_says(#[case] line: &str, #[case] gap: u64) {
    let mut run = working(line);
    run.given(Input::ActEnded { step: StepId(1), act: ActId(1), end: exited(3, "") });
    let next = run.stored.iter().find_map(|(_, e)| if let Event::AttemptFailed { next_at, .. } = e { Some(*next_at) } else { None });
    assert_eq!(next, Some(run.now + over(gap)));
}

/// What is told twice is stored once.
#[test]
fn what_is_told_twice_is_stored_once() {
    let mut run = began_so("app -> db", "", "", &Request::new(Wish::Restart, addresses("db")));
    let count = |run: &mut Began, input: Input| run.given(input).events.len();
    let found = run.found();
    let looked = || Input::FirstLooked { seen: found.clone(), rungs: BTreeMap::new(), processes: BTreeMap::new(), unconfirmed: vec![] };
    assert_eq!(count(&mut run, looked()), 0, "it has no locks yet");
    for expected in [1, 0] {
        assert_eq!(count(&mut run, Input::Queued { behind: vec!["run 7".into()] }), expected);
        assert_eq!(count(&mut run, Input::TakeOn { who: "tove".into() }), expected);
    }
    assert_eq!((count(&mut run, Input::Locked), count(&mut run, Input::Locked)), (1, 0));
    assert_eq!(count(&mut run, Input::Queued { behind: vec!["run 8".into()] }), 0, "it has its turn");
    assert_eq!((count(&mut run, looked()) > 0, count(&mut run, looked())), (true, 0));
}

// ---- what nobody knows the outcome of ----

/// What became of it shows on a ladder, where there is one, or it holds: it is not tried again by itself, however many attempts it has
/// and whatever the ladder says against it (R21).
#[rstest]
#[case::a_start(Wish::Start, "command", "not so")]
#[case::a_start_of_a_process(Wish::Start, "process", "not so")]
#[case::a_stop(Wish::Stop, "command", "not so")]
#[case::something_speaks_against_it(Wish::Start, "command", "against")]
#[case::it_shows_after_all(Wish::Start, "command", "so")]
#[case::it_shows_that_it_is_down(Wish::Stop, "command", "so")]
fn what_nobody_knows_the_outcome_of_is_not_tried_again(#[case] wish: Wish, #[case] name: &str, #[case] shows: &str) {
    let more =
        three("never", "0s").replace("attempts = 1", "attempts = 3").replace("patience = \"30s\"", "patience = \"30s\", attempts = 3");
    for is_begun in [true, false] {
        let mut run = acting(wish, name, &more);
        // What Yantro starts itself is known once it has begun.
        if is_begun && name != "process" {
            run.given(Input::ActBegun { step: StepId(1), act: ActId(1), begun: begun_now() });
        }
        run.given(Input::ActUnknown { step: StepId(1), act: ActId(1) });
        run.is_read_back();
        match shows {
            "so" => {
                let kind = if wish == Wish::Start { StepKind::Start } else { StepKind::Stop };
                for rung in 0..run.run.service(StepId(1)).ladder_of(kind).len() as u32 {
                    looks(&mut run, rung, Answer::holds("so"));
                }
                assert_eq!(run.run.step_now(StepId(1)).state.word(), "done");
                continue;
            }
            "against" => drop(looks(&mut run, 0, Answer::against("gone"))),
            _ => {
                looks(&mut run, 0, Answer::not_yet("not so"));
                run.waits(60_000);
                run.given(Input::Tick);
            }
        }
        let state = &run.run.step_now(StepId(1)).state;
        assert!(matches!(state, StepState::OutcomeUnknown { .. }), "begun: {is_begun}: {state:?}");
        assert!(run.run.hold_no().is_some());
    }
}

/// An end that is heard of after all is known: what fails then fails as ever.
#[test]
fn an_end_that_is_heard_of_late_is_known() {
    let mut run = acting(Wish::Start, "command", &three("never", "0s").replace("attempts = 1", "attempts = 3"));
    run.given(Input::ActUnknown { step: StepId(1), act: ActId(1) });
    run.given(Input::ActEnded { step: StepId(1), act: ActId(1), end: exited(0, "") });
    looks(&mut run, 0, Answer::against("gone"));
    assert!(matches!(run.run.step_now(StepId(1)).state, StepState::Pausing { .. }), "{:?}", run.run.step_now(StepId(1)).state);
}

// ---- attempts and room ----

/// What clears an earlier attempt away is no attempt of its own: as many starts are given as it has attempts.
#[test]
fn clearing_away_is_no_attempt() {
    let more = three("never", "0s").replace("attempts = 1 }", "attempts = 3, gap = \"3s\" }");
    let mut run = acting(Wish::Start, "process", &more);
    let mut starts = 1;
    for _ in 0..40 {
        match run.run.step_now(StepId(1)).state.clone() {
            StepState::Acting { act, kind, .. } => {
                run.given(Input::ActBegun { step: StepId(1), act, begun: begun_now() });
                if kind == ActKind::Clear {
                    run.given(Input::ActEnded { step: StepId(1), act, end: ActEnd::Sent });
                }
            }
            StepState::Proving { clearing, .. } => {
                let attempt = run.run.step_now(StepId(1)).attempts;
                for rung in 0..3 {
                    let answer = if clearing { Answer::holds("gone") } else { Answer::against("it does not answer") };
                    run.given(Input::RungLooked { step: StepId(1), attempt, rung, answer, logs: vec![] });
                }
            }
            StepState::Pausing { .. } => {
                run.waits(3_000);
                let looked = run.given(Input::Tick);
                if looked.orders.iter().any(|o| matches!(o, Order::FreshLook { .. })) {
                    let kinds = kinds_intended(&run);
                    let state = if kinds.last().unwrap().0 == ActKind::Clear { SeenState::Down } else { SeenState::Ailing };
                    run.given(Input::FreshLooked { step: StepId(1), seen: BTreeMap::from([(at("process"), state)]) });
                }
            }
            _ => break,
        }
        starts = kinds_intended(&run).iter().filter(|(k, ..)| *k == ActKind::Start).count();
    }
    assert_eq!((starts, run.run.step_now(StepId(1)).state.word()), (3, "failed"));
}

/// An act begins once, whatever is heard of that.
#[test]
fn a_begin_is_heard_once() {
    let mut run = acting(Wish::Stop, "command", &three("never", "0s"));
    let begins = |run: &mut Began| run.given(Input::ActBegun { step: StepId(1), act: ActId(1), begun: begun_now() }).events.len();
    assert_eq!((begins(&mut run), begins(&mut run)), (1, 0));
    assert!(matches!(run.run.step_now(StepId(1)).state, StepState::Acting { begun: true, .. }));
    assert!(run.run.last_act(StepId(1)).unwrap().begun.is_some());
}

/// An act that never began is withdrawn with its attempt, and its step begins anew.
#[test]
fn an_act_that_never_began_is_no_attempt() {
    let mut run = acting(Wish::Stop, "command", &three("never", "0s"));
    let taken = run.given(Input::ActNeverBegun { step: StepId(1), act: ActId(1) });
    assert!(taken.orders.iter().any(|o| matches!(o, Order::FreshLook { .. })), "{:?}", taken.orders);
    let now = run.run.step_now(StepId(1));
    assert_eq!((now.acts.len(), now.attempts, now.state.word()), (0, 0, "waiting"));
    run.given(Input::FreshLooked { step: StepId(1), seen: BTreeMap::from([(at("command"), SeenState::Proven)]) });
    assert_eq!(run.run.last_act(StepId(1)).map(|a| (a.act, a.attempt)), Some((ActId(2), 1)));
}

// ---- a patience that runs out ----

/// Patience runs from the act, and not from its end.
#[test]
fn patience_runs_from_the_act() {
    let mut run = acting(Wish::Start, "command", &three("never", "0s"));
    let began = run.now;
    run.waits(10_000);
    ends(&mut run, 1, exited(0, ""));
    assert_eq!(run.run.next_deadline(), Some(began + over(40_000)));
}

/// What is not down within its patience is told so, and what is not proven likewise; force is asked for where it is a stop, after all
/// of its attempts, and where it was not forced already.
#[rstest]
#[case::a_start(Wish::Start, "ask", 1, "failed", "not proven within 40s: not so")]
#[case::a_stop(Wish::Stop, "ask", 1, "asking", "not down within 30s: not so")]
#[case::a_stop_never_forced(Wish::Stop, "never", 1, "failed", "not down within 30s: not so")]
#[case::a_stop_with_attempts_left(Wish::Stop, "ask", 2, "pausing", "not down within 30s: not so")]
fn what_runs_out_of_patience_is_told(
    #[case] wish: Wish,
    #[case] force: &str,
    #[case] attempts: u32,
    #[case] word: &str,
    #[case] says: &str,
) {
    let more = three(force, "0s")
        .replace("stop = { patience = \"30s\", force", &format!("stop = {{ patience = \"30s\", attempts = {attempts}, force"));
    let mut run = acting(wish, "command", &more);
    ends(&mut run, 1, exited(0, ""));
    looks(&mut run, 0, Answer::not_yet("not so"));
    run.waits(if wish == Wish::Start { 40_000 } else { 30_000 });
    run.given(Input::Tick);
    let state = run.run.step_now(StepId(1)).state.clone();
    assert_eq!(state.word(), word);
    let told = match state {
        StepState::Asking { reason, .. } => reason,
        _ => why_failed(&run).unwrap(),
    };
    assert_eq!(told, says);
}

/// A force that does not show is not followed by another.
#[test]
fn what_was_forced_is_not_forced_again() {
    let mut run = acting(Wish::Stop, "process", &three("allow", "0s"));
    ends(&mut run, 1, ActEnd::Sent);
    looks(&mut run, 0, Answer::not_yet("it runs"));
    run.waits(30_000);
    run.given(Input::Tick);
    assert_eq!(kinds_intended(&run).last().unwrap().0, ActKind::Force);
    ends(&mut run, 2, ActEnd::Sent);
    looks(&mut run, 0, Answer::not_yet("it runs"));
    run.waits(10_000);
    run.given(Input::Tick);
    assert_eq!(kinds_intended(&run).len(), 2);
    assert_eq!(run.run.step_now(StepId(1)).state.word(), "failed");
}

// ---- staying so ----

/// A stop has not to stay so: it is down once it is seen down. What clears an earlier attempt likewise.
#[test]
fn what_is_down_need_not_stay_so() {
    let mut run = acting(Wish::Stop, "command", &three("never", "9s"));
    ends(&mut run, 1, exited(0, ""));
    for rung in 0..run.run.service(StepId(1)).ladder_of(StepKind::Stop).len() as u32 {
        looks(&mut run, rung, Answer::holds("gone"));
    }
    assert_eq!(run.run.step_now(StepId(1)).state.word(), "done");
}

/// A rung that is lost meanwhile begins that anew; an answer beyond the last rung is none.
#[test]
fn what_loses_a_rung_has_not_stayed_so() {
    let mut run = acting(Wish::Start, "process", &three("never", "0s"));
    run.run.begun.services.values_mut().for_each(|s| {
        let mut service = (**s).clone();
        service.steady = yantro_core::words::time::Span::secs(9);
        *s = std::sync::Arc::new(service);
    });
    run.given(Input::ActBegun { step: StepId(1), act: ActId(1), begun: begun_now() });
    let rungs = run.run.service(StepId(1)).ladder_of(StepKind::Start).len() as u32;
    for rung in 0..rungs {
        looks(&mut run, rung, Answer::holds("it listens"));
    }
    let steady = |run: &Began| matches!(run.run.step_now(StepId(1)).state, StepState::Proving { steady_until: Some(_), .. });
    assert!(steady(&run));
    assert_eq!(looks(&mut run, rungs, Answer::holds("what is this")).events, []);
    looks(&mut run, 0, Answer::not_yet("gone"));
    assert!(!steady(&run));
    run.waits(9_000);
    run.given(Input::Tick);
    assert_eq!(run.run.step_now(StepId(1)).state.word(), "proving");
    // Seen as it was before, nothing begins anew.
    for rung in 0..rungs {
        looks(&mut run, rung, Answer::holds("it listens"));
    }
    let until = run.run.step_now(StepId(1)).state.clone();
    run.waits(10);
    looks(&mut run, 0, Answer::holds("it listens"));
    assert_eq!(run.run.step_now(StepId(1)).state, until);
}

// ---- lines that must appear ----

/// All but its lines: the other rungs hold, the one of its log does not, and there are lines that must appear.
#[rstest]
#[case::all_but_its_lines("must_see = [\"ready\"]", 1, true)]
#[case::all("must_see = [\"ready\"]", 9, false)]
#[case::none("must_see = [\"ready\"]", 0, false)]
#[case::no_lines_are_wanted("must_not_see = [\"panic\"]", 1, false)]
fn what_lacks_nothing_but_its_lines(#[case] start: &str, #[case] climbed: u32, #[case] lacks: bool) {
    let more = format!("[service.app]\nlike = \"x\"\nsteady = \"9s\"\nladder = [{{ rung = \"process\" }}]\nstart = {{ {start} }}\n");
    let mut run = acting(Wish::Start, "app", &more);
    assert!(!run.run.lacks_lines(StepId(1)), "nothing was looked at");
    run.given(Input::ActBegun { step: StepId(1), act: ActId(1), begun: begun_now() });
    let rungs = run.run.service(StepId(1)).ladder_of(StepKind::Start).len() as u32;
    for rung in 0..climbed.min(rungs) {
        looks(&mut run, rung, Answer::holds("so"));
    }
    assert_eq!(run.run.lacks_lines(StepId(1)), lacks, "{rungs} rungs");
}
