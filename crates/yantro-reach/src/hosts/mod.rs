//! Every host of an estate, each reached in its way: the same looks and acts, here or there.

mod all;
mod claims;
mod known;
mod machines;
pub mod power;
mod sim;
mod together;

pub use all::{Hosts, Seen};
pub use claims::Claims;

use std::{
    collections::{BTreeMap, BTreeSet, HashMap},
    sync::Arc,
    time::Duration,
};

use futures::{StreamExt, future::join_all, stream};
use yantro_core::{
    guards::Ways,
    model::{Host, Rung, RungKind, Service},
    proof::{Answer, UnitTerms},
    run::{ActEnd, ActKind, LogMark},
    text::survey::Survey,
    words::{
        kinds::StepKind,
        name::{Address, HostName},
    },
};

use crate::{
    acts::recorder::{ActNews, ActRecord, Recorded},
    here::{ActSpec, Here},
    links::{
        far::{Far, Link},
        keeper::Kept,
        wire::Started,
    },
    looks::{
        climb::{Climb, Report},
        logs::{LogFollow, LogLine, open_log, read_file, read_log},
        own,
        procs::boot_id,
        tree::Round,
    },
};
use all::GoesThrough;
use claims::{on_here, told};

/// How long a host's name may take to become addresses.
const NAMED_WITHIN: Duration = Duration::from_secs(2);

/// Looks taken side by side on this machine, and questions put to the client's configuration.
const SIDE_BY_SIDE: usize = 32;

/// A service to be looked at.
pub struct Looked {
    /// The service.
    pub service: Arc<Service>,
    /// The identity of the act that started it, where one is known.
    pub started: Option<String>,
    /// Its record, where it is at hand.
    pub known: Option<ActRecord>,
}

fn comes_through(to: &HostName, hop: &HostName) -> String {
    format!("Yantro comes to {to} through it (here → {hop} → {to})")
}

/// A log that is being read, wherever it is.
pub struct ReadLog {
    far: Option<Arc<Far>>,
    follow: LogFollow,
}

impl Hosts {
    /// Why hosts must never be acted on (R13): the machine that Yantro runs on, and those by which it comes to others.
    ///
    /// The units that Yantro hangs on are always told; the hosts only where `of_hosts`, since each is asked for anew.
    pub async fn ways(&self, hosts: &BTreeMap<HostName, Host>, of_hosts: bool) -> Ways {
        let (units, mut ways, mut unsaid) = (self.units_hung_on(hosts), BTreeMap::new(), Vec::new());
        if !of_hosts {
            return Ways { units, ..Ways::default() };
        }
        for name in hosts.keys() {
            if let Some(why) = self.why_ours(name).await {
                ways.insert(name.clone(), why);
            }
        }
        for (to, hops) in self.all_go_through().await.iter() {
            let hops = hops.clone().unwrap_or_else(|why| {
                unsaid.push(format!("{to}: {why}"));
                BTreeSet::new()
            });
            for hop in hops.into_iter().filter(|hop| hop != to && hosts.contains_key(hop)) {
                ways.entry(hop.clone()).or_insert_with(|| comes_through(to, &hop));
            }
        }
        Ways { hosts: ways, units, unsaid }
    }

    /// The hosts that the way to each goes through: asked of the client anew, once for all who ask at the same time.
    async fn all_go_through(&self) -> Arc<Vec<GoesThrough>> {
        self.ways.answer(self.ask_all_ways()).await
    }

