//! Hosts as things of their own: whether they are on, how they are shut down, rebooted and powered on, and what shows
//! it. What gives them power is asked from here; what they do themselves goes over their link.

use std::{
    collections::BTreeMap,
    sync::{
        Arc, OnceLock,
        atomic::{AtomicBool, Ordering},
    },
    time::{Duration, Instant},
};

use yantro_core::{
    model::{CommandsSpec, HostSpec, Power, PowerDeed, Rung, RungKind, Service, ServiceRunner},
    proof::{Answer, Verdict},
    run::{ActEnd, ActKind},
    words::{
        kinds::StepKind,
        name::{Address, HostName},
    },
};

use crate::{
    acts::recorder::ActNews,
    here::{ActSpec, Here},
    hosts::power::{PowerState, power_state},
    hosts::{
        all::{Hosts, Seen},
        claims::{Claims, on_here, told},
        known::Told,
    },
    links::far::OutOfReach,
    looks::climb::{Climb, Report},
    looks::look::RawLook,
    looks::procs::boot_id,
};

/// How long a host that is reached may take to say that it lives.
const LIVES_WITHIN: Duration = Duration::from_secs(2);
/// What a controller said holds so long while its host answers, and is asked again beside the look.
const TOLD_HOLDS: Duration = Duration::from_secs(20);
/// What it said holds so long while the host does not answer.
const TOLD_HOLDS_SILENT: Duration = Duration::from_millis(800);
/// Between looks of a climb: at first, and at the widest.
const PACE: (Duration, Duration) = (Duration::from_millis(50), Duration::from_secs(1));

/// What a host shows of itself at one moment.
struct Signs {
    /// The boot that it answers from.
    boot: Option<String>,
    power: Told,
}

/// The first characters of a boot's identity: enough to tell it from the one before.
fn short(boot: &str) -> &str {
    boot.get(..8).unwrap_or(boot)
}

/// The power of a host or an outlet.
fn power_of(service: &Service) -> Option<Power> {
    match &service.runner {
        ServiceRunner::Host(h) => Some(h.power.clone()),
        ServiceRunner::Outlet(c) => Some(Power::Redfish(c.clone())),
        _ => None,
    }
}

/// What gives a host power says of it now.
async fn told_by(here: &Here, power: &Power) -> Told {
    let env = match power {
        Power::Redfish(c) => c.env(),
        Power::Commands { env, .. } => env.clone(),
        Power::Wake { .. } | Power::Nobody => BTreeMap::new(),
    };
    let resolved = here.secrets().resolve(&env, &Default::default());
    let told = match resolved {
        Ok(env) => power_state(power, &env).await.transpose(),
        Err(why) => Some(Err(why)),
    };
    told.map(|t| t.map_err(|why| here.mask(&why)))
}

fn refused(why: String, mend: &str) -> ActEnd {
    ActEnd::Refused { why, mend: mend.to_owned() }
}

impl Hosts {
    /// The boot that a host answers from now; `None` where it does not answer.
    async fn answers_from(&self, host: &HostName) -> Option<String> {
        match self.far(host) {
            Some(far) => far.answers(LIVES_WITHIN).await,
            None => Some(boot_id().to_owned()),
        }
    }

    async fn ask_power(&self, address: &Address, power: &Power) -> Told {
        let told = told_by(self.here(), power).await;
        self.known.remember(address, told.clone());
        told
    }

    async fn power_within(&self, address: &Address, power: &Power, holds: Duration) -> Told {
        match self.known.fresh(address, holds) {
            Some(told) => told,
            None => self.ask_power(address, power).await,
        }
    }

    /// Whether a host that does not answer is known to be off.
    pub(crate) async fn is_off(&self, host: &HostName) -> bool {
        let power = self.powers().get(host).cloned();
        let Some(power) = power else { return false };
        if !power.tells() {
            return self.known.is_off(host);
        }
        let told = self.power_within(&Address::of_host(host), &power, TOLD_HOLDS_SILENT).await;
        matches!(told, Some(Ok(PowerState::Off)))
    }

    /// What a look at a service comes to whose host is off.
    pub(crate) fn off_with_its_host(service: &Service) -> RawLook {
        let says = Answer::against("its host is off");
        RawLook { runs: Some(false), main: None, manager: None, rungs: vec![says], total: service.ladder.len() }
    }

