//! A stand-in power controller: speaks the part of Redfish (DMTF DSP0266) that Yantro asks for, over HTTPS, and really
//! gives the lab's hosts power and takes it away. It is slow, errs and lies where it is told to.

use std::{
    collections::BTreeMap,
    io,
    net::SocketAddr,
    path::PathBuf,
    sync::{Arc, Mutex, MutexGuard, PoisonError},
    thread::JoinHandle,
    time::{Duration, Instant},
};

use http_body_util::{BodyExt, Full};
use hyper::{
    Method, Request, Response,
    body::{Bytes, Incoming},
    header,
    service::service_fn,
};
use hyper_util::rt::TokioIo;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};
use serde_json::{Value, json};
use tokio::sync::oneshot;

use crate::{Lab, Machine};

/// The account that the controller lets in, and its password.
pub const ACCOUNT: (&str, &str) = ("ferry", "sound-and-quay-48");

/// What is wrong with a controller.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Fault {
    /// It takes so long to answer.
    Slow(Duration),
    /// Every request for a change comes to nothing, after its task was taken on.
    Errs,
    /// It refuses every request.
    Refuses,
    /// It says that everything is off, and switches nothing.
    SaysOff,
    /// It takes on a request to switch on, says that it did, and gives no power.
    GivesNone,
}

struct State {
    machines: BTreeMap<String, Arc<Machine>>,
    outlets: BTreeMap<String, bool>,
    tasks: Vec<Task>,
    fault: Option<Fault>,
    asked: Vec<String>,
}

struct Task {
    through_at: Instant,
    failed: bool,
}

/// A controller that runs until it is dropped.
pub struct Controller {
    state: Arc<Mutex<State>>,
    address: SocketAddr,
    certificate: PathBuf,
    end: Option<oneshot::Sender<()>>,
    serving: Option<JoinHandle<()>>,
}

fn locked(state: &Mutex<State>) -> MutexGuard<'_, State> {
    state.lock().unwrap_or_else(PoisonError::into_inner)
}

impl Controller {
    /// Serves on the lab's own address, for these hosts. What it is believed by is in the lab's folder.
    pub fn serve(lab: &Lab, machines: impl IntoIterator<Item = Arc<Machine>>) -> Self {
        let _ = rustls::crypto::ring::default_provider().install_default();
        let at = lab.address(1);
        let made = rcgen::generate_simple_self_signed(vec![at.clone()]).expect("a certificate can be made");
        let certificate = lab.file("controller.pem");
        std::fs::write(&certificate, made.cert.pem()).expect("there is room");
        let chain = vec![CertificateDer::from(made.cert.der().to_vec())];
        let key = PrivateKeyDer::try_from(made.signing_key.serialize_der()).expect("a key was made");
        let tls = rustls::ServerConfig::builder().with_no_client_auth().with_single_cert(chain, key).expect("the two belong together");
        let machines: BTreeMap<String, Arc<Machine>> = machines.into_iter().map(|m| (m.name().to_owned(), m)).collect();
        let outlets = machines.keys().map(|n| (n.clone(), true)).collect();
        let state = Arc::new(Mutex::new(State { machines, outlets, tasks: Vec::new(), fault: None, asked: Vec::new() }));
        let listener = std::net::TcpListener::bind((at.as_str(), 0)).expect("the lab's address is ours");
        let address = listener.local_addr().expect("it was bound");
        listener.set_nonblocking(true).expect("a socket can be set so");
        let (end, ended) = oneshot::channel();
        let shared = Arc::clone(&state);
        let serving = std::thread::spawn(move || {
            let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().expect("a runtime can be made");
            runtime.block_on(async move {
                tokio::select! {
                    served = accept(listener, tls, shared) => served.expect("connections are taken"),
                    _ = ended => {}
                }
            });
        });
        Self { state, address, certificate, end: Some(end), serving: Some(serving) }
    }

    /// Where it answers.
    pub fn url(&self) -> String {
        format!("https://{}", self.address)
    }

    /// The file of certificates that it is believed by.
    pub fn certificate(&self) -> &std::path::Path {
        &self.certificate
    }

    /// Something is wrong with it from now on, or nothing any longer.
    pub fn fault(&self, fault: Option<Fault>) {
        locked(&self.state).fault = fault;
    }

