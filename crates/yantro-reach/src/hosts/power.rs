//! What gives hosts power: controllers that speak Redfish (DMTF DSP0266), Wake-on-LAN packets, commands.

use std::{
    collections::{BTreeMap, HashMap},
    net::UdpSocket,
    sync::{LazyLock, Mutex, PoisonError},
    time::{Duration, Instant, SystemTime},
};

use serde_json::{Value, json};
use yantro_core::model::{Controller, POWER_PASSWORD, Power, PowerDeed};

use crate::looks::{commands::LookingCommand, rungs::root_cause};

/// How long a controller may take for one answer. They are slow machines.
const ANSWER_WITHIN: Duration = Duration::from_secs(20);
/// Between looks at a task of a controller.
const TASK_EVERY: Duration = Duration::from_millis(500);
/// How long a connection to a controller is kept that nothing is asked over.
const KEPT_OPEN: Duration = Duration::from_secs(30);
/// How long a command that says the state may take.
const STATE_WITHIN: Duration = Duration::from_secs(10);

/// Whether a host has power, as far as what gives it says.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum PowerState {
    /// It has.
    On,
    /// It has none.
    Off,
    /// It is on its way, in the controller's own word.
    Turning(String),
}

impl PowerState {
    /// As people read it.
    pub fn says(&self) -> String {
        match self {
            PowerState::On => "on".to_owned(),
            PowerState::Off => "off".to_owned(),
            PowerState::Turning(word) => word.clone(),
        }
    }
}

/// Asks whether there is power; `env` are the resolved values of its references. `None` where nothing could say.
///
/// An error is why it could not be asked.
pub async fn power_state(power: &Power, env: &BTreeMap<String, String>) -> Result<Option<PowerState>, String> {
    match power {
        Power::Redfish(controller) => Redfish::new(controller, env.get(POWER_PASSWORD).map(String::as_str))?.state().await.map(Some),
        Power::Commands { state, .. } if !state.is_empty() => {
            let look = LookingCommand { words: state, dir: "/", env: env.clone(), account: None, within: STATE_WITHIN };
            match look.run().await?.code {
                Some(0) => Ok(Some(PowerState::On)),
                Some(1) => Ok(Some(PowerState::Off)),
                code => {
                    let code = code.map_or("a signal".to_owned(), |c| format!("exit code {c}"));
                    Err(format!("{} ended with {code}, which says neither on nor off", state[0]))
                }
            }
        }
        Power::Commands { .. } | Power::Wake { .. } | Power::Nobody => Ok(None),
    }
}

/// Sends a Wake-on-LAN packet: six bytes of ones, and sixteen times the hardware address.
pub fn wake(mac: &str, to: &str, port: u16) -> Result<(), String> {
    let bytes: Option<Vec<u8>> = mac.split([':', '-']).map(|pair| u8::from_str_radix(pair, 16).ok()).collect();
    let bytes = bytes.filter(|b| b.len() == 6).ok_or_else(|| format!("\"{mac}\" is no hardware address"))?;
    let packet: Vec<u8> = std::iter::repeat_n(0xff, 6).chain(bytes.repeat(16)).collect();
    let send = || {
        let socket = UdpSocket::bind("0.0.0.0:0")?;
        socket.set_broadcast(true)?;
        socket.send_to(&packet, (to, port))
    };
    send().map(drop).map_err(|e| format!("the packet cannot be sent to {to}: {e}"))
}

/// A part of a controller that speaks Redfish.
pub struct Redfish<'c> {
    of: &'c Controller,
    password: Option<&'c str>,
    client: Client,
}

impl<'c> Redfish<'c> {
    /// Prepares to talk to it. Its certificate is always checked.
    pub fn new(of: &'c Controller, password: Option<&'c str>) -> Result<Self, String> {
        Ok(Self { of, password, client: client(of.believes.as_deref())? })
    }

