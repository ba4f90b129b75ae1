//! A report as Markdown, CSV and JUnit XML.

use std::{fmt::Write, time::Duration};

use quick_junit::{NonSuccessKind, Report as JUnit, TestCase, TestCaseStatus, TestSuite};
use yantro_core::plan::Part;

use crate::told::report::Report;

fn seconds(ms: u64) -> String {
    format!("{:.1} s", ms as f64 / 1000.0)
}

/// Text within a cell of a Markdown table.
fn cell(text: &str) -> String {
    one_line(text).replace('|', "\\|")
}

/// Text that others wrote, in a line of Markdown: it begins no heading of its own, and no markup of a page.
fn one_line(text: &str) -> String {
    let text: String = text.chars().map(|c| if c.is_control() { ' ' } else { c }).collect();
    text.replace('<', "&lt;")
}

/// A command as code of Markdown, whatever is in it: between more backticks than it has in a row (CommonMark 0.31, 6.1).
fn as_code(command: &str) -> String {
    let text: String = command.chars().map(|c| if c.is_control() { ' ' } else { c }).collect();
    let longest = text.split(|c| c != '`').map(str::len).max().unwrap_or_default();
    let fence = "`".repeat(longest + 1);
    let pad = if longest > 0 { " " } else { "" };
    format!("{fence}{pad}{text}{pad}{fence}")
}

impl Report {
    /// As Markdown.
    pub fn markdown(&self) -> String {
        let mut out = String::new();
        let _ = writeln!(out, "# Run {}: {}\n", self.run, self.title);
        let took = self.took_ms.map_or(String::new(), |ms| format!(" after {}", seconds(ms)));
        let _ = writeln!(out, "**{}**{took} · {} · edition {}\n", self.state.word(), self.estate, self.edition);
        for o in &self.otherwise {
            let _ = writeln!(out, "**{}**\n", o.says());
        }
        let _ = writeln!(out, "- begun {} by {}", self.began_at, self.who);
        for (what, text) in [("why", &self.why), ("change", &self.change)] {
            if let Some(text) = text {
                let _ = writeln!(out, "- {what}: {}", one_line(text));
            }
        }
        if let Some((likely, late)) = self.forecast_ms {
            let _ = writeln!(out, "- forecast: {}, nine in ten within {}", seconds(likely), seconds(late));
        }
        for (name, value) in &self.values {
            let _ = writeln!(out, "- {name} = {}", one_line(value));
        }
        if !self.preflight.is_empty() {
            let _ = writeln!(out, "\n## Before the first act\n");
            for look in &self.preflight {
                let _ =
                    writeln!(out, "- {} {}: {}", if look.holds() { "holds:" } else { "**does not hold:**" }, look.says, look.answer.says);
            }
        }
        let _ = writeln!(out, "\n## Steps\n\n| step | does | state | took | usually | proof |\n|---|---|---|---|---|---|");
        let mut part = Part::Forward;
        for s in &self.steps {
            if s.part != part {
                part = s.part;
                let _ = writeln!(out, "| | **{}** | | | | |", if part == Part::PutBack { "the way back" } else { "what took over" });
            }
            let took = s.took_ms.map(seconds).unwrap_or_default();
            let why = s.why.as_ref().map_or(String::new(), |w| format!(" ({})", cell(w)));
            let proof = s.proof.last().map(|p| cell(p)).unwrap_or_default();
            let _ = writeln!(out, "| {} | {} | {}{why} | {took} | {} | {proof} |", s.step, cell(&s.says), s.state, seconds(s.usual_ms));
        }
        if self.steps.iter().any(|s| !s.commands.is_empty()) {
            let _ = writeln!(out, "\n## What was given\n");
            for s in &self.steps {
                for command in &s.commands {
                    let _ = writeln!(out, "- step {}, {}: {}", s.step, one_line(&s.says), as_code(command));
                }
            }
        }
        if !self.decisions.is_empty() {
            let _ = writeln!(out, "\n## Decisions\n");
            for d in &self.decisions {
                let why = d.why.as_ref().map_or(String::new(), |w| format!(": {}", one_line(w)));
                let _ = writeln!(out, "- {} {} {}{why}", d.at, d.who, d.what);
            }
        }
        if !self.as_found.is_empty() {
            let _ = writeln!(out, "\n## As found\n");
            for found in &self.as_found {
                let _ = writeln!(out, "- {}", found.says());
            }
        }
        if !self.differences.is_empty() {
            let _ = writeln!(out, "\n## Different from as found\n");
            for d in &self.differences {
                let _ = writeln!(out, "- {} was {} and is {}", d.address, d.found, d.now);
            }
        }
        if !self.notes.is_empty() {
            let _ = writeln!(out, "\n## Notes\n");
            for n in &self.notes {
                let _ = writeln!(out, "- {} {}: {}", n.at, one_line(&n.who), one_line(&n.text));
            }
        }
        out
    }

