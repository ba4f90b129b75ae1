//! Sequences, as facts.

use rstest::rstest;
use yantro_core::{
    plan::{
        Ask, Plan, Request,
        forecast::{Prefer, Usual},
        plan,
    },
    words::kinds::{StepKind, Wish},
};

use crate::estates::{addresses, estate, facts};

fn planned(relations: &str, more: &str, found: &str, wish: Wish, chosen: &str) -> Plan {
    let (estate, graph) = estate(relations, more);
    plan(&estate, &graph, &facts(&estate, found), &Usual::default(), &Request::new(wish, addresses(chosen)))
}

/// The plan's ranks in one line: `-a` stops a, `+a` starts it, `?a` waits for it, `!a` reloads it.
fn drawn(plan: &Plan) -> String {
    let step = |s: &&yantro_core::plan::Step| {
        let mark = match s.kind() {
            StepKind::Stop => "-",
            StepKind::Start => "+",
            StepKind::Reload => "!",
            _ => "?",
        };
        format!("{mark}{}", s.address().unwrap().service)
    };
    plan.ranks().iter().map(|r| r.iter().map(step).collect::<Vec<_>>().join(" ")).collect::<Vec<_>>().join(" | ")
}

const FERRY: &str = "boards -> sailings, sailings -> db, booking -> sailings, booking -> queue, front -> booking";

#[rstest]
#[case::start_brings_up_what_is_down(
    Wish::Start,
    "booking",
    "booking=down sailings=down db=down queue=down",
    "+db +queue | +sailings | +booking"
)]
#[case::start_leaves_alone_what_is_up(Wish::Start, "booking", "booking=down sailings=down", "+sailings | +booking")]
#[case::already_there_is_a_good_result(Wish::Start, "booking", "", "+booking")]
#[case::stop_takes_down_what_relies_on_it(Wish::Stop, "sailings", "", "-boards -front | -booking | -sailings")]
#[case::stop_leaves_down_what_is_down(Wish::Stop, "sailings", "boards=down", "-front | -booking | -sailings")]
#[case::restart_brings_back_exactly_what_was_up(
    Wish::Restart,
    "sailings",
    "boards=down",
    "-front | -booking | -sailings | +sailings | +booking | +front"
)]
#[case::restart_of_what_is_down_starts_it(Wish::Restart, "boards", "boards=down", "+boards")]
#[case::restart_starts_what_it_needs(Wish::Restart, "booking", "queue=down", "+queue -front | -booking | +booking | +front")]
#[case::a_rising_one_is_waited_for(Wish::Start, "booking", "booking=down queue=rising", "+queue | +booking")]
#[case::an_ailing_one_that_is_needed_is_not_touched(Wish::Start, "booking", "booking=down queue=ailing", "?queue | +booking")]
fn the_order_comes_from_what_relies_on_what(#[case] wish: Wish, #[case] chosen: &str, #[case] found: &str, #[case] ranks: &str) {
    let plan = planned(FERRY, "", found, wish, chosen);
    assert!(plan.obstacles.is_empty(), "{:?}", plan.obstacles);
    // The needed one comes first of its rank where both may begin at once.
    let (mut got, mut wanted) = (drawn(&plan), ranks.to_owned());
    for text in [&mut got, &mut wanted] {
        *text = text
            .split(" | ")
            .map(|r| {
                let mut r: Vec<&str> = r.split(' ').collect();
                r.sort_unstable();
                r.join(" ")
            })
            .collect::<Vec<_>>()
            .join(" | ");
    }
    assert_eq!(got, wanted);
}

