//! Talks to the server.

use std::path::{Path, PathBuf};

use serde::{Serialize, de::DeserializeOwned};
use yantro_server::problem::Problem;

use crate::{Global, exit::Failure};

/// Where a server keeps its data, unless said otherwise.
pub fn data_folder(global: &Global) -> PathBuf {
    if let Some(data) = &global.data {
        return data.clone();
    }
    let home = std::env::var_os("HOME").map_or_else(|| PathBuf::from("/var/lib"), PathBuf::from);
    home.join(".local/share/yantro")
}

/// The file in which a running server writes its address.
pub fn address_file(data: &Path) -> PathBuf {
    data.join("address")
}

/// A server to talk to.
pub struct Client {
    base: String,
    token: String,
    who: String,
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
        let base = read(address_file(&data))?;
        let token = read(yantro_server::token_path(&data))?;
        Ok(Self {
            base,
            token,
            who: who(global),
            http: reqwest::Client::builder().no_proxy().build().map_err(|e| Failure::own(e.to_string(), ""))?,
        })
    }

    /// The server's address.
    pub fn base(&self) -> &str {
        &self.base
    }

    fn request(&self, method: reqwest::Method, path: &str) -> reqwest::RequestBuilder {
        self.http.request(method, format!("{}/api/v1{path}", self.base)).bearer_auth(&self.token).header("x-yantro-who", &self.who)
    }

    async fn answer(&self, request: reqwest::RequestBuilder) -> Result<reqwest::Response, Failure> {
        let answer = request.send().await.map_err(|e| Failure::NoServer {
            why: format!("{} ({})", self.base, e.without_url()),
            hint: "is it running? start it: yantro serve".to_owned(),
        })?;
        if answer.status().is_success() {
            return Ok(answer);
        }
        let status = answer.status();
        let text = answer.text().await.unwrap_or_default();
        let problem = serde_json::from_str(&text).unwrap_or_else(|_| {
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
        self.read(self.request(reqwest::Method::GET, path)).await
    }

    /// Asks for a text.
    pub async fn text(&self, path: &str) -> Result<String, Failure> {
        let answer = self.answer(self.request(reqwest::Method::GET, path)).await?;
        answer.text().await.map_err(|e| Failure::own(format!("the answer broke off: {e}"), "try again"))
    }

    /// Asks with query values.
    pub async fn get_with<T: DeserializeOwned>(&self, path: &str, query: &[(&str, String)]) -> Result<T, Failure> {
        self.read(self.request(reqwest::Method::GET, &with(path, query))).await
    }

    /// Sends something.
    pub async fn post<T: DeserializeOwned>(&self, path: &str, body: &impl Serialize) -> Result<T, Failure> {
        self.read(self.request(reqwest::Method::POST, path).json(body)).await
    }

    async fn read<T: DeserializeOwned>(&self, request: reqwest::RequestBuilder) -> Result<T, Failure> {
        let answer = self.answer(request).await?;
        let text = answer.text().await.map_err(|e| Failure::own(format!("the answer broke off: {e}"), "try again"))?;
        serde_json::from_str(&text)
            .map_err(|e| Failure::own(format!("the answer is not what was expected: {e}"), "is the server of the same version?"))
    }

    /// A stream of server-sent events.
    pub async fn stream(&self, path: &str, query: &[(&str, String)], last: Option<&str>) -> Result<reqwest::Response, Failure> {
        let mut request = self.request(reqwest::Method::GET, &with(path, query));
        if let Some(last) = last {
            request = request.header("last-event-id", last);
        }
        self.answer(request).await
    }
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
