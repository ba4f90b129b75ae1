//! The host's service manager, by its public bus interface (org.freedesktop.systemd1(5)): what it says of a unit, on
//! what terms it acts, and a wake whenever a unit changes.

use std::{
    collections::{BTreeSet, HashMap},
    path::Path,
    sync::{
        Arc, Mutex, PoisonError, Weak,
        atomic::{AtomicBool, Ordering},
    },
    time::Duration,
};

use futures::StreamExt;
use tokio::sync::Notify;
use yantro_core::{
    proof::{UnitTerms, UnitWord},
    text::survey::{FoundUnit, is_plumbing},
    words::time::{Span, Timestamp},
};
use zbus::{
    Connection, MatchRule, MessageStream, message,
    zvariant::{OwnedObjectPath, OwnedValue, Value},
};

use crate::looks::{own, procs};

const BUS: &str = "org.freedesktop.systemd1";
const ROOT: &str = "/org/freedesktop/systemd1";
const MANAGER: &str = "org.freedesktop.systemd1.Manager";
/// How long the manager may take to answer.
const WITHIN: Duration = Duration::from_secs(10);
/// How far what moves along is followed.
const ALONG: usize = 200;

/// The manager, talked to over its bus. Connected when it is first asked, and anew when the connection was lost: a bus that is
/// restarted takes everybody's with it.
#[derive(Default)]
pub(crate) struct Units {
    /// Held by whoever makes it.
    bus: tokio::sync::Mutex<Option<Arc<Bus>>>,
    /// Who waits for a change of which unit, by its path.
    waiting: Waiting,
    /// The bus of an account's own manager, where that is meant.
    of_account: Option<String>,
}

struct Bus {
    connection: Connection,
    /// Whether it is over: nothing more comes over it.
    over: Arc<AtomicBool>,
}

/// What the files of a unit are: those without which it cannot be started.
#[derive(Debug, Clone, Default)]
pub(crate) struct UnitFiles {
    /// Its account, where the manager does not make one up.
    pub user: Option<String>,
    /// The program that its start begins with, where that must be there.
    pub program: Option<String>,
    /// Its folder, where it may not be missing.
    pub dir: Option<String>,
    /// Why its programs may be where they cannot be looked for.
    pub elsewhere: Option<String>,
}

type Waiting = Arc<Mutex<HashMap<String, Vec<Weak<Notify>>>>>;
type Properties = HashMap<String, OwnedValue>;

/// Why a question brought nothing.
#[derive(Debug)]
struct NotSaid {
    /// What the manager calls it, where it said so itself; else nobody can say.
    name: Option<String>,
    says: String,
}

impl From<NotSaid> for String {
    fn from(not_said: NotSaid) -> Self {
        not_said.says
    }
}

impl From<String> for NotSaid {
    fn from(says: String) -> Self {
        Self { name: None, says }
    }
}

impl NotSaid {
    fn is(&self, any_of: &[&str]) -> bool {
        self.name.as_ref().is_some_and(|name| any_of.contains(&name.as_str()))
    }

    /// What the manager has no such unit of is not there; whatever else brought no answer says nothing.
    fn unless_answered<T>(found: Result<T, Self>) -> Result<Option<T>, Self> {
        match found {
            Err(not_said) if not_said.is(&NO_SUCH) => Ok(None),
            found => found.map(Some),
        }
    }
}

/// What the manager calls it where it has no such unit, or can load none of that name: systemd's D-Bus interface,
/// org.freedesktop.systemd1(5).
const NO_SUCH: [&str; 4] = [
    "org.freedesktop.systemd1.NoSuchUnit",
    "org.freedesktop.systemd1.LoadFailed",
    "org.freedesktop.DBus.Error.InvalidArgs",
    "org.freedesktop.DBus.Error.UnknownObject",
];
/// What a manager answers to a question that it is too old for.
const NO_SUCH_QUESTION: [&str; 1] = ["org.freedesktop.DBus.Error.UnknownMethod"];
/// Where a manager that cannot list a unit's processes (before systemd 234) has its control groups: its own hierarchy, or the one of all.
const HIERARCHIES: [&str; 2] = ["/sys/fs/cgroup/systemd", "/sys/fs/cgroup"];