    /// Looks at a host itself, or at the outlet that feeds it.
    pub(crate) async fn look_at_power(&self, service: &Service) -> Seen {
        let (address, total) = (&service.address, service.ladder.len());
        let look = |runs, rungs| Ok(RawLook { runs, main: None, manager: None, rungs, total });
        let Some(power) = power_of(service) else { return look(None, vec![Answer::could_not("it is no host")]) };
        if matches!(service.runner, ServiceRunner::Outlet(_)) {
            return match self.power_within(address, &power, TOLD_HOLDS_SILENT).await {
                Some(Ok(PowerState::On)) => look(Some(true), vec![Answer::holds("on")]),
                Some(Ok(PowerState::Off)) => look(Some(false), Vec::new()),
                Some(Ok(turning)) => look(Some(true), vec![Answer::not_yet(turning.says())]),
                Some(Err(why)) => look(None, vec![Answer::could_not(why)]),
                None => look(None, vec![Answer::could_not("nothing tells whether it is on")]),
            };
        }
        let boot = self.answers_from(&address.host).await;
        let told = match &boot {
            Some(_) => {
                self.known.off(&address.host, false);
                if self.known.fresh(address, TOLD_HOLDS).is_none() && power.tells() {
                    self.refresh(address.clone(), power.clone());
                }
                self.known.last(address)
            }
            None => self.power_within(address, &power, TOLD_HOLDS_SILENT).await,
        };
        let signs = Signs { boot, power: told };
        let mut rungs = Vec::new();
        for rung in &service.ladder {
            let answer = self.power_rung(service, rung, &signs).await;
            let holds = answer.verdict == Verdict::Holds;
            rungs.push(answer);
            if !holds {
                break;
            }
        }
        if signs.boot.is_some() {
            return look(Some(true), rungs);
        }
        let pings = async || match service.ladder.iter().find(|r| matches!(r.kind, RungKind::Ping { .. })) {
            Some(rung) => self.power_rung(service, rung, &signs).await.verdict == Verdict::Holds,
            None => false,
        };
        match &signs.power {
            // Off is what its power says and its silence does not deny.
            Some(Ok(PowerState::Off)) if !pings().await => {
                look(Some(false), vec![Answer::against("its power is off, and it does not answer")])
            }
            Some(Ok(PowerState::Off)) => look(Some(true), vec![Answer::against("its power is said to be off, and it answers ping")]),
            Some(Ok(on)) => {
                let silent = format!("its power is {}, and it is not reached: {}", on.says(), self.why_silent(&address.host));
                look(Some(true), vec![Answer::holds(on.says()), Answer::not_yet(silent)])
            }
            None if self.known.is_off(&address.host) && !pings().await => {
                look(Some(false), vec![Answer::against("it was seen to shut down, and does not answer")])
            }
            None if pings().await => look(Some(true), rungs),
            Some(Err(why)) => Err(OutOfReach { host: address.host.clone(), why: format!("{}; {why}", self.why_silent(&address.host)) }),
            None => Err(OutOfReach { host: address.host.clone(), why: self.why_silent(&address.host) }),
        }
    }

    fn why_silent(&self, host: &HostName) -> String {
        self.far(host).and_then(|f| f.link().why).unwrap_or_else(|| "it does not answer".to_owned())
    }

    /// Asks for the power beside whatever waits for the look: a controller may take seconds.
    fn refresh(&self, address: Address, power: Power) {
        let (machines, here) = (Arc::clone(&self.known), Arc::clone(self.here_arc()));
        // Asked by one at a time.
        machines.remember(&address, machines.last(&address));
        tokio::spawn(async move {
            let told = told_by(&here, &power).await;
            machines.remember(&address, told);
        });
    }

    /// Looks once at a rung of a host's own ladder.
    pub(crate) async fn power_look_once(&self, host: &HostName, rung: &Rung) -> Answer {
        let power = self.powers().get(host).cloned();
        match rung.kind {
            RungKind::Power => match power {
                Some(power) => match self.ask_power(&Address::of_host(host), &power).await {
                    Some(Ok(state)) => Answer::holds(format!("its power is {}", state.says())),
                    Some(Err(why)) => Answer::against(format!("{why}; once it is down nothing here could raise it again")),
                    None => Answer::could_not("nothing tells whether it has power"),
                },
                None => Answer::could_not("nothing gives it power that could be asked"),
            },
            _ => match self.answers_from(host).await {
                Some(boot) => Answer::holds(format!("reached, boot {}", short(&boot))),
                None => Answer::not_yet(format!("not reached: {}", self.why_silent(host))),
            },
        }
    }