    async fn ask_all_ways(&self) -> Vec<GoesThrough> {
        let all: Vec<(HostName, Arc<Far>)> = self.all_far();
        let addresses = join_all(all.iter().map(|(name, far)| async move {
            let found = tokio::time::timeout(NAMED_WITHIN, crate::acts::accounts::addresses(far.address(), 0)).await;
            (name, found.ok().and_then(Result::ok).unwrap_or_default().iter().map(std::net::SocketAddr::ip).collect::<Vec<_>>())
        }))
        .await;
        let addresses: BTreeMap<&HostName, Vec<std::net::IpAddr>> = addresses.into_iter().collect();
        let named = |called: &BTreeSet<String>| -> BTreeSet<HostName> {
            let is = |far: &Far, name: &HostName| {
                let at = |text: &String| text.parse().is_ok_and(|ip| addresses[name].contains(&ip));
                called.iter().any(|text| far.is_called(text) || at(text))
            };
            all.iter().filter(|(name, far)| is(far, name)).map(|(name, _)| name.clone()).collect()
        };
        let asked = all.iter().cloned().map(|(name, far)| async move {
            let called = far.goes_through().await;
            (name, called)
        });
        let said = stream::iter(asked).buffered(SIDE_BY_SIDE).collect::<Vec<_>>().await;
        said.into_iter().map(|(name, called)| (name, called.map(|called| named(&called)))).collect()
    }

    /// Why a host is a way to another, or may be one; asked anew whenever something is done to its power.
    pub(crate) async fn why_way(&self, host: &HostName) -> Option<String> {
        let ways = self.all_go_through().await;
        let through = ways.iter().find(|(to, hops)| to != host && hops.as_ref().is_ok_and(|hops| hops.contains(host)));
        let unsaid =
            || ways.iter().find_map(|(to, hops)| Some(format!("whether it is the way to {to} cannot be said: {}", hops.as_ref().err()?)));
        through.map(|(to, _)| comes_through(to, host)).or_else(unsaid)
    }

    /// Whether a host is the machine that the server itself runs on, however it is reached.
    pub(crate) fn is_ours(&self, host: &HostName) -> bool {
        match self.far(host) {
            Some(far) => far.link().hello.is_some_and(|h| h.boot == boot_id()),
            None => !self.sim.plays(host),
        }
    }

    /// Why a host is taken for the machine that the server itself runs on. One that is not reached cannot be asked: then its address
    /// tells, where it is one of this machine's that others come to it by.
    pub(crate) async fn why_ours(&self, host: &HostName) -> Option<String> {
        if self.is_ours(host) {
            return Some("it is the machine that Yantro itself runs on".to_owned());
        }
        let far = self.far(host).filter(|far| far.link().hello.is_none())?;
        let found = tokio::time::timeout(NAMED_WITHIN, crate::acts::accounts::addresses(far.address(), 0)).await.ok()?.ok()?;
        let own = found.iter().map(std::net::SocketAddr::ip).find(|ip| !ip.is_loopback() && crate::looks::rungs::is_local(ip))?;
        Some(format!("{own} is an address of the machine that Yantro itself runs on, and it cannot be asked whether it is another"))
    }

    /// The units of hosts' managers that the server's own processes hang on, and those by which it comes to them.
    fn units_hung_on(&self, hosts: &BTreeMap<HostName, Host>) -> BTreeMap<HostName, BTreeMap<String, String>> {
        let mut all: BTreeMap<HostName, BTreeMap<String, String>> = BTreeMap::new();
        for name in hosts.keys() {
            let hello = self.far(name).and_then(|f| f.link().hello);
            let of = all.entry(name.clone()).or_default();
            let by = hello.into_iter().flat_map(|h| h.hangs_on);
            of.extend(by.map(|unit| (unit, format!("Yantro comes to {name} by it (here → {name})"))));
            if self.is_ours(name) {
                of.extend(own::known_units().into_iter().map(|unit| (unit, "Yantro itself runs in it".to_owned())));
            }
        }
        all
    }

    /// Looks at services, each host at once; `each` hears of every one as it was looked at.
    pub async fn look(&self, services: Vec<Looked>, each: &(dyn Fn(Address, Seen) + Send + Sync)) {
        let (mut local, mut there): (Vec<Looked>, HashMap<HostName, Vec<Looked>>) = (Vec::new(), HashMap::new());
        let mut power = Vec::new();
        for one in services {
            if self.sim.plays(&one.service.address.host) {
                let seen = self.sim.look(&one.service);
                each(one.service.address.clone(), Ok(seen));
            } else if one.service.runner.is_power() {
                power.push(one.service);
            } else if self.far(&one.service.address.host).is_some() {
                there.entry(one.service.address.host.clone()).or_default().push(one);
            } else {
                local.push(one);
            }
        }
        let round = self.here.round();
        let on_here = stream::iter(local.into_iter().map(|one| self.look_here(one, &round, each)));
        let on_there = there.into_iter().map(|(host, asked)| self.look_there(host, asked, each));
        let of_power = power.into_iter().map(|service| async move {
            let seen = self.look_at_power(&service).await;
            each(service.address.clone(), seen);
        });
        tokio::join!(on_here.buffer_unordered(SIDE_BY_SIDE).collect::<Vec<()>>(), join_all(on_there), join_all(of_power));
    }