/// A unit as the manager has it, and its processes.
#[derive(Debug, Clone, Default)]
pub(crate) struct UnitSeen {
    pub word: UnitWord,
    pub pids: Vec<u32>,
}

fn wake_all(waiting: &Waiting) {
    let waiting = waiting.lock().unwrap_or_else(PoisonError::into_inner);
    waiting.values().flatten().filter_map(Weak::upgrade).for_each(|n| n.notify_one());
}

fn text(properties: &Properties, key: &str) -> String {
    properties.get(key).and_then(|v| <&str>::try_from(v).ok()).unwrap_or_default().to_owned()
}

fn number(properties: &Properties, key: &str) -> Option<u64> {
    let value = properties.get(key)?;
    u64::try_from(value)
        .ok()
        .or_else(|| u32::try_from(value).ok().map(u64::from))
        .or_else(|| i32::try_from(value).ok().map(|n| n.max(0) as u64))
}

fn list(properties: &Properties, key: &str) -> Vec<String> {
    properties.get(key).and_then(|v| Vec::<String>::try_from(v.try_clone().ok()?).ok()).unwrap_or_default()
}

fn flag(properties: &Properties, key: &str) -> Option<bool> {
    bool::try_from(properties.get(key)?).ok()
}

/// Microseconds; the largest number means without end.
fn span(properties: &Properties, key: &str) -> Option<Span> {
    number(properties, key).filter(|us| *us != u64::MAX).map(|us| Span(Duration::from_micros(us)))
}

/// The program that an `ExecStart` or `ExecStartPre` property begins with: `a(sasbttttuii)`, org.freedesktop.systemd1(5). None
/// where its failure is overlooked, or where it has no path of its own.
fn program_of(exec: &Value<'_>) -> Option<String> {
    let Value::Array(all) = exec else { return None };
    let Some(Value::Structure(fields)) = all.iter().next() else { return None };
    match fields.fields() {
        [Value::Str(path), _, Value::Bool(is_overlooked), ..] if path.starts_with('/') && !is_overlooked => Some(path.to_string()),
        _ => None,
    }
}

/// Who is in a unit's control group, by the first of these hierarchies that is there.
fn members_of(hierarchies: &[&Path], group: &str) -> Result<Vec<u32>, String> {
    if group.is_empty() {
        return Ok(Vec::new());
    }
    let is_there = |root: &&&Path| root.join("cgroup.procs").exists();
    let root = hierarchies.iter().find(is_there).ok_or("the manager's control groups are not where they are looked for")?;
    procs::members(&root.join(group.trim_start_matches('/'))).map_err(|e| format!("its control group cannot be read: {e}"))
}

/// What of a unit's settings makes its own view of the files, or folders as it starts: systemd.exec(5).
const OWN_VIEW: [&str; 7] =
    ["RootDirectory", "RootImage", "BindPaths", "BindReadOnlyPaths", "MountImages", "ExtensionImages", "ExtensionDirectories"];
const MAKES_FOLDERS: [&str; 4] = ["RuntimeDirectory", "StateDirectory", "CacheDirectory", "LogsDirectory"];

/// Whether a setting says anything.
fn is_said(properties: &Properties, key: &str) -> bool {
    properties.get(key).is_some_and(|value| match &**value {
        Value::Str(text) => !text.is_empty(),
        Value::Array(all) => !all.is_empty(),
        _ => false,
    })
}

impl Units {
    /// The manager of an account, at its own bus.
    pub fn of_account(bus: &str) -> Self {
        Self { of_account: Some(bus.to_owned()), ..Self::default() }
    }