    async fn power_rung(&self, service: &Service, rung: &Rung, signs: &Signs) -> Answer {
        let host = &service.address.host;
        match (&rung.kind, &signs.power, &signs.boot) {
            (RungKind::Power, Some(Ok(PowerState::On)), _) => Answer::holds("its power is on"),
            (RungKind::Power, Some(Ok(PowerState::Off)), Some(_)) => Answer::against("its power is said to be off, and it answers"),
            (RungKind::Power, Some(Ok(state)), _) => Answer::not_yet(format!("its power is {}", state.says())),
            // That it answers is proof enough that it has power.
            (RungKind::Power, Some(Err(why)), Some(_)) => Answer::holds(format!("it answers; its power cannot be asked: {why}")),
            (RungKind::Power, Some(Err(why)), None) => Answer::could_not(why.clone()),
            (RungKind::Power, None, Some(_)) => Answer::holds("it answers"),
            (RungKind::Power, None, None) => Answer::not_yet("it does not answer"),
            (RungKind::Reached, _, Some(boot)) => Answer::holds(format!("reached, boot {}", short(boot))),
            (RungKind::Reached, _, None) => Answer::not_yet(format!("not reached: {}", self.why_silent(host))),
            (RungKind::Ping { .. }, ..) => {
                let round = self.here().round();
                self.here().look_once(host, rung, &round).await
            }
            (RungKind::Log, ..) => Answer::holds("log"),
            _ => match self.far(host) {
                Some(far) => far.look_once(rung).await,
                None => {
                    let round = self.here().round();
                    self.here().look_once(host, rung, &round).await
                }
            },
        }
    }

    /// Climbs the ladder of a host or an outlet until dropped.
    pub(crate) async fn climb_power(&self, climb: Climb, mut report: impl FnMut(Report)) {
        let service = &climb.service;
        let rungs = service.ladder_of(climb.kind);
        let Some(power) = power_of(service) else { return };
        let before = climb.old.as_ref().map(|o| o.boot.clone());
        let is_host = matches!(service.runner, ServiceRunner::Host(_));
        let began = Instant::now();
        let (mut at, mut last): (usize, Option<(usize, Answer)>) = (climb.from, None);
        loop {
            let boot = if is_host { self.answers_from(&service.address.host).await } else { None };
            // While the act is new, what was told before it is no proof of it.
            let signs = Signs { power: self.power_within(&service.address, &power, began.elapsed().min(TOLD_HOLDS_SILENT)).await, boot };
            let look = async |rung: &Rung| -> Answer {
                let answer = match (climb.kind, &service.runner) {
                    (StepKind::Stop, ServiceRunner::Host(host)) => self.gone(service, host, rung, &signs, before.as_deref()).await,
                    (StepKind::Stop, _) => match &signs.power {
                        Some(Ok(PowerState::Off)) => Answer::holds("off"),
                        Some(Ok(state)) => Answer::not_yet(state.says()),
                        Some(Err(why)) => Answer::could_not(why.clone()),
                        None => Answer::could_not("nothing tells whether it is on"),
                    },
                    (_, ServiceRunner::Outlet(_)) => match &signs.power {
                        Some(Ok(PowerState::On)) => Answer::holds("on"),
                        Some(Ok(state)) => Answer::not_yet(state.says()),
                        Some(Err(why)) => Answer::could_not(why.clone()),
                        None => Answer::could_not("nothing tells whether it is on"),
                    },
                    _ => match (&rung.kind, &before, &signs.boot) {
                        (RungKind::Reached, Some(old), Some(now)) if old == now => {
                            Answer::not_yet(format!("still boot {}: it has not gone down since", short(now)))
                        }
                        (RungKind::Reached, Some(old), Some(now)) => {
                            Answer::holds(format!("reached in a new boot, {}; before it was {}", short(now), short(old)))
                        }
                        _ => self.power_rung(service, rung, &signs).await,
                    },
                };
                Answer { says: self.here().mask(&answer.says), ..answer }
            };
            // All rungs below are looked at again while it has to stay steady, and at every look of a stop: what
            // answers again is not off.
            let mut standing = at.min(rungs.len());
            if at >= rungs.len() || climb.kind == StepKind::Stop {
                for (i, rung) in rungs.iter().enumerate().take(standing) {
                    let answer = look(rung).await;
                    if answer.verdict != Verdict::Holds {
                        report(Report { rung: i as u32, answer, logs: Vec::new() });
                        standing = i;
                        last = None;
                        break;
                    }
                }
                at = standing;
            }
            while at < rungs.len() {
                let answer = look(&rungs[at]).await;
                if last.as_ref() != Some(&(at, answer.clone())) {
                    report(Report { rung: at as u32, answer: answer.clone(), logs: Vec::new() });
                }
                match answer.verdict {
                    Verdict::Holds => {
                        at += 1;
                        last = None;
                    }
                    // What speaks against it may be yesterday's word of a slow controller: patience decides.
                    Verdict::Against | Verdict::NotYet | Verdict::CouldNotLook => {
                        last = Some((at, answer));
                        break;
                    }
                }
            }
            if at >= rungs.len() && climb.kind == StepKind::Stop && is_host && !power.tells() && signs.boot.is_none() {
                self.known.off(&service.address.host, true);
            }
            tokio::time::sleep((began.elapsed() / 20).clamp(PACE.0, PACE.1)).await;
        }
    }

