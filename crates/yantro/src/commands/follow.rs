//! `yantro watch`: a live view. Ctrl-C leaves the run alone and says so.

use std::{
    borrow::Cow,
    collections::BTreeMap,
    time::{Duration, Instant},
};

use eventsource_stream::Eventsource;
use futures::StreamExt;
use indicatif::{ProgressBar, ProgressStyle};
use serde::Deserialize;
use tokio::signal::unix::{Signal, SignalKind, signal};
use yantro_core::{
    model::task::Task,
    run::{RunId, RunState, StepState},
};
use yantro_engine::{RunView, StepView};
use yantro_server::wire::roughly;

use crate::{
    Global,
    client::{Client, wait_for},
    exit::{Exit, Failure, Outcome},
    foreign, marks,
    say::{Say, Tint, tinted},
};

/// Watch a run until it ends.
#[derive(clap::Args)]
pub struct Watch {
    /// The run.
    run: u64,
}

impl Watch {
    pub fn run(self, global: &Global, say: &Say) -> Outcome {
        let client = Client::find(global)?;
        wait_for(watch(&client, RunId(self.run), say))
    }
}

/// Ctrl-C from now on: one listener hears what comes while something else is awaited, too.
pub fn interrupts() -> Result<Signal, Failure> {
    signal(SignalKind::interrupt()).map_err(|e| Failure::own(format!("Ctrl-C cannot be listened for: {e}"), "try again"))
}

/// No more often than this is asked how a run stands that has news all the time, nor for more than one part in so many of it.
const ASKED_EVERY: Duration = Duration::from_millis(250);
const ASKED_FOR_TIMES: u32 = 8;
/// What is asked after at once.
const URGENT: [&str; 4] = ["ended", "held", "question-asked", "step-failed"];

/// Watches a run until it ends or is held.
pub async fn watch(client: &Client, id: RunId, say: &Say) -> Outcome {
    // Whoever watches to know how it ends is not told by an exit code of 0 that it went well, where nobody could be told.
    say.changes_something();
    let mut interrupts = interrupts()?;
    let bar = if say.at_terminal() && !say.is_json() { ProgressBar::new(1) } else { ProgressBar::hidden() };
    bar.set_style(ProgressStyle::with_template("{bar:24} {pos} of {len} steps · {msg}").expect("a fixed template").progress_chars("━╸─"));
    bar.enable_steady_tick(Duration::from_millis(500));
    let line = |text: String| {
        if say.is_json() {
            return;
        }
        bar.suspend(|| say.line(text));
    };
    let mut shown = Shown::default();
    let mut last: Option<String> = None;
    let mut known: Option<RunView> = None;
    loop {
        // The stream first, the view after: nothing falls in between.
        let stream = client.stream("/events", &[], last.as_deref()).await;
        let mut events = match stream {
            Ok(stream) => stream.bytes_stream().eventsource(),
            Err(Failure::NoServer { why, .. }) => {
                line(tinted(Tint::Alarm, format!("not in touch with the server ({why}); trying again")));
                tokio::select! {
                    () = tokio::time::sleep(Duration::from_secs(1)) => continue,
                    _ = interrupts.recv() => return leave(id, &bar, say),
                }
            }
            Err(other) => return Err(other),
        };
        loop {
            let asked_at = Instant::now();
            let since = known.as_ref().map_or_else(String::new, |v| format!("?since={}", v.events));
            match client.get::<RunView>(&format!("/runs/{id}{since}")).await {
                Ok(newer) => {
                    let (up_to_date, changed) = brought_up_to_date(known.take(), newer);
                    let view = known.insert(up_to_date);
                    shown.update(view, &changed, &line);
                    bar.set_length(view.steps.len() as u64);
                    bar.set_position(view.steps.iter().filter(|s| s.now.state.has_ended()).count() as u64);
                    bar.set_message(foreign::printed(&message(view)).into_owned());
                    if let Some(exit) = ended(view) {
                        bar.finish_and_clear();
                        if say.is_json() {
                            say.json(view);
                        } else {
                            last_word(view, say);
                        }
                        return Ok(exit);
                    }
                }
                Err(Failure::NoServer { .. }) => break,
                Err(other) => return Err(other),
            }
            // A large run has news many times a second, and is not asked after each: what comes soon after is asked for at once.
            let asked_for = asked_at.elapsed();
            let not_before = tokio::time::Instant::from_std(asked_at + ASKED_EVERY.max(asked_for * ASKED_FOR_TIMES));
            let of_this_run = async {
                let (mut newest, mut is_urgent) = (None, false);
                while !is_urgent {
                    let next = match newest {
                        None => events.next().await,
                        Some(_) => match tokio::time::timeout_at(not_before, events.next()).await {
                            Ok(next) => next,
                            Err(_) => break,
                        },
                    };
                    let Some(Ok(event)) = next else { return None };
                    let of_run = (event.event == "run").then(|| serde_json::from_str::<OfRun<'_>>(&event.data).ok()).flatten();
                    if let Some(of_run) = of_run.filter(|of| of.run == id) {
                        // How it ends, and that somebody has to decide, is told without delay.
                        is_urgent = URGENT.contains(&&*of_run.event.event);
                        newest = Some(event.id);
                    }
                }
                newest
            };
            tokio::select! {
                id = of_this_run => match id {
                    Some(id) => last = Some(id),
                    None => break,
                },
                () = tokio::time::sleep(Duration::from_secs(5)) => {}
                _ = interrupts.recv() => return leave(id, &bar, say),
            }
        }
    }
}

/// What is heard of a run, as far as it matters here.
#[derive(Deserialize)]
struct OfRun<'a> {
    run: RunId,
    #[serde(borrow)]
    event: Kind<'a>,
}