    async fn bus(&self) -> Result<Arc<Bus>, String> {
        let mut held = self.bus.lock().await;
        if let Some(bus) = held.as_ref().filter(|bus| !bus.over.load(Ordering::Acquire)) {
            return Ok(Arc::clone(bus));
        }
        let made = self.connect().await.map_err(|e| format!("the host's service manager cannot be asked: {e}"))?;
        // What changed while nobody heard of it is to be looked at.
        wake_all(&self.waiting);
        Ok(Arc::clone(held.insert(Arc::new(made))))
    }

    async fn connect(&self) -> zbus::Result<Bus> {
        let connection = match &self.of_account {
            None => Connection::system().await?,
            Some(at) => zbus::connection::Builder::address(at.as_str())?.build().await?,
        };
        // Signals are sent to those who asked for them only.
        connection.call_method(Some(BUS), ROOT, Some(MANAGER), "Subscribe", &()).await?;
        let rule = MatchRule::builder()
            .msg_type(message::Type::Signal)
            .sender(BUS)?
            .interface("org.freedesktop.DBus.Properties")?
            .member("PropertiesChanged")?
            .build();
        let mut changes = MessageStream::for_match_rule(rule, &connection, Some(256)).await?;
        let over = Arc::new(AtomicBool::new(false));
        let (ended, who) = (Arc::clone(&over), Arc::clone(&self.waiting));
        tokio::spawn(async move {
            while let Some(Ok(message)) = changes.next().await {
                let Some(path) = message.header().path().map(ToString::to_string) else { continue };
                let mut waiting = who.lock().unwrap_or_else(PoisonError::into_inner);
                if let Some(list) = waiting.get_mut(&path) {
                    list.retain(|w| w.upgrade().inspect(|n| n.notify_one()).is_some());
                    if list.is_empty() {
                        waiting.remove(&path);
                    }
                }
            }
            ended.store(true, Ordering::Release);
            // Nobody would be told of anything any more: they look, which connects anew.
            wake_all(&who);
        });
        Ok(Bus { connection, over })
    }