    /// What a path of the controller's means, where it is on the controller.
    fn url(&self, path: &str) -> Result<reqwest::Url, String> {
        let read = |text: &str| reqwest::Url::parse(text).map_err(|e| format!("\"{text}\" is no address of a controller: {e}"));
        let own = read(&self.of.controller)?;
        let url = if path.contains("://") { read(path)? } else { read(&format!("{}{path}", self.of.controller))? };
        // Scheme, host and port, and not how they begin: `…9.20` is another machine than `…9.2`.
        if url.origin() != own.origin() {
            return Err(format!("the controller refers to {url}, which is elsewhere; that is not followed"));
        }
        Ok(url)
    }

    /// Asks for what has to be so: any answer but a good one is an error.
    async fn ask(&self, method: reqwest::Method, path: &str, body: Option<Value>) -> Result<Answer, String> {
        let answer = self.send(method, path, body).await?;
        match (answer.status, &answer.location) {
            (200..=299, _) => Ok(answer),
            (status @ 300..=399, Some(to)) => Err(format!(
                "{} answers {status} to {path}, and refers to {to}; that is not followed: write what it refers to in the estate",
                self.of.controller
            )),
            (status, _) => Err(self.refusal(status, path, &answer.body)),
        }
    }

    async fn send(&self, method: reqwest::Method, path: &str, body: Option<Value>) -> Result<Answer, String> {
        let url = self.url(path)?;
        // A connection that is kept may be over just as it is used again: to look once more is nothing, and to ask for a deed
        // twice, or to call it failed for that, is.
        let client = if method == reqwest::Method::GET { &self.client.looks } else { &self.client.deeds };
        let mut asked = client.request(method, url).header("accept", "application/json").header("odata-version", "4.0");
        if let Some(account) = &self.of.account {
            asked = asked.basic_auth(account, self.password);
        }
        if let Some(body) = body {
            asked = asked.json(&body);
        }
        let told = |e: reqwest::Error| {
            if e.is_timeout() {
                format!("{} does not answer within {} s", self.of.controller, ANSWER_WITHIN.as_secs())
            } else {
                format!("{} cannot be asked: {}", self.of.controller, root_cause(&e))
            }
        };
        let answer = asked.send().await.map_err(told)?;
        let status = answer.status().as_u16();
        let location = answer.headers().get("location").and_then(|v| v.to_str().ok()).map(str::to_owned);
        let text = answer.text().await.map_err(told)?;
        Ok(Answer { status, location, body: serde_json::from_str(&text).unwrap_or(Value::Null) })
    }

    /// What the controller says went wrong, with its own word on how to mend it.
    fn refusal(&self, status: u16, path: &str, body: &Value) -> String {
        let error = &body["error"];
        let info = error["@Message.ExtendedInfo"].as_array().into_iter().flatten();
        let mut says: Vec<String> = info
            .filter_map(|i| {
                let message = i["Message"].as_str()?.trim_end_matches('.').to_owned();
                let mend = i["Resolution"].as_str().filter(|r| !r.is_empty() && *r != "None");
                Some(mend.map_or_else(|| message.clone(), |r| format!("{message}; {}", r.trim_end_matches('.'))))
            })
            .collect();
        if says.is_empty() {
            says.extend(error["message"].as_str().map(|m| m.trim_end_matches('.').to_owned()));
        }
        let hint = match status {
            401 | 403 => "; check the account and the password it refers to",
            404 => "; check the path in the estate",
            _ => "",
        };
        let says = if says.is_empty() { String::new() } else { format!(": {}", says.join("; ")) };
        format!("{} answers {status} to {path}{says}{hint}", self.of.controller)
    }

    /// Whether it has power.
    pub async fn state(&self) -> Result<PowerState, String> {
        let part = self.ask(reqwest::Method::GET, &self.of.part, None).await?.body;
        state_in(&part).ok_or_else(|| format!("{}{} tells no PowerState", self.of.controller, self.of.part))
    }

