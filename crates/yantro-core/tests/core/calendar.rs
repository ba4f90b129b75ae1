//! Hours that come again, over clock changes and leap days; change freezes and windows as runs heed them.

use std::{collections::BTreeMap, time::Duration};

use proptest::prelude::*;
use rstest::rstest;
use yantro_core::{
    calendar::Hours,
    guards::Around,
    holders::Rooms,
    plan::{Ask, Request, forecast::Usual, plan},
    proof::SeenState,
    run::{AtLastMoment, Begun, Decision, DecisionKind, Event, Frozen, Input, Run, RunId, RunState, WindowTerms},
    text::vet,
    words::{
        ImpactLevel,
        kinds::Wish,
        time::{Timestamp, time_of_day_near},
    },
};

use crate::estates::{addresses, estate, facts, toml};

fn at(text: &str) -> Timestamp {
    serde_json::from_value(serde_json::Value::String(text.to_owned())).unwrap()
}

fn hours(from: &str, rule: &str, zone: &str, length: &str) -> Hours {
    let rule = (!rule.is_empty()).then(|| rule.to_owned());
    let hours = Hours { rule, from: from.into(), zone: zone.into(), length: length.parse().unwrap() };
    assert_eq!(hours.faults(), []);
    hours
}

#[rstest]
#[case::in_winter("2026-01-10T06:00", "2026-01-17T07:30:00Z", Some("2026-01-17T06:00:00Z"))]
#[case::in_summer_an_hour_earlier_by_utc("2026-01-10T06:00", "2026-07-04T05:10:00Z", Some("2026-07-04T05:00:00Z"))]
#[case::before_it_begins("2026-01-10T06:00", "2026-07-04T04:59:00Z", None)]
#[case::after_it_ended("2026-01-10T06:00", "2026-07-04T19:00:00Z", None)]
#[case::on_another_day("2026-01-10T06:00", "2026-07-05T08:00:00Z", None)]
fn hours_follow_the_wall_clock_of_their_zone(#[case] from: &str, #[case] now: &str, #[case] began: Option<&str>) {
    let saturdays = hours(from, "FREQ=WEEKLY;BYDAY=SA", "Europe/London", "14h");
    assert_eq!(saturdays.covering(at(now)).map(|(from, _)| from), began.map(at));
}

#[rstest]
// Clocks go forward on 28 March 2027 at 01:00: 01:30 is not there, and 02:00 summer time is meant.
#[case::in_the_gap("2027-03-27T01:30", "Europe/London", "2027-03-28T01:05:00Z", Some(("2027-03-28T01:00:00Z", "2027-03-28T05:00:00Z")))]
// They go back on 31 October 2027 at 02:00: 01:30 comes twice, and the first is meant.
#[case::in_the_hour_that_comes_twice("2027-10-30T01:30", "Europe/London", "2027-10-31T01:00:00Z", Some(("2027-10-31T00:30:00Z", "2027-10-31T04:30:00Z")))]
#[case::on_the_other_side_of_the_world("2026-04-03T22:00", "Pacific/Auckland", "2026-04-04T10:30:00Z", Some(("2026-04-04T09:00:00Z", "2026-04-04T13:00:00Z")))]
fn a_clock_change_neither_loses_nor_doubles_an_occurrence(
    #[case] from: &str,
    #[case] zone: &str,
    #[case] now: &str,
    #[case] covers: Option<(&str, &str)>,
) {
    let nightly = hours(from, "FREQ=DAILY", zone, "4h");
    assert_eq!(nightly.covering(at(now)), covers.map(|(a, b)| (at(a), at(b))));
}