    /// As CSV (RFC 4180), a row for each step.
    pub fn csv(&self) -> String {
        let mut writer = csv::Writer::from_writer(Vec::new());
        let head = [
            "run", "step", "line", "part", "does", "state", "why", "began_at", "took_ms", "usual_ms", "attempts", "command", "exit",
            "proof",
        ];
        // What others wrote is text to whatever opens the table, and no formula.
        let text = |text: &str| if text.starts_with(['=', '+', '-', '@', '\t', '\r']) { format!("'{text}") } else { text.to_owned() };
        let opt = |n: Option<u64>| n.map_or(String::new(), |n| n.to_string());
        let mut rows = vec![head.map(str::to_owned).to_vec()];
        for s in &self.steps {
            rows.push(vec![
                self.run.to_string(),
                s.step.to_string(),
                opt(s.line.map(u64::from)),
                match s.part {
                    Part::Forward => "forward".to_owned(),
                    Part::PutBack => "put-back".to_owned(),
                    Part::Divert => "divert".to_owned(),
                },
                text(&s.says),
                s.state.clone(),
                text(s.why.as_deref().unwrap_or_default()),
                s.began_at.map_or(String::new(), |at| at.to_string()),
                opt(s.took_ms),
                s.usual_ms.to_string(),
                s.attempts.to_string(),
                text(&s.commands.join("\n")),
                text(s.exit.as_deref().unwrap_or_default()),
                text(&s.proof.join("\n")),
            ]);
        }
        for row in rows {
            writer.write_record(&row).expect("memory takes what is written");
        }
        String::from_utf8(writer.into_inner().unwrap_or_default()).unwrap_or_default()
    }

    /// As JUnit XML: a test case for each step; one that is not done or unneeded has failed or was skipped.
    pub fn junit(&self) -> String {
        let mut suite = TestSuite::new(format!("run {}: {}", self.run, self.title));
        suite.set_timestamp(self.began_at.to_chrono().fixed_offset());
        for s in &self.steps {
            let status = match s.state.as_str() {
                "done" | "unneeded" => TestCaseStatus::success(),
                "failed" | "outcome unknown" | "asking" | "passed over" | "vouched" => {
                    let mut status = TestCaseStatus::non_success(NonSuccessKind::Failure);
                    status.set_message(s.why.clone().unwrap_or_else(|| s.state.clone())).set_type(s.state.clone());
                    status
                }
                _ => TestCaseStatus::skipped(),
            };
            let mut case = TestCase::new(format!("{} {}", s.step, s.says), status);
            case.set_classname(self.title.clone());
            case.set_time(Duration::from_millis(s.took_ms.unwrap_or(0)));
            let out: Vec<&str> = s.commands.iter().chain(&s.proof).chain(&s.lines).map(String::as_str).collect();
            case.set_system_out(out.join("\n"));
            suite.add_test_case(case);
        }
        let mut junit = JUnit::new(format!("yantro run {}", self.run));
        junit.add_test_suite(suite);
        junit.to_string().unwrap_or_default()
    }
}