    /// Asks for something and waits until the controller is through with it. `tell` hears each exchange.
    ///
    /// Asking for what is so already does nothing: it may be asked again whatever became of an earlier request.
    pub async fn ask_for(&self, deed: PowerDeed, within: Duration, mut tell: impl FnMut(String)) -> Result<(), String> {
        let part = self.ask(reqwest::Method::GET, &self.of.part, None).await?.body;
        let state = state_in(&part);
        tell(format!("GET {} → PowerState {}", self.of.part, state.as_ref().map_or("untold".to_owned(), PowerState::says)));
        let wanted = if deed == PowerDeed::On { PowerState::On } else { PowerState::Off };
        let is_so = state.as_ref() == Some(&wanted);
        // Who takes power away has reason to: a controller that says it is off may be wrong.
        if is_so && deed != PowerDeed::Off {
            tell("it is so already".to_owned());
            return Ok(());
        }
        let (target, body) = request(&part, deed)
            .ok_or_else(|| format!("{}{} offers no way to do that ({})", self.of.controller, self.of.part, deed.word()))?;
        let answer = match self.ask(reqwest::Method::POST, &target, Some(body.clone())).await {
            Ok(answer) => answer,
            Err(why) if is_so => {
                tell(format!("it says that it is so already, and to the request: {why}"));
                return Ok(());
            }
            Err(why) => return Err(why),
        };
        tell(format!("POST {target} {body} → {}", answer.status));
        if answer.status != 202 {
            return Ok(());
        }
        let monitor = answer.location.or_else(|| answer.body["TaskMonitor"].as_str().map(str::to_owned));
        let Some(monitor) = monitor else { return Ok(()) };
        self.through(&monitor, within, tell).await
    }

    /// Waits until a task of the controller's is through.
    async fn through(&self, monitor: &str, within: Duration, mut tell: impl FnMut(String)) -> Result<(), String> {
        let began = Instant::now();
        // Elsewhere is never asked, however often.
        self.url(monitor)?;
        loop {
            tokio::time::sleep(TASK_EVERY).await;
            let answer = match self.send(reqwest::Method::GET, monitor, None).await {
                Ok(answer) => answer,
                // It was taken on: that the controller is busy with it, or starts anew over it, is no failure of it.
                Err(why) if began.elapsed() < within => {
                    tell(format!("GET {monitor}: {why}"));
                    continue;
                }
                Err(why) => return Err(why),
            };
            match answer.body["TaskState"].as_str() {
                Some(state @ ("Exception" | "Killed" | "Cancelled")) => {
                    let said = answer.body["Messages"].as_array().into_iter().flatten();
                    let said: Vec<&str> = said.filter_map(|m| m["Message"].as_str()).collect();
                    return Err(format!("the controller's task came to {state}: {}", said.join("; ")));
                }
                // DSP0266, asynchronous operations: a monitor is taken away once its task is through. What that came to is looked at.
                _ if [404, 410].contains(&answer.status) => {
                    tell(format!("GET {monitor} → {}: the task is through, and is kept no longer", answer.status));
                    return Ok(());
                }
                _ if (300..=499).contains(&answer.status) => return Err(self.refusal(answer.status, monitor, &answer.body)),
                _ if (200..=299).contains(&answer.status) && answer.status != 202 => {
                    tell(format!("GET {monitor} → {}", answer.status));
                    return Ok(());
                }
                _ if began.elapsed() > within => {
                    return Err(format!("the controller's task is not through after {} s", within.as_secs()));
                }
                state => {
                    let percent = answer.body["PercentComplete"].as_u64().map_or(String::new(), |p| format!(", {p} %"));
                    let status = answer.status.to_string();
                    tell(format!("GET {monitor} → {}{percent}", state.unwrap_or(&status)));
                }
            }
        }
    }
}

/// Clients by the file of certificates that they believe, and its age. They are kept: controllers are slow machines, and to
/// greet one anew for every look costs it more than the look.
type Clients = HashMap<(Option<String>, Option<SystemTime>), Client>;

#[derive(Clone)]
struct Client {
    /// Keeps its connections.
    looks: reqwest::Client,
    /// Makes one for each request.
    deeds: reqwest::Client,
}

