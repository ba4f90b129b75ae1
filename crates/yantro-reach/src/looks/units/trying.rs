//! A stand-in for a host's service manager, on a bus of its own: it says of each unit what the test wants, also nothing.

use std::{
    collections::HashMap,
    io::{BufRead, BufReader},
    process::{Child, Command, Stdio},
};

use zbus::zvariant::OwnedObjectPath;

use super::Units;

/// What the manager says of a unit's processes.
#[derive(Clone, Debug)]
pub(crate) enum Says {
    Pids(Vec<u32>),
    NoSuchUnit,
    Refuses,
    /// As managers do that are older than the question.
    KnowsNot,
}

/// A unit: its name, its state, what would be stopped along with it, its processes. Without a state it is not told of.
pub(crate) type OfUnit<'u> = (&'u str, &'u str, &'u [&'u str], Says);

/// A bus with its manager; both end with this.
pub(crate) struct Managed {
    pub units: Units,
    _manager: zbus::Connection,
    _bus: Bus,
}

struct Bus {
    daemon: Child,
    _folder: tempfile::TempDir,
}

impl Drop for Bus {
    fn drop(&mut self) {
        let _ = self.daemon.kill().and_then(|()| self.daemon.wait());
    }
}

#[derive(Debug, zbus::DBusError)]
#[zbus(prefix = "org.freedesktop.systemd1")]
enum ManagerError {
    #[zbus(error)]
    ZBus(zbus::Error),
    NoSuchUnit(String),
}

#[derive(Debug, zbus::DBusError)]
#[zbus(prefix = "org.freedesktop.DBus.Error")]
enum BusError {
    #[zbus(error)]
    ZBus(zbus::Error),
    AccessDenied(String),
    UnknownMethod(String),
}

enum Of {
    Manager(ManagerError),
    Bus(BusError),
}

impl zbus::DBusError for Of {
    fn create_reply(&self, call: &zbus::message::Header<'_>) -> zbus::Result<zbus::Message> {
        match self {
            Of::Manager(e) => e.create_reply(call),
            Of::Bus(e) => e.create_reply(call),
        }
    }
    fn name(&self) -> zbus::names::ErrorName<'_> {
        match self {
            Of::Manager(e) => e.name(),
            Of::Bus(e) => e.name(),
        }
    }
    fn description(&self) -> Option<&str> {
        match self {
            Of::Manager(e) => e.description(),
            Of::Bus(e) => e.description(),
        }
    }
}

struct Manager(HashMap<String, Says>);

#[zbus::interface(name = "org.freedesktop.systemd1.Manager")]
impl Manager {
    fn subscribe(&self) {}

    fn load_unit(&self, name: &str) -> Result<OwnedObjectPath, Of> {
        if self.0.contains_key(name) {
            Ok(path_of(name))
        } else {
            Err(Of::Manager(ManagerError::NoSuchUnit(format!("Unit {name} not found."))))
        }
    }

    fn get_unit_processes(&self, name: &str) -> Result<Vec<(String, u32, String)>, Of> {
        match &self.0[name] {
            Says::Pids(pids) => Ok(pids.iter().map(|pid| ("/".to_owned(), *pid, "it".to_owned())).collect()),
            Says::NoSuchUnit => Err(Of::Manager(ManagerError::NoSuchUnit(format!("Unit {name} not loaded.")))),
            Says::Refuses => Err(Of::Bus(BusError::AccessDenied("may not be listed".to_owned()))),
            Says::KnowsNot => Err(Of::Bus(BusError::UnknownMethod("no such method".to_owned()))),
        }
    }
}

struct Unit {
    state: String,
    along: Vec<String>,
}

#[zbus::interface(name = "org.freedesktop.systemd1.Unit")]
impl Unit {
    #[zbus(property)]
    fn active_state(&self) -> String {
        self.state.clone()
    }
    #[zbus(property)]
    fn load_state(&self) -> String {
        "loaded".to_owned()
    }
    #[zbus(property)]
    fn required_by(&self) -> Vec<String> {
        self.along.clone()
    }
}

struct OfService;

#[zbus::interface(name = "org.freedesktop.systemd1.Service")]
impl OfService {
    #[zbus(property)]
    fn control_group(&self) -> String {
        "/system.slice/it".to_owned()
    }
}

fn path_of(unit: &str) -> OwnedObjectPath {
    let escaped: String =
        unit.chars().map(|c| if c.is_ascii_alphanumeric() { c.to_string() } else { format!("_{:02x}", c as u32) }).collect();
    OwnedObjectPath::try_from(format!("/org/freedesktop/systemd1/unit/{escaped}")).unwrap()
}

fn bus() -> (Bus, String) {
    let folder = tempfile::tempdir().unwrap();
    let at = folder.path().join("bus.conf");
    let rules = "<allow send_destination=\"*\" eavesdrop=\"true\"/><allow eavesdrop=\"true\"/><allow own=\"*\"/><allow user=\"*\"/>";
    let text = format!(
        "<busconfig><type>session</type><listen>unix:dir={}</listen><policy context=\"default\">{rules}</policy></busconfig>",
        folder.path().display()
    );
    std::fs::write(&at, text).unwrap();
    let mut daemon = Command::new("dbus-daemon");
    daemon.args(["--nofork", "--nosyslog", "--nopidfile", "--print-address=1"]).arg(format!("--config-file={}", at.display()));
    let mut daemon =
        daemon.stdout(Stdio::piped()).stderr(Stdio::null()).spawn().expect("dbus-daemon is installed, as scripts/test sees to");
    let mut address = String::new();
    BufReader::new(daemon.stdout.take().unwrap()).read_line(&mut address).unwrap();
    (Bus { daemon, _folder: folder }, address.trim().to_owned())
}

/// A manager that has these units.
pub(crate) async fn manager(units: &[OfUnit<'_>]) -> Managed {
    let (bus, address) = bus();
    let all = units.iter().map(|(name, _, _, says)| ((*name).to_owned(), says.clone())).collect();
    let builder = zbus::connection::Builder::address(address.as_str()).unwrap().name(super::BUS).unwrap();
    let mut builder = builder.serve_at(super::ROOT, Manager(all)).unwrap();
    for (name, state, along, _) in units {
        let along = along.iter().map(|unit| (*unit).to_owned()).collect();
        if !state.is_empty() {
            builder = builder.serve_at(path_of(name), Unit { state: (*state).to_owned(), along }).unwrap();
        }
        builder = builder.serve_at(path_of(name), OfService).unwrap();
    }
    let manager = builder.build().await.unwrap();
    Managed { units: Units::of_account(&address), _manager: manager, _bus: bus }
}
