//! What the commands say, word by word: on the demo's estate, with times as made up here.
//!
//! A text that is meant to change is taken on with `INSTA_UPDATE=always cargo test -p yantro`.

mod fixture;

use insta::assert_snapshot;
use rstest::rstest;
use yantro_core::{
    plan::StepId,
    proof::SeenState,
    run::{Allowed, DecisionKind, RunId, RunState, StepEnd, StepState},
    text::{Severity, vet},
    words::{kinds::Wish, name::Address},
};
use yantro_server::wire::roughly;

use crate::{
    commands::{board, estate, follow, runs, shown, standing},
    marks,
    say::Say,
};
use fixture::{Demo, step_with_evidence};

/// Everything that may be wrong with a file is told in one go: what, where, and how to mend it.
#[test]
fn the_faults_of_an_estate() {
    let text = r#"[estate]
name = "Brannock Sound Ferries"
stands_for = "production"

[host.quay-1]
reach = "here"
adress = "127.0.2.1"

[service.fares-db]
host = "quay-1"
run_by = "process"
process = { program = "/srv/fares-db" }
relies_on = ["booking"]
ladder = [{ rung = "port", port = 7401 }]
start = { patience = "soon" }

[service.booking]
host = "quay-1"
run_by = "process"
process = { program = "/srv/booking" }
relies_on = ["fares-db", "faers-db"]
ladder = [{ rung = "port", port = 7401 }]
start = { must_see = ["ready ("] }
"#;
    let say = Say::keeping();
    estate::show(&vet(text, "/srv").faults, text, "ferries.toml", &say);
    assert_snapshot!(say.kept());
}

/// Of many faults the first are shown, and no warning in the place of an error.
#[test]
fn where_not_all_faults_are_shown_the_errors_are() {
    let warned: String = (0..60).map(|n| format!("[group.g{n}]\n")).collect();
    let text =
        format!("[estate]\nname = \"Sound\"\nstands_for = \"test\"\n{warned}[host.quay]\nreach = \"here\"\nadress = \"127.0.2.1\"\n");
    let faults = vet(&text, "/srv").faults;
    let errors = faults.iter().filter(|f| f.severity == Severity::Error).count();
    assert!(faults.len() > 60 && (1..5).contains(&errors), "{faults:#?}");
    let say = Say::keeping();
    estate::show(&faults, &text, "ferries.toml", &say);
    let shown = say.kept();
    assert!(shown.contains("adress"), "{shown}");
    assert!(shown.contains(&format!("… and {} more: mend these first", faults.len() - 50)), "{shown}");
}

#[test]
fn a_file_that_is_no_toml() {
    let text = "[estate]\nname = \"Brannock Sound Ferries\nstands_for = \"test\"\n";
    let say = Say::keeping();
    estate::show(&vet(text, "/srv").faults, text, "ferries.toml", &say);
    assert_snapshot!(say.kept());
}

fn preview(demo: &Demo, wish: Wish, of: &[&str], alone: bool) -> String {
    let say = Say::keeping();
    shown::show(&demo.plan(wish, of, alone), usize::MAX, &|line| say.line(line));
    say.kept()
}

/// Before it is begun, of a long plan the first steps are shown and how many more there are, and what stands in the way.
#[test]
fn a_plan_of_many_steps_is_shown_in_part() {
    let demo = Demo::with(&[("quay-1/fares-db", SeenState::OutOfReach)]);
    let plan = demo.plan(Wish::Restart, &["*"], false);
    let (all, first) = (Say::keeping(), Say::keeping());
    shown::show(&plan, usize::MAX, &|line| all.line(line));
    shown::show(&plan, 3, &|line| first.line(line));
    let (all, first) = (all.kept(), first.kept());
    let steps = plan.plan.sequence.steps.len();
    assert!(first.contains(&format!("… and {} more steps, to rank ", steps - 3)), "{first}");
    assert!(first.lines().count() < all.lines().count() && !all.contains("more steps"));
    for step in &plan.plan.sequence.steps[..3] {
        assert!(first.contains(&step.row()), "{} is missing: {first}", step.row());
    }
    let noticed = plan.plan.hits.iter().filter(|h| h.impact.says.is_some()).count();
    assert!(noticed > 3 && first.contains(&format!("and {} more that users notice", noticed - 3)), "{noticed}: {first}");
    let obstacles = |text: &str| text.lines().filter(|l| l.contains("Not possible:")).count();
    assert_eq!(obstacles(&first), obstacles(&all));
    assert!(obstacles(&all) > 0);
}

