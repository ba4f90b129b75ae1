//! What may refuse a plan or hold an open run back: each guard for itself, at its edges.

use std::collections::{BTreeMap, BTreeSet};

use rstest::rstest;
use yantro_core::{
    graph::EstateGraph,
    guards::{Around, Newest, again, restrictions, unconfirmed},
    model::Estate,
    plan::{
        Plan, Request,
        forecast::Usual,
        plan,
        procedure::{self, Asked, settle},
    },
    proof::{Facts, SeenState, UnitTerms},
    run::{Begun, Restriction, plan_divert},
    words::{
        kinds::Wish,
        name::Address,
        time::{Span, Timestamp},
    },
};

use crate::estates::{addresses, estate, facts};

fn around(estate: &Estate) -> Around<'_> {
    static NONE: BTreeSet<String> = BTreeSet::new();
    Around::of(estate, Timestamp::from_ms(0), &NONE)
}

fn whys(plan: &Plan) -> Vec<&str> {
    plan.obstacles.iter().map(|o| o.why.as_str()).collect()
}

// ---- what the newest edition keeps open runs from (R25) ----

/// `was` and `is` are what the run's edition and the newest say of its service.
#[rstest]
#[case::nothing_changed("", Some(""), None)]
#[case::gone("", None, Some(Restriction::Acts { why: "is no longer in the estate".into() }))]
#[case::hands_off_now("", Some("hands_off = \"theirs\""), Some(Restriction::Acts { why: "is hands-off now: theirs".into() }))]
#[case::hands_off_before_too("hands_off = \"theirs\"", Some("hands_off = \"theirs\""), None)]
#[case::no_longer_hands_off("hands_off = \"theirs\"", Some(""), None)]
#[case::force_forbidden_now(
    "stop = { force = \"allow\" }",
    Some("stop = { patience = \"1m\", force = \"never\" }"),
    Some(Restriction::Force)
)]
#[case::force_to_be_asked_forbidden_now("", Some("stop = { patience = \"1m\", force = \"never\" }"), Some(Restriction::Force))]
#[case::force_forbidden_before_too(
    "stop = { patience = \"1m\", force = \"never\" }",
    Some("stop = { patience = \"1m\", force = \"never\" }"),
    None
)]
#[case::force_allowed_now("stop = { patience = \"1m\", force = \"never\" }", Some("stop = { force = \"allow\" }"), None)]
#[case::force_to_be_asked_now("stop = { force = \"allow\" }", Some(""), None)]
fn what_an_edition_keeps_a_run_from(#[case] was: &str, #[case] is: Option<&str>, #[case] restricted: Option<Restriction>) {
    let of = |said: &str| format!("[service.db]\nlike = \"x\"\nladder = [{{ rung = \"port\", port = 1 }}]\n{said}\n");
    let (before, graph) = estate("app", &of(was));
    let request = Request::new(Wish::Stop, addresses("app"));
    let planned = plan(&before, &graph, &facts(&before, ""), &Usual::default(), &request);
    let begun = Begun { services: before.services.clone(), ..Begun::of(planned, &before, 1, "maren", &BTreeMap::new()) };
    let (newest, _) = estate("app", &is.map(of).unwrap_or_default());
    let expected: BTreeMap<Address, Restriction> = restricted.map(|r| ("h/db".parse().unwrap(), r)).into_iter().collect();
    assert_eq!(restrictions(&begun, &newest), expected);
}

// ---- the one switch (R36), and hosts that others act on ----

#[rstest]
#[case::a_start_beside_what_is_only_awaited(Wish::Start, "app", "app=down")]
#[case::a_stop(Wish::Stop, "app db", "")]
fn at_a_standstill_nothing_begins(#[case] wish: Wish, #[case] chosen: &str, #[case] found: &str) {
    let (estate, graph) = estate("app -> db", "");
    let mut plan = plan(&estate, &graph, &facts(&estate, found), &Usual::default(), &Request::new(wish, addresses(chosen)));
    assert!(plan.can_begin());
    plan.guard(&Around { standstill: Some("tove: a fire drill".into()), ..around(&estate) });
    assert_eq!(whys(&plan), ["everything is at a standstill, by tove: a fire drill"]);
    assert!(plan.obstacles[0].mend.contains("yantro standstill off"));
}