    async fn look_here(&self, one: Looked, round: &Round, each: &(dyn Fn(Address, Seen) + Send + Sync)) {
        let look = self.here.look(&one.service, one.known.as_ref(), round).await;
        each(one.service.address.clone(), Ok(look));
    }

    async fn look_there(&self, host: HostName, asked: Vec<Looked>, each: &(dyn Fn(Address, Seen) + Send + Sync)) {
        let Some(far) = self.far(&host) else { return };
        if !far.link().up && self.is_off(&host).await {
            return asked.into_iter().for_each(|a| {
                let look = Self::off_with_its_host(&a.service);
                each(a.service.address.clone(), Ok(look));
            });
        }
        match far.look(asked.iter().map(|a| (a.service.clone(), a.started.clone())).collect()).await {
            Ok(looks) => asked.into_iter().zip(looks).for_each(|(a, look)| each(a.service.address.clone(), Ok(look))),
            Err(out) => asked.into_iter().for_each(|a| each(a.service.address.clone(), Err(out.clone()))),
        }
    }

    /// Takes looks that are no service's, in order.
    pub async fn look_once(&self, looks: Vec<(HostName, Rung)>) -> Vec<Answer> {
        let round = self.here.round();
        let round = &round;
        let answers = stream::iter(looks).map(|(host, rung)| async move {
            if matches!(rung.kind, RungKind::Records { of_server: true, .. }) {
                return self.here.look_once(&host, &rung, round).await;
            }
            if self.sim.plays(&host) {
                return Answer::holds("simulated");
            }
            if matches!(rung.kind, RungKind::Power | RungKind::Reached) {
                return self.power_look_once(&host, &rung).await;
            }
            match self.far(&host) {
                Some(far) => far.look_once(&rung).await,
                None => self.here.look_once(&host, &rung, round).await,
            }
        });
        answers.buffered(SIDE_BY_SIDE).collect().await
    }

    /// Gives an act in the server's name. News come in order. An error means that it was not given at all.
    ///
    /// `keeps` is what this machine's record of who acts on the host is called; another host keeps its own.
    pub async fn act(
        &self,
        spec: ActSpec<'_>,
        started: Option<String>,
        keeps: &str,
        claims: &dyn Claims,
        tell: impl Fn(ActNews) + Send + Sync + 'static,
    ) -> Result<(), ActEnd> {
        let host = &spec.service.address.host;
        if self.sim.plays(host) {
            return self.sim.act(spec, tell).await;
        }
        if spec.service.runner.is_power() {
            return self.act_on_power(spec, keeps, claims, tell).await;
        }
        if let Some(far) = self.far(host) {
            return far.act(spec.identity, spec.kind, spec.service, started, || told(claims), tell).await;
        }
        if let Err(kept) = on_here(claims, |c| self.here.claim(keeps, c)) {
            let mend = kept.mend().unwrap_or_else(|| format!("yantro take-over {host} --why …"));
            return Err(ActEnd::Refused { why: kept.to_string(), mend });
        }
        self.here.act(spec, tell).await
    }

    /// Whether acts on a service go over a connection to another machine. What gives a host power is asked from here.
    pub fn is_far(&self, service: &Service) -> bool {
        let host = &service.address.host;
        !service.runner.is_power() && !self.sim.plays(host) && self.far(host).is_some()
    }

    /// What is written down of an act on a host. Waits for a host that does not answer.
    pub async fn recorded(&self, host: &HostName, identity: &str) -> Recorded {
        if self.sim.plays(host) {
            return self.sim.recorded(identity);
        }
        match self.far(host) {
            Some(far) if !self.is_recorded_here(identity) => far.recorded(identity).await,
            _ => self.here.recorded(identity),
        }
    }

