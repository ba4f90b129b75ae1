//! What a command says: results to standard output, talk to standard error, colour only to a
//! terminal and never against NO_COLOR.

use std::io::{self, BufRead, IsTerminal, Write};

use serde::Serialize;

use crate::{
    exit::{Exit, Failure},
    foreign,
};

/// How a command speaks.
pub struct Say {
    json: bool,
    /// Something was begun or decided: from here on the outcome is no longer that nothing happened.
    changed: std::cell::Cell<bool>,
    /// What is said is kept here instead of being printed: for tests.
    #[cfg(test)]
    kept: Option<std::cell::RefCell<String>>,
}

/// Colours by meaning.
#[derive(Debug, Clone, Copy)]
pub enum Tint {
    /// Proven, done.
    Good,
    /// On its way.
    Moving,
    /// Ailing.
    Ailing,
    /// Failed, held.
    Alarm,
    /// Out of reach.
    Unreach,
    /// At rest, beside the point.
    Rest,
    /// What the eye should meet first.
    Strong,
}

impl Tint {
    fn code(self) -> &'static str {
        match self {
            Tint::Good => "36",
            Tint::Moving => "33",
            Tint::Ailing => "33;1",
            Tint::Alarm => "35;1",
            Tint::Unreach => "34",
            Tint::Rest => "2",
            Tint::Strong => "1",
        }
    }
}

/// Text in a tint; [`anstream`] takes the codes out again where they do not belong.
pub fn tinted(tint: Tint, text: impl std::fmt::Display) -> String {
    format!("\x1b[{}m{text}\x1b[0m", tint.code())
}

impl Say {
    /// Speaks to people, or to machines.
    pub fn new(json: bool) -> Self {
        Self {
            json,
            changed: Default::default(),
            #[cfg(test)]
            kept: None,
        }
    }
    /// Keeps what it says, without tints.
    #[cfg(test)]
    pub fn keeping() -> Self {
        Self { json: false, changed: Default::default(), kept: Some(std::cell::RefCell::default()) }
    }
    /// What was said.
    #[cfg(test)]
    pub fn kept(&self) -> String {
        self.kept.as_ref().map(|k| k.borrow().clone()).unwrap_or_default()
    }
    /// Whether machines listen.
    pub fn is_json(&self) -> bool {
        self.json
    }
    /// A result as JSON.
    pub fn json(&self, value: &impl Serialize) {
        self.line(foreign::in_json(&serde_json::to_string_pretty(value).unwrap_or_default()));
    }
    /// An empty screen.
    pub fn clear(&self) {
        let _ = write!(anstream::stdout(), "\x1b[H\x1b[2J");
    }
    /// A whole text as it is written, for a file; at a terminal nothing of it acts there.
    pub fn text(&self, text: &str) {
        let shown = if io::stdout().is_terminal() { foreign::printed(text) } else { text.into() };
        if let Err(error) = io::stdout().write_all(shown.as_bytes()) {
            self.cannot_write(&error);
        }
    }
    /// A piece of what a program writes, as it writes it; at a terminal nothing of it acts there. `cut` is what the piece before
    /// ended in the middle of.
    pub fn output(&self, cut: &mut Vec<u8>, piece: &[u8]) {
        let mut out = io::stdout().lock();
        let written = if out.is_terminal() {
            cut.extend_from_slice(piece);
            let whole = match std::str::from_utf8(cut) {
                Err(error) if error.error_len().is_none() => error.valid_up_to(),
                _ => cut.len(),
            };
            let shown: Vec<u8> = cut.drain(..whole).collect();
            out.write_all(foreign::printed(&foreign::untinted_text(&String::from_utf8_lossy(&shown))).as_bytes())
        } else {
            out.write_all(piece)
        };
        if let Err(error) = written.and_then(|()| out.flush()) {
            drop(out);
            self.cannot_write(&error);
        }
    }
    /// A line of the result.
    pub fn line(&self, text: impl AsRef<str>) {
        let text = foreign::printed(text.as_ref());
        #[cfg(test)]
        if let Some(kept) = &self.kept {
            use std::fmt::Write;
            let _ = writeln!(kept.borrow_mut(), "{}", anstream::adapter::strip_str(text.as_ref()));
            return;
        }
        if let Err(error) = writeln!(anstream::stdout(), "{}", text.as_ref()) {
            self.cannot_write(&error);
        }
    }
    /// Something is about to be begun or decided.
    pub fn changes_something(&self) {
        self.changed.set(true);
    }
    /// What is said cannot be written any more. A reader that has enough of a list closes the pipe, and that is no failure; but
    /// whoever began something must not be told by an exit code of 0 that it went well.
    pub fn cannot_write(&self, error: &io::Error) -> ! {
        let closed = error.kind() == io::ErrorKind::BrokenPipe;
        let exit = match (self.changed.get(), closed) {
            (true, _) => Exit::Unwatched,
            (false, true) => Exit::Good,
            (false, false) => Exit::Failed,
        };
        if exit != Exit::Good {
            let goes_on = if self.changed.get() { "; what was begun goes on: yantro runs" } else { "" };
            let why = if closed { "whoever read it is gone".to_owned() } else { error.to_string() };
            self.talk(format!("{} what is said cannot be written any more ({why}){goes_on}", tinted(Tint::Alarm, "yantro:")));
        }
        std::process::exit(exit as i32)
    }
    /// Talk.
    pub fn talk(&self, text: impl AsRef<str>) {
        let _ = writeln!(anstream::stderr(), "{}", foreign::printed(text.as_ref()));
    }
    /// A failure: what, and what to do.
    pub fn failure(&self, failure: &Failure) {
        if self.json
            && let Failure::Problem(problem) = failure
        {
            self.json(problem);
            return;
        }
        self.talk(format!("{} {failure}", tinted(Tint::Alarm, "yantro:")));
        if let Failure::Problem(problem) = failure {
            for obstacle in problem.plan.iter().flat_map(|p| &p.obstacles) {
                self.talk(format!("  {}\n    {}", obstacle.why, tinted(Tint::Rest, &obstacle.mend)));
            }
        }
        if !failure.hint().is_empty() {
            self.talk(format!("  {}", failure.hint()));
        }
    }
    /// Whether somebody sits at a terminal, to be asked and shown things as they happen.
    pub fn at_terminal(&self) -> bool {
        io::stdin().is_terminal() && io::stderr().is_terminal()
    }
    /// Asks for a line; empty where none was given.
    pub fn answer(&self, question: &str) -> String {
        let _ = write!(anstream::stderr(), "{}", foreign::printed(question));
        let mut answer = String::new();
        let _ = io::stdin().lock().read_line(&mut answer);
        answer.trim().to_owned()
    }
    /// Asks for a word; `true` where it was given.
    pub fn asks(&self, question: &str, word: &str) -> bool {
        let _ = write!(anstream::stderr(), "{question} ");
        let mut answer = String::new();
        io::stdin().lock().read_line(&mut answer).is_ok() && answer.trim().eq_ignore_ascii_case(word)
    }
}