static CLIENTS: LazyLock<Mutex<Clients>> = LazyLock::new(Mutex::default);

/// A client that believes the certificates in a file, or those that the system does.
fn client(believes: Option<&str>) -> Result<Client, String> {
    let unread = |path: &str, e: std::io::Error| format!("{path}, by which the controller is believed, cannot be read: {e}");
    let changed = believes.map(|path| std::fs::metadata(path).and_then(|m| m.modified()).map_err(|e| unread(path, e))).transpose()?;
    let key = (believes.map(str::to_owned), changed);
    let mut clients = CLIENTS.lock().unwrap_or_else(PoisonError::into_inner);
    if let Some(client) = clients.get(&key) {
        return Ok(client.clone());
    }
    let _ = rustls::crypto::ring::default_provider().install_default();
    let mut certificates = None;
    if let Some(path) = believes {
        let pem = std::fs::read(path).map_err(|e| unread(path, e))?;
        certificates = Some(reqwest::Certificate::from_pem_bundle(&pem).map_err(|e| format!("{path} has no certificates: {e}"))?);
    }
    let made = |kept: usize| {
        let builder = reqwest::Client::builder()
            .no_proxy()
            .redirect(reqwest::redirect::Policy::none())
            .connect_timeout(Duration::from_secs(5))
            .timeout(ANSWER_WITHIN)
            .pool_idle_timeout(KEPT_OPEN)
            .pool_max_idle_per_host(kept);
        let builder = match certificates.clone() {
            Some(certificates) => builder.tls_certs_only(certificates),
            None => builder,
        };
        builder.build().map_err(|e| format!("no HTTP client can be made: {}", root_cause(&e)))
    };
    let client = Client { looks: made(1)?, deeds: made(0)? };
    // What an older file made believed is believed no longer.
    clients.retain(|(path, _), _| *path != key.0);
    clients.insert(key, client.clone());
    Ok(client)
}

struct Answer {
    status: u16,
    location: Option<String>,
    body: Value,
}

fn state_in(part: &Value) -> Option<PowerState> {
    Some(match part["PowerState"].as_str()? {
        "On" => PowerState::On,
        "Off" => PowerState::Off,
        other => PowerState::Turning(other.to_owned()),
    })
}

/// The request for a deed, from the actions that a part offers: where it goes, and what it says.
fn request(part: &Value, deed: PowerDeed) -> Option<(String, Value)> {
    let outlet = &part["Actions"]["#Outlet.PowerControl"];
    if let Some(target) = outlet["target"].as_str() {
        let state = match deed {
            PowerDeed::On => "On",
            PowerDeed::Off => "Off",
            PowerDeed::ShutDown => return None,
        };
        return Some((target.to_owned(), json!({ "PowerState": state })));
    }
    let reset = &part["Actions"]["#ComputerSystem.Reset"];
    let target = reset["target"].as_str()?;
    let kinds: &[&str] = match deed {
        PowerDeed::On => &["On", "ForceOn"],
        PowerDeed::Off => &["ForceOff"],
        PowerDeed::ShutDown => &["GracefulShutdown"],
    };
    let offered = reset["ResetType@Redfish.AllowableValues"].as_array();
    let kind = match offered {
        Some(offered) => kinds.iter().find(|k| offered.iter().any(|o| o == *k))?,
        None => kinds.first()?,
    };
    Some((target.to_owned(), json!({ "ResetType": kind })))
}

#[cfg(test)]
mod tests {
    use std::{
        io::{BufRead, BufReader, Read, Write},
        net::{TcpListener, TcpStream},
        sync::{
            Arc,
            atomic::{AtomicUsize, Ordering},
        },
    };

    use rstest::rstest;

    use super::*;

    fn system(offered: &[&str]) -> Value {
        json!({ "PowerState": "On", "Actions": { "#ComputerSystem.Reset": {
            "target": "/s/1/reset", "ResetType@Redfish.AllowableValues": offered } } })
    }

