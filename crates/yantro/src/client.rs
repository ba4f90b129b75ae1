//! Talks to the server.

use std::{
    borrow::Cow,
    path::{Path, PathBuf},
    time::Duration,
};

use serde::{Serialize, de::DeserializeOwned};
use yantro_reach::ProcessId;
use yantro_server::problem::Problem;

use crate::{Global, exit::Failure, foreign};

/// How long a connection may take: the server is on this machine.
const CONNECT: Duration = Duration::from_secs(10);
/// How long a connection is kept for the next call: a fifth of what the server keeps it for.
const KEPT: Duration = Duration::from_secs(1);
/// How often what can be asked again is, and with which gap.
const AGAIN: u32 = 5;
const BETWEEN: Duration = Duration::from_millis(500);

/// Where a server keeps its data, unless said otherwise.
pub fn data_folder(global: &Global) -> PathBuf {
    if let Some(data) = &global.data {
        return data.clone();
    }
    let home = std::env::var_os("HOME").map_or_else(|| PathBuf::from("/var/lib"), PathBuf::from);
    home.join(".local/share/yantro")
}

/// The file in which a running server writes its address.
///
/// Its first line is the address, its second the process that answers there: see [`Address`].
pub fn address_file(data: &Path) -> PathBuf {
    data.join("address")
}

/// Where a server answers, and which process that is. The address outlives a server that is killed, and whoever binds it next
/// is told nothing: before anything is sent it is seen that the server still runs.
struct Address {
    base: String,
    server: ProcessId,
}

impl Address {
    fn read(text: &str) -> Option<Self> {
        let (base, server) = text.trim().split_once('\n')?;
        let [pid, started, boot] = server.split_whitespace().collect::<Vec<_>>().try_into().ok()?;
        let server = ProcessId { boot: boot.to_owned(), pid: pid.parse().ok()?, started: started.parse().ok()? };
        Some(Self { base: base.trim().to_owned(), server })
    }
}

/// Writes down where this process answers, for commands to find it: whole or not at all, for this account only.
pub fn write_address(data: &Path, base: &str) -> std::io::Result<()> {
    let own = ProcessId::of(std::process::id())?.ok_or_else(|| std::io::Error::other("the system does not tell of this process"))?;
    let text = format!("{base}\n{} {} {}\n", own.pid, own.started, own.boot);
    yantro_reach::write_whole(&address_file(data), text.as_bytes(), 0o600)
}

/// A server to talk to.
pub struct Client {
    base: String,
    server: ProcessId,
    token: String,
    who: String,
    /// Whether what it is told goes to machines, to the letter.
    to_the_letter: bool,
    http: reqwest::Client,
}

impl Client {
    /// Finds the server of a data folder.
    pub fn find(global: &Global) -> Result<Self, Failure> {
        // The server is spoken to without TLS; the client wants a provider all the same. One may be there already.
        let _ = rustls::crypto::ring::default_provider().install_default();
        let data = data_folder(global);
        let hint = || "start one: yantro serve; or name its data folder with --data or YANTRO_DATA".to_owned();
        let read = |path: PathBuf| {
            std::fs::read_to_string(&path)
                .map(|t| t.trim().to_owned())
                .map_err(|e| Failure::NoServer { why: format!("{} cannot be read ({e})", path.display()), hint: hint() })
        };
        let written = read(address_file(&data))?;
        let Some(Address { base, server }) = Address::read(&written) else {
            let why = format!("{} does not say which process answers there: it is of an earlier version", address_file(&data).display());
            return Err(Failure::NoServer { why, hint: "start the server anew: yantro serve".to_owned() });
        };
        let token = read(yantro_server::token_path(&data))?;
        Ok(Self {
            base,
            server,
            token,
            who: who(global),
            to_the_letter: global.json,
            // No connection is kept for long: while a person reads a plan, the server would close it, and the next call would
            // find that out instead of being made.
            http: reqwest::Client::builder()
                .no_proxy()
                // Nor are the certificates read that the system believes: they take longer than most calls.
                .tls_certs_only([])
                .pool_max_idle_per_host(1)
                .pool_idle_timeout(KEPT)
                .connect_timeout(CONNECT)
                .build()
                .map_err(|e| Failure::own(e.to_string(), ""))?,
        })
    }

    /// The server's address.
    pub fn base(&self) -> &str {
        &self.base
    }

    fn request(&self, method: reqwest::Method, path: &str) -> reqwest::RequestBuilder {
        self.http.request(method, format!("{}/api/v1{path}", self.base)).bearer_auth(&self.token).header("x-yantro-who", &self.who)
    }

    /// Sends a call once. What was not sent for certain was not carried out; of all else that gets no answer nobody can say,
    /// unless the call only looks.
    async fn answer(&self, request: reqwest::RequestBuilder, changes: Changes) -> Result<reqwest::Response, Failure> {
        if !self.server.is_alive() {
            let why = format!("{}: its process {} has ended", self.base, self.server.pid);
            return Err(Failure::NoServer { why, hint: "start it: yantro serve".to_owned() });
        }
        let answer = request.send().await.map_err(|e| {
            let (not_sent, why) = (e.is_connect(), format!("{} ({})", self.base, e.without_url()));
            match changes {
                Changes::Something if !not_sent => Failure::unanswered(why),
                Changes::Nothing | Changes::Something => {
                    Failure::NoServer { why, hint: "is it running? start it: yantro serve".to_owned() }
                }
            }
        })?;
        if answer.status().is_success() {
            return Ok(answer);
        }
        let status = answer.status();
        let text = answer.text().await.unwrap_or_default();
        let problem = serde_json::from_str(&self.heard(&text)).unwrap_or_else(|_| {
            Problem::new(
                status.as_u16(),
                "strange",
                "The server answered strangely",
                format!("status {status}"),
                "is this a Yantro server?",
            )
        });
        Err(Failure::Problem(Box::new(problem)))
    }