/// However long ago a rule began and however often it comes, it is known at once whether it is on.
#[rstest]
#[case::each_minute("FREQ=MINUTELY", "30s", "2026-11-28T20:31:19Z", Some("2026-11-28T20:31:00Z"))]
#[case::each_minute_and_not_now("FREQ=MINUTELY", "10s", "2026-11-28T20:31:19Z", None)]
#[case::each_hour("FREQ=HOURLY", "40m", "2026-11-28T20:31:19Z", Some("2026-11-28T20:00:00Z"))]
#[case::each_third_hour("FREQ=HOURLY;INTERVAL=3", "3h", "2026-11-28T20:31:19Z", Some("2026-11-28T18:00:00Z"))]
#[case::each_day("FREQ=DAILY", "23h", "2026-11-28T20:31:19Z", Some("2026-11-28T00:00:00Z"))]
#[case::each_other_day("FREQ=DAILY;INTERVAL=2", "48h", "2026-11-28T20:31:19Z", Some("2026-11-27T00:00:00Z"))]
#[case::each_other_week_on_saturdays("FREQ=WEEKLY;INTERVAL=2;BYDAY=SA", "24h", "2026-11-28T20:31:19Z", None)]
#[case::and_the_week_before("FREQ=WEEKLY;INTERVAL=2;BYDAY=SA", "24h", "2026-11-21T20:31:19Z", Some("2026-11-21T00:00:00Z"))]
#[case::each_month("FREQ=MONTHLY;BYMONTHDAY=28", "24h", "2026-11-28T20:31:19Z", Some("2026-11-28T00:00:00Z"))]
#[case::each_day_for_years("FREQ=DAILY", "700d", "2026-11-28T20:31:19Z", Some("2026-11-28T00:00:00Z"))]
#[case::counted_and_over("FREQ=DAILY;COUNT=9999", "24h", "2026-11-28T20:31:19Z", None)]
fn a_rule_from_long_ago_is_answered_at_once(#[case] rule: &str, #[case] length: &str, #[case] now: &str, #[case] began: Option<&str>) {
    let hours = hours("1970-01-01T00:00", rule, "UTC", length);
    assert_eq!(hours.covering(at(now)).map(|(from, _)| from), began.map(at));
    // The next of them is what a slow count from the first would find.
    let next = hours.next(at(now), Duration::from_secs(40 * 24 * 3600));
    assert_eq!(next.is_some(), !rule.contains("COUNT"), "{next:?}");
}

proptest! {
    /// Taking the count up near an instant changes nothing of what it comes to.
    #[test]
    fn what_is_counted_from_near_is_what_is_counted_from_the_first(
        freq in prop::sample::select(vec!["HOURLY", "DAILY", "WEEKLY"]),
        interval in 1u32..9,
        by in prop::sample::select(vec!["", ";BYDAY=MO,TH", ";BYHOUR=3,17", ";BYMONTH=2,11"]),
        after_hours in 0i64..20_000,
    ) {
        let from = at("2024-01-03T05:00:00Z");
        let of = |rule: String| Hours { rule: Some(rule), from: "2024-01-03T05:00".into(), zone: "UTC".into(), length: "1h".parse().unwrap() };
        let counted = of(format!("FREQ={freq};INTERVAL={interval}{by};COUNT=9000"));
        let endless = of(format!("FREQ={freq};INTERVAL={interval}{by}"));
        // Each third hour from five on is never three.
        prop_assume!(endless.faults().is_empty());
        let now = from + Duration::from_secs(after_hours as u64 * 3600);
        let within = Duration::from_secs(400 * 24 * 3600);
        let slow = counted.next(now, within);
        prop_assume!(slow.is_some());
        prop_assert_eq!(endless.next(now, within), slow);
        prop_assert_eq!(endless.covering(now), counted.covering(now));
    }
}

#[test]
fn a_leap_day_comes_in_leap_years_only() {
    let leap = hours("2024-02-29T09:00", "FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=29", "UTC", "1h");
    assert!(leap.covering(at("2028-02-29T09:30:00Z")).is_some());
    assert!(leap.covering(at("2027-02-28T09:30:00Z")).is_none() && leap.covering(at("2027-03-01T09:30:00Z")).is_none());
    let next = leap.next(at("2024-03-01T00:00:00Z"), Duration::from_secs(5 * 366 * 86_400));
    assert_eq!(next.map(|(from, _)| from), Some(at("2028-02-29T09:00:00Z")));
}

#[test]
fn without_a_rule_they_come_once() {
    let once = hours("2026-12-24T12:00", "", "Europe/London", "3days");
    assert!(once.covering(at("2026-12-26T00:00:00Z")).is_some());
    assert!(once.covering(at("2026-12-27T12:00:00Z")).is_none() && once.covering(at("2027-12-25T00:00:00Z")).is_none());
}

#[rstest]
#[case::later_today("2026-11-23T21:00:00Z", "22:30", "2026-11-23T22:30:00Z")]
#[case::past_midnight("2026-11-23T23:00:00Z", "01:00", "2026-11-24T01:00:00Z")]
#[case::just_past_is_not_rolled_to_tomorrow("2026-11-23T22:40:00Z", "22:30", "2026-11-23T22:30:00Z")]
fn a_time_of_day_is_the_nearest_one(#[case] begun: &str, #[case] time: &str, #[case] meant: &str) {
    assert_eq!(time_of_day_near(at(begun), time, "Europe/London"), Some(at(meant)));
}