    #[rstest]
    #[case(system(&["On", "ForceOff", "GracefulShutdown"]), PowerDeed::Off, Some(json!({ "ResetType": "ForceOff" })))]
    #[case(system(&["ForceOn", "ForceOff"]), PowerDeed::On, Some(json!({ "ResetType": "ForceOn" })))]
    #[case::it_cannot(system(&["On", "ForceOff"]), PowerDeed::ShutDown, None)]
    #[case::an_outlet(json!({ "Actions": { "#Outlet.PowerControl": { "target": "/o/1" } } }), PowerDeed::Off, Some(json!({ "PowerState": "Off" })))]
    #[case::no_outlet_shuts_down(json!({ "Actions": { "#Outlet.PowerControl": { "target": "/o/1" } } }), PowerDeed::ShutDown, None)]
    #[case::nothing_offered(json!({ "PowerState": "On" }), PowerDeed::On, None)]
    fn only_what_a_part_offers_is_asked_of_it(#[case] part: Value, #[case] deed: PowerDeed, #[case] body: Option<Value>) {
        assert_eq!(request(&part, deed).map(|(_, b)| b), body);
    }

    #[rstest]
    #[case("02:00:5e:10:00", "no hardware address")]
    #[case("not an address", "no hardware address")]
    fn what_is_no_hardware_address_is_told(#[case] mac: &str, #[case] says: &str) {
        assert!(wake(mac, "127.0.0.1", 9).unwrap_err().contains(says));
    }