#[rstest]
#[case::ailing_is_never_started_over(Wish::Start, "db", "db=ailing", "", "is ailing")]
#[case::out_of_reach_cannot_be_said(Wish::Stop, "db", "db=out", "", "out of reach")]
#[case::hands_off_is_never_acted_on(Wish::Stop, "hands", "", "", "hands-off")]
#[case::hands_off_above_refuses_too(Wish::Stop, "under", "", "", "hands-off")]
#[case::never_up_together(Wish::Start, "standby", "standby=down", "", "must never be up with")]
#[case::needed_but_expected_down(Wish::Start, "uses-off", "off=down uses-off=down", "", "expected to be down")]
#[case::no_way_to_reload(Wish::Reload, "db", "", "", "no way to reload")]
fn what_cannot_be_done_is_told(#[case] wish: Wish, #[case] chosen: &str, #[case] found: &str, #[case] more: &str, #[case] why: &str) {
    let estate_more = format!(
        "{more}[service.hands]\nlike = \"x\"\nhands_off = \"others\"\nladder = [{{ rung = \"port\", port = 1 }}]\nrelies_on = [\"under\"]\n\
         [service.under]\nlike = \"x\"\nladder = [{{ rung = \"port\", port = 2 }}]\n\
         [service.active]\nlike = \"x\"\nladder = [{{ rung = \"port\", port = 3 }}]\n\
         [service.standby]\nlike = \"x\"\nladder = [{{ rung = \"port\", port = 3 }}]\nnever_with = [\"active\"]\n\
         [service.off]\nlike = \"x\"\nexpected = \"down\"\nladder = [{{ rung = \"port\", port = 5 }}]\n\
         [service.uses-off]\nlike = \"x\"\nladder = [{{ rung = \"port\", port = 6 }}]\nrelies_on = [\"off\"]\n"
    );
    let plan = planned("db", &estate_more, found, wish, chosen);
    assert!(plan.obstacles.iter().any(|o| o.why.contains(why)), "{:?}", plan.obstacles);
    assert!(!plan.can_begin());
}

#[test]
fn what_would_be_left_standing_must_be_named_one_by_one() {
    let (estate, graph) = estate("app -> db", "");
    let mut request = Request::new(Wish::Stop, addresses("db"));
    request.alone = true;
    let found = facts(&estate, "");
    let asked = plan(&estate, &graph, &found, &Usual::default(), &request);
    assert!(!asked.can_begin());
    assert!(matches!(&asked.asks[0], Ask::LeftStanding { addresses: a, .. } if *a == addresses("app")));
    request.left_standing = addresses("app");
    assert!(plan(&estate, &graph, &found, &Usual::default(), &request).can_begin());
}

#[test]
fn what_is_up_without_what_it_needs_is_asked_about() {
    let (estate, graph) = estate("app -> db, front -> app", "");
    let mut request = Request::new(Wish::Restart, addresses("front"));
    let found = facts(&estate, "db=down");
    // The app is not touched: nothing is asked. Nor is it where it is restarted itself: what it needs comes up before it.
    assert!(plan(&estate, &graph, &found, &Usual::default(), &request).can_begin());
    request.chosen = addresses("app");
    let restart = plan(&estate, &graph, &found, &Usual::default(), &request);
    assert!(restart.can_begin(), "{:?}", restart.asks);
    let steps: Vec<String> = restart.sequence.steps.iter().map(|s| s.says()).collect();
    let at = |what: &str| steps.iter().position(|s| s == what).unwrap_or_else(|| panic!("{what}: {steps:?}"));
    assert!(at("start h/db") < at("start h/app") && at("stop h/app") < at("start h/app"), "{steps:?}");
    // Read anew while it stands on nothing, it is.
    request.wish = Wish::Reload;
    let asked = plan(&estate, &graph, &found, &Usual::default(), &request);
    assert!(matches!(&asked.asks[0], Ask::UpWithout { address, .. } if addresses("app").contains(address)));
    assert!(!asked.can_begin());
    request.left_standing = addresses("app");
    assert_eq!(plan(&estate, &graph, &found, &Usual::default(), &request).asks, []);
}

