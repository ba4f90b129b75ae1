//! In whose name an act on a host is given: claims, made anew for each.

use crate::links::{keeper::Claim, wire::ToldClaim};

impl ToldClaim {
    fn of(claim: &Claim<'_>, sessions: &[String]) -> Self {
        Self {
            server: claim.server.to_owned(),
            session: claim.session.to_owned(),
            sessions: sessions.to_vec(),
            counter: (claim.counter)(),
            data: claim.data.display().to_string(),
        }
    }
}

/// Claims in a server's name, made anew for each act.
pub trait Claims: Send + Sync {
    /// Makes one.
    fn with(&self, f: &mut dyn FnMut(&Claim<'_>));
    /// This session's name and those of all before it.
    fn sessions(&self) -> Vec<String>;
}

pub(crate) fn told(claims: &dyn Claims) -> ToldClaim {
    let mut told = None;
    let sessions = claims.sessions();
    claims.with(&mut |c| told = Some(ToldClaim::of(c, &sessions)));
    told.expect("a claim is made at once")
}

pub(crate) fn on_here<T>(claims: &dyn Claims, f: impl Fn(&Claim<'_>) -> T) -> T {
    let mut out = None;
    claims.with(&mut |c| out = Some(f(c)));
    out.expect("a claim is made at once")
}
