//! Finding again what an earlier server gave: acts that were on their way, and what runs by its starts.

use std::{
    sync::{Arc, OnceLock, PoisonError},
    time::{Duration, Instant},
};

use yantro_core::{
    model::Service,
    run::{ActKind, Input},
    words::name::{Address, HostName},
};
use yantro_reach::{ActNews, ActRecord, Recorded};

use super::{Given, Hands};
use crate::messages::Msg;

/// How long a recorder may take to write down that its act begins.
const BEGIN_IS_WRITTEN: Duration = Duration::from_secs(10);

impl Hands {
    /// Finds out what became of an act that was intended before the server ended (R21). `boot` is the one in which a
    /// host had taken the command to go down, as far as that was known.
    pub fn find_act(&self, given: Given, service: Arc<Service>, boot: Option<String>) {
        let hands = self.clone();
        tokio::spawn(async move {
            let took = boot.map_or_else(OnceLock::new, OnceLock::from);
            let tell = hands.teller(given.clone(), service.address.clone());
            tokio::select! {
                () = hands.look_for(&given, &service, &took) => {}
                gone = hands.hosts.went_down(&service, given.kind, &took) => tell(gone),
            }
        });
    }

    async fn look_for(&self, given: &Given, service: &Arc<Service>, took: &OnceLock<String>) {
        let given_here = self.hosts.is_given_here(service, given.kind, &given.identity);
        let recorded = if given_here {
            self.hosts.here().recorded(&given.identity)
        } else {
            self.hosts.recorded(&service.address.host, &given.identity).await
        };
        match recorded {
            // Never begun. Things may have changed since it was intended, and the run may be held: it is not given now, and its
            // identity is taken out of use, so that no recorder on its way still begins it. Its step begins anew.
            Recorded::Nothing => match self.hosts.burn(&service.address.host, given_here, &given.identity).await {
                Ok(true) => self.tell(given.run, Input::ActNeverBegun { step: given.step, act: given.act }),
                Ok(false) => self.find(given, &service.address, took).await,
                Err(why) => {
                    tracing::warn!(run = %given.run, step = %given.step, %why, "whether an act was begun is not known");
                    self.tell(given.run, Input::ActUnknown { step: given.step, act: given.act });
                }
            },
            _ => self.find(given, &service.address, took).await,
        }
    }

    pub(super) async fn find(&self, given: &Given, address: &Address, took: &OnceLock<String>) {
        let Given { run, step, act, kind, ref identity, .. } = *given;
        // A folder without a record: its recorder may be about to write it, to a disk that takes its time.
        let mut recorded = self.hosts.recorded(&address.host, identity).await;
        let asked_at = Instant::now();
        while recorded == Recorded::OnlyFolder && asked_at.elapsed() < BEGIN_IS_WRITTEN {
            tokio::time::sleep(Duration::from_millis(10)).await;
            recorded = self.hosts.recorded(&address.host, identity).await;
        }
        let remember = |record: &ActRecord| {
            if kind == ActKind::Start {
                self.known.lock().unwrap_or_else(PoisonError::into_inner).insert(address.clone(), record.clone());
            }
            if let Some(begun) = &record.begun {
                let mut begun = begun.clone();
                // Another boot than this one proves that a host went down.
                if address.is_host() && matches!(kind, ActKind::Stop | ActKind::Clear) {
                    begun.boot = Some(took.get_or_init(|| record.recorder.boot.clone()).clone());
                }
                self.tell(run, Input::ActBegun { step, act, begun });
            }
        };
        match recorded {
            // Taken out of use by a server that ended before it had noted so.
            Recorded::Burnt => self.tell(run, Input::ActNeverBegun { step, act }),
            Recorded::Nothing | Recorded::OnlyFolder | Recorded::GoesOn => self.tell(run, Input::ActUnknown { step, act }),
            Recorded::Begun(record) => {
                remember(&record);
                self.hosts.follow(&address.host, identity, record, self.teller(given.clone(), address.clone())).await;
            }
            Recorded::Ended(record, end) => {
                if let Some(record) = &record {
                    remember(record);
                }
                self.ended(given, end);
            }
        }
    }

    /// Follows the ends of what earlier servers started, so that the board hears of them at once.
    pub fn follow_started(&self) {
        let known: Vec<(Address, ActRecord)> =
            self.known.lock().unwrap_or_else(PoisonError::into_inner).iter().map(|(a, r)| (a.clone(), r.clone())).collect();
        for (address, record) in known {
            self.follow_one(address, record);
        }
    }

    fn follow_one(&self, address: Address, record: ActRecord) {
        let (hands, Some(started)) = (self.clone(), self.started_as(&address)) else { return };
        let inbox = hands.inbox.clone();
        tokio::spawn(async move {
            let host = address.host.clone();
            let tell = move |_: ActNews| {
                inbox.tell(Msg::LookAt(address.clone()));
            };
            hands.hosts.follow(&host, &started.act, record, tell).await;
        });
    }

    /// A host is within reach: what earlier servers started there is known again from its own records.
    pub async fn learn_started_on(&self, host: &HostName) {
        let unknown: Vec<(Address, String)> = {
            let started = self.started.read().unwrap_or_else(PoisonError::into_inner);
            let known = self.known.lock().unwrap_or_else(PoisonError::into_inner);
            started.iter().filter(|(a, _)| &a.host == host && !known.contains_key(*a)).map(|(a, s)| (a.clone(), s.act.clone())).collect()
        };
        for (address, act) in unknown {
            if let Recorded::Begun(record) | Recorded::Ended(Some(record), _) = self.hosts.recorded(host, &act).await {
                self.known.lock().unwrap_or_else(PoisonError::into_inner).insert(address.clone(), record.clone());
                self.follow_one(address, record);
            }
        }
    }
}