    /// Whether a host is off, or through with the boot that a reboot ended: never by its silence alone (R37).
    async fn gone(&self, service: &Service, spec: &HostSpec, rung: &Rung, signs: &Signs, before: Option<&str>) -> Answer {
        let (asked, tells) = (before.is_some(), spec.power.tells());
        match (&rung.kind, &signs.boot) {
            (RungKind::Reached, Some(now)) if spec.reboots && before.is_some_and(|old| old != now) => {
                Answer::holds(format!("boot {} is over", short(before.unwrap_or_default())))
            }
            (RungKind::Reached, Some(now)) => Answer::not_yet(format!("it still answers, in boot {}", short(now))),
            (RungKind::Reached, None) if spec.reboots && asked => {
                Answer::holds("it answers no more; it had taken the command to reboot, and a new boot has to prove it")
            }
            (RungKind::Reached, None) if tells => Answer::holds("it answers no more"),
            (RungKind::Reached, None) if asked => {
                Answer::holds("it had taken the command to shut down, was seen to go, and answers no more")
            }
            (RungKind::Reached, None) => Answer::not_yet("it does not answer, and nothing says that its power is off"),
            (RungKind::Power | RungKind::Ping { .. }, _) if spec.reboots => Answer::holds("not asked: a reboot leaves its power on"),
            (RungKind::Power, _) => match &signs.power {
                Some(Ok(PowerState::Off)) => Answer::holds("its power is off"),
                Some(Ok(state)) => Answer::not_yet(format!("its power is {}", state.says())),
                Some(Err(why)) => Answer::could_not(why.clone()),
                None => Answer::could_not("nothing tells whether it has power"),
            },
            _ => {
                let answer = self.power_rung(service, rung, signs).await;
                match answer.verdict {
                    Verdict::Holds if matches!(rung.kind, RungKind::Ping { .. }) => {
                        Answer::not_yet(format!("it still answers ping: {}", answer.says))
                    }
                    Verdict::Holds => Answer::not_yet(format!("still so: {}", answer.says)),
                    Verdict::NotYet | Verdict::Against => Answer::holds(format!("gone: {}", answer.says)),
                    Verdict::CouldNotLook => answer,
                }
            }
        }
    }