/// Of which kind an event is.
#[derive(Deserialize)]
struct Kind<'a> {
    #[serde(borrow)]
    event: Cow<'a, str>,
}

/// A run as it is known by now, and which of its steps, counted from 0, are other than they were known: only steps that changed are
/// told anew.
fn brought_up_to_date(before: Option<RunView>, newer: RunView) -> (RunView, Vec<usize>) {
    let Some(before) = before.filter(|_| !newer.whole) else {
        let all = (0..newer.steps.len()).collect();
        return (newer, all);
    };
    let (mut newer, mut steps) = (newer, before.steps);
    let changed = renew(&mut steps, std::mem::take(&mut newer.steps));
    (RunView { steps, whole: true, ..newer }, changed)
}

/// Puts newer steps in the place of those known, and says where they are.
pub fn renew(steps: &mut Vec<StepView>, newer: Vec<StepView>) -> Vec<usize> {
    let places = newer.into_iter().map(|step| match steps.binary_search_by_key(&step.planned.id, |s| s.planned.id) {
        Ok(at) => {
            steps[at] = step;
            at
        }
        // Of a way back, or of what took over: they come after all others.
        Err(at) => {
            steps.insert(at, step);
            at
        }
    });
    places.collect()
}

fn leave(id: RunId, bar: &ProgressBar, say: &Say) -> Outcome {
    bar.finish_and_clear();
    say.talk(format!("\nNo longer watching. Run {id} goes on: yantro watch {id}"));
    Ok(Exit::Unwatched)
}

fn ended(view: &RunView) -> Option<Exit> {
    match view.state {
        // A person is asked, and nothing else goes on: whoever watches here can answer.
        RunState::Running if asks(view) => Some(Exit::Held),
        RunState::Queued | RunState::Running | RunState::PuttingBack => None,
        // What is in flight ends first, and is shown.
        RunState::Held => {
            (!view.steps.iter().any(|s| matches!(s.now.state, StepState::Acting { .. } | StepState::Proving { .. }))).then_some(Exit::Held)
        }
        RunState::Finished => Some(Exit::Good),
        RunState::FinishedWithExceptions | RunState::PutBack | RunState::PutBackInPart | RunState::GivenUp | RunState::Refused => {
            Some(Exit::NotFinished)
        }
    }
}

/// Whether a run waits for an answer and for nothing else.
fn asks(view: &RunView) -> bool {
    let at_work = |s: &StepView| matches!(s.now.state, StepState::Acting { .. } | StepState::Proving { .. } | StepState::Pausing { .. });
    view.steps.iter().any(|s| matches!(s.now.state, StepState::Asking { answer: Some(_), .. })) && !view.steps.iter().any(at_work)
}

fn message(view: &RunView) -> String {
    if !view.queued_behind.is_empty() {
        return format!("queued behind {}", view.queued_behind.join(", "));
    }
    let left = view.likely_end.map(|end| roughly(end.since(super::now()).as_millis() as u64)).unwrap_or_default();
    let at_work: Vec<String> = view
        .steps
        .iter()
        .filter(|s| matches!(s.now.state, StepState::Acting { .. } | StepState::Proving { .. }))
        .map(|s| s.row.clone())
        .take(3)
        .collect();
    format!("{} · about {left} left · {}", view.state.word(), at_work.join(", "))
}

/// What was shown already.
#[derive(Default)]
struct Shown {
    begun: bool,
    words: BTreeMap<u32, &'static str>,
    rungs: BTreeMap<u32, usize>,
    queued: Vec<String>,
}