    /// Every change that was asked for, in order: `harbour ForceOff`.
    pub fn asked(&self) -> Vec<String> {
        locked(&self.state).asked.clone()
    }
}

impl Drop for Controller {
    fn drop(&mut self) {
        if let Some(end) = self.end.take() {
            let _ = end.send(());
        }
        if let Some(serving) = self.serving.take() {
            let _ = serving.join();
        }
    }
}

async fn accept(listener: std::net::TcpListener, tls: rustls::ServerConfig, state: Arc<Mutex<State>>) -> io::Result<()> {
    let listener = tokio::net::TcpListener::from_std(listener)?;
    let acceptor = tokio_rustls::TlsAcceptor::from(Arc::new(tls));
    // A host that rebooted is raised again, as firmware does.
    let watched = Arc::clone(&state);
    tokio::spawn(async move {
        loop {
            tokio::time::sleep(Duration::from_millis(50)).await;
            let state = locked(&watched);
            for (name, machine) in &state.machines {
                if machine.ended() == Some(true) && state.outlets[name] {
                    machine.power_on();
                }
            }
        }
    });
    loop {
        let (stream, _) = listener.accept().await?;
        let (acceptor, state) = (acceptor.clone(), Arc::clone(&state));
        tokio::spawn(async move {
            let Ok(stream) = acceptor.accept(stream).await else { return };
            let answering = service_fn(move |request| {
                let state = Arc::clone(&state);
                async move { Ok::<_, hyper::Error>(answer(request, &state).await) }
            });
            // One that goes away in the middle of a request is no concern of ours.
            let _ = hyper::server::conn::http1::Builder::new().serve_connection(TokioIo::new(stream), answering).await;
        });
    }
}

fn reply(status: u16, body: &Value) -> Response<Full<Bytes>> {
    let body = if body.is_null() { String::new() } else { body.to_string() };
    Response::builder()
        .status(status)
        .header(header::CONTENT_TYPE, "application/json")
        .body(Full::new(Bytes::from(body)))
        .expect("a status and a body are a response")
}

fn refusal(status: u16, message: &str, resolution: &str) -> Response<Full<Bytes>> {
    let info = json!([{ "MessageId": "Base.1.18.GeneralError", "Message": message, "Resolution": resolution }]);
    reply(status, &json!({ "error": { "code": "Base.1.18.GeneralError", "message": message, "@Message.ExtendedInfo": info } }))
}

