//! Who is let in: whoever has the token, and browsers that signed in by a one-time link.
//!
//! A browser's requests that change anything must come with a proof that the console's own page sent
//! them; every request must name a loopback host, so that no page elsewhere can reach through.

use std::{
    collections::BTreeMap,
    fs, io,
    os::unix::fs::{OpenOptionsExt, PermissionsExt},
    path::{Path, PathBuf},
    sync::Mutex,
    time::{Duration, Instant},
};

use actix_web::{
    Error, FromRequest, HttpMessage, HttpRequest, HttpResponse,
    body::MessageBody,
    cookie::{Cookie, SameSite},
    dev::{Payload, ServiceRequest, ServiceResponse},
    http::{Method, header},
    middleware::Next,
    web,
};
use rand::RngExt;
use serde::Deserialize;

use crate::problem::Problem;

const COOKIE: &str = "yantro_session";
/// How long a sign-in link is good for.
const LINK_LIFE: Duration = Duration::from_secs(15 * 60);

/// Why the token cannot be had.
#[derive(Debug, thiserror::Error)]
#[error("the token {path} cannot be read or made")]
pub struct AccessError {
    path: PathBuf,
    source: io::Error,
}

/// The keys of a server.
pub struct Access {
    token: String,
    links: Mutex<BTreeMap<String, (String, Instant)>>,
    sessions: Mutex<BTreeMap<String, String>>,
    sessions_file: PathBuf,
}

fn secret() -> String {
    let bytes: [u8; 24] = rand::rng().random();
    bytes.iter().map(|b| format!("{b:02x}")).collect()
}

/// Writes a file that only its owner may read.
fn write_private(path: &Path, text: &str) -> io::Result<()> {
    use io::Write;
    let mut file = fs::OpenOptions::new().create(true).write(true).truncate(true).mode(0o600).open(path)?;
    file.set_permissions(fs::Permissions::from_mode(0o600))?;
    file.write_all(text.as_bytes())
}

/// The same time for every wrong guess.
fn same(a: &str, b: &str) -> bool {
    a.len() == b.len() && a.bytes().zip(b.bytes()).fold(0, |d, (x, y)| d | (x ^ y)) == 0
}

impl Access {
    /// Reads the token of a data folder, or makes it.
    pub fn open(data: &Path) -> Result<Self, AccessError> {
        let path = crate::token_path(data);
        let error = |source| AccessError { path: path.clone(), source };
        let token = match fs::read_to_string(&path) {
            Ok(token) if !token.trim().is_empty() => token.trim().to_owned(),
            Ok(_) => {
                let token = secret();
                write_private(&path, &token).map_err(error)?;
                token
            }
            Err(e) if e.kind() == io::ErrorKind::NotFound => {
                let token = secret();
                write_private(&path, &token).map_err(error)?;
                token
            }
            Err(e) => return Err(error(e)),
        };
        let sessions_file = data.join("sessions");
        let sessions = fs::read_to_string(&sessions_file).ok().and_then(|t| serde_json::from_str(&t).ok()).unwrap_or_default();
        Ok(Self { token, links: Mutex::default(), sessions: Mutex::new(sessions), sessions_file })
    }

    /// Makes a link for signing in, good once and for a quarter of an hour.
    pub fn link(&self, who: &str) -> String {
        let code = secret();
        let mut links = self.links.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        links.retain(|_, (_, made)| made.elapsed() < LINK_LIFE);
        links.insert(code.clone(), (who.to_owned(), Instant::now()));
        format!("/sign-in?code={code}")
    }

    fn redeem(&self, code: &str) -> Option<String> {
        let (who, made) = self.links.lock().unwrap_or_else(std::sync::PoisonError::into_inner).remove(code)?;
        if made.elapsed() >= LINK_LIFE {
            return None;
        }
        let session = secret();
        let mut sessions = self.sessions.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        sessions.insert(session.clone(), who);
        if let Err(error) = write_private(&self.sessions_file, &serde_json::to_string(&*sessions).unwrap_or_default()) {
            tracing::warn!(%error, "the session will not outlive the server");
        }
        Some(session)
    }

    fn session(&self, id: &str) -> Option<String> {
        self.sessions.lock().unwrap_or_else(std::sync::PoisonError::into_inner).get(id).cloned()
    }
}

