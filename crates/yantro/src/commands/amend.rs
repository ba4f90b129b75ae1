//! `yantro amend` and `difference`: procedures changed where they are written, and compared.

use std::{io::Read, path::PathBuf};

use serde_json::{Map, Value};
use yantro_core::{
    text::{
        Severity,
        written::{Difference, Edit, Side, StepChange, StepDifference},
    },
    words::name::ProcedureName,
};
use yantro_engine::{Draft, DraftRequest, EditOutcome, EditRequest, ProcedureDifference};
use yantro_server::wire::roughly;

use super::{consent, estate};
use crate::{
    Global,
    client::{Client, wait_for},
    exit::{Exit, Failure, Outcome},
    marks,
    say::{Say, Tint, tinted},
};

const CHANGES: &str = "\
Changes, made one after another (TOML as in the estate file, with commas between keys):
  move LINE to LINE      the step comes to stand there; the others follow
  remove LINE            the step is taken out
  insert LINE KEYS       a new step: insert 3 work = [\"bin/check\"], patience = \"1m\"
  set LINE KEYS          keys of a step; \"\" takes a key out: set 3 patience = \"5m\"
  set KEYS               keys of the procedure itself: set title = \"Patch\"
  ask NAME KEYS          a question asked before it begins: ask package asks = \"Which?\"
  unask NAME             it is no longer asked

Without changes, the text is opened in $VISUAL or $EDITOR.";

/// Change a procedure: its difference is shown, and what is kept is a new edition of the estate.
#[derive(clap::Args)]
#[command(after_help = CHANGES)]
pub struct Amend {
    /// The procedure; one that is not there yet begins empty, or as a copy.
    name: ProcedureName,
    /// The changes, each as one word: "move 5 to 3".
    #[arg(value_name = "CHANGE")]
    changes: Vec<String>,
    /// Take the whole text from this file, or from standard input with "-".
    #[arg(long, value_name = "FILE", conflicts_with = "changes")]
    text_from: Option<PathBuf>,
    /// Begin a new one as a copy of this one.
    #[arg(long, value_name = "PROCEDURE")]
    copy_of: Option<ProcedureName>,
    /// Take the procedure out of the estate.
    #[arg(long, conflicts_with_all = ["changes", "text_from", "copy_of"])]
    take_out: bool,
    /// Show what it would come to, and keep nothing.
    #[arg(long)]
    only_show: bool,
    /// Why, for the record.
    #[arg(long)]
    why: Option<String>,
    /// Do not ask.
    #[arg(long)]
    yes: bool,
}

/// Show a procedure beside another, or beside itself in another edition; first of all, its last change.
#[derive(clap::Args)]
pub struct DifferenceOf {
    /// The procedure.
    name: ProcedureName,
    /// Another procedure, beside it.
    #[arg(long, value_name = "PROCEDURE")]
    with: Option<ProcedureName>,
    /// The edition of the first.
    #[arg(long, value_name = "EDITION")]
    from: Option<u64>,
    /// The edition of the second (default: the newest).
    #[arg(long, value_name = "EDITION")]
    to: Option<u64>,
    /// The texts line by line, not step by step.
    #[arg(long)]
    text: bool,
}

/// One change, as it is typed.
fn change(text: &str) -> Result<Edit, Failure> {
    let failed = |why: &str| {
        Failure::own(format!("the change \"{text}\" cannot be read: {why}"), "see yantro amend --help for how changes are written")
    };
    let (verb, rest) = text.trim().split_once(char::is_whitespace).ok_or_else(|| failed("it ends too soon"))?;
    let rest = rest.trim();
    let line = |word: &str| word.parse::<u32>().map_err(|_| failed(&format!("\"{word}\" is no line")));
    let keys = |text: &str| keys(text).map_err(|why| failed(&why));
    let two = || rest.split_once(char::is_whitespace).ok_or_else(|| failed("it ends too soon"));
    Ok(match verb {
        "move" => match rest.split_whitespace().collect::<Vec<_>>().as_slice() {
            [from, "to", to] => Edit::Move { line: line(from)?, to: line(to)? },
            _ => return Err(failed("it is written move LINE to LINE")),
        },
        "remove" => Edit::Remove { line: line(rest)? },
        "insert" => two().and_then(|(at, step)| Ok(Edit::Insert { line: line(at)?, step: keys(step)? }))?,
        "set" => match rest.split_once(char::is_whitespace) {
            Some((at, set)) if at.bytes().all(|b| b.is_ascii_digit()) => Edit::Change { line: line(at)?, set: keys(set)? },
            _ => Edit::Head { set: keys(rest)? },
        },
        "ask" => two().and_then(|(name, set)| Ok(Edit::Ask { name: name.to_owned(), set: Some(keys(set)?) }))?,
        "unask" => Edit::Ask { name: rest.to_owned(), set: None },
        other => return Err(failed(&format!("there is no change \"{other}\""))),
    })
}

/// Keys as TOML, with commas between.
fn keys(text: &str) -> Result<Map<String, Value>, String> {
    let parsed: Map<String, Value> = toml::from_str(&format!("x = {{ {text} }}")).map_err(|e| e.message().trim().to_owned())?;
    parsed.get("x").and_then(Value::as_object).cloned().ok_or_else(|| "these are no keys".to_owned())
}

impl Amend {
    pub fn run(self, global: &Global, say: &Say) -> Outcome {
        let client = Client::find(global)?;
        let path = format!("/procedures/{}", self.name);
        let edits = self.changes.iter().map(|c| change(c)).collect::<Result<Vec<_>, _>>()?;
        let draft = |request: &DraftRequest| wait_for::<Result<Draft, Failure>>(client.ask(&format!("{path}/draft"), request));
        let begun = DraftRequest { text: self.given()?, copy_of: self.copy_of.clone(), edits };
        let mut tried = draft(&begun)?;
        if self.opens_an_editor(&begun) {
            tried = self.in_an_editor(tried, say, draft)?;
        }
        let text = (!self.take_out).then(|| tried.text.clone());
        if self.take_out {
            tried.difference = yantro_core::text::written::difference(&tried.text, "", 3);
            (tried.good, tried.faults, tried.forecast) = (true, Vec::new(), None);
        }
        if say.is_json() && self.only_show {
            say.json(&tried);
            return Ok(if tried.good { Exit::Good } else { Exit::Faults });
        }
        if !say.is_json() {
            told(&tried, say);
        }
        if !tried.good {
            say.talk("Nothing was kept; the edition before stays.");
            return Ok(Exit::Faults);
        }
        if tried.difference.is_none() && !self.only_show {
            say.line(format!("Nothing changed: edition {} stays.", tried.edition));
            return Ok(Exit::Good);
        }
        if self.only_show {
            return Ok(Exit::Good);
        }
        let why = match &self.why {
            Some(why) => why.clone(),
            None if say.at_terminal() && !self.yes => say.answer("Why? "),
            None => String::new(),
        };
        if !self.yes && !consent::confirmed_as(say, "keep", "keep it", "kept") {
            return Ok(Exit::NotConfirmed);
        }
        let body = EditRequest { text, edition: Some(tried.edition), why };
        let outcome: EditOutcome = wait_for(client.post(&format!("{path}/editions"), &body))?;
        if say.is_json() {
            say.json(&outcome);
        } else {
            say.line(format!("{} edition {}", tinted(Tint::Good, "◉"), outcome.edition));
            say.line(tinted(Tint::Rest, "The file it was loaded from does not have this yet: yantro estate prints the whole."));
        }
        Ok(Exit::Good)
    }

    fn given(&self) -> Result<Option<String>, Failure> {
        let Some(file) = &self.text_from else { return Ok(None) };
        if file.as_os_str() == "-" {
            let mut text = String::new();
            let read = std::io::stdin().read_to_string(&mut text);
            return read.map(|_| Some(text)).map_err(|e| Failure::own(format!("standard input cannot be read: {e}"), "pipe UTF-8 text in"));
        }
        Ok(Some(estate::read(file)?.0))
    }

    fn opens_an_editor(&self, begun: &DraftRequest) -> bool {
        begun.edits.is_empty() && begun.text.is_none() && begun.copy_of.is_none() && !self.take_out && !self.only_show
    }

    /// Opens the text in an editor, until it is good or left as it is.
    fn in_an_editor(&self, first: Draft, say: &Say, draft: impl Fn(&DraftRequest) -> Result<Draft, Failure>) -> Result<Draft, Failure> {
        let editor = std::env::var("VISUAL").or_else(|_| std::env::var("EDITOR")).map_err(|_| {
            Failure::own(
                "there is no change, and no editor is set",
                "give changes (see yantro amend --help), --text-from FILE, or set EDITOR",
            )
        })?;
        let words = shell_words::split(&editor).map_err(|e| Failure::own(format!("EDITOR cannot be read: {e}"), "set it to a command"))?;
        let (program, args) = words.split_first().ok_or_else(|| Failure::own("EDITOR is empty", "set it to a command"))?;
        let begin = |e: std::io::Error| Failure::own(format!("no file can be made to edit in: {e}"), "set TMPDIR to a folder with room");
        let made = tempfile::Builder::new().prefix(&format!("yantro-{}-", self.name)).suffix(".toml").tempfile().map_err(begin)?;
        // It outlives this command where what was typed is not good yet.
        let (_, file) = made.keep().map_err(|e| begin(e.error))?;
        let failed = |e: std::io::Error| Failure::own(format!("{} cannot be edited: {e}", file.display()), "see that it may be written");
        let mut tried = first;
        loop {
            std::fs::write(&file, &tried.text).map_err(failed)?;
            let status = std::process::Command::new(program).args(args).arg(&file).status();
            let ended = status.map_err(|e| Failure::own(format!("{editor} cannot be run: {e}"), "set EDITOR to one that is there"))?;
            if !ended.success() {
                return Err(Failure::own(
                    format!("{editor} ended with {ended}; the text is in {}", file.display()),
                    "give it with --text-from",
                ));
            }
            let text = std::fs::read_to_string(&file).map_err(failed)?;
            tried = draft(&DraftRequest { text: Some(text), ..DraftRequest::default() })?;
            if tried.good || !say.at_terminal() {
                // What was typed is kept until it is an edition: bad input loses nothing.
                if tried.good {
                    let _ = std::fs::remove_file(&file);
                } else {
                    say.talk(format!("Your text is in {}", file.display()));
                }
                return Ok(tried);
            }
            told(&tried, say);
            if !say.asks("Type again to open it once more:", "again") {
                say.talk(format!("Your text is in {}", file.display()));
                return Ok(tried);
            }
        }
    }
}

/// A draft: its difference, its faults, how long it would take.
fn told(draft: &Draft, say: &Say) {
    text_difference(&draft.difference, say);
    estate::show(&draft.faults, &draft.text, &format!("procedure {}", draft.name), say);
    if let Some(forecast) = &draft.forecast {
        say.line(format!("Likely {}, 9 in 10 within {}, as things stand", roughly(forecast.likely_ms), roughly(forecast.late_ms)));
    }
    if draft.faults.iter().any(|f| f.severity == Severity::Error && f.line == 0) {
        say.line(tinted(Tint::Rest, "An error without a line is elsewhere in the estate, and comes of this."));
    }
}

fn text_difference(difference: &Difference, say: &Say) {
    for (i, place) in difference.places.iter().enumerate() {
        if i > 0 {
            say.line(tinted(Tint::Rest, "     ⋮"));
        }
        for line in place {
            let number = line.new.or(line.old).unwrap_or_default();
            let (mark, tint) = match line.side {
                Side::Both => (" ", Tint::Rest),
                Side::Gone => ("−", Tint::Alarm),
                Side::New => ("+", Tint::Good),
            };
            say.line(tinted(tint, format!("{number:>4} {mark} {}", line.text)));
        }
    }
    if !difference.is_none() {
        say.line(format!("\n{} new, {} gone", lines(difference.new), lines(difference.gone)));
    }
}

fn lines(n: u32) -> String {
    format!("{n} line{}", if n == 1 { "" } else { "s" })
}

impl DifferenceOf {
    pub fn run(self, global: &Global, say: &Say) -> Outcome {
        let client = Client::find(global)?;
        let query: Vec<String> =
            [self.with.as_ref().map(|w| format!("with={w}")), self.from.map(|e| format!("from={e}")), self.to.map(|e| format!("to={e}"))]
                .into_iter()
                .flatten()
                .collect();
        let found: ProcedureDifference = wait_for(client.get(&format!("/procedures/{}/difference?{}", self.name, query.join("&"))))?;
        if say.is_json() {
            say.json(&found);
            return Ok(Exit::Good);
        }
        say.line(format!("{} {} {}", tinted(Tint::Strong, &found.old), tinted(Tint::Rest, "beside"), tinted(Tint::Strong, &found.new)));
        if found.difference.is_none() {
            say.line("They say the same.");
        } else if self.text {
            text_difference(&found.difference, say);
        } else {
            step_by_step(&found.steps, say);
            say.line(tinted(
                Tint::Rest,
                format!("\n{} new, {} gone; line by line: --text", lines(found.difference.new), lines(found.difference.gone)),
            ));
        }
        Ok(Exit::Good)
    }
}

fn step_by_step(steps: &[StepDifference], say: &Say) {
    let mut table = marks::table(&["WAS", "IS", "STEP", ""]);
    for step in steps {
        let (word, tint) = match step.change {
            StepChange::Same => (String::new(), Tint::Rest),
            StepChange::Moved => ("moved".to_owned(), Tint::Moving),
            StepChange::Changed => (step.keys.join("\n"), Tint::Moving),
            StepChange::Gone => ("gone".to_owned(), Tint::Alarm),
            StepChange::New => ("new".to_owned(), Tint::Good),
        };
        let number = |n: Option<u32>| n.map_or_else(String::new, |n| n.to_string());
        let says = if step.change == StepChange::Same { tinted(Tint::Rest, &step.says) } else { step.says.clone() };
        table.add_row([number(step.old), number(step.new), says, tinted(tint, word)]);
    }
    say.line(marks::lines(&table));
}