    /// Gives an act to a host or an outlet.
    pub(crate) async fn act_on_power(
        &self,
        spec: ActSpec<'_>,
        keeps: &str,
        claims: &dyn Claims,
        tell: impl Fn(ActNews) + Send + Sync + 'static,
    ) -> Result<(), ActEnd> {
        let (host, service) = (&spec.service.address.host, spec.service);
        let Some(power) = power_of(service) else { return Err(refused("it is no host".to_owned(), "check the estate")) };
        let goes_down = matches!(spec.kind, ActKind::Stop | ActKind::Clear);
        if spec.kind != ActKind::Start {
            let against = match self.why_ours(host).await {
                None => self.why_way(host).await,
                ours => ours,
            };
            if let Some(why) = against {
                return Err(refused(format!("{host} is never acted on: {why}"), "do it by hand"));
            }
        }
        if let (ServiceRunner::Host(of), true) = (&service.runner, goes_down) {
            let far = self.far(host);
            let boot = self.answers_from(host).await;
            match (far, boot) {
                (Some(far), Some(boot)) if of.reboots || !of.shut_down.is_empty() => {
                    return self.down_by_itself(&far, spec, &boot, claims, tell).await;
                }
                _ if of.reboots => {
                    let why = format!("{host} cannot be told to reboot: {}", self.why_silent(host));
                    return Err(refused(why, "power-cycle it instead"));
                }
                // Whoever gives it power may be able to ask it.
                _ => {}
            }
        }
        let deed = match (spec.kind, &service.runner) {
            (ActKind::Start, _) => PowerDeed::On,
            (ActKind::Force, ServiceRunner::Host(_)) => PowerDeed::Off,
            (ActKind::Stop | ActKind::Clear, ServiceRunner::Host(_)) => PowerDeed::ShutDown,
            (ActKind::Stop | ActKind::Clear, _) => PowerDeed::Off,
            _ => return Err(refused("a host has no such act".to_owned(), "use a work step for it")),
        };
        let Some((mut words, env)) = power.command(deed) else {
            let (why, mend) = match deed {
                PowerDeed::On => (format!("nothing here gives {host} power"), "press its button: the step goes on once it comes up"),
                PowerDeed::Off => (format!("nothing here can cut the power of {host}"), "cut it by hand, and try again"),
                PowerDeed::ShutDown => (
                    format!("{host} cannot be asked to shut down: {}", self.why_silent(host)),
                    "see what it shows on its own screen, or force it off",
                ),
            };
            return Err(refused(why, mend));
        };
        if words.first().is_some_and(|w| w == "yantro")
            && let Ok(own) = std::env::current_exe()
        {
            words[0] = own.display().to_string();
        }
        // Who acts on a host is written down there; who switches its power, here, by what gives it.
        let keeps = match &power {
            Power::Redfish(c) => format!("power at {}{}", c.controller, c.part),
            Power::Wake { mac, .. } => format!("power of {mac}"),
            Power::Commands { .. } | Power::Nobody => format!("power of {keeps}"),
        };
        if let Err(kept) = on_here(claims, |c| self.here().claim(&keeps, c)) {
            let mend = kept.mend().unwrap_or_else(|| format!("yantro take-over {host} --why …"));
            return Err(ActEnd::Refused { why: kept.to_string(), mend });
        }
        let within = match spec.kind {
            ActKind::Start => service.start.patience,
            _ => service.stop.patience,
        };
        let mut stands = Arc::clone(service);
        Arc::make_mut(&mut stands).runner = ServiceRunner::Commands(CommandsSpec { env, ..CommandsSpec::once(words, within) });
        // What it said before the act says nothing of it.
        self.known.remember(&service.address, None);
        let spec = ActSpec { identity: spec.identity, kind: ActKind::Work, service: &stands, known: None };
        self.here().act(spec, tell).await
    }

    /// Waits until a host that was told to go down is gone, and tells what that makes of the act. What the act came to
    /// is kept on that very host: it is found there once the host is up again, but nobody raises it before.
    ///
    /// `took` is the boot in which it took the command, once that is known; before, only its power tells. Never ends for
    /// other acts.
    pub async fn went_down(&self, service: &Service, kind: ActKind, took: &OnceLock<String>) -> ActNews {
        let goes_down = matches!(service.runner, ServiceRunner::Host(_)) && matches!(kind, ActKind::Stop | ActKind::Clear);
        let (true, Some(far)) = (goes_down, self.far(&service.address.host)) else { return std::future::pending().await };
        loop {
            let link = far.link();
            let silent = !link.up && link.why.is_some();
            match took.get() {
                Some(boot) if silent || (link.up && link.hello.is_some_and(|h| h.boot != *boot)) => return ActNews::Ended(ActEnd::Sent),
                None if silent && self.is_off(&service.address.host).await => {
                    return ActNews::Lost("its host went off before it told of the act".to_owned());
                }
                _ => tokio::time::sleep(Duration::from_millis(100)).await,
            }
        }
    }

    /// Has a host go down by its own means. Its end is not waited for beyond the link's: what tells of it goes down too.
    async fn down_by_itself(
        &self,
        far: &crate::links::far::Far,
        spec: ActSpec<'_>,
        boot: &str,
        claims: &dyn Claims,
        tell: impl Fn(ActNews) + Send + Sync + 'static,
    ) -> Result<(), ActEnd> {
        let (took, ended, tell) = (Arc::new(OnceLock::new()), Arc::new(AtomicBool::new(false)), Arc::new(tell));
        let teller = {
            let (took, ended, tell, boot) = (Arc::clone(&took), Arc::clone(&ended), Arc::clone(&tell), boot.to_owned());
            move |news: ActNews| match news {
                ActNews::Begun(mut how, record) => {
                    how.boot = Some(took.get_or_init(|| boot.clone()).clone());
                    tell(ActNews::Begun(how, record));
                }
                other => {
                    if !matches!(other, ActNews::Ended(_)) || !ended.swap(true, Ordering::SeqCst) {
                        tell(other);
                    }
                }
            }
        };
        tokio::select! {
            given = far.act(spec.identity, ActKind::Stop, spec.service, None, || told(claims), teller) => given,
            gone = self.went_down(spec.service, spec.kind, &took) => {
                if !ended.swap(true, Ordering::SeqCst) {
                    tell(gone);
                }
                Ok(())
            }
        }
    }
}