/// What only has to be proven is not acted on, wherever it is.
#[rstest]
#[case::acted_on("h", true)]
#[case::only_awaited("far", false)]
#[case::not_in_it("else", false)]
fn a_host_that_another_server_acts_on_is_refused_where_something_is_done_there(#[case] host: &str, #[case] is_refused: bool) {
    let more = "[host.far]\nreach = \"ssh\"\naddress = \"10.0.0.9\"\n[host.else]\nreach = \"ssh\"\naddress = \"10.0.0.8\"\n\
                [service.base]\nhost = \"far\"\nrun_by = \"systemd\"\nladder = [{ rung = \"port\", port = 1 }]\n\
                [service.user]\nlike = \"x\"\nrelies_on = [\"base\"]\nladder = [{ rung = \"port\", port = 2 }]\n";
    let (estate, graph) = estate("app", more);
    let mut found = facts(&estate, "user=down");
    found.0.insert("far/base".parse().unwrap(), SeenState::Proven);
    let mut plan = plan(&estate, &graph, &found, &Usual::default(), &Request::new(Wish::Start, addresses("user")));
    let kept = BTreeMap::from([(host.parse().unwrap(), format!("{host} is acted on by another server"))]);
    plan.guard(&Around { kept, ..around(&estate) });
    assert_eq!(plan.can_begin(), !is_refused, "{:?}", plan.obstacles);
    let why = format!("{host} is acted on by another server");
    assert_eq!(whys(&plan), if is_refused { vec![why.as_str()] } else { vec![] });
    assert!(plan.obstacles.iter().all(|o| o.mend.contains(&format!("yantro take-over {host} --why"))));
}

// ---- the managers' own terms (R38) ----

/// Two units on one host, of which the second relies on the first.
const UNITS: &str = "[host.pier]\nreach = \"ssh\"\naddress = \"10.0.0.9\"\n\
    [service.tide]\nhost = \"pier\"\nrun_by = \"systemd\"\nstart = { patience = \"2m\" }\nstop = { patience = \"2m\", force = \"FORCE\" }\n\
    [service.gauge]\nhost = \"pier\"\nrun_by = \"systemd\"\nrelies_on = [\"tide\"]\n\
    [service.plain]\nhost = \"pier\"\nrun_by = \"process\"\nprocess = { program = \"/bin/plain\" }\nladder = [{ rung = \"port\", port = 3 }]\n";

fn of_pier(wish: Wish, chosen: &str, force: &str, terms: UnitTerms) -> Plan {
    let (estate, graph) = estate("app", &UNITS.replace("FORCE", force));
    let state = if wish == Wish::Start { SeenState::Down } else { SeenState::Proven };
    let found: Facts = estate.services.keys().map(|a| (a.clone(), state)).collect();
    let chosen: BTreeSet<Address> = chosen.split_whitespace().map(|n| format!("pier/{n}").parse().unwrap()).collect();
    let mut plan = plan(&estate, &graph, &found, &Usual::default(), &Request::new(wish, chosen));
    let terms = BTreeMap::from([("pier/tide".parse().unwrap(), terms), ("pier/gauge".parse().unwrap(), UnitTerms::default())]);
    plan.guard(&Around { terms, ..around(&estate) });
    plan
}

#[rstest]
#[case::a_stop_takes_one_along(Wish::Stop, "tide gauge", "horn.service", "", &["the manager of pier would stop horn.service along with it"])]
#[case::a_start_brings_one_along(Wish::Start, "tide", "", "horn.service", &["the manager of pier would start horn.service along with it"])]
#[case::a_start_stops_nothing(Wish::Start, "tide", "horn.service", "", &[])]
#[case::a_stop_starts_nothing(Wish::Stop, "tide gauge", "", "horn.service", &[])]
#[case::it_is_stopped_too(Wish::Stop, "tide gauge", "gauge.service", "", &[])]
#[case::it_is_described_and_not_chosen(Wish::Start, "tide", "", "gauge.service", &["the manager of pier would start pier/gauge (gauge.service) along with it"])]
#[case::what_is_no_unit_is_no_others_name(Wish::Start, "tide", "", "plain.service", &["the manager of pier would start plain.service along with it"])]
fn what_a_manager_would_do_along_is_refused_unless_it_is_done_anyway(
    #[case] wish: Wish,
    #[case] chosen: &str,
    #[case] stops_too: &str,
    #[case] starts_too: &str,
    #[case] refused: &[&str],
) {
    let named = |text: &str| text.split_whitespace().map(str::to_owned).collect();
    let terms = UnitTerms { stops_too: named(stops_too), starts_too: named(starts_too), ..UnitTerms::default() };
    let plan = of_pier(wish, chosen, "ask", terms);
    assert_eq!(whys(&plan), refused);
    let is_described = plan.obstacles.iter().all(|o| o.mend.starts_with("choose pier/gauge too") == o.why.contains("pier/gauge ("));
    assert!(is_described, "{:?}", plan.obstacles);
}