    /// What gives a host power is asked from this machine, and written down here.
    fn is_recorded_here(&self, identity: &str) -> bool {
        self.here.recorded(identity) != Recorded::Nothing
    }

    /// Whether an act on a host is written down on this machine, or nowhere yet.
    pub fn is_given_here(&self, service: &Service, kind: ActKind, identity: &str) -> bool {
        let asks_power = service.runner.is_power() && !matches!(kind, ActKind::Stop | ActKind::Clear);
        asks_power || self.is_recorded_here(identity)
    }

    /// Takes an act's identity out of use, so that it never begins, and says whether it had not. `here` is whether it is given
    /// on this machine, whatever host it is about. Waits for a host that does not answer.
    pub async fn burn(&self, host: &HostName, here: bool, identity: &str) -> Result<bool, String> {
        if self.sim.plays(host) {
            return Ok(true);
        }
        match self.far(host) {
            Some(far) if !here => far.burn(identity).await,
            _ => self.here.burn(identity),
        }
    }

    /// Follows an act that was given before.
    pub async fn follow(&self, host: &HostName, identity: &str, begun: ActRecord, tell: impl Fn(ActNews) + Send + Sync + 'static) {
        match self.far(host) {
            _ if self.sim.plays(host) => self.sim.follow(identity, tell).await,
            Some(far) if !self.is_recorded_here(identity) => far.follow(identity, tell).await,
            _ => self.here.follow(identity, begun, tell).await,
        }
    }

    /// Ends what an act started.
    pub async fn end(&self, host: &HostName, identity: &str) {
        match self.far(host) {
            Some(far) if !self.is_recorded_here(identity) => far.end(identity).await,
            _ => {
                if let Recorded::Begun(record) = self.here.recorded(identity) {
                    self.here.end_trees(&[record]).await;
                }
            }
        }
    }

    /// Climbs until dropped.
    pub async fn climb(&self, climb: Climb, report: impl FnMut(Report)) {
        if self.sim.plays(&climb.service.address.host) {
            return self.sim.climb(climb, report).await;
        }
        if climb.service.runner.is_power() {
            return self.climb_power(climb, report).await;
        }
        match self.far(&climb.service.address.host) {
            Some(far) => far.climb(climb, report).await,
            None => self.here.climb(climb, report).await,
        }
    }

    /// Watches the logs of an act for forbidden lines.
    pub async fn watch_log(&self, service: &Arc<Service>, kind: StepKind, marks: &BTreeMap<String, LogMark>) -> Option<Report> {
        if self.sim.plays(&service.address.host) || service.runner.is_power() {
            return None;
        }
        match self.far(&service.address.host) {
            Some(far) => far.watch_log(service, kind, marks).await,
            None => self.here.watch_log(service, kind, marks).await,
        }
    }

    /// Looks through a host.
    pub async fn survey(&self, host: &HostName) -> Result<Survey, String> {
        if self.sim.plays(host) {
            return Err(format!("{host} is simulated: there is nothing to be found on it"));
        }
        match self.far(host) {
            Some(far) => far.survey().await,
            None => self.here.survey().await,
        }
    }

    /// On what terms a host's manager acts on units, as far as it knows them.
    pub async fn terms(&self, host: &HostName, units: Vec<String>) -> BTreeMap<String, UnitTerms> {
        match self.far(host) {
            _ if self.sim.plays(host) => BTreeMap::new(),
            Some(far) => far.terms(units).await,
            None => self.here.terms(&units).await,
        }
    }

