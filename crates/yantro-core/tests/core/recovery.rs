//! What a run that is read back goes on with, and what of it counts on from before.

use std::{collections::BTreeMap, time::Duration};

use rstest::rstest;
use yantro_core::{
    plan::{Part, Request, StepId},
    proof::{Answer, SeenState},
    run::{
        ActEnd, AtLastMoment, Begun, DecisionKind, Event, HoldCause, Input, LogEvidence, Order, RunState, StepEnd, StepState, WindowTerms,
    },
    words::{
        kinds::{StepKind, Wish},
        time::Span,
    },
};

use crate::{
    by_hand::{Began, began_so, begun_by, begun_now, decision},
    estates::{addresses, seen},
    played::{Played, night},
};

const FIRST: StepId = StepId(1);
const LOGGED: &str = "[service.app]\nlike = \"x\"\nsteady = \"0s\"\nladder = [{ rung = \"port\", port = 1 }]\n\
    start = { must_see = [\"ready\"], must_not_see = [\"panic\"] }\n[service.other]\nlike = \"x\"\nladder = [{ rung = \"port\", port = 2 }]\n";

fn watches(run: &Began) -> usize {
    run.run.recover().iter().filter(|o| matches!(o, Order::WatchLog { .. })).count()
}

/// Logs of what was started are watched on after a restart of the server; those of what was let go of are not.
#[test]
fn logs_are_watched_on_but_of_what_was_let_go_of() {
    let lines = ["start = [\"app\"]", "pause = \"1h\"", "stop = [\"app\"]"];
    let mut played = Played::of(night("zz", LOGGED, &lines, "app=down"), "app=down");
    played.goes_on(1);
    assert_eq!(watches(&played.run), 1);
    played.given(Input::Hold(HoldCause::Operator { who: "tove".into() }));
    let hold = played.run.run.hold_no();
    let released = played.given(Input::Decide(decision(DecisionKind::Release { address: "h/app".parse().unwrap() }, hold)));
    assert!(played.run.run.is_released(&"h/app".parse().unwrap()), "{:?}", released.events);
    played.run.is_read_back();
    assert_eq!(watches(&played.run), 0);
}

/// A start that was not given has no place in its log from which on lines would count: it is proven by its other rungs. One that was
/// given, or that something else gave after the run stopped it, is proven by its lines, too.
#[rstest]
#[case::it_was_started("app=down", false, StepKind::Start)]
#[case::it_comes_up_by_itself("app=rising", false, StepKind::Await)]
#[case::it_was_stopped_and_came_up_by_itself("app=rising", true, StepKind::Await)]
fn lines_count_from_an_act(#[case] looked: &str, #[case] stopped: bool, #[case] climbs_as: StepKind) {
    let lines = if stopped { ["restart = [\"app\"]"] } else { ["start = [\"app\"]"] };
    let found = if stopped { "" } else { "app=down" };
    let mut played = Played::of(night("zz", LOGGED, &lines, found), found);
    if stopped {
        played.goes_on(1);
    }
    let step = played.step(StepKind::Start, "app");
    played.given(Input::FreshLooked { step, seen: seen(looked) });
    if looked == "app=down" {
        let act = played.act(step);
        played.given(Input::ActBegun { step, act, begun: begun_now() });
    }
    let of = |o: &Order| if let Order::Climb { kind, .. } = o { Some(*kind) } else { None };
    assert_eq!(played.run.run.recover().iter().filter_map(of).collect::<Vec<_>>(), [climbs_as]);
    let rungs = played.run.run.service(step).ladder_of(climbs_as).len() as u32;
    for rung in 0..rungs {
        assert!(!played.run.run.step_now(step).state.has_ended());
        played.given(Input::RungLooked {
            step,
            attempt: played.run.run.step_now(step).attempts,
            rung,
            answer: Answer::holds("so"),
            logs: vec![],
        });
    }
    assert_eq!(played.run.run.step_now(step).state, StepState::Ended(StepEnd::Done));
}