#[rstest]
#[case::sooner(119, true, "never", true)]
#[case::at_the_same_time(120, true, "never", false)]
#[case::it_does_not_kill(119, false, "never", false)]
#[case::it_may_be_forced(119, true, "ask", false)]
fn a_kill_by_the_manager_is_refused_where_none_is_allowed(
    #[case] within: u32,
    #[case] kills: bool,
    #[case] force: &str,
    #[case] is_refused: bool,
) {
    let terms = UnitTerms { stop_within: Some(Span::secs(within.into())), kills, ..UnitTerms::default() };
    let plan = of_pier(Wish::Stop, "tide gauge", force, terms.clone());
    assert_eq!(plan.obstacles.len(), usize::from(is_refused), "{:?}", plan.obstacles);
    let told: Vec<&String> = plan.remarks.iter().filter(|r| r.contains("pier/tide: the manager lets a stop take")).collect();
    assert_eq!(told.len(), usize::from(within < 120), "{:?}", plan.remarks);
    let then = if kills { "and then kills it; our patience is 2m" } else { "and then gives up; our patience is 2m" };
    assert!(told.iter().all(|r| r.ends_with(then)), "{told:?}");
    // Of a start it kills nothing by that.
    assert!(of_pier(Wish::Start, "tide", force, terms).obstacles.is_empty());
}

#[rstest]
#[case::sooner(119, true)]
#[case::at_the_same_time(120, false)]
fn a_manager_with_less_patience_for_a_start_is_told(#[case] within: u32, #[case] is_told: bool) {
    let terms = UnitTerms { start_within: Some(Span::secs(within.into())), kills: true, ..UnitTerms::default() };
    let plan = of_pier(Wish::Start, "tide", "ask", terms.clone());
    let says = "pier/tide: the manager lets a start take 1m 59s, and then gives up; our patience is 2m";
    assert_eq!(plan.remarks.iter().any(|r| r == says), is_told, "{:?}", plan.remarks);
    assert!(!of_pier(Wish::Stop, "tide gauge", "ask", terms).remarks.iter().any(|r| r.contains("lets a")));
}

#[rstest]
#[case::a_stop(Wish::Stop, "horn.socket", true)]
#[case::a_stop_of_what_nobody_wakes(Wish::Stop, "", false)]
#[case::a_start(Wish::Start, "horn.socket", false)]
fn what_wakes_a_stopped_unit_again_is_told(#[case] wish: Wish, #[case] by: &str, #[case] is_told: bool) {
    let terms = UnitTerms { woken_by: by.split_whitespace().map(str::to_owned).collect(), ..UnitTerms::default() };
    let plan = of_pier(wish, "tide gauge", "ask", terms);
    let says = "pier/tide: it is started again when somebody calls, by horn.socket";
    assert_eq!(plan.remarks.iter().any(|r| r == says), is_told, "{:?}", plan.remarks);
}

// ---- whether a plan still is the one that was confirmed (R8) ----

/// A procedure's answers and all that was said at its begin are as they were when it is worked out anew.
#[test]
fn a_procedure_is_worked_out_anew_with_all_that_was_said_of_it() {
    let more = "[group.pair]\nkeep_up = 1\n[service.web]\nlike = \"x\"\ngroups = [\"pair\"]\nladder = [{ rung = \"port\", port = 1 }]\n\
                [service.till]\nlike = \"x\"\ngroups = [\"pair\"]\nladder = [{ rung = \"port\", port = 2 }]\n\
                [procedure.patch]\nquestions.which = { asks = \"Which?\", kind = \"selection\" }\n\
                steps = [{ stop = [\"{which}\"] }, { work = [\"/bin/patch\"], on = \"h\" }, { stop = [\"db\"] }, { stop = [\"web\"] }]\n";
    let (estate, graph) = estate("app -> db, log -> db", more);
    let procedure = estate.procedures[&"patch".parse().unwrap()].clone();
    let answers = BTreeMap::from([("which".to_owned(), "app".to_owned())]);
    let asked = Asked {
        values: settle(&estate, &graph, &procedure, &answers).unwrap(),
        left_standing: addresses("log"),
        below_keep_up: ["pair".parse().unwrap()].into(),
        from_line: Some(2),
        vouched_for: addresses("app"),
        found_by: [("as-found-by:evening".to_owned(), addresses("db"))].into(),
        ..Asked::default()
    };
    let found = facts(&estate, "log=out till=down");
    let planned = procedure::plan(&estate, &graph, &found, &Usual::default(), &procedure, &asked);
    assert!(planned.can_begin(), "{:?}", planned.obstacles);
    let begun = Begun {
        values: asked.values.clone(),
        from_line: asked.from_line,
        vouched_for: asked.vouched_for.clone(),
        ..Begun::of(planned.clone(), &estate, 1, "maren", &BTreeMap::new())
    };
    let newest = Newest { edition: 1, estate: &estate, graph: &graph };
    let now = again(&newest, &begun, &found, &Usual::default()).unwrap();
    assert_eq!(format!("{now:#?}"), format!("{planned:#?}"));
    assert_eq!(unconfirmed(&newest, &begun, &found, &found.0.clone().into_iter().collect()), Vec::<String>::new());
}

