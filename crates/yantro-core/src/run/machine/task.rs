//! Steps that are no service's: work, waits, questions, looks, announcements; and the looks before the first act.

use std::time::Duration;

use regex::Regex;

use super::Turn;
use crate::{
    model::{IfItFails, task::Task},
    plan::{Part, Preflight, StepId},
    proof::{Answer, Verdict},
    run::{
        Refusal,
        acts::*,
        ends::*,
        event::*,
        holds::*,
        order::*,
        state::{Run, StepState},
    },
    words::{
        PersonKind, Unanswered,
        time::{Span, Timestamp, time_of_day_near},
    },
};

impl Turn<'_> {
    /// Begins a step that is no service's. Its pause before is over, and it has its room.
    pub(super) fn begin_task(&mut self, step: StepId) {
        let task = match self.run.task(step) {
            None => return,
            Some(Ok(task)) => task,
            Some(Err(missing)) => {
                return self.fail(step, format!("the value {{{missing}}} is not known: what should have told it did not"), false);
            }
        };
        match task {
            Task::Work(_) => self.intend(step, ActKind::Work),
            Task::Announce { .. } => self.intend(step, ActKind::Announce),
            Task::Until { .. } | Task::Look { .. } => self.prove(step),
            Task::Pause { length } => {
                let until = self.now + length.0;
                self.happened(Event::StepPausing { step, until, after_act: true });
            }
            Task::UntilTime { time, zone } => self.until_time(step, &time, &zone),
            Task::Question(question) => {
                let until = question.limit.map(|l| self.now + l.0);
                self.happened(Event::QuestionAsked { step, asks: question.asks, answer: question.answer, until });
            }
            Task::ByHand { says } => self.fail(step, format!("only a person can: {says}"), false),
            Task::Act { .. } => self.look_fresh(step),
        }
    }

    /// The occurrence nearest to the run's begin is meant; one that is past is asked about (R34).
    fn until_time(&mut self, step: StepId, time: &str, zone: &str) {
        let Some(until) = time_of_day_near(self.run.began_at, time, zone) else {
            return self.fail(step, format!("\"{time}\" in {zone} is no time of day"), false);
        };
        if until >= self.now {
            return self.happened(Event::StepPausing { step, until, after_act: true });
        }
        self.asks_whether_it_is_too_late(step, until);
    }

    pub(super) fn is_time_of_day(&self, step: StepId) -> bool {
        matches!(self.run.begun.sequence.step(step).task(), Some(Task::UntilTime { .. }))
    }

    /// A time of day that is past is never taken for tomorrow's, nor for one that was kept.
    pub(super) fn asks_whether_it_is_too_late(&mut self, step: StepId, until: Timestamp) {
        let Some(Ok(Task::UntilTime { time, zone })) = self.run.task(step) else { return };
        let past = Span(Duration::from_secs(self.now.since(until).as_secs()));
        let asks = format!("{time} ({zone}) is past since {past}: go on now?");
        self.happened(Event::QuestionAsked { step, asks, answer: PersonKind::YesNo, until: None });
    }

    /// Work ended well: what is to be kept of its output is taken out.
    pub(super) fn work_done(&mut self, step: StepId, end: &ActEnd) {
        let keep = match self.run.begun.sequence.step(step).task() {
            Some(Task::Work(work)) => work.keep.clone(),
            _ => Default::default(),
        };
        let output = match end {
            ActEnd::Exited { output, .. } => output.as_str(),
            _ => "",
        };
        if *end == ActEnd::Sent {
            // Only a rehearsal says so: what it would print is not known, and is taken as its name.
            for name in keep.into_keys() {
                let value = format!("<{name}>");
                self.happened(Event::ValueKept { step, name, value });
            }
            return self.prove(step);
        }
        // What it did beside others that stood otherwise may be worth nothing, or have done harm.
        if let Some((address, state)) = self.run.step_now(step).stood_otherwise.clone() {
            let must = self.run.begun.sequence.step(step).meanwhile().find(|(a, _)| **a == address).map(|(_, must)| must);
            let must = must.unwrap_or_default();
            return self.done_beside_itself(
                step,
                format!("it ended well, but {address} was {state} meanwhile, and had to be {must} while it worked"),
            );
        }
        for (name, pattern) in keep {
            match piece(&pattern, output) {
                Some(value) => self.happened(Event::ValueKept { step, name, value }),
                None => {
                    let why = format!("it ended well, and no line of its output matches \"{pattern}\", which {{{name}}} is taken from");
                    return self.done_beside_itself(step, why);
                }
            }
        }
        self.prove(step);
    }

    /// The work itself is done: it is not done a second time for what it did not print, or what came beside it, and no rule takes it
    /// back by itself.
    fn done_beside_itself(&mut self, step: StepId, why: String) {
        let rule = match self.run.rule_of(step) {
            IfItFails::CarryOn => IfItFails::CarryOn,
            IfItFails::Hold | IfItFails::PutBack | IfItFails::Divert(_) => IfItFails::Hold,
        };
        self.fail_by(step, why, false, rule);
    }

    pub(super) fn task_patience_ended(&mut self, step: StepId) {
        let now = self.run.step_now(step);
        let last = now.last_answer.as_ref().map_or_else(|| "nothing was answered".to_owned(), |(_, a)| a.says.clone());
        let could_not = matches!(&now.last_answer, Some((_, a)) if a.verdict == Verdict::CouldNotLook);
        let unknown = now.outcome_unknown;
        self.order(Order::StopLooking { step });
        if unknown {
            return self.fail(step, format!("what became of the act is unknown, and {last}"), true);
        }
        if could_not {
            return self.fail(step, format!("could not be looked at: {last}"), false);
        }
        self.attempt_failed(step, format!("not so within {}: {last}", Span(self.run.patience_of(step))));
    }

    // ---- questions ----

    pub(super) fn may_answer(&self, step: StepId, who: &str, value: &str) -> Result<(), Refusal> {
        if let Some(Task::Question(question)) = self.run.begun.sequence.step(step).task()
            && !question.who.is_empty()
            && !question.who.iter().any(|w| w.eq_ignore_ascii_case(who))
        {
            return Err(Refusal::NotYours { step, of: question.who.clone(), who: who.to_owned() });
        }
        let StepState::Asking { answer: Some(wanted), .. } = self.run.step_now(step).state else { return Ok(()) };
        let fits = match wanted {
            PersonKind::YesNo => matches!(value, "yes" | "no"),
            PersonKind::Value => !value.trim().is_empty() && !value.chars().any(char::is_control),
        };
        if fits { Ok(()) } else { Err(Refusal::NoAnswer { step, value: value.to_owned() }) }
    }

    pub(super) fn answered(&mut self, step: StepId, who: &str, value: &str) {
        let StepState::Asking { answer: Some(wanted), .. } = self.run.step_now(step).state else { return };
        match wanted {
            PersonKind::YesNo if value == "no" => self.fail(step, format!("{who} answered no"), false),
            PersonKind::YesNo => self.proven(step, false),
            PersonKind::Value => {
                if let Some(Task::Question(question)) = self.run.begun.sequence.step(step).task()
                    && let Some(name) = question.keep.clone()
                {
                    self.happened(Event::ValueKept { step, name, value: value.trim().to_owned() });
                }
                self.proven(step, false);
            }
        }
    }

    /// The limit of a question passed.
    pub(super) fn unanswered(&mut self, step: StepId) {
        let means = match self.run.begun.sequence.step(step).task() {
            Some(Task::Question(question)) => question.unanswered,
            _ => Unanswered::Failed,
        };
        match means {
            Unanswered::Yes => self.proven(step, false),
            Unanswered::No => self.fail(step, "nobody answered in time, which means no".to_owned(), false),
            Unanswered::Failed => self.fail(step, "nobody answered in time".to_owned(), false),
        }
    }

    // ---- preflight ----

    /// Whether the looks before the first act were taken and count; else they are ordered.
    pub(super) fn preflight_holds(&mut self) -> bool {
        if self.run.preflighted_at.is_some() || self.run.part != Part::Forward {
            return true;
        }
        let looks = self.run.preflight_now();
        if looks.is_empty() {
            return true;
        }
        if !self.run.preflighting {
            self.run.preflighting = true;
            self.order(Order::Preflight { looks });
        }
        false
    }

    pub(super) fn preflighted(&mut self, answers: Vec<(Preflight, Answer)>) {
        if !std::mem::take(&mut self.run.preflighting) {
            return;
        }
        let against: Vec<String> = answers
            .iter()
            .filter(|(_, a)| a.verdict != Verdict::Holds)
            .map(|(look, answer)| format!("{}: {}", look.says, answer.says))
            .collect();
        self.happened(Event::Preflighted { answers });
        if against.is_empty() || self.run.giving_up {
            return;
        }
        if self.run.acts_given() > 0 {
            return self.hold(HoldCause::Preflight { says: against });
        }
        // Nothing was touched: a failed preflight refuses (R28).
        self.happened(Event::Ended { end: RunEnd::Refused, differences: Vec::new(), otherwise: Vec::new() });
        self.order(Order::Release);
    }
}

/// What the first group of a pattern takes out of the first line that has it: line by line, as log patterns match.
fn piece(pattern: &str, output: &str) -> Option<String> {
    let pattern = Regex::new(pattern).ok()?;
    let of = |line| Some(pattern.captures(line)?.get(1)?.as_str().trim().to_owned());
    // Nothing is no piece: a command filled with it would mean something else.
    output.lines().filter_map(of).find(|piece| !piece.is_empty())
}

impl Run {
    /// The looks to take before the next act. Once something was acted on, only those that were asked for
    /// in so many words still mean what they did.
    fn preflight_now(&self) -> Vec<Preflight> {
        let all = self.begun.preflight.iter();
        all.filter(|look| self.acts_given() == 0 || look.line.is_some()).cloned().collect()
    }
}