/// What something else starts again after the run's own stop is proven by the lines since then.
#[rstest]
#[case::it_was_stopped(true, StepKind::Start)]
#[case::it_was_not(false, StepKind::Await)]
fn lines_count_from_a_stop_that_something_else_answers(#[case] stopped: bool, #[case] climbs_as: StepKind) {
    let more = LOGGED.replace("steady = \"0s\"\n", "steady = \"0s\"\nbrought_back_by = \"a watchdog\"\n");
    let mut played = Played::of(night("zz", &more, &["restart = [\"app\"]"], ""), "");
    let stop = played.step(StepKind::Stop, "app");
    if stopped {
        played.goes_on(1);
    } else {
        played.given(Input::FreshLooked { step: stop, seen: seen("app=down") });
    }
    let step = played.run.run.steps().find(|(s, _)| s.kind() == StepKind::Start).unwrap().0.id;
    played.given(Input::FreshLooked { step, seen: seen("app=rising") });
    let of = |o: &Order| if let Order::Climb { kind, .. } = o { Some(*kind) } else { None };
    assert_eq!(played.run.run.recover().iter().filter_map(of).collect::<Vec<_>>(), [climbs_as]);
}

/// A hold that was answered counts no more: the next has all of its patience.
#[test]
fn the_next_hold_counts_from_its_own_begin() {
    let mut run = began_so("app -> db", "", "", &Request::new(Wish::Stop, addresses("app")));
    run.run.begun.held_at_most = Some(Span::secs(600));
    run.first_looks(&["new: stop h/log"]);
    run.waits(500_000);
    let (begun, hold) = (Box::new(run.run.begun.clone()), run.run.hold_no());
    run.given(Input::Replanned { begun, decision: decision(DecisionKind::Resume, hold) });
    let seen = run.found();
    run.given(Input::FirstLooked { seen: seen.clone(), rungs: BTreeMap::new(), processes: BTreeMap::new(), unconfirmed: vec![] });
    run.given(Input::FreshLooked { step: FIRST, seen });
    assert!(run.run.acts_given() > 0);
    run.given(Input::Hold(HoldCause::Operator { who: "tove".into() }));
    assert_eq!(run.run.hold_ends(), Some(run.now + Duration::from_secs(600)));
}

/// A hold becomes a put-back where something was done and it is on its way there; not at a standstill, which is nobody's to decide on.
#[rstest]
#[case::something_was_done(1, &[], true)]
#[case::nothing_was_done(0, &[], false)]
#[case::at_a_standstill(1, &[HoldCause::Standstill], false)]
fn which_holds_end_by_themselves(#[case] steps: usize, #[case] more: &[HoldCause], #[case] ends: bool) {
    let mut run = night("app -> db", "", &["stop = [\"app\"]", "pause = \"1h\""], "");
    run.run.begun.held_at_most = Some(Span::secs(600));
    let mut played = Played::of(run, "");
    played.goes_on(steps);
    played.given(Input::Hold(HoldCause::Operator { who: "tove".into() }));
    more.iter().for_each(|c| drop(played.given(Input::Hold(c.clone()))));
    assert_eq!(played.run.run.hold_ends(), ends.then(|| played.run.now + Duration::from_secs(600)));
    played.run.waits(600_000);
    played.given(Input::Tick);
    assert_eq!(played.run.run.part() == Part::PutBack, ends, "{:?}", played.run.run.part());
}

/// Held on the way back, or given up, nothing is put back by itself.
#[test]
fn what_is_put_back_already_is_not_put_back_by_itself() {
    let mut run = night("app -> db", "", &["stop = [\"app\"]", "pause = \"1h\""], "");
    run.run.begun.held_at_most = Some(Span::secs(600));
    let mut played = Played::of(run, "");
    played.goes_on(1);
    played.given(Input::Decide(decision(DecisionKind::PutBack, None)));
    assert_eq!((played.run.run.part(), played.run.run.state()), (Part::PutBack, RunState::PuttingBack));
    played.given(Input::Hold(HoldCause::Operator { who: "tove".into() }));
    assert_eq!(played.run.run.hold_ends(), None);
}