/// Who makes a request.
#[derive(Debug, Clone)]
pub struct Who(pub String);

impl FromRequest for Who {
    type Error = Error;
    type Future = std::future::Ready<Result<Self, Error>>;
    fn from_request(request: &HttpRequest, _: &mut Payload) -> Self::Future {
        let who = request.extensions().get::<Who>().cloned();
        std::future::ready(who.ok_or_else(|| refused("nobody signed in").into()))
    }
}

fn refused(detail: &str) -> Problem {
    Problem::new(401, "not-signed-in", "You are not signed in", detail, "open the link that `yantro sign-in` prints, or send the token")
}

/// Lets a request through, or not.
pub async fn guard(request: ServiceRequest, next: Next<impl MessageBody + 'static>) -> Result<ServiceResponse<impl MessageBody>, Error> {
    let access = request.app_data::<web::Data<Access>>().expect("given when the server is made").clone();
    let who = check(&request, &access)?;
    request.extensions_mut().insert(Who(who));
    next.call(request).await
}

fn check(request: &ServiceRequest, access: &Access) -> Result<String, Problem> {
    let text = |name: &str| request.headers().get(name).and_then(|v| v.to_str().ok());
    let host = text("host").unwrap_or_default();
    if !is_loopback(host) {
        return Err(Problem::new(
            403,
            "strange-host",
            "The request is not for this machine",
            format!("it is for \"{host}\""),
            "use 127.0.0.1 or localhost",
        ));
    }
    if let Some(token) = text("authorization").and_then(|v| v.strip_prefix("Bearer ")) {
        return if same(token, &access.token) {
            Ok(text("x-yantro-who").filter(|w| !w.trim().is_empty()).unwrap_or("somebody with the token").to_owned())
        } else {
            Err(refused("the token is not this server's"))
        };
    }
    let who = request.cookie(COOKIE).and_then(|c| access.session(c.value())).ok_or_else(|| refused("there is no token and no session"))?;
    if !matches!(*request.method(), Method::GET | Method::HEAD) {
        // A browser sends the cookie whoever asks: what changes something must come from our own page.
        let own_page = text("x-yantro") == Some("console");
        let same_origin = match (text("sec-fetch-site"), text("origin")) {
            (Some(site), _) => site == "same-origin",
            (None, Some(origin)) => origin == format!("http://{host}"),
            (None, None) => false,
        };
        if !(own_page && same_origin) {
            return Err(Problem::new(
                403,
                "other-origin",
                "The request does not come from the console",
                "its origin is not this server",
                "use the console's own page, or the token",
            ));
        }
    }
    Ok(who)
}

fn is_loopback(host: &str) -> bool {
    let name = match host.rsplit_once(':') {
        Some((name, port)) if port.chars().all(|c| c.is_ascii_digit()) => name,
        _ => host,
    };
    let name = name.trim_start_matches('[').trim_end_matches(']');
    name == "localhost" || name.parse::<std::net::IpAddr>().is_ok_and(|ip| ip.is_loopback())
}

#[derive(Deserialize)]
pub struct Code {
    code: String,
}

/// Turns a one-time link into a session.
pub async fn sign_in(code: web::Query<Code>, access: web::Data<Access>) -> HttpResponse {
    match access.redeem(&code.code) {
        Some(session) => {
            let cookie = Cookie::build(COOKIE, session).path("/").http_only(true).same_site(SameSite::Strict).finish();
            HttpResponse::SeeOther().cookie(cookie).insert_header((header::LOCATION, "/")).finish()
        }
        None => HttpResponse::Forbidden().content_type("text/html; charset=utf-8").body(
            "<!doctype html><title>Yantro</title><h1>This link is used up</h1><p>A sign-in link is good once, for a quarter of an hour. Run <code>yantro sign-in</code> for another.</p>",
        ),
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("127.0.0.1:8400", true)]
    #[case("localhost", true)]
    #[case("[::1]:8400", true)]
    #[case("yantro.example:8400", false)]
    #[case("10.0.0.1:8400", false)]
    #[case("", false)]
    fn only_this_machine_is_meant(#[case] host: &str, #[case] fits: bool) {
        assert_eq!(is_loopback(host), fits);
    }
}
