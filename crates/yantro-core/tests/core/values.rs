//! Values that are put in where a name stands in braces: in arguments, in patterns, and never in what a program reads as code.

use rstest::rstest;
use yantro_core::{
    model::ServiceRunner,
    text::vet,
    words::{kinds::StepKind, name::Address},
};

use crate::estates::{estate, toml};

fn gate() -> Address {
    "h/gate".parse().unwrap()
}

#[rstest]
#[case::plain("--port={port}", "--port=7411")]
#[case::braces("{{port}}", "{port}")]
#[case::json("{\"a\":1}", "{\"a\":1}")]
#[case::counted("[0-9]{2,3}", "[0-9]{2,3}")]
fn values_are_put_in(#[case] text: &str, #[case] filled: &str) {
    let more = format!(
        "[service.gate]\nrun_by = \"process\"\nhost = \"h\"\nvalues = {{ port = 7411 }}\nladder = [{{ rung = \"port\", port = \"{{port}}\" }}]\n\
         process = {{ program = \"/bin/gate\", args = ['{text}'] }}\n"
    );
    let (estate, _) = estate("app", &more);
    let ServiceRunner::Process(spec) = &estate.services[&gate()].runner else { panic!("no process") };
    assert_eq!(spec.args, [filled]);
}

#[test]
fn a_value_in_a_pattern_is_matched_as_itself() {
    let more = "[service.gate]\nlike = \"x\"\nvalues = { gate = \"A.1\" }\nladder = [{ rung = \"port\", port = 9 }]\n\
                start = { must_see = [\"gate {gate} ready\"] }\n";
    let (estate, _) = estate("app", more);
    assert_eq!(estate.services[&gate()].patterns(StepKind::Start).must_see, ["gate A\\.1 ready"]);
}

/// The names of values that stand in code, as vetting finds them in a line's command.
fn in_code(words: &str) -> Vec<String> {
    let words: Vec<String> = words.split('|').map(|w| format!("{w:?}")).collect();
    let more = format!(
        "[procedure.night]\nquestions.package = {{ asks = \"Which?\", allowed = \"[a-z]+\" }}\n\
         steps = [{{ work = [{}], on = \"h\", changes_nothing = true }}]\n",
        words.join(", ")
    );
    let vetted = vet(&toml("app", &more), "/e");
    vetted.faults.into_iter().filter(|f| f.kind == "value-in-code").map(|f| f.message).collect()
}

#[rstest]
#[case::a_shell("sh|-c|echo {package}")]
#[case::a_shell_by_its_path("/bin/bash|-euc|echo {package}")]
#[case::python("python3|-c|print('{package}')")]
#[case::python_of_a_version("/usr/bin/python3.11|-c|print('{package}')")]
#[case::perl("perl|-e|print '{package}'")]
#[case::perl_with_more("perl|-lne|print if /{package}/")]
#[case::awk("awk|/{package}/ {{ print }}|file")]
#[case::awk_with_a_variable("awk|-v|a=1|/{package}/|file")]
#[case::over_there("ssh|quay-1|systemctl restart {package}")]
#[case::over_there_with_options("ssh|-p|22|-o|ProxyCommand=nc {package}|quay-1|true")]
#[case::as_another("sudo|-u|fares|sh|-c|echo {package}")]
#[case::through_env("env|LANG=C|sh|-c|echo {package}")]
#[case::through_nice("nice|-n|10|sh|-c|echo {package}")]
#[case::through_timeout("timeout|-k|5|30s|sh|-c|echo {package}")]
#[case::through_several("sudo|--|env|A=b|timeout|9|/bin/dash|-c|echo {package}")]
#[case::su("su|fares|-c|echo {package}")]
#[case::sed("sed|-i|s/old/{package}/|file")]
#[case::found("find|.|-name|x|-exec|sh|-c|echo {package}|;")]
#[case::busybox("busybox|sh|-c|echo {package}")]
fn a_value_in_code_is_seen(#[case] text: &str) {
    let found = in_code(text);
    assert!(found.len() == 1 && found[0].starts_with("{package} stands in code that "), "{text}: {found:?}");
}

#[rstest]
#[case::an_argument("bin/patch|--package|{package}")]
#[case::an_argument_of_a_script_file("sh|bin/patch|{package}")]
#[case::of_python("python3|patch.py|{package}")]
#[case::through_nice("nice|-n|10|bin/patch|{package}")]
#[case::the_estates_own_folder("sh|-c|cat {dir}/notes")]
#[case::code_without_a_value("sh|-c|sleep 1")]
#[case::awk_from_a_file("awk|-f|prog.awk|{package}")]
fn a_value_that_is_only_an_argument_is_good(#[case] text: &str) {
    assert_eq!(in_code(text), [] as [&str; 0], "{text}");
}