/// The last moment of a window is heeded once something was done and while something is left to do, and to the millisecond.
#[rstest]
#[case::a_moment_before(1, -1, false)]
#[case::at_it(1, 0, true)]
#[case::nothing_was_done(0, 3_600_000, false)]
#[case::all_is_done(2, 3_600_000, false)]
fn the_last_moment_is_heeded_while_there_is_something_to_put_back(#[case] steps: usize, #[case] ms: i64, #[case] heeded: bool) {
    let planned = night("app -> db", "", &["stop = [\"app\"]", "stop = [\"db\"]"], "");
    let window =
        WindowTerms { title: "the night".into(), ends_at: planned.now + Duration::from_secs(7_200), at_last_moment: AtLastMoment::Hold };
    let mut played = Played::of(begun_by(Begun { window: Some(window), ..planned.run.begun }), "");
    played.goes_on(steps);
    let last = played.run.run.last_moment().unwrap();
    played.run.now = yantro_core::words::time::Timestamp::from_ms(last.as_ms() + ms);
    let taken = played.given(Input::Tick);
    assert_eq!(taken.events.iter().any(|e| matches!(e, Event::LastMoment)), heeded);
}

/// Looks before the first act count for a quarter of an hour, to the millisecond.
#[rstest]
#[case::a_quarter_of_an_hour(15 * 60_000, false)]
#[case::longer(15 * 60_000 + 1, true)]
fn looks_before_the_first_act_count_for_a_quarter_of_an_hour(#[case] ms: u64, #[case] again: bool) {
    let lines = ["question = { asks = \"Is the last boat in?\" }", "stop = [\"app\"]"];
    let mut run = night("app -> db", "", &lines, "");
    let host = "h".parse().unwrap();
    let rung = run.run.begun.services.values().next().unwrap().ladder[0].clone();
    run.run.begun.preflight = vec![yantro_core::plan::Preflight { says: "the backup is there".into(), host, rung, line: None }];
    let mut played = Played::of(begun_by(run.run.begun), "");
    played.run.waits(ms);
    let answer = DecisionKind::Answer { step: FIRST, value: "yes".into() };
    let taken = played.given(Input::Decide(decision(answer, None)));
    assert_eq!(taken.orders.iter().any(|o| matches!(o, Order::Preflight { .. })), again, "{:?}", taken.orders);
}

/// What was vouched for stands for whoever relies on it.
#[test]
fn what_was_vouched_for_may_be_relied_on() {
    let request = Request::new(Wish::Start, addresses("app db"));
    let mut played = Played::of(began_so("app -> db", "", "app=down db=down", &request), "app=down db=down");
    let db = played.step(StepKind::Start, "db");
    let act = played.acts(db);
    played.given(Input::ActEnded { step: db, act, end: ActEnd::Exited { code: 1, output: String::new() } });
    played.given(Input::RungLooked { step: db, attempt: 1, rung: 0, answer: Answer::against("gone"), logs: vec![] });
    let hold = played.run.run.hold_no();
    played.given(Input::Decide(decision(DecisionKind::Vouch { step: db }, hold)));
    assert_eq!(played.run.run.vouched().iter().map(ToString::to_string).collect::<Vec<_>>(), ["h/db"]);
    played.run.is_read_back();
    played.given(Input::Tick);
    let app = played.step(StepKind::Start, "app");
    let taken = played.given(Input::FreshLooked { step: app, seen: seen("app=down db=ailing") });
    assert!(taken.orders.iter().any(|o| matches!(o, Order::Act { .. })), "{:?}", played.run.run.step_now(app).state);
}