const GATES: &str = "[group.gates]\nkeep_up = 2\n[host.p]\nreach = \"here\"\naddress = \"127.0.0.2\"\n\
    [service.gate]\nlike = \"x\"\nhost = \"p\"\ngroups = [\"gates\"]\nrelies_on = [\"booking\"]\nladder = [{ rung = \"port\", port = \"{port}\" }]\n\
    copies = { a = { values = { port = 1 } }, b = { values = { port = 2 } }, c = { values = { port = 3 } } }\n\
    [service.hall]\nlike = \"x\"\nrelies_on = [{ service = \"gate\", copies = 2 }]\nladder = [{ rung = \"port\", port = 9 }]\n";

#[test]
fn a_rolling_restart_leaves_alone_what_lives_on_the_group() {
    let (estate, graph) = estate("booking", GATES);
    let chosen = estate.groups.values().next().unwrap().members.clone();
    let plan = plan(&estate, &graph, &facts(&estate, ""), &Usual::default(), &Request::new(Wish::Restart, chosen));
    assert!(plan.can_begin(), "{:?}", plan.asks);
    assert!(plan.left_alone.iter().any(|l| l.address.service.as_str() == "hall"));
    assert_eq!(plan.sequence.steps.len(), 6);
}

#[test]
fn a_group_that_would_fall_below_what_it_keeps_up_must_be_named() {
    let (estate, graph) = estate("booking", GATES);
    let mut request = Request::new(Wish::Restart, addresses("booking"));
    let found = facts(&estate, "");
    let asked = plan(&estate, &graph, &found, &Usual::default(), &request);
    assert!(matches!(&asked.asks[0], Ask::BelowKeepUp { group, .. } if group.as_str() == "gates"));
    request.below_keep_up.insert("gates".parse().unwrap());
    let plan = plan(&estate, &graph, &found, &Usual::default(), &request);
    assert!(plan.can_begin());
    assert!(
        plan.sequence.steps.iter().any(|s| s.address().unwrap().service.as_str() == "hall"),
        "with the gates all down, the hall goes too"
    );
}

/// The order that users feel least takes down late what they need, and keeps every relation.
#[test]
fn what_users_feel_goes_down_last_where_that_is_asked() {
    let more = "[service.desk]\nlike = \"x\"\nladder = [{ rung = \"port\", port = 9 }]\nrelies_on = [\"db\"]\nimpact = \"outage\"\n\
                stop = { usually = \"1s\" }\nstart = { usually = \"1s\" }\n\
                [service.batch]\nlike = \"x\"\nladder = [{ rung = \"port\", port = 8 }]\nrelies_on = [\"db\"]\nstop = { usually = \"40s\", patience = \"2m\" }\n";
    let (estate, graph) = estate("db", more);
    let usual = Usual::new([], &estate);
    let mut plan = plan(&estate, &graph, &facts(&estate, ""), &usual, &Request::new(Wish::Restart, addresses("db")));
    assert_eq!(drawn(&plan), "-batch -desk | -db | +db | +batch +desk");
    let soonest = plan.sequence.usual_ms;
    plan.prefer(Prefer::LeastFelt, &estate);
    assert_eq!(drawn(&plan), "-batch | -desk | -db | +db | +batch +desk");
    let felt = plan.felt.unwrap();
    assert!(felt.soonest_away_ms >= felt.away_ms + 39_000, "{felt:?}");
    assert_eq!((plan.sequence.usual_ms, felt.longer_ms), (soonest + 1_000, 1_000));
    assert_eq!(felt.says(), "users are without services 39s less in all, and it takes 1s longer");
    for step in &plan.sequence.steps {
        assert!(step.waits.iter().all(|w| w.step < step.id), "steps wait on steps before them");
    }
}

#[test]
fn where_nothing_is_felt_the_order_stays() {
    let mut plan = planned(FERRY, "", "", Wish::Restart, "db");
    let before = plan.sequence.steps.clone();
    let (estate, _) = estate(FERRY, "");
    plan.prefer(Prefer::LeastFelt, &estate);
    assert_eq!(plan.sequence.steps, before);
    assert_eq!(plan.felt.unwrap().says(), "no allowed order is felt less than the one that ends soonest");
}
