//! What a host is asked over its connection: looks, acts and their ends, climbs, logs.

use super::{
    ACT_WAITS, Far, OutOfReach, WANTED_PAUSE, again_within,
    conn::{Conn, Heard, Lost},
    refused,
};
use std::{
    collections::BTreeMap,
    sync::{Arc, PoisonError},
    time::{Duration, Instant},
};

use serde_json::Value;
use yantro_core::{
    model::{Rung, Service},
    proof::{Answer, UnitTerms, Verdict},
    run::{ActEnd, ActKind, LogMark},
    text::survey::Survey,
    words::{kinds::StepKind, time::Timestamp},
};

use crate::{
    acts::recorder::{ActNews, GOES_ON, Recorded},
    links::{
        trouble::Trouble,
        wire::{Ask, Started, ToldClaim},
    },
    looks::{
        climb::{Climb, Report},
        logs::{LogFollow, LogLine},
        look::RawLook,
    },
};

impl Far {
    /// Looks at services, each with the identity of the act that started it.
    pub(crate) async fn look(&self, services: Vec<(Arc<Service>, Option<String>)>) -> Result<Vec<RawLook>, OutOfReach> {
        self.once(Ask::Look { services }).await?.map_err(|why| OutOfReach { host: self.host.clone(), why })
    }

    /// Looks once at something that is no service's.
    pub(crate) async fn look_once(&self, rung: &Rung) -> Answer {
        match self.once(Ask::LookOnce { host: self.host.clone(), rung: rung.clone() }).await {
            Ok(Ok(answer)) => answer,
            Ok(Err(why)) => Answer::could_not(why),
            Err(out) => Answer::could_not(out.to_string()),
        }
    }

    /// What is written down of an act; waits for the link.
    pub(crate) async fn recorded(&self, identity: &str) -> Recorded {
        loop {
            match self.surely(|| Ask::Recorded { identity: identity.to_owned() }).await {
                Ok(recorded) => return recorded,
                Err(why) => {
                    tracing::warn!(host = %self.host, %why, "an act's record could not be asked for");
                    tokio::time::sleep(WANTED_PAUSE).await;
                }
            }
        }
    }

    /// Takes an act's identity out of use there, and says whether it had not begun; waits for the link.
    pub(crate) async fn burn(&self, identity: &str) -> Result<bool, String> {
        self.surely(|| Ask::Burn { identity: identity.to_owned() }).await
    }

    /// Ends what an act started; waits for the link.
    pub(crate) async fn end(&self, identity: &str) {
        let _ = self.surely::<Value>(|| Ask::End { identity: identity.to_owned() }).await;
    }