    /// Asks for something.
    pub async fn get<T: DeserializeOwned>(&self, path: &str) -> Result<T, Failure> {
        self.read(self.request(reqwest::Method::GET, path), Changes::Nothing).await
    }

    /// Asks for a text.
    pub async fn text(&self, path: &str) -> Result<String, Failure> {
        let answer = self.answer(self.request(reqwest::Method::GET, path), Changes::Nothing).await?;
        answer.text().await.map_err(|e| Failure::own(format!("the answer broke off: {e}"), "try again"))
    }

    /// Asks with query values.
    pub async fn get_with<T: DeserializeOwned>(&self, path: &str, query: &[(&str, String)]) -> Result<T, Failure> {
        self.read(self.request(reqwest::Method::GET, &with(path, query)), Changes::Nothing).await
    }

    /// Sends a question that takes a body: a plan, a rehearsal, a draft.
    pub async fn ask<T: DeserializeOwned>(&self, path: &str, body: &impl Serialize) -> Result<T, Failure> {
        self.read(self.request(reqwest::Method::POST, path).json(body), Changes::Nothing).await
    }

    /// Sends what changes something, once.
    pub async fn post<T: DeserializeOwned>(&self, path: &str, body: &impl Serialize) -> Result<T, Failure> {
        self.read(self.request(reqwest::Method::POST, path).json(body), Changes::Something).await
    }

    /// Sends what begins something under an identity that its body carries: asked again it is begun once all the same, so
    /// that an answer which was lost on the way is asked for again.
    pub async fn post_once<T: DeserializeOwned>(&self, path: &str, body: &impl Serialize) -> Result<T, Failure> {
        let mut outcome = self.post(path, body).await;
        for _ in 0..AGAIN {
            match outcome {
                Err(Failure::Unanswered { .. }) => {
                    tokio::time::sleep(BETWEEN).await;
                    // It may be that the server is gone by now: whether it took the call before that is not known.
                    outcome = match self.post(path, body).await {
                        Err(Failure::NoServer { why, .. }) => Err(Failure::unanswered(why)),
                        other => other,
                    };
                }
                other => return other,
            }
        }
        outcome
    }

    async fn read<T: DeserializeOwned>(&self, request: reqwest::RequestBuilder, changes: Changes) -> Result<T, Failure> {
        let answer = self.answer(request, changes).await?;
        let text = answer.text().await.map_err(|e| match changes {
            Changes::Nothing => Failure::own(format!("the answer broke off: {e}"), "try again"),
            Changes::Something => Failure::unanswered(format!("the answer broke off: {e}")),
        })?;
        serde_json::from_str(&self.heard(&text))
            .map_err(|e| Failure::own(format!("the answer is not what was expected: {e}"), "is the server of the same version?"))
    }

    /// What the server said, as JSON: for people, nothing that others wrote passes for a tint of ours.
    pub fn heard<'t>(&self, json: &'t str) -> Cow<'t, str> {
        if self.to_the_letter { Cow::Borrowed(json) } else { foreign::untinted(json) }
    }

    /// A stream of server-sent events.
    pub async fn stream(&self, path: &str, query: &[(&str, String)], last: Option<&str>) -> Result<reqwest::Response, Failure> {
        let mut request = self.request(reqwest::Method::GET, &with(path, query));
        if let Some(last) = last {
            request = request.header("last-event-id", last);
        }
        self.answer(request, Changes::Nothing).await
    }
}

/// What a call does where it is carried out.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Changes {
    /// It only looks: it can be made as often as one likes.
    Nothing,
    /// It may have been carried out though no answer came.
    Something,
}

/// An identity for something that is to be begun at most once, however often it is asked for.
pub fn identity() -> Result<String, Failure> {
    let mut bytes = [0u8; 16];
    std::fs::File::open("/dev/urandom")
        .and_then(|mut f| std::io::Read::read_exact(&mut f, &mut bytes))
        .map_err(|e| Failure::own(format!("/dev/urandom cannot be read: {e}"), "see that the system has it"))?;
    Ok(bytes.iter().map(|b| format!("{b:02x}")).collect())
}

/// A path with its query.
fn with(path: &str, query: &[(&str, String)]) -> String {
    let encode = |text: &str| -> String {
        text.bytes()
            .map(|b| if b.is_ascii_alphanumeric() || b"-_.~".contains(&b) { char::from(b).to_string() } else { format!("%{b:02X}") })
            .collect()
    };
    let query: Vec<String> = query.iter().map(|(k, v)| format!("{k}={}", encode(v))).collect();
    if query.is_empty() { path.to_owned() } else { format!("{path}?{}", query.join("&")) }
}

/// Who the operator is.
pub fn who(global: &Global) -> String {
    global
        .who
        .clone()
        .or_else(|| std::env::var("SUDO_USER").ok())
        .or_else(|| std::env::var("USER").ok())
        .or_else(|| std::env::var("LOGNAME").ok())
        .unwrap_or_else(|| "operator".to_owned())
}

/// Runs a command's asynchronous part.
pub fn wait_for<T>(future: impl Future<Output = T>) -> T {
    tokio::runtime::Builder::new_current_thread().enable_all().build().expect("a runtime can be made").block_on(future)
}
