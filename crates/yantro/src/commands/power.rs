//! `yantro power`: asks a controller for something, or wakes a host, from the command line. The server gives its power acts by this
//! same command, so that the record has what anyone could type.

use std::time::Duration;

use clap::Subcommand;
use yantro_core::{
    model::{Controller, POWER_PASSWORD, PowerDeed},
    words::time::Span,
};
use yantro_reach::power::{Redfish, wake};

use crate::{
    client::wait_for,
    exit::{Exit, Failure, Outcome},
    say::Say,
};

/// Ask a power controller for something, or wake a host.
#[derive(clap::Args)]
pub struct Power {
    #[command(subcommand)]
    deed: Deed,
}

#[derive(Subcommand)]
enum Deed {
    /// Say whether it has power.
    State(Part),
    /// Give it power.
    On(Part),
    /// Take its power away, whatever it does.
    Off(Part),
    /// Have the controller ask the host to shut down.
    ShutDown(Part),
    /// Send a Wake-on-LAN packet.
    Wake {
        /// The hardware address: 02:00:5e:10:00:01.
        mac: String,
        /// Where to: the network's broadcast address.
        #[arg(long)]
        to: String,
        /// To which port.
        #[arg(long, default_value_t = 9)]
        port: u16,
    },
}

/// A part of a controller that speaks Redfish. Its password is read from the environment, YANTRO_POWER_PASSWORD.
#[derive(clap::Args)]
struct Part {
    /// Where the controller answers: https://10.0.9.2.
    #[arg(long)]
    controller: String,
    /// The computer system or the outlet there: /redfish/v1/Systems/1.
    #[arg(long)]
    part: String,
    /// The account there.
    #[arg(long)]
    account: Option<String>,
    /// A file of certificates, PEM, by which it is believed (default: the system's).
    #[arg(long)]
    believes: Option<String>,
    /// How long a task of the controller may take.
    #[arg(long, default_value = "5m")]
    within: Span,
}

impl Power {
    pub fn run(self, say: &Say) -> Outcome {
        let (part, deed) = match self.deed {
            Deed::Wake { mac, to, port } => {
                wake(&mac, &to, port).map_err(|why| Failure::own(why, "check the addresses"))?;
                say.line(format!("sent to {to}:{port} for {mac}; whether it wakes is its own affair"));
                return Ok(Exit::Good);
            }
            Deed::State(part) => (part, None),
            Deed::On(part) => (part, Some(PowerDeed::On)),
            Deed::Off(part) => (part, Some(PowerDeed::Off)),
            Deed::ShutDown(part) => (part, Some(PowerDeed::ShutDown)),
        };
        let Part { controller, part, account, believes, within } = part;
        let controller = Controller { controller, part, account, password: None, believes };
        let password = std::env::var(POWER_PASSWORD).ok();
        wait_for(async {
            let redfish = Redfish::new(&controller, password.as_deref()).map_err(told)?;
            match deed {
                None => say.line(redfish.state().await.map_err(told)?.says()),
                Some(deed) => {
                    redfish.ask_for(deed, Duration::max(within.0, Duration::from_secs(1)), |line| say.line(line)).await.map_err(told)?
                }
            }
            Ok(Exit::Good)
        })
    }
}

fn told(why: String) -> Failure {
    Failure::own(why, "see the controller's own log, and whether it answers at all")
}