    /// Gives an act and follows it to its end, over any loss of the link: what was sent is looked for before it is
    /// given again, under the same identity, which the far side lets begin only once.
    pub(crate) async fn act(
        &self,
        identity: &str,
        kind: ActKind,
        service: &Arc<Service>,
        started: Option<String>,
        claim: impl Fn() -> ToldClaim,
        tell: impl Fn(ActNews) + Send + Sync + 'static,
    ) -> Result<(), ActEnd> {
        let (asked_at, mut sent, mut begun) = (Instant::now(), false, false);
        loop {
            let conn = if sent {
                self.connected().await
            } else {
                match tokio::time::timeout(ACT_WAITS, self.connected()).await {
                    Ok(conn) => conn,
                    Err(_) => {
                        let out = self.out_of_reach();
                        let mend = self.link.borrow().mend.clone().unwrap_or_else(|| "see that the host answers, and try again".to_owned());
                        return Err(refused(Trouble { why: format!("{out}; nothing was given"), mend }));
                    }
                }
            };
            if sent {
                let Ok(recorded) = conn.ask(Ask::Recorded { identity: identity.to_owned() }).answer::<Recorded>().await else { continue };
                match recorded.map_err(|why| refused(Trouble { why, mend: "see the host's own log".to_owned() }))? {
                    Recorded::Nothing if asked_at.elapsed() > again_within(kind, service) => {
                        // Too late to be given now; and what may still be on its way must not arrive either.
                        match self.surely::<bool>(|| Ask::Burn { identity: identity.to_owned() }).await {
                            Ok(true) => {
                                let why =
                                    format!("the link to {} was lost before it arrived there, for too long; it was not given", self.host);
                                return Err(refused(Trouble { why, mend: "try again".to_owned() }));
                            }
                            _ => continue,
                        }
                    }
                    Recorded::Nothing => {}
                    Recorded::Burnt => {
                        let why = "it was taken out of use before it began".to_owned();
                        return Err(refused(Trouble { why, mend: "try again".to_owned() }));
                    }
                    Recorded::GoesOn => {
                        tell(ActNews::Lost(GOES_ON.to_owned()));
                        return Ok(());
                    }
                    Recorded::OnlyFolder => {
                        tokio::time::sleep(Duration::from_millis(100)).await;
                        if let Ok(Ok(Recorded::OnlyFolder)) =
                            conn.ask(Ask::Recorded { identity: identity.to_owned() }).answer::<Recorded>().await
                            && asked_at.elapsed() > Duration::from_secs(5)
                        {
                            tell(ActNews::Lost(
                                "it was about to begin when the link was lost, and nothing more is written down".to_owned(),
                            ));
                            return Ok(());
                        }
                        continue;
                    }
                    Recorded::Begun(record) => {
                        if let Some(how) = record.begun.clone().filter(|_| !begun) {
                            begun = true;
                            tell(ActNews::Begun(Box::new(how), Box::new(record)));
                        }
                        if self.follow_now(&conn, identity, &tell).await.is_ok() {
                            return Ok(());
                        }
                        continue;
                    }
                    Recorded::Ended(record, end) => {
                        if let Some(record) = record
                            && let Some(how) = record.begun.clone().filter(|_| !begun)
                        {
                            tell(ActNews::Begun(Box::new(how), Box::new(record)));
                        }
                        tell(ActNews::Ended(end));
                        return Ok(());
                    }
                }
            }
            sent = true;
            let mut asked = {
                // Counters go up in the order in which they are sent.
                let _turn = self.claims.lock().unwrap_or_else(PoisonError::into_inner);
                conn.ask(Ask::Act {
                    identity: identity.to_owned(),
                    kind,
                    service: Arc::clone(service),
                    started: started.clone(),
                    claim: claim(),
                })
            };
            let mut ended = false;
            loop {
                match asked.next().await {
                    Ok(Heard::Tell(what)) => {
                        let Ok(news) = serde_json::from_value::<ActNews>(what) else { continue };
                        begun |= matches!(news, ActNews::Begun(..));
                        ended |= matches!(news, ActNews::Ended(_) | ActNews::Lost(_));
                        tell(news);
                    }
                    Ok(Heard::Answer(Ok(answer))) => {
                        if let Some(kept) = answer.get("kept") {
                            let why = kept["says"].as_str().unwrap_or_default().to_owned();
                            let mend =
                                kept["mend"].as_str().map_or_else(|| format!("yantro take-over {} --why …", self.host), str::to_owned);
                            return Err(refused(Trouble { why, mend }));
                        }
                        return Ok(());
                    }
                    Ok(Heard::Answer(Err(why))) => {
                        return Err(refused(Trouble { why, mend: "see what the host said, mend it, and try again".to_owned() }));
                    }
                    Err(Lost) if ended => return Ok(()),
                    Err(Lost) => break,
                }
            }
        }
    }

    async fn follow_now(&self, conn: &Arc<Conn>, identity: &str, tell: &impl Fn(ActNews)) -> Result<(), Lost> {
        let mut asked = conn.ask(Ask::Follow { identity: identity.to_owned() });
        loop {
            match asked.next().await? {
                Heard::Tell(what) => {
                    if let Ok(news) = serde_json::from_value::<ActNews>(what) {
                        tell(news);
                    }
                }
                Heard::Answer(_) => return Ok(()),
            }
        }
    }

    /// Follows an act that an earlier server gave, over any loss of the link.
    pub(crate) async fn follow(&self, identity: &str, tell: impl Fn(ActNews) + Send + Sync + 'static) {
        loop {
            let conn = self.connected().await;
            if self.follow_now(&conn, identity, &tell).await.is_ok() {
                return;
            }
        }
    }