async fn answer(request: Request<Incoming>, state: &Mutex<State>) -> Response<Full<Bytes>> {
    let fault = locked(state).fault;
    if let Some(Fault::Slow(by)) = fault {
        tokio::time::sleep(by).await;
    }
    let is_ours = request.headers().get(header::AUTHORIZATION).and_then(|v| v.to_str().ok()) == Some(&authorization());
    if !is_ours {
        return refusal(401, "There is no valid session established with the implementation.", "Establish a session.");
    }
    if fault == Some(Fault::Refuses) {
        return refusal(503, "The service is temporarily unavailable.", "Wait, and send the request again.");
    }
    let (method, path) = (request.method().clone(), request.uri().path().to_owned());
    let body = request.into_body().collect().await.map(|b| b.to_bytes()).unwrap_or_default();
    let body: Value = serde_json::from_slice(&body).unwrap_or(Value::Null);
    let parts: Vec<&str> = path.trim_matches('/').split('/').collect();
    let mut state = locked(state);
    match (&method, parts.as_slice()) {
        (&Method::GET, ["redfish", "v1"]) => reply(200, &json!({ "@odata.id": "/redfish/v1", "RedfishVersion": "1.18.0" })),
        (&Method::GET, ["redfish", "v1", "Systems", name]) if state.machines.contains_key(*name) => {
            let on = state.machines[*name].is_on() && fault != Some(Fault::SaysOff);
            let target = format!("{path}/Actions/ComputerSystem.Reset");
            reply(
                200,
                &json!({
                    "@odata.id": path, "Id": name, "Name": name, "PowerState": if on { "On" } else { "Off" },
                    "Actions": { "#ComputerSystem.Reset": { "target": target,
                        "ResetType@Redfish.AllowableValues": ["On", "ForceOff", "GracefulShutdown", "ForceRestart"] } },
                }),
            )
        }
        (&Method::POST, ["redfish", "v1", "Systems", name, "Actions", "ComputerSystem.Reset"]) if state.machines.contains_key(*name) => {
            let kind = body["ResetType"].as_str().unwrap_or_default().to_owned();
            state.asked.push(format!("{name} {kind}"));
            let machine = Arc::clone(&state.machines[*name]);
            let fed = state.outlets[*name];
            let switches = !matches!(fault, Some(Fault::Errs | Fault::SaysOff));
            match kind.as_str() {
                "On" if !switches || fault == Some(Fault::GivesNone) => {}
                "On" if fed => machine.power_on(),
                "On" => return refusal(409, "The system has no power supply.", "Switch its outlet on."),
                "ForceOff" if switches => machine.cut_power(),
                "ForceRestart" if switches => {
                    machine.cut_power();
                    machine.power_on();
                }
                "GracefulShutdown" if switches => machine.ask_to_shut_down(),
                "ForceOff" | "ForceRestart" | "GracefulShutdown" => {}
                _ => return refusal(400, "The value of ResetType is not in the list of acceptable values.", "Choose one that is."),
            }
            taken_on(&mut state, fault)
        }
        (&Method::GET, ["redfish", "v1", "PowerEquipment", "RackPDUs", "1", "Outlets", name]) if state.outlets.contains_key(*name) => {
            let word = if state.outlets[*name] { "On" } else { "Off" };
            let target = format!("{path}/Actions/Outlet.PowerControl");
            reply(
                200,
                &json!({
                    "@odata.id": path, "Id": name, "Name": format!("Outlet {name}"), "PowerState": word,
                    "Actions": { "#Outlet.PowerControl": { "target": target } },
                }),
            )
        }
        (&Method::POST, ["redfish", "v1", "PowerEquipment", "RackPDUs", "1", "Outlets", name, "Actions", "Outlet.PowerControl"])
            if state.outlets.contains_key(*name) =>
        {
            let on = body["PowerState"].as_str() == Some("On");
            state.asked.push(format!("outlet {name} {}", if on { "On" } else { "Off" }));
            if !matches!(fault, Some(Fault::Errs)) {
                state.outlets.insert((*name).to_owned(), on);
                if !on {
                    state.machines[*name].cut_power();
                }
            }
            reply(204, &Value::Null)
        }
        (&Method::GET, ["redfish", "v1", "TaskService", "TaskMonitors", number]) => {
            let task = number.parse::<usize>().ok().and_then(|n| state.tasks.get(n));
            match task {
                Some(task) if task.through_at > Instant::now() => {
                    reply(202, &json!({ "Id": number, "TaskState": "Running", "PercentComplete": 50 }))
                }
                Some(task) if task.failed => reply(
                    200,
                    &json!({ "Id": number, "TaskState": "Exception", "TaskStatus": "Critical",
                    "Messages": [{ "Message": "The power supply did not follow." }] }),
                ),
                Some(_) => reply(200, &json!({ "Id": number, "TaskState": "Completed", "TaskStatus": "OK" })),
                None => refusal(404, "The resource was not found.", "Provide a valid resource identifier."),
            }
        }
        _ => refusal(404, "The resource was not found.", "Provide a valid resource identifier."),
    }
}

/// A change that was taken on: its task is through a moment later.
fn taken_on(state: &mut State, fault: Option<Fault>) -> Response<Full<Bytes>> {
    let number = state.tasks.len();
    state.tasks.push(Task { through_at: Instant::now() + Duration::from_millis(300), failed: fault == Some(Fault::Errs) });
    let monitor = format!("/redfish/v1/TaskService/TaskMonitors/{number}");
    let mut taken = reply(202, &json!({ "Id": number.to_string(), "TaskState": "New", "TaskMonitor": monitor }));
    taken.headers_mut().insert(header::LOCATION, monitor.parse().expect("a path is a header"));
    taken
}

/// RFC 7617, with the base 64 of RFC 4648.
fn authorization() -> String {
    use base64::{Engine, engine::general_purpose::STANDARD};
    format!("Basic {}", STANDARD.encode(format!("{}:{}", ACCOUNT.0, ACCOUNT.1)))
}