#[rstest]
#[case::rule("rule = \"FREQ=SOMETIMES\"", "recurrence rule")]
#[case::each_second("rule = \"FREQ=SECONDLY\"", "more often than each minute")]
#[case::twice_a_minute("rule = \"FREQ=MINUTELY;BYSECOND=0,30\"", "more often than each minute")]
#[case::never("rule = \"FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=30\"", "never comes")]
#[case::never_by_the_minute("rule = \"FREQ=MINUTELY;BYMONTH=2;BYMONTHDAY=30\"", "never comes")]
#[case::over_before_it_begins("rule = \"FREQ=DAILY;UNTIL=19600101T000000Z\"", "")]
#[case::counts_too_many("rule = \"FREQ=MINUTELY;COUNT=20000\"", "counts more than 10000")]
#[case::zone("zone = \"Europe/Brannock\"", "time zone")]
#[case::no_length("", "length")]
fn hours_that_cannot_be_read_are_told(#[case] key: &str, #[case] says: &str) {
    let length = if key.is_empty() { "" } else { "length = \"4h\"" };
    let vetted = vet(&toml("db", &format!("[freeze.f]\nfrom = \"2026-06-06T06:00\"\n{length}\n{key}\n")), "/e");
    assert!(vetted.estate.is_none());
    assert!(vetted.faults.iter().any(|f| f.message.contains(says) || f.mend.contains(says)), "{:#?}", vetted.faults);
}

const FREEZE: &str =
    "[freeze.boats]\ntitle = \"Boats are sailing\"\nfrom = \"2026-06-06T06:00\"\nrule = \"FREQ=WEEKLY;BYDAY=SA\"\nlength = \"14h\"\n";

#[rstest]
#[case::refused("", "2026-06-06T09:00:00Z", "obstacle")]
#[case::with_a_reason("begin = \"with-reason\"", "2026-06-06T09:00:00Z", "ask")]
#[case::by_a_second_person("begin = \"second-person\"", "2026-06-06T09:00:00Z", "obstacle")]
#[case::only_for_outages("impact = \"outage\"", "2026-06-06T09:00:00Z", "nothing")]
#[case::at_another_time("", "2026-06-07T09:00:00Z", "nothing")]
fn a_disruptive_plan_inside_a_change_freeze_is_refused_or_asked_about(#[case] more: &str, #[case] now: &str, #[case] comes: &str) {
    let more = format!("{FREEZE}{more}\n[service.shop]\nlike = \"x\"\nimpact = \"brief\"\nladder = [{{ rung = \"port\", port = 9 }}]\n");
    let (estate, graph) = estate("db", &more);
    let with = |wish: Wish, named: &[&str]| {
        let mut plan = plan(&estate, &graph, &facts(&estate, ""), &Usual::default(), &Request::new(wish, addresses("shop")));
        plan.guard(&Around::of(&estate, at(now), &named.iter().map(|n| (*n).to_owned()).collect()));
        plan
    };
    let stop = with(Wish::Stop, &[]);
    let came = match (stop.obstacles.len(), stop.asks.len()) {
        (0, 0) => "nothing",
        (1, 0) => "obstacle",
        (0, 1) => "ask",
        other => panic!("{other:?}"),
    };
    assert_eq!(came, comes);
    assert!(stop.asks.iter().all(|a| matches!(a, Ask::InFreeze { says, .. } if says.contains("Sat 06 Jun"))));
    assert_eq!(with(Wish::Stop, &["boats"]).can_begin(), comes != "obstacle");
    assert!(with(Wish::Reload, &[]).hits.is_empty() && with(Wish::Start, &[]).can_begin(), "what users do not notice may go on");
}

// ---- runs ----

struct Going {
    run: Run,
    now: Timestamp,
    events: Vec<Event>,
}

impl Going {
    /// A stop of everything in a row, its steps taking a second each, begun with this.
    fn new(change: impl FnOnce(&mut Begun)) -> Self {
        let (estate, graph) = estate("a -> b, b -> c, c -> d", "");
        let mut plan = plan(
            &estate,
            &graph,
            &facts(&estate, ""),
            &Usual::default(),
            &Request::new(Wish::Stop, estate.services.keys().cloned().collect()),
        );
        for step in &mut plan.sequence.steps {
            step.slow_ms = 2_000;
        }
        let mut begun = Begun::of(plan, &estate, 1, "maren", &BTreeMap::new());
        change(&mut begun);
        let now = Timestamp::from_ms(1_000_000);
        let mut going = Self { run: Run::begin(RunId(1), now, begun), now, events: Vec::new() };
        going.take(Input::Locked);
        let seen = going.seen(SeenState::Proven);
        going.take(Input::FirstLooked { seen, rungs: BTreeMap::new(), processes: BTreeMap::new(), unconfirmed: vec![] });
        going
    }

