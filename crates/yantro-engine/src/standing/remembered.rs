//! The board as it was told last, so that those who look on are told only what is new.

use std::{
    collections::BTreeMap,
    time::{Duration, Instant},
};

use yantro_core::{
    proof::SeenState,
    words::{
        name::{Address, HostName},
        time::Timestamp,
    },
};

use crate::standing::board::{BoardRow, HostRow};

/// A board that took longer to put together than this is told again from memory for a while.
const QUICK: Duration = Duration::from_millis(5);
/// So many times as long as it took.
const FOR_TIMES: u32 = 4;
/// A clock that drifts by less is no news, in milliseconds.
const DRIFT_MS: i64 = 500;

/// Rows with the version in which each changed last.
pub(crate) struct Remembered {
    edition: u64,
    version: u64,
    /// From this version on, the same services and hosts are there.
    whole_from: u64,
    rows: BTreeMap<Address, (u64, BoardRow)>,
    hosts: BTreeMap<HostName, (u64, HostRow)>,
    made: Option<(Instant, Duration)>,
    /// When the round began that had looked at everything by then.
    looked_at: Timestamp,
}

/// What is told of a board.
pub(crate) struct Told {
    pub version: u64,
    pub whole: bool,
    pub services: Vec<BoardRow>,
    pub hosts: Vec<HostRow>,
    pub looked_at: Timestamp,
    /// What that round did not look at.
    pub behind: BTreeMap<Address, Timestamp>,
}

impl Remembered {
    /// Nothing yet. Versions begin at the time of the server's start: those of an earlier server are all older.
    pub fn new(started: Timestamp) -> Self {
        let version = started.as_ms().unsigned_abs() * 1000;
        Self { edition: 0, version, whole_from: version, rows: BTreeMap::new(), hosts: BTreeMap::new(), made: None, looked_at: started }
    }

    /// Whether what is remembered will do: a large board is not put together for each of many who ask.
    pub fn will_do(&self, edition: u64) -> bool {
        let is_young = |(at, took): (Instant, Duration)| took > QUICK && at.elapsed() < took * FOR_TIMES;
        self.edition == edition && self.made.is_some_and(is_young)
    }

    /// Takes in a board that was just put together.
    pub fn take(&mut self, edition: u64, rows: Vec<BoardRow>, hosts: Vec<HostRow>, took: Duration, looked_at: Option<Timestamp>) {
        let next = self.version + 1;
        let is_same_set = edition == self.edition && rows.len() == self.rows.len() && hosts.len() == self.hosts.len();
        if !is_same_set {
            self.rows.clear();
            self.hosts.clear();
            self.edition = edition;
            self.whole_from = next;
        }
        let mut is_news = !is_same_set;
        for row in rows {
            match self.rows.get_mut(&row.address) {
                Some((_, known)) if is_same_row(known, &row) => known.seen.as_of = row.seen.as_of,
                _ => {
                    is_news = true;
                    self.rows.insert(row.address.clone(), (next, row));
                }
            }
        }
        for host in hosts {
            match self.hosts.get_mut(&host.name) {
                Some((_, known)) if is_same_host(known, &host) => {}
                _ => {
                    is_news = true;
                    self.hosts.insert(host.name.clone(), (next, host));
                }
            }
        }
        if is_news {
            self.version = next;
        }
        self.made = Some((Instant::now(), took));
        // Before the first round has ended there are looks all the same.
        self.looked_at = looked_at.or_else(|| self.oldest()).unwrap_or(self.looked_at);
    }

    /// What is new since a version, or all of it.
    pub fn tell(&self, since: Option<u64>) -> Told {
        let since = since.filter(|s| (self.whole_from..=self.version).contains(s));
        let is_new = |version: u64| since.is_none_or(|s| version > s);
        Told {
            version: self.version,
            whole: since.is_none(),
            services: self.rows.values().filter(|(v, _)| is_new(*v)).map(|(_, r)| r.clone()).collect(),
            hosts: self.hosts.values().filter(|(v, _)| is_new(*v)).map(|(_, h)| h.clone()).collect(),
            looked_at: self.looked_at,
            behind: self.behind(),
        }
    }
}

impl Remembered {
    /// What was last looked at before the round that all others were looked at in. Where nobody can look, the state says so.
    fn behind(&self) -> BTreeMap<Address, Timestamp> {
        self.seen_rows().filter(|r| r.seen.as_of < self.looked_at).map(|r| (r.address.clone(), r.seen.as_of)).collect()
    }

    fn oldest(&self) -> Option<Timestamp> {
        self.seen_rows().map(|r| r.seen.as_of).min()
    }

    fn seen_rows(&self) -> impl Iterator<Item = &BoardRow> {
        let could_look = |row: &&BoardRow| !matches!(row.seen.state, SeenState::Unknown | SeenState::OutOfReach);
        self.rows.values().map(|(_, row)| row).filter(could_look)
    }
}

/// Whether two rows say the same but for when it was looked at.
fn is_same_row(known: &BoardRow, row: &BoardRow) -> bool {
    let is_same = |known: &BoardRow| known == row;
    if known.seen.as_of == row.seen.as_of {
        return is_same(known);
    }
    let mut known = known.clone();
    known.seen.as_of = row.seen.as_of;
    is_same(&known)
}

/// Whether two hosts are the same but for what each message measures anew.
fn is_same_host(known: &HostRow, host: &HostRow) -> bool {
    let mut known = known.clone();
    if let (Some(was), Some(is)) = (&mut known.link, &host.link) {
        if was.round_trip_us.is_some() == is.round_trip_us.is_some() {
            was.round_trip_us = is.round_trip_us;
        }
        if was.clock_ahead_ms.zip(is.clock_ahead_ms).is_some_and(|(a, b)| (a - b).abs() < DRIFT_MS) {
            was.clock_ahead_ms = is.clock_ahead_ms;
        }
    }
    known == *host
}