impl Shown {
    /// `changed` are the steps that may be other than they were shown, counted from 0.
    fn update(&mut self, view: &RunView, changed: &[usize], line: &dyn Fn(String)) {
        if !self.begun {
            self.begun = true;
            line(format!("Run {} · {} · by {}", view.id, tinted(Tint::Strong, &view.title), view.who));
            // Who comes late is told what happened in one line.
            let ended: Vec<&StepView> = view.steps.iter().filter(|s| s.now.state.has_ended()).collect();
            if !ended.is_empty() {
                line(tinted(Tint::Rest, format!("  {} of {} steps ended before", ended.len(), view.steps.len())));
            }
            for step in &view.steps {
                self.rungs.insert(step.planned.id.0, rungs_of(step).len());
                if step.now.state.has_ended() {
                    self.words.insert(step.planned.id.0, step.now.state.word());
                }
            }
        }
        if self.queued != view.queued_behind && !view.queued_behind.is_empty() {
            line(format!("queued behind {}", view.queued_behind.join(", ")));
        }
        self.queued.clone_from(&view.queued_behind);
        for step in changed.iter().filter_map(|at| view.steps.get(*at)) {
            let id = step.planned.id.0;
            let word = step.now.state.word();
            let seen: Vec<&yantro_core::run::RungSeen> = rungs_of(step);
            let before = self.rungs.insert(id, seen.len()).unwrap_or(0);
            let changed = self.words.insert(id, word).is_none_or(|w| w != word);
            for rung in seen.iter().skip(before) {
                let name = step.rungs.get(rung.rung as usize).map_or("", String::as_str);
                let mark = if rung.climbed { tinted(Tint::Good, "✓") } else { tinted(Tint::Ailing, "↓") };
                line(format!(
                    "  {}  {:<34} {mark} {name}: {}",
                    tinted(Tint::Rest, marks::clock(rung.at)),
                    step.row,
                    tinted(Tint::Rest, &rung.says)
                ));
            }
            if changed && step.planned.part != view.part && step.planned.part == yantro_core::plan::Part::Forward && word == "not begun" {
                continue; // The way forward ended; each step that it leaves is no news of its own.
            }
            if changed && !matches!(step.now.state, StepState::Waiting | StepState::Proving { .. } | StepState::Pausing { .. }) {
                let (mark, tint) = marks::step(&step.now.state);
                let at = step.now.ended_at.or(step.now.began_at).map_or_else(|| "        ".to_owned(), marks::clock);
                line(format!(
                    "  {}  {:<34} {} {} {}",
                    tinted(Tint::Rest, at),
                    step.row,
                    tinted(tint, mark),
                    step.planned.does(),
                    tinted(tint, word)
                ));
            }
        }
    }
}

fn rungs_of(step: &StepView) -> Vec<&yantro_core::run::RungSeen> {
    step.now.rungs.iter().chain(step.now.acts.iter().flat_map(|a| &a.rungs)).collect()
}

/// The final word, and what can be done where the run is held.
fn last_word(view: &RunView, say: &Say) {
    let took =
        view.ended_at.map(|end| format!(" after {}", roughly((end.as_ms() - view.began_at.as_ms()).max(0) as u64))).unwrap_or_default();
    say.line(format!("\nRun {} · {}{took}", view.id, tinted(marks::run_tint(view.state), view.state.word())));
    for o in &view.otherwise {
        say.line(format!("  {} {}", tinted(Tint::Alarm, "✗"), tinted(Tint::Strong, o.says())));
    }
    for why in &view.held_because {
        say.line(format!("  {why}"));
    }
    for step in &view.steps {
        if let StepState::Asking { reason, answer: Some(_), .. } = &step.now.state {
            say.line(format!("  {} step {} asks: {}", tinted(Tint::Alarm, "?"), step.planned.id, tinted(Tint::Strong, reason)));
            if let Some(look_at) = step.planned.task().and_then(|t| if let Task::Question(q) = t { q.look_at.clone() } else { None }) {
                say.line(tinted(Tint::Rest, format!("    look at: {look_at}")));
            }
        }
    }
    if let (Some(window), false) = (&view.window, view.ended_at.is_some()) {
        say.line(format!("  to fit {}, which ends {}", window.title, marks::clock(window.ends_at)));
    }
    for look in view.preflight.iter().filter(|p| !p.holds()) {
        say.line(format!("  {} {}: {}", tinted(Tint::Alarm, "✗"), look.says, look.answer.says));
    }
    if view.state == RunState::Held || asks(view) {
        say.line(format!("\nSee the evidence:  yantro show {}", view.id));
        super::standing::lines(view).into_iter().for_each(|l| say.line(l));
    }
    for d in &view.differences {
        say.line(format!("  {} was found {} and is {} now", d.address, d.found, d.now));
    }
}