#[test]
fn a_restart_of_the_database() {
    assert_snapshot!(preview(&Demo::up(), Wish::Restart, &["fares-db"], false));
}

#[test]
fn a_stop_that_would_leave_somebody_standing() {
    assert_snapshot!(preview(&Demo::up(), Wish::Stop, &["fares-db"], true));
}

#[test]
fn a_stop_of_a_whole_group_that_keeps_some_up() {
    assert_snapshot!(preview(&Demo::up(), Wish::Stop, &["group:gates"], false));
}

#[test]
fn a_start_that_brings_up_what_it_needs() {
    let demo =
        Demo::with(&[("quay-1/fares-db", SeenState::Down), ("quay-2/booking", SeenState::Down), ("quay-2/fares", SeenState::Ailing)]);
    assert_snapshot!(preview(&demo, Wish::Start, &["booking"], false));
}

#[test]
fn what_is_not_ours_to_touch() {
    assert_snapshot!(preview(&Demo::up(), Wish::Restart, &["tide-gauge"], false));
}

#[test]
fn the_board() {
    let say = Say::keeping();
    let demo = Demo::with(&[
        ("quay-1/fares-db", SeenState::Down),
        ("quay-2/booking", SeenState::Ailing),
        ("quay-2/fares", SeenState::OutOfReach),
        ("pier-north/boards", SeenState::Rising),
    ]);
    board::show(&demo.board(), false, &say);
    assert_snapshot!(say.kept());
}

#[test]
fn what_differs_of_the_board() {
    let say = Say::keeping();
    board::show(&Demo::with(&[("quay-1/fares-db", SeenState::Down)]).board(), true, &say);
    assert_snapshot!(say.kept());
}

#[test]
fn a_board_with_nothing_amiss() {
    let say = Say::keeping();
    board::show(&Demo::up().board(), true, &say);
    assert_snapshot!(say.kept());
}

#[test]
fn a_board_with_no_estate() {
    let say = Say::keeping();
    let mut board = Demo::up().board();
    board.edition = 0;
    board::show(&board, false, &say);
    assert_snapshot!(say.kept());
}

#[test]
fn a_board_at_a_standstill_without_room_and_with_a_host_that_is_anothers() {
    let say = Say::keeping();
    let mut board = Demo::up().board();
    board.standstill = Some("maren".into());
    board.storage_trouble = Some("there is no room left to store events".into());
    board.hosts[0].kept = Some("another server acts there: the one with its data in /srv/old".into());
    board.services.truncate(1);
    board::show(&board, false, &say);
    assert_snapshot!(say.kept());
}

#[test]
fn the_evidence_of_a_failed_start() {
    let say = Say::keeping();
    runs::evidence(&step_with_evidence(), &say);
    assert_snapshot!(say.kept());
}

fn allowed(kind: DecisionKind) -> Allowed {
    let needs_reason = kind.needs_reason();
    Allowed { kind, hold: Some(1), leads_to: "goes on".into(), needs_reason }
}

/// Every decision is offered as the command that takes it, with the hold and the step that it answers.
#[rstest]
#[case(DecisionKind::Hold, "yantro hold 7")]
#[case(DecisionKind::Resume, "yantro resume 7 --hold 1")]
#[case(DecisionKind::TryAgain { step: StepId(3), change: None }, "yantro again 7 3 --hold 1")]
#[case(DecisionKind::PassOver { step: StepId(3) }, "yantro pass-over 7 3 --hold 1 --why …")]
#[case(DecisionKind::Vouch { step: StepId(3) }, "yantro vouch 7 3 --hold 1 --why …")]
#[case(DecisionKind::Force { step: StepId(3) }, "yantro force 7 3 --hold 1")]
#[case(DecisionKind::Release { address: "quay-1/fares-db".parse::<Address>().unwrap() }, "yantro release 7 quay-1/fares-db --hold 1 --why …")]
#[case(DecisionKind::GiveUp, "yantro give-up 7 --hold 1 --why …")]
fn a_decision_as_a_command(#[case] kind: DecisionKind, #[case] command: &str) {
    let one = allowed(kind);
    assert_eq!(standing::command_for(RunId(7), &one), command);
    assert_eq!(one.needs_reason, command.contains("--why"), "a reason is asked for where it is needed, and only there");
}