    /// Why restarts are owed by what lies on disk, as far as hosts answer.
    pub async fn owed_by_files(&self, services: Vec<Started>) -> Vec<(Arc<Service>, String)> {
        let mut by_host: HashMap<HostName, Vec<Started>> = HashMap::new();
        for one in services.into_iter().filter(|(s, ..)| !s.runner.is_power() && !self.sim.plays(&s.address.host)) {
            by_host.entry(one.0.address.host.clone()).or_default().push(one);
        }
        let owed = stream::iter(by_host).map(|(host, asked)| async move {
            let owed = match self.far(&host) {
                Some(far) => far.owed_by_files(asked.clone()).await,
                None => {
                    let (here, asked) = (Arc::clone(&self.here), asked.clone());
                    let owed = move || asked.iter().map(|(s, at, pid)| here.owed_by_files(s, *at, *pid)).collect();
                    // The blocking pool only fails to answer when the runtime goes down.
                    tokio::task::spawn_blocking(owed).await.unwrap_or_default()
                }
            };
            asked.into_iter().zip(owed).filter_map(|((service, ..), why)| Some((service, why?))).collect::<Vec<_>>()
        });
        owed.buffer_unordered(SIDE_BY_SIDE).concat().await
    }

    /// Tries a host that is out of reach at once, and says how its link stands after that; none where it is this machine, or
    /// is only played.
    pub async fn try_now(&self, host: &HostName) -> Option<Link> {
        Some(self.far(host)?.try_now().await)
    }

    /// Why this server must not act on a host, with whether that doubts its store (R35). For a host that does not
    /// answer this cannot be said, and the act will say it.
    pub async fn kept(&self, host: &HostName, keeps: &str, claims: &dyn Claims) -> Option<(String, bool)> {
        match self.far(host) {
            _ if self.sim.plays(host) => None,
            Some(far) => far.kept(told(claims)).await,
            None => on_here(claims, |c| self.here.may_act_on(keeps, c)).err().map(|k: Kept| (k.to_string(), k.doubts_the_store())),
        }
    }

    /// Takes a host over from the server that acted there before.
    pub async fn take_over(&self, host: &HostName, keeps: &str, claims: &dyn Claims) -> Result<(), String> {
        match self.far(host) {
            Some(far) => far.take_over(told(claims)).await,
            None => on_here(claims, |c| self.here.take_over(keeps, c)).map_err(|k: Kept| k.to_string()),
        }
    }

    /// Where a service's own output goes, where Yantro starts it and its host is known well enough.
    pub fn output_of(&self, service: &Service) -> Option<String> {
        if self.sim.plays(&service.address.host) {
            return None;
        }
        let name = Here::output_name(service);
        match self.far(&service.address.host) {
            Some(far) => far.link().hello.map(|h| format!("{}/{name}", h.outputs)),
            None => Some(self.here.outputs().join(name).display().to_string()),
        }
    }

    /// What a file of a host has from a position on, at most a megabyte of it, and the position after it; from its end
    /// on where there is no position yet.
    pub async fn read_from(&self, host: &HostName, path: &str, from: Option<u64>) -> Result<(u64, String), String> {
        match self.far(host) {
            Some(far) => far.read_from(path, from).await,
            None => read_file(path, from).await,
        }
    }

    /// Opens a log of a host for a reader.
    pub async fn open_log(
        &self,
        host: &HostName,
        path: &str,
        since: Option<LogMark>,
        lines: usize,
    ) -> Result<(ReadLog, Vec<LogLine>), String> {
        let far = self.far(host);
        let opened = match (&far, since) {
            (Some(far), since) => far.open_log(path, since, lines).await,
            (None, since) => open_log(path, since, lines).await,
        };
        opened.map(|(follow, lines)| (ReadLog { far, follow }, lines))
    }
}

impl ReadLog {
    /// A log of this machine, so many lines before its end.
    pub async fn here(path: &str, lines: usize) -> Result<(Self, Vec<LogLine>), String> {
        let (follow, lines) = open_log(path, None, lines).await?;
        Ok((Self { far: None, follow }, lines))
    }

    /// How far it was read, in bytes.
    pub fn position(&self) -> u64 {
        self.follow.position()
    }

    /// What was written since.
    pub async fn poll(&mut self) -> Result<Vec<LogLine>, String> {
        match &self.far {
            None => {
                let (follow, lines) = read_log(self.follow.clone()).await?;
                self.follow = follow;
                Ok(lines)
            }
            Some(far) => {
                let (follow, lines) = far.read_log(self.follow.clone()).await?;
                self.follow = follow;
                Ok(lines)
            }
        }
    }
}