/// What a start shows is kept with it until it ends, and what was last answered is forgotten with the next act.
#[test]
fn what_was_answered_last_is_known_until_the_next_act() {
    let mut played = Played::of(night("zz", LOGGED, &["start = [\"app\"]"], "app=down"), "app=down");
    let step = played.step(StepKind::Start, "app");
    played.acts(step);
    assert!(played.run.run.step_now(step).last_answer().is_none());
    let logs: Vec<LogEvidence> = vec![];
    played.given(Input::RungLooked { step, attempt: 1, rung: 0, answer: Answer::not_yet("nothing listens"), logs });
    let (rung, answer) = played.run.run.step_now(step).last_answer().unwrap();
    assert_eq!((*rung, answer.says.as_str()), (0, "nothing listens"));
    assert_ne!(played.stands[&"h/app".parse().unwrap()], SeenState::Proven);
}

/// What is said of groups that were set aside takes nothing from others; of those that are kept up no other run may act on a member.
#[rstest]
#[case::kept_up(&[], true)]
#[case::set_aside(&["trio"], false)]
fn members_of_what_is_kept_up_are_nobody_elses_to_act_on(#[case] below: &[&str], #[case] excludes: bool) {
    use yantro_core::holders::Wants;
    let member = |name: &str, port: u32| {
        format!("[service.{name}]\nlike = \"x\"\nladder = [{{ rung = \"port\", port = {port} }}]\ngroups = [\"trio\"]\n")
    };
    let more = format!("[group.trio]\nkeep_up = 1\n{}{}{}", member("one", 1), member("two", 2), member("three", 3));
    let below_keep_up = below.iter().map(|n| n.parse().unwrap()).collect();
    let request = Request { below_keep_up, ..Request::new(Wish::Restart, addresses("one")) };
    let run = crate::by_hand::began_as_planned("zz", &more, "", &request);
    let others = Wants::new(addresses("three"), Default::default());
    assert_eq!(run.run.wants().excludes(&others), excludes);
}

/// What a look counts from: the step's own act; of what comes back by itself, the stop that it comes back from; else the run's begin.
#[test]
fn what_a_service_shows_counts_from_its_act_or_from_the_stop_that_it_comes_back_from() {
    let more = LOGGED.replacen("steady = \"0s\"\n", "steady = \"0s\"\nbrought_back_by = \"a watchdog\"\n", 1);
    let lines = ["stop = [\"other\"]", "restart = [\"app\"]", "start = [\"other\"]"];
    let mut played = Played::of(night("zz", &more, &lines, ""), "");
    let since = |played: &Played, step: StepId, act| {
        let (given, since) = played.run.run.shows_since(step, act);
        (given.map(|a| a.act), since.as_ms())
    };
    let began = played.run.run.began_at.as_ms();
    let [back, other_up] = ["app", "other"].map(|name| played.step(StepKind::Start, name));
    assert_eq!(since(&played, back, None), (None, began), "nothing was done yet");
    let mut ends_of = |kind, name: &str| {
        played.run.waits(1_000);
        let step = played.step(kind, name);
        if played.asked.contains(&step) {
            played.looks(kind, name);
        }
        let (act, at) = (played.act(step), played.run.run.last_act(step).unwrap().intended_at.as_ms());
        played.run.waits(500);
        played.ends(step, ActEnd::Exited { code: 0, output: String::new() });
        assert_eq!(since(&played, step, Some(act)), (Some(act), at));
        assert_eq!(played.run.run.act(step, act).map(|a| a.act), Some(act));
        (act, at)
    };
    let other_down = ends_of(StepKind::Stop, "other");
    let app_down = ends_of(StepKind::Stop, "app");
    assert_ne!(other_down, app_down);
    // Nobody starts it: it counts from its own stop, and from nobody else's.
    assert_eq!(since(&played, back, None), (Some(app_down.0), app_down.1));
    assert_eq!(since(&played, other_up, None), (None, began), "what is started by its act has none yet");
    let strange = yantro_core::run::ActId(99);
    assert_eq!(since(&played, other_up, Some(strange)), (None, began));
    assert!(played.run.run.act(other_up, other_down.0).is_none(), "an act is its own step's");
}
