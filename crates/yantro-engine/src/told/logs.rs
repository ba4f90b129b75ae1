//! Logs and files of hosts, for readers.

use yantro_core::{
    model::{Service, ServiceRunner},
    run::LogMark,
    words::name::HostName,
};
use yantro_reach::{LogLine, ReadLog};

use crate::engine::Engine;

impl Engine {
    /// Every log of a service, as files.
    pub fn logs_of(&self, service: &Service) -> Vec<String> {
        let own = match &service.runner {
            ServiceRunner::Process(_) => self.output_of(service),
            ServiceRunner::Systemd(s) => Some(s.journal()),
            ServiceRunner::Commands(_) | ServiceRunner::Host(_) | ServiceRunner::Outlet(_) | ServiceRunner::Simulated(_) => None,
        };
        service.logs.iter().cloned().chain(own).collect()
    }

    /// Where a service's own output goes, as far as its host is known.
    pub fn output_of(&self, service: &Service) -> Option<String> {
        self.hands.hosts.output_of(service)
    }

    /// What a file of a host has from a position on; see [`Hosts::read_from`].
    pub async fn read_from(&self, host: &HostName, path: &str, from: Option<u64>) -> Result<(u64, String), String> {
        self.hands.hosts.read_from(host, path, from).await
    }

    /// Opens a log on a host for a reader: so many lines before an act's position, or before its end.
    pub async fn open_log(
        &self,
        host: &HostName,
        path: &str,
        since: Option<LogMark>,
        lines: usize,
    ) -> Result<(ReadLog, Vec<LogLine>), String> {
        self.hands.hosts.open_log(host, path, since, lines).await
    }
}