    fn seen(&self, state: SeenState) -> BTreeMap<yantro_core::words::name::Address, SeenState> {
        self.run.begun.services.keys().map(|a| (a.clone(), state)).collect()
    }

    fn take(&mut self, input: Input) {
        let taken = self.run.take(input, self.now, &mut Rooms::unlimited()).unwrap();
        self.events.extend(taken.events);
    }

    /// Ends the next step well.
    fn step(&mut self) {
        let Some((step, _)) = self.run.steps().find(|(_, n)| !n.state.has_ended()) else { return };
        let id = step.id;
        let mut seen = self.seen(SeenState::Proven);
        for (s, n) in self.run.steps().filter(|(_, n)| n.state.has_ended()) {
            let _ = n;
            seen.insert(s.address().unwrap().clone(), SeenState::Down);
        }
        self.take(Input::FreshLooked { step: id, seen });
        let Some(act) = self.run.last_act(id).map(|a| a.act) else { return };
        self.take(Input::ActEnded { step: id, act, end: yantro_core::run::ActEnd::Sent });
        for rung in 0..3 {
            let answer = yantro_core::proof::Answer::holds("so");
            self.take(Input::RungLooked { step: id, attempt: 1, rung, answer, logs: vec![] });
        }
    }
}

fn window(seconds: u64, at_last_moment: AtLastMoment) -> Option<WindowTerms> {
    let ends_at = Timestamp::from_ms(1_000_000) + Duration::from_secs(seconds);
    Some(WindowTerms { title: "the night".into(), ends_at, at_last_moment })
}

#[rstest]
#[case::hold(AtLastMoment::Hold, RunState::Held)]
#[case::put_back(AtLastMoment::PutBack, RunState::PuttingBack)]
#[case::go_on(AtLastMoment::GoOn, RunState::Running)]
fn at_the_last_moment_to_put_back_the_windows_rule_is_applied_once(#[case] rule: AtLastMoment, #[case] state: RunState) {
    let mut going = Going::new(|b| b.window = window(60, rule));
    assert_eq!(going.run.last_moment(), Some(going.now + Duration::from_secs(60)), "nothing was done: nothing is to be put back");
    going.step();
    let one = going.run.last_moment().unwrap();
    going.step();
    let two = going.run.last_moment().unwrap();
    assert!(two < one, "the further it has come, the longer the way back");
    assert_eq!(going.run.next_deadline().map(|at| at <= two), Some(true), "it wakes for it");
    going.now = two + Duration::from_millis(1);
    going.take(Input::Tick);
    assert_eq!(going.run.state(), state, "{:?}", going.events.last());
    going.take(Input::Tick);
    assert_eq!(going.events.iter().filter(|e| matches!(e, Event::LastMoment)).count(), 1);
}

#[test]
fn a_freeze_that_begins_meanwhile_holds_new_stops_until_it_is_over_or_was_named() {
    let frozen = || BTreeMap::from([("boats".to_owned(), Frozen { says: "boats are sailing".into(), impact: ImpactLevel::None })]);
    let mut going = Going::new(|_| {});
    going.step();
    going.take(Input::Frozen(frozen()));
    going.step();
    assert_eq!(going.run.state(), RunState::Held);
    assert!(going.run.hold_causes().any(|c| c.to_string().contains("boats are sailing")));
    let decide = Decision { kind: DecisionKind::PutBack, hold: going.run.hold_no(), who: "maren".into(), why: None };
    let mut back = Going { run: going.run.clone(), now: going.now, events: Vec::new() };
    back.take(Input::Decide(decide));
    assert_eq!(back.run.state(), RunState::PuttingBack, "the way back is never frozen");
    going.take(Input::Frozen(BTreeMap::new()));
    assert_eq!(going.run.state(), RunState::Running);
    let mut named = Going::new(|b| b.in_freeze = ["boats".to_owned()].into());
    named.take(Input::Frozen(frozen()));
    named.step();
    named.step();
    assert_eq!(named.run.state(), RunState::Running);
}