/// What is told of a plan that is no longer the confirmed one: what is new, how that stands which was found otherwise, and no more.
#[test]
fn of_what_changed_only_what_stands_otherwise_is_told() {
    let (estate, graph) = estate("app -> db, web -> db", "");
    let found = facts(&estate, "app=down web=down");
    let planned = plan(&estate, &graph, &found, &Usual::default(), &Request::new(Wish::Stop, addresses("db")));
    let begun = Begun { as_found: found.0.clone().into_iter().collect(), ..Begun::of(planned, &estate, 1, "maren", &BTreeMap::new()) };
    let newest = Newest { edition: 1, estate: &estate, graph: &graph };
    let now = facts(&estate, "web=down");
    let stands: BTreeMap<Address, SeenState> = now.0.clone().into_iter().collect();
    let told = unconfirmed(&newest, &begun, &now, &stands);
    assert_eq!(told[0], "new: stop h/app, found proven");
    assert_eq!(told[1], "h/app is proven now, and was down");
    assert!(told[2].starts_with("in all it would now stop h/app, ") && told.len() == 3, "{told:?}");
}

/// A service that is described otherwise by a newer edition was confirmed by another description; one of the same edition was not.
#[rstest]
#[case::of_a_newer_edition(2, true)]
#[case::of_its_own(1, false)]
fn what_is_described_otherwise_was_not_confirmed(#[case] edition: u64, #[case] is_told: bool) {
    let (before, graph) = estate("app -> db, log", "");
    let found = facts(&before, "");
    let planned = plan(&before, &graph, &found, &Usual::default(), &Request::new(Wish::Stop, addresses("app")));
    let begun = Begun { services: before.services.clone(), ..Begun::of(planned, &before, 1, "maren", &BTreeMap::new()) };
    let text = crate::estates::toml("app -> db, log", "").replace("[service.app]\n", "[service.app]\nstop = { patience = \"7m\" }\n");
    // What it does not act on is none of its business.
    let text = text.replace("[service.log]\n", "[service.log]\nstop = { patience = \"7m\" }\n");
    let newest = yantro_core::text::vet(&text, "/e").estate.unwrap();
    let graph = EstateGraph::new(&newest);
    let told = unconfirmed(&Newest { edition, estate: &newest, graph: &graph }, &begun, &found, &found.0.clone().into_iter().collect());
    let says = "h/app is described otherwise by edition 2 than by edition 1";
    assert_eq!(told.iter().filter(|t| t.contains("described otherwise")).collect::<Vec<_>>(), if is_told { vec![says] } else { vec![] });
}

/// A further act that somebody asked for is worked out anew as that: what it acts on is asked for by that name.
#[test]
fn an_act_by_itself_is_worked_out_anew_as_one() {
    let more =
        "[service.cache]\nlike = \"x\"\nladder = [{ rung = \"port\", port = 9 }]\n[service.cache.acts.purge]\ncommand = [\"/bin/purge\"]\n";
    let (estate, graph) = estate("app", more);
    let procedure = yantro_core::model::procedure::Procedure::of_one_act("purge".parse().unwrap(), "purge", &["cache".to_owned()]);
    let asked = Asked { by_itself: true, ..Asked::default() };
    let found = facts(&estate, "");
    let planned = procedure::plan(&estate, &graph, &found, &Usual::default(), &procedure, &asked);
    let begun = Begun::of(planned.clone(), &estate, 1, "maren", &BTreeMap::new());
    let now = again(&Newest { edition: 1, estate: &estate, graph: &graph }, &begun, &found, &Usual::default()).unwrap();
    assert_eq!(format!("{now:#?}"), format!("{planned:#?}"));
}

/// What takes over knows its own answers: what it asks for by name is chosen by them.
#[test]
fn what_takes_over_chooses_by_its_answers() {
    let more = "[procedure.fallback]\nquestions.which = { asks = \"Which?\", kind = \"selection\", default = \"log\" }\n\
                steps = [{ stop = [\"{which}\"] }]\n";
    let (estate, graph) = estate("app, log", more);
    let name = "fallback".parse().unwrap();
    let divert = plan_divert(&estate, &graph, &facts(&estate, ""), &Usual::default(), &name, ["stop h/app", "it hung"], 4).unwrap();
    let says: Vec<String> = divert.steps.iter().map(|s| s.says()).collect();
    assert_eq!((says, divert.values["which"].as_str()), (vec!["stop h/log".to_owned()], "log"));
}