#[rstest]
#[case(0, "a moment")]
#[case(999, "a moment")]
#[case(1_000, "1 s")]
#[case(1_001, "2 s")]
#[case(99_999, "100 s")]
#[case(100_000, "2 min")]
#[case(5_400_000, "90 min")]
#[case(7_200_000, "2.0 h")]
fn lengths_of_time_as_people_say_them(#[case] ms: u64, #[case] says: &str) {
    assert_eq!(roughly(ms), says);
}

#[rstest]
#[case(-5, "now")]
#[case(900, "now")]
#[case(31_000, "31 s")]
#[case(120_000, "2 min")]
#[case(7_200_000, "2 h")]
fn ages_in_short(#[case] ms: i64, #[case] says: &str) {
    assert_eq!(marks::age(ms), says);
}

/// No two states look alike without their word: the mark differs, or the tint does.
#[test]
fn every_state_has_a_mark_of_its_own() {
    let steps = [
        StepState::Waiting,
        StepState::Asking { reason: String::new(), answer: None, until: None },
        StepState::Failed { reason: String::new() },
        StepState::Ended(StepEnd::Done),
        StepState::Ended(StepEnd::Unneeded),
        StepState::Ended(StepEnd::NotBegun),
        StepState::Ended(StepEnd::Vouched { by: String::new(), why: String::new() }),
    ];
    let marks: std::collections::BTreeSet<&str> = steps.iter().map(|s| marks::step(s).0).collect();
    assert_eq!(marks.len(), steps.len());
    let demo = Demo::up();
    let dials: std::collections::BTreeSet<&str> =
        [SeenState::Unknown, SeenState::Down, SeenState::Proven, SeenState::Ailing, SeenState::OutOfReach, SeenState::Rising]
            .into_iter()
            .map(|s| marks::dial(&demo.seen("quay-1/fares-db", s)))
            .collect();
    assert_eq!(dials.len(), 6);
}

/// The tint by a run's word in a list is the one of its state.
#[rstest]
#[case(RunState::Held)]
#[case(RunState::Finished)]
#[case(RunState::FinishedWithExceptions)]
#[case(RunState::GivenUp)]
fn a_state_in_a_list_is_tinted_as_it_is_elsewhere(#[case] state: RunState) {
    assert_eq!(format!("{:?}", runs::state_tint(state.word())), format!("{:?}", marks::run_tint(state)));
}

/// The command line is sound, and every command says what it does.
#[test]
fn every_command_says_what_it_does() {
    use clap::CommandFactory;
    let command = crate::Cli::command();
    command.clone().debug_assert();
    for sub in command.get_subcommands() {
        assert!(sub.get_about().is_some(), "{} says nothing of itself", sub.get_name());
        for arg in sub.get_arguments() {
            assert!(arg.get_help().is_some(), "{} {} says nothing of itself", sub.get_name(), arg.get_id());
        }
    }
}

/// Who watches is told only what changed: it takes the place of what was known, and what is new comes after all else.
#[rstest]
#[case::nothing(&[], &[])]
#[case::one(&[2], &[1])]
#[case::some(&[3, 1], &[2, 0])]
#[case::of_a_way_back(&[2, 4, 5], &[1, 3, 4])]
fn steps_that_changed_take_the_place_of_those_known(#[case] newer: &[u32], #[case] at: &[usize]) {
    let step = |id: u32, says: &str| {
        let mut step = step_with_evidence();
        step.planned.id = StepId(id);
        step.says = says.to_owned();
        step
    };
    let mut steps: Vec<_> = (1..=3).map(|id| step(id, "known")).collect();
    assert_eq!(follow::renew(&mut steps, newer.iter().map(|id| step(*id, "newer")).collect()), at);
    assert!(steps.windows(2).all(|w| w[0].planned.id < w[1].planned.id));
    for step in &steps {
        assert_eq!(step.says == "newer", newer.contains(&step.planned.id.0), "step {}", step.planned.id);
    }
}
