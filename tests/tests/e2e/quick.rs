//! A quick estate of real processes: ready in 60 to 150 ms, each start and stop recorded.

/// The estate; `NET` stands for the test's own addresses. `more` goes to the service named.
pub fn estate(more: &[(&str, &str)]) -> String {
    let mut text = String::from(
        r#"
[estate]
name = "Quick ferries"
stands_for = "test"

[host.quay]
reach = "here"
address = "NET.1"

[host.pier]
reach = "here"
address = "NET.2"

[like.quick]
run_by = "process"
logs = ["logs/{service}{copy}.log"]
values = { ready = "60ms" }
process = { program = "./stand-in", args = [
    "--name", "{service}{copy}", "--listen", "{address}:{port}", "--ready-after", "{ready}", "--stop-after", "20ms",
    "--log", "{dir}/logs/{service}{copy}.log", "--record", "{dir}/{service}{copy}.record", "--trouble", "{dir}/trouble/{service}{copy}",
] }
ladder = [{ rung = "port", port = "{port}" }]
start = { patience = "10s", must_see = ["ready for connections"], must_not_see = ["ERROR", "FATAL"] }
stop = { patience = "5s", must_see = ["stopped$"] }
"#,
    );
    let services = [
        ("db", "quay", 5001, ""),
        ("queue", "quay", 5002, ""),
        ("app", "quay", 5003, "\"db\", \"queue\""),
        ("front", "pier", 5004, "\"app\""),
        ("boards", "pier", 5005, "\"app\""),
    ];
    for (i, (name, host, port, relies)) in services.iter().enumerate() {
        let own: String = more.iter().filter(|(n, _)| n == name).map(|(_, text)| format!("{text}\n")).collect();
        text += &format!(
            "\n[service.{name}]\nlike = \"quick\"\nhost = \"{host}\"\nvalues = {{ port = {port}, ready = \"{}ms\" }}\nrelies_on = [{relies}]\n{own}",
            60 + i * 20
        );
    }
    text
}