    /// Has the manager put a process into a scope of its own, which is gone once nothing is left in it.
    pub async fn give_scope(&self, name: &str, pid: u32, says: &str) -> Result<(), String> {
        let properties: Vec<(&str, Value<'_>)> = vec![
            ("PIDs", Value::from(vec![pid])),
            ("Description", Value::from(says)),
            ("CollectMode", Value::from("inactive-or-failed")),
            // The recorder makes a group below it, for what it starts.
            ("Delegate", Value::from(true)),
        ];
        let beside: Vec<(&str, Vec<(&str, Value<'_>)>)> = Vec::new();
        Ok(self.call::<OwnedObjectPath>(ROOT, MANAGER, "StartTransientUnit", &(name, "fail", properties, beside)).await.map(drop)?)
    }

    /// Says what a unit is for, until the manager forgets it.
    pub async fn describe(&self, name: &str, says: &str) -> Result<(), String> {
        let properties: Vec<(&str, Value<'_>)> = vec![("Description", Value::from(says))];
        Ok(self.call::<()>(ROOT, MANAGER, "SetUnitProperties", &(name, true, properties)).await?)
    }

    async fn call<T>(
        &self,
        path: &str,
        interface: &str,
        method: &str,
        body: &(impl serde::Serialize + zbus::zvariant::DynamicType),
    ) -> Result<T, NotSaid>
    where
        T: serde::de::DeserializeOwned + zbus::zvariant::Type,
    {
        let bus = self.bus().await?;
        let asked = bus.connection.call_method(Some(BUS), path, Some(interface), method, body);
        let answer = tokio::time::timeout(WITHIN, asked).await.map_err(|_| "the host's service manager does not answer".to_owned())?;
        let answer = answer.map_err(|e| match e {
            zbus::Error::MethodError(name, says, _) => {
                NotSaid { says: says.unwrap_or_else(|| name.to_string()), name: Some(name.to_string()) }
            }
            other => other.to_string().into(),
        })?;
        Ok(answer.body().deserialize().map_err(|e| format!("what the manager says is not understood: {e}"))?)
    }

    /// How far the manager is with the host: `starting`, `running`, `degraded`, `stopping` …
    pub(crate) async fn system_state(&self) -> Result<String, String> {
        let state: OwnedValue = self.call(ROOT, "org.freedesktop.DBus.Properties", "Get", &(MANAGER, "SystemState")).await?;
        String::try_from(state).map_err(|e| format!("what the manager says is not understood: {e}"))
    }

    async fn path(&self, unit: &str) -> Result<OwnedObjectPath, NotSaid> {
        // A unit that is not loaded has a path all the same, once it was asked for.
        self.call(ROOT, MANAGER, "LoadUnit", &(unit,)).await
    }

    async fn properties(&self, unit: &str) -> Result<(Properties, Properties), NotSaid> {
        let path = self.path(unit).await?;
        let get = async |interface: &str| -> Result<Properties, NotSaid> {
            self.call(path.as_str(), "org.freedesktop.DBus.Properties", "GetAll", &(interface,)).await
        };
        let kind = match unit.rsplit('.').next() {
            Some("service") => "org.freedesktop.systemd1.Service",
            Some("socket") => "org.freedesktop.systemd1.Socket",
            Some("mount") => "org.freedesktop.systemd1.Mount",
            _ => "",
        };
        let general = get("org.freedesktop.systemd1.Unit").await?;
        let own = if kind.is_empty() { Properties::new() } else { get(kind).await? };
        Ok((general, own))
    }

    /// What the manager says of a unit now.
    pub async fn look(&self, unit: &str) -> Result<UnitSeen, String> {
        Ok(self.seen(unit).await?)
    }

    async fn seen(&self, unit: &str) -> Result<UnitSeen, NotSaid> {
        let (general, own) = self.properties(unit).await?;
        let active = text(&general, "ActiveState");
        // What is down without a trace has no control group, and no processes.
        let grouped = !text(&own, "ControlGroup").is_empty();
        let pids = if grouped { self.pids_in(unit).await? } else { Vec::new() };
        let code = number(&own, "ExecMainCode").unwrap_or_default() as i32;
        let status = number(&own, "ExecMainStatus").map(|n| n as i32);
        let since = number(&general, "StateChangeTimestamp").filter(|us| *us > 0).map(|us| Timestamp::from_ms((us / 1000) as i64));
        let invocation = general.get("InvocationID").and_then(|v| Vec::<u8>::try_from(v.try_clone().ok()?).ok()).unwrap_or_default();
        let word = UnitWord {
            unit: unit.to_owned(),
            load: text(&general, "LoadState"),
            sub: text(&general, "SubState"),
            result: text(&own, "Result"),
            exit_code: status.filter(|_| code == libc::CLD_EXITED),
            signal: status.filter(|_| matches!(code, libc::CLD_KILLED | libc::CLD_DUMPED)),
            main_pid: number(&own, "MainPID").filter(|p| *p > 0).map(|p| p as u32),
            since,
            restarts: number(&own, "NRestarts").unwrap_or_default() as u32,
            invocation: invocation.iter().map(|b| format!("{b:02x}")).collect(),
            at_boot: text(&general, "UnitFileState"),
            reread_due: flag(&general, "NeedDaemonReload").unwrap_or_default(),
            condition_unmet: flag(&general, "ConditionResult") == Some(false)
                && number(&general, "ConditionTimestamp").is_some_and(|t| t > 0),
            has_processes: !pids.is_empty(),
            active,
        };
        Ok(UnitSeen { word, pids })
    }

    /// Whether polkit says there who may act on units.
    pub async fn asks_polkit(&self) -> Result<bool, String> {
        let bus = self.bus().await?;
        let listed = bus.connection.call_method(
            Some("org.freedesktop.DBus"),
            "/org/freedesktop/DBus",
            Some("org.freedesktop.DBus"),
            "ListActivatableNames",
            &(),
        );
        let answer = tokio::time::timeout(WITHIN, listed).await.map_err(|_| "the host's bus does not answer".to_owned())?;
        let names: Vec<String> = answer.and_then(|a| a.body().deserialize()).map_err(|e| e.to_string())?;
        Ok(names.iter().any(|n| n == "org.freedesktop.PolicyKit1"))
    }

    /// What a unit cannot be started without.
    pub async fn files(&self, unit: &str) -> Result<UnitFiles, String> {
        let (general, own) = self.properties(unit).await?;
        let mut elsewhere = OWN_VIEW.iter().find(|k| is_said(&own, k)).map(|k| format!("{k}= gives it a view of its own"));
        for mount in ["Requires", "BindsTo", "Wants"].iter().flat_map(|k| list(&general, k)).filter(|u| u.ends_with(".mount")) {
            if let Ok((of_mount, _)) = self.properties(&mount).await
                && text(&of_mount, "ActiveState") != "active"
            {
                elsewhere = Some(format!("{mount} is not mounted yet"));
            }
        }
        let made_up = flag(&own, "DynamicUser").unwrap_or_default();
        let dir = text(&own, "WorkingDirectory");
        Ok(UnitFiles {
            user: Some(text(&own, "User")).filter(|u| !u.is_empty() && !made_up),
            // What comes before its start may be what puts the rest there.
            program: own.get(if is_said(&own, "ExecStartPre") { "ExecStartPre" } else { "ExecStart" }).and_then(|v| program_of(v)),
            // "!" says that it may be missing, "~" is the account's own; folders of its own are made as it starts.
            dir: Some(dir).filter(|d| d.starts_with('/') && !MAKES_FOLDERS.iter().any(|k| is_said(&own, k))),
            elsewhere,
        })
    }

    /// On what terms the manager acts on a unit, and what would move along.
    pub async fn terms(&self, unit: &str) -> Result<UnitTerms, String> {
        let (general, own) = self.properties(unit).await?;
        let stops = self.along(&general, &["RequiredBy", "BoundBy", "ConsistsOf", "RequisiteOf"], true).await?;
        let starts = self.along(&general, &["Requires", "BindsTo", "Wants", "Upholds"], false).await?;
        let mut woken_by = BTreeSet::new();
        for by in list(&general, "TriggeredBy") {
            let found = NotSaid::unless_answered(self.properties(&by).await)?;
            if found.is_some_and(|(general, _)| text(&general, "ActiveState") == "active") {
                woken_by.insert(by);
            }
        }
        let hung_on = self.hung_on(std::iter::once(unit).chain(stops.iter().map(String::as_str))).await?;
        Ok(UnitTerms {
            hung_on,
            start_within: span(&own, "TimeoutStartUSec"),
            stop_within: span(&own, "TimeoutStopUSec"),
            // systemd.kill(5): without SendSIGKILL, or where only a signal or nothing is sent, it is left running.
            kills: flag(&own, "SendSIGKILL").unwrap_or(true) && !matches!(text(&own, "KillMode").as_str(), "none"),
            stops_too: stops,
            starts_too: starts,
            woken_by,
        })
    }

    /// The first of some units that this process, or one that it descends from, is in: whatever names those units have besides.
    async fn hung_on(&self, units: impl Iterator<Item = &str>) -> Result<Option<String>, String> {
        let line = own::line()?;
        for unit in units {
            let pids = self.pids_in(unit).await?;
            if pids.iter().any(|pid| line.contains(pid)) {
                return Ok(Some(unit.to_owned()));
            }
        }
        Ok(None)
    }

    /// A unit's processes. None where the manager has no such unit (any longer); whatever else it does not say is no proof that
    /// nothing is left.
    async fn pids_in(&self, unit: &str) -> Result<Vec<u32>, NotSaid> {
        let found = self.call(ROOT, MANAGER, "GetUnitProcesses", &(unit,)).await;
        if let Err(why) = &found
            && why.is(&NO_SUCH_QUESTION)
        {
            let (_, own) = self.properties(unit).await?;
            return Ok(members_of(&HIERARCHIES.map(Path::new), &text(&own, "ControlGroup"))?);
        }
        let all: Option<Vec<(String, u32, String)>> = NotSaid::unless_answered(found)?;
        Ok(all.into_iter().flatten().map(|(_, pid, _)| pid).collect())
    }

    /// Why an act on a unit would end what this process hangs on (R13): nothing of that is acted on, by whatever name and along with
    /// whatever else. An error says why that cannot be said.
    pub(crate) async fn against(&self, unit: &str, goes_down: bool) -> Result<Option<String>, String> {
        let by_name = own::units()?.contains(unit).then(|| unit.to_owned());
        let hung_on = match by_name {
            None if goes_down => self.terms(unit).await?.hung_on,
            None => self.hung_on(std::iter::once(unit)).await?,
            known => known,
        };
        Ok(hung_on.map(|unit| format!("Yantro's own processes here hang on {unit}")))
    }

    /// Units that an act would move along with this one, over several relations: those that are up where it stops, those
    /// that are down where it starts. Targets and slices have nothing that runs.
    async fn along(&self, of: &Properties, relations: &[&str], up: bool) -> Result<BTreeSet<String>, NotSaid> {
        let mut found = BTreeSet::new();
        let mut seen = BTreeSet::new();
        let mut queue: Vec<String> = relations.iter().flat_map(|r| list(of, r)).collect();
        while let Some(unit) = queue.pop() {
            if seen.len() >= ALONG || !seen.insert(unit.clone()) || unit.ends_with(".slice") {
                continue;
            }
            let Some((general, _)) = NotSaid::unless_answered(self.properties(&unit).await)? else { continue };
            let is_up = matches!(text(&general, "ActiveState").as_str(), "active" | "reloading" | "activating");
            if is_up != up || text(&general, "LoadState") != "loaded" {
                continue;
            }
            if !unit.ends_with(".target") {
                found.insert(unit);
            }
            queue.extend(relations.iter().flat_map(|r| list(&general, r)));
        }
        Ok(found)
    }

    /// A notification whenever one of these units changes, as long as it is held.
    pub async fn wake(&self, unit: &str, notify: &Arc<Notify>) {
        let Ok(path) = self.path(unit).await else { return };
        self.waiting.lock().unwrap_or_else(PoisonError::into_inner).entry(path.to_string()).or_default().push(Arc::downgrade(notify));
    }
}

/// What the manager's services are, in short.
impl Units {
    /// Every service that the manager has loaded: its processes, and what it needs and begins after.
    pub async fn services(&self) -> Result<Vec<(FoundUnit, Vec<u32>)>, String> {
        type Row = (String, String, String, String, String, String, OwnedObjectPath, u32, String, OwnedObjectPath);
        let rows: Vec<Row> = self.call(ROOT, MANAGER, "ListUnits", &()).await?;
        let mut all = Vec::new();
        for (unit, title, load, ..) in rows {
            if load != "loaded" || !unit.ends_with(".service") {
                continue;
            }
            let found = async { Ok((self.properties(&unit).await?, self.seen(&unit).await?)) }.await;
            // One that is gone meanwhile is none of them.
            let Some(((general, _), seen)) = NotSaid::unless_answered(found)? else { continue };
            let set =
                |keys: &[&str]| keys.iter().flat_map(|k| list(&general, k)).filter(|u| u.ends_with(".service")).collect::<BTreeSet<_>>();
            let found = FoundUnit {
                title,
                state: seen.word.state(),
                at_boot: seen.word.at_boot.clone(),
                ports: Vec::new(),
                needs: set(&["Requires", "BindsTo", "Wants"]),
                after: set(&["After"]),
                plumbing: is_plumbing(&unit),
                described_as: None,
                unit,
            };
            all.push((found, seen.pids));
        }
        all.sort_by(|(a, _), (b, _)| a.unit.cmp(&b.unit));
        Ok(all)
    }
}

#[cfg(test)]
mod tests;
#[cfg(test)]
pub(crate) mod trying;