    /// A controller that answers so many requests with what is written for each, and counts who greets it.
    fn scripted(answers: &'static [(&'static str, u16, &'static str)]) -> (Controller, Arc<AtomicUsize>) {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let controller = Controller {
            controller: format!("http://{}", listener.local_addr().unwrap()),
            part: "/s/1".into(),
            account: None,
            password: None,
            believes: None,
        };
        let greeted = Arc::new(AtomicUsize::new(0));
        let count = Arc::clone(&greeted);
        std::thread::spawn(move || {
            let mut answers = answers.iter();
            // One for the looks, which stays, and one for the deed, which ends.
            let mut kept: Option<(BufReader<TcpStream>, TcpStream)> = None;
            for stream in listener.incoming().map_while(Result::ok) {
                count.fetch_add(1, Ordering::Relaxed);
                let mut reader = BufReader::new(stream.try_clone().unwrap());
                answer_one(&mut reader, &stream, &mut answers);
                match &mut kept {
                    None => kept = Some((reader, stream)),
                    Some((reader, stream)) => while answer_one(reader, stream, &mut answers).is_some() {},
                }
            }
        });
        (controller, greeted)
    }

    fn answer_one<'a>(
        reader: &mut BufReader<TcpStream>,
        mut stream: &TcpStream,
        answers: &mut impl Iterator<Item = &'a (&'static str, u16, &'static str)>,
    ) -> Option<()> {
        let (mut head, mut line, mut length) = (String::new(), String::new(), 0);
        while reader.read_line(&mut line).ok()? > 0 && line.trim() != "" {
            length = line.to_ascii_lowercase().strip_prefix("content-length:").map_or(length, |n| n.trim().parse().unwrap());
            head.push_str(&std::mem::take(&mut line));
        }
        let asked = head.lines().next()?.to_owned();
        reader.read_exact(&mut vec![0; length]).ok()?;
        let (wanted, status, says) = answers.next()?;
        assert!(asked.starts_with(wanted), "{asked}, and not {wanted}");
        let (headers, body) = says.split_once('|').unwrap_or(("", says));
        write!(stream, "HTTP/1.1 {status} x\r\n{headers}content-length: {}\r\n\r\n{body}", body.len()).ok()
    }

    const PART: &str = r##"{"PowerState":"Off","Actions":{"#ComputerSystem.Reset":{"target":"/s/1/reset"}}}"##;
    const TAKEN: &str = "location: /t/1\r\n|{}";

    #[rstest]
    #[case::through(&[("GET /s/1 ", 200, PART), ("POST /s/1/reset ", 204, "")], None)]
    #[case::sent_elsewhere(&[("GET /s/1 ", 200, PART), ("POST /s/1/reset ", 308, "location: /elsewhere\r\n|")], Some("answers 308 to /s/1/reset, and refers to /elsewhere"))]
    #[case::a_task(&[("GET /s/1 ", 200, PART), ("POST /s/1/reset ", 202, TAKEN), ("GET /t/1 ", 202, "{}"), ("GET /t/1 ", 200, "{}")], None)]
    #[case::a_task_that_is_kept_no_longer(&[("GET /s/1 ", 200, PART), ("POST /s/1/reset ", 202, TAKEN), ("GET /t/1 ", 404, "{}")], None)]
    #[case::a_controller_that_is_busy(&[("GET /s/1 ", 200, PART), ("POST /s/1/reset ", 202, TAKEN), ("GET /t/1 ", 503, "{}"), ("GET /t/1 ", 200, "{}")], None)]
    #[case::a_task_that_failed(&[("GET /s/1 ", 200, PART), ("POST /s/1/reset ", 202, TAKEN), ("GET /t/1 ", 200, r#"{"TaskState":"Exception"}"#)], Some("came to Exception"))]
    #[case::no_longer_let_in(&[("GET /s/1 ", 200, PART), ("POST /s/1/reset ", 202, TAKEN), ("GET /t/1 ", 401, "{}")], Some("answers 401 to /t/1"))]
    #[case::a_task_elsewhere(&[("GET /s/1 ", 200, PART), ("POST /s/1/reset ", 202, "location: http://127.0.0.1:1/t\r\n|{}")], Some("which is elsewhere"))]
    #[tokio::test]
    async fn a_deed_is_done_when_the_controller_says_so(
        #[case] answers: &'static [(&'static str, u16, &'static str)],
        #[case] fails: Option<&str>,
    ) {
        let (controller, greeted) = scripted(answers);
        let came_to = Redfish::new(&controller, None).unwrap().ask_for(PowerDeed::On, Duration::from_secs(20), |_| ()).await;
        match fails {
            None => assert_eq!(came_to, Ok(())),
            Some(why) => assert!(came_to.as_ref().unwrap_err().contains(why), "{came_to:?}"),
        }
        assert_eq!(greeted.load(Ordering::Relaxed), 2, "once for all looks, and once for the deed");
    }

    #[rstest]
    #[case::the_same("https://10.0.9.2", "/t", true)]
    #[case::whole("https://10.0.9.2", "https://10.0.9.2/t", true)]
    #[case::with_its_port("https://10.0.9.2", "https://10.0.9.2:443/t", true)]
    #[case::a_longer_address("https://10.0.9.2", "https://10.0.9.20/t", false)]
    #[case::appended("https://10.0.9.2", "0/t", false)]
    #[case::as_a_password("https://10.0.9.2", "@10.0.9.9/t", false)]
    #[case::another_port("https://10.0.9.2", "https://10.0.9.2:8443/t", false)]
    #[case::in_the_clear("https://10.0.9.2", "http://10.0.9.2/t", false)]
    fn only_the_controller_itself_is_asked(#[case] controller: &str, #[case] path: &str, #[case] asked: bool) {
        let of = Controller { controller: controller.into(), part: "/s".into(), account: None, password: None, believes: None };
        assert_eq!(Redfish::new(&of, None).unwrap().url(path).is_ok(), asked);
    }

    #[test]
    fn the_waking_packet_is_as_every_card_knows_it() {
        let card = UdpSocket::bind("127.0.0.1:0").unwrap();
        wake("02:00:5e:10:00:01", "127.0.0.1", card.local_addr().unwrap().port()).unwrap();
        let mut packet = [0; 200];
        let length = card.recv(&mut packet).unwrap();
        assert_eq!(
            (length, &packet[..6], &packet[6..12], &packet[96..102]),
            (102, &[0xff; 6][..], &[2, 0, 0x5e, 0x10, 0, 1][..], &[2, 0, 0x5e, 0x10, 0, 1][..])
        );
    }
}