    /// Climbs until dropped, over any loss of the link.
    pub(crate) async fn climb(&self, mut climb: Climb, mut report: impl FnMut(Report)) {
        let rungs = climb.service.ladder_of(climb.kind).len();
        let since = climb.since;
        loop {
            let conn = match self.now_connected() {
                Ok(conn) => conn,
                Err(out) => {
                    let rung = climb.from.min(rungs.saturating_sub(1)) as u32;
                    report(Report { rung, answer: Answer::could_not(out.to_string()), logs: Vec::new() });
                    self.connected().await
                }
            };
            // What a file's time is held against is the host's own clock.
            climb.since = self.by_its_clock(since);
            let mut asked = conn.ask(Ask::Climb(Box::new(climb.clone())));
            loop {
                match asked.next().await {
                    Ok(Heard::Tell(what)) => {
                        let Ok(told) = serde_json::from_value::<Report>(what) else { continue };
                        climb.from = told.rung as usize + usize::from(told.answer.verdict == Verdict::Holds);
                        report(told);
                    }
                    Ok(Heard::Answer(Ok(_))) => return,
                    Ok(Heard::Answer(Err(why))) => {
                        let rung = climb.from.min(rungs.saturating_sub(1)) as u32;
                        return report(Report { rung, answer: Answer::could_not(why), logs: Vec::new() });
                    }
                    Err(Lost) => break,
                }
            }
        }
    }

    /// One of our instants as the host's clock had it.
    fn by_its_clock(&self, at: Timestamp) -> Timestamp {
        Timestamp::from_ms(at.as_ms() + self.link.borrow().clock_ahead_ms.unwrap_or_default())
    }

    /// Watches the logs of an act for forbidden lines, over any loss of the link.
    pub(crate) async fn watch_log(&self, service: &Arc<Service>, kind: StepKind, marks: &BTreeMap<String, LogMark>) -> Option<Report> {
        let ask = || Ask::WatchLog { service: Arc::clone(service), kind, marks: marks.clone() };
        self.surely::<Option<Report>>(ask).await.ok().flatten()
    }

    /// Looks through the host.
    pub(crate) async fn survey(&self) -> Result<Survey, String> {
        self.once(Ask::Survey {}).await.map_err(|e| e.to_string())?
    }

    /// On what terms the host's manager acts on units.
    pub(crate) async fn terms(&self, units: Vec<String>) -> BTreeMap<String, UnitTerms> {
        self.once(Ask::Terms { units }).await.ok().and_then(Result::ok).unwrap_or_default()
    }

    /// Why services' restarts are owed by what lies on disk; nothing where the host does not answer.
    pub(crate) async fn owed_by_files(&self, services: Vec<Started>) -> Vec<Option<String>> {
        let services = services.into_iter().map(|(s, at, pid)| (s, self.by_its_clock(at), pid)).collect();
        match self.once(Ask::OwedByFiles { services }).await {
            Ok(Ok(owed)) => owed,
            _ => Vec::new(),
        }
    }

    /// Why this server must not act there; `None` where it may, or where that cannot be asked now.
    pub(crate) async fn kept(&self, claim: ToldClaim) -> Option<(String, bool)> {
        let kept: Value = self.once(Ask::MayActOn { claim }).await.ok()?.ok()?;
        Some((kept["says"].as_str()?.to_owned(), kept["doubts"].as_bool()?))
    }

    /// Takes the host over.
    pub(crate) async fn take_over(&self, claim: ToldClaim) -> Result<(), String> {
        let kept: Value = self.once(Ask::TakeOver { claim }).await.map_err(|e| e.to_string())??;
        kept["says"].as_str().map_or(Ok(()), |says| Err(says.to_owned()))
    }

    /// Opens a log for a reader.
    pub(crate) async fn open_log(&self, path: &str, since: Option<LogMark>, lines: usize) -> Result<(LogFollow, Vec<LogLine>), String> {
        self.once(Ask::OpenLog { path: path.to_owned(), since, lines }).await.map_err(|e| e.to_string())?
    }

    /// What a file has from a position on.
    pub(crate) async fn read_from(&self, path: &str, from: Option<u64>) -> Result<(u64, String), String> {
        self.once(Ask::ReadFrom { path: path.to_owned(), from }).await.map_err(|e| e.to_string())?
    }

    /// Reads on.
    pub(crate) async fn read_log(&self, follow: LogFollow) -> Result<(LogFollow, Vec<LogLine>), String> {
        self.once(Ask::ReadLog { follow }).await.map_err(|e| e.to_string())?
    }
}
