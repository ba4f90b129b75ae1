//! Looks at every kind of rung: holds, not yet, against, or could not look (R14, R15).

use std::net::TcpListener;

use rstest::rstest;
use yantro_core::proof::{Answer, Verdict};

use crate::world::{World, pages};

/// The last answer of a look at a service that is watched only, with one rung.
async fn look(world: &World, rung: &str) -> Answer {
    let service = world.service(&format!("run_by = \"process\"\nhands_off = \"only watched\"\nladder = [{rung}]\n"));
    let raw = world.here.look(&service, None, &world.here.round_from_now()).await;
    raw.rungs.last().expect("it was looked at").clone()
}

const PAGES: &[(&str, u16, &str)] = &[
    ("/ok", 200, "all well"),
    ("/starting", 503, "still starting: loading the timetable"),
    ("/early", 200, "still starting: loading the timetable"),
    ("/gone", 404, "nothing here"),
    ("/moved", 302, ""),
    ("/json", 200, r#"{ "state": "up", "boats": 3, "deck": { "cars": 42 } }"#),
    ("/torn", 200, "{ torn"),
];

#[rstest]
#[case::well("/ok", "", Verdict::Holds, "200")]
#[case::another_status("/gone", "", Verdict::NotYet, "404: \"nothing here\"")]
#[case::a_status_that_is_right("/gone", "status = [404]", Verdict::Holds, "404")]
#[case::moved_is_not_followed("/moved", "", Verdict::NotYet, "302")]
#[case::text_that_is_there("/ok", "contains = \"all well\"", Verdict::Holds, "200")]
#[case::text_that_is_not("/ok", "contains = \"ready\"", Verdict::NotYet, "without \"ready\"")]
#[case::still_starting_by_its_text("/early", "not_yet = \"still starting\"", Verdict::NotYet, "still starting")]
#[case::still_starting_by_status("/starting", "", Verdict::NotYet, "503")]
#[case::at_a_pointer("/json", "pointer = \"/state\", equals = \"up\"", Verdict::Holds, "/state is \"up\"")]
#[case::a_number_at_a_pointer("/json", "pointer = \"/deck/cars\", equals = \"42\"", Verdict::Holds, "\"42\"")]
#[case::another_value("/json", "pointer = \"/boats\", equals = \"4\"", Verdict::NotYet, "/boats is \"3\"")]
#[case::nothing_at_the_pointer("/json", "pointer = \"/crew\"", Verdict::NotYet, "nothing is at /crew")]
#[case::anything_at_the_pointer("/json", "pointer = \"/boats\"", Verdict::Holds, "\"3\"")]
#[case::no_json("/torn", "pointer = \"/state\"", Verdict::NotYet, "not JSON")]
#[case::no_answer_in_time("/slow", "within = \"100ms\"", Verdict::NotYet, "no answer within 100ms")]
#[tokio::test]
async fn a_page(#[case] path: &str, #[case] more: &str, #[case] verdict: Verdict, #[case] says: &str) {
    let world = World::new();
    let address = pages(PAGES);
    let more = if more.is_empty() { String::new() } else { format!(", {more}") };
    let answer = look(&world, &format!("{{ rung = \"web\", url = \"http://{address}{path}\"{more} }}")).await;
    assert_eq!(answer.verdict, verdict, "{}", answer.says);
    assert!(answer.says.contains(says), "{}", answer.says);
}

#[tokio::test]
async fn a_page_that_nobody_serves_is_not_there_yet() {
    let world = World::new();
    let free = TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap();
    let answer = look(&world, &format!("{{ rung = \"web\", url = \"http://{free}/\" }}")).await;
    assert_eq!(answer.verdict, Verdict::NotYet);
    assert!(answer.says.contains("refused"), "{}", answer.says);
}

/// R14: where there is no address to ask at, nobody was asked, and nothing is known.
#[rstest]
#[case::a_page("{ rung = \"web\", url = \"http://no-such-quay.invalid:8080/\" }")]
#[case::a_page_that_has_little_time("{ rung = \"web\", url = \"http://no-such-quay.invalid:8080/\", within = \"1ms\" }")]
#[case::a_connection("{ rung = \"connect\", port = 8080, to = \"no-such-quay.invalid\" }")]
#[tokio::test]
async fn what_has_no_address_could_not_be_looked_at(#[case] rung: &str) {
    let answer = look(&World::new(), rung).await;
    assert_eq!(answer.verdict, Verdict::CouldNotLook, "{}", answer.says);
    assert!(answer.says.contains("no-such-quay.invalid"), "{}", answer.says);
}

#[rstest]
#[case::fine("exit 0", "", Verdict::Holds, "exit 0")]
#[case::what_it_says("echo 3 boats; echo", "", Verdict::Holds, "exit 0: 3 boats")]
#[case::not_yet("exit 1", "", Verdict::NotYet, "exit 1")]
#[case::undeclared_says_nothing("exit 7", "", Verdict::CouldNotLook, "exit code 7 is not declared")]
#[case::declared_to_hold("exit 7", "holds = [0, 7]", Verdict::Holds, "exit 7")]
#[case::declared_as_not_yet("exit 7", "not_yet = [7]", Verdict::NotYet, "exit 7")]
#[case::too_slow("sleep 20", "within = \"100ms\"", Verdict::CouldNotLook, "did not end within")]
#[case::by_a_signal("kill -9 $$", "", Verdict::CouldNotLook, "ended by a signal")]
#[tokio::test]
async fn a_command(#[case] script: &str, #[case] more: &str, #[case] verdict: Verdict, #[case] says: &str) {
    let world = World::new();
    let more = if more.is_empty() { String::new() } else { format!(", {more}") };
    let answer = look(&world, &format!("{{ rung = \"command\", command = [\"/bin/sh\", \"-c\", \"{script}\"]{more} }}")).await;
    assert_eq!(answer.verdict, verdict, "{}", answer.says);
    assert!(answer.says.contains(says), "{}", answer.says);
}

#[tokio::test]
async fn a_command_that_is_not_there_could_not_look() {
    let world = World::new();
    let answer = look(&world, "{ rung = \"command\", command = [\"/nowhere/looks\"] }").await;
    assert_eq!(answer.verdict, Verdict::CouldNotLook);
    assert!(answer.says.contains("/nowhere/looks cannot be run"), "{}", answer.says);
}

#[rstest]
#[case::there("there", Verdict::Holds, "is there")]
#[case::not_there("elsewhere", Verdict::NotYet, "no ")]
#[case::below_a_file("there/below", Verdict::CouldNotLook, "Not a directory")]
#[tokio::test]
async fn a_file(#[case] name: &str, #[case] verdict: Verdict, #[case] says: &str) {
    let world = World::new();
    world.append("there", "x");
    let answer = look(&world, &format!("{{ rung = \"file\", path = \"DIR/{name}\" }}")).await;
    assert_eq!(answer.verdict, verdict, "{}", answer.says);
    assert!(answer.says.contains(says), "{}", answer.says);
}

#[rstest]
#[case::mounted("/proc", Verdict::Holds)]
#[case::a_plain_folder("DIR", Verdict::NotYet)]
#[tokio::test]
async fn a_mount(#[case] path: &str, #[case] verdict: Verdict) {
    let world = World::new();
    assert_eq!(look(&world, &format!("{{ rung = \"mount\", path = \"{path}\" }}")).await.verdict, verdict);
}

#[tokio::test]
async fn a_connection_is_a_rung_of_its_own() {
    let world = World::new();
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    let rung = format!("{{ rung = \"connect\", port = {port} }}");
    assert_eq!(look(&world, &rung).await.verdict, Verdict::Holds);
    drop(listener);
    let answer = look(&world, &rung).await;
    assert_eq!(answer.verdict, Verdict::NotYet, "{}", answer.says);
}

#[tokio::test]
async fn a_ping_of_this_machine_is_answered() {
    let world = World::new();
    let answer = look(&world, "{ rung = \"ping\" }").await;
    // Where raw sockets are not allowed it cannot be looked, which is no verdict either.
    assert!(matches!(answer.verdict, Verdict::Holds | Verdict::CouldNotLook), "{}", answer.says);
    assert_ne!(answer.verdict, Verdict::NotYet);
}

/// A port is its service's only if its own process holds it; whoever else does is named (R15).
#[rstest]
#[case::of_a_process_of_ours("process = { program = \"/bin/true\" }", "", Verdict::Against, "which is not quay/gate")]
#[case::where_any_may_hold_it("process = { program = \"/bin/true\" }", ", held_by_any = true", Verdict::Holds, "held by")]
#[case::of_what_is_only_watched("hands_off = \"only watched\"", "", Verdict::Holds, "held by")]
#[tokio::test]
async fn a_port_that_a_stranger_holds(#[case] process: &str, #[case] more: &str, #[case] verdict: Verdict, #[case] says: &str) {
    let world = World::new();
    let stranger = TcpListener::bind("127.0.0.1:0").unwrap();
    let port = stranger.local_addr().unwrap().port();
    let service = world.service(&format!("run_by = \"process\"\n{process}\nladder = [{{ rung = \"port\", port = {port}{more} }}]\n"));
    let raw = world.here.look(&service, None, &world.here.round_from_now()).await;
    let answer = raw.rungs.last().unwrap();
    assert_eq!(answer.verdict, verdict, "{}", answer.says);
    assert!(answer.says.contains(says) && answer.says.contains(&format!("process {}", std::process::id())), "{}", answer.says);
}

#[tokio::test]
async fn a_free_port_is_not_there_yet_and_an_address_of_another_does_not_count() {
    let world = World::new();
    let listener = TcpListener::bind("127.0.0.7:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    for (on, verdict) in [("127.0.0.1", Verdict::NotYet), ("127.0.0.7", Verdict::Holds)] {
        let answer = look(&world, &format!("{{ rung = \"port\", port = {port}, on = \"{on}\" }}")).await;
        assert_eq!(answer.verdict, verdict, "{on}: {}", answer.says);
        // Whoever reads "nothing listens" and sees that something does is told where it was looked for.
        let elsewhere = format!("nothing listens on port {port} at 127.0.0.1, where it is looked for; something does at 127.0.0.7 only");
        assert_eq!(answer.says == elsewhere, verdict == Verdict::NotYet, "{}", answer.says);
    }
}

/// Own state commands: which exit codes mean up and which down.
#[rstest]
#[case::up("exit 0", Some(true))]
#[case::down("exit 3", Some(false))]
#[case::undeclared("exit 9", None)]
#[tokio::test]
async fn state_commands_say_whether_it_runs(#[case] script: &str, #[case] runs: Option<bool>) {
    let world = World::new();
    let service = world.service(&format!(
        "run_by = \"commands\"\ncommands = {{ start = [\"/bin/true\"], stop = [\"/bin/true\"], state = [\"/bin/sh\", \"-c\", \"{script}\"], state_down = [3] }}\n"
    ));
    let raw = world.here.look(&service, None, &world.here.round_from_now()).await;
    assert_eq!(raw.runs, runs, "{:?}", raw.rungs);
}

/// Looking never connects, writes or starts anything that was not asked for: the rungs above the
/// first that does not hold are not looked at.
#[tokio::test]
async fn rungs_above_one_that_does_not_hold_are_not_looked_at() {
    let world = World::new();
    let service = world.service(
        "run_by = \"process\"\nhands_off = \"only watched\"\nladder = [{ rung = \"file\", path = \"DIR/first\" }, { rung = \"command\", command = [\"/bin/touch\", \"DIR/touched\"] }]\n",
    );
    world.here.look(&service, None, &world.here.round_from_now()).await;
    assert!(!world.path("touched").exists());
    world.append("first", "");
    let raw = world.here.look(&service, None, &world.here.round_from_now()).await;
    assert!(world.path("touched").exists() && raw.rungs.len() == 2);
}
