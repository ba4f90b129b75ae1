//! Trying hosts that are out of reach.

use yantro_core::words::name::HostName;
use yantro_engine::BoardView;
use yantro_server::wire::ReachRequest;

use crate::{
    Global,
    client::{Client, wait_for},
    exit::{Exit, Outcome},
    say::{Say, Tint, tinted},
};

/// Try hosts that are out of reach at once, and say what comes of it
#[derive(clap::Args)]
pub struct Reach {
    /// The hosts.
    #[arg(required = true)]
    hosts: Vec<HostName>,
}

impl Reach {
    pub fn run(self, global: &Global, say: &Say) -> Outcome {
        let client = Client::find(global)?;
        let board: BoardView = wait_for(client.post("/tries", &ReachRequest { hosts: self.hosts.clone() }))?;
        let tried: Vec<_> = board.hosts.iter().filter(|h| self.hosts.contains(&h.name)).collect();
        let all_up = tried.iter().all(|h| h.link.as_ref().is_none_or(|l| l.up));
        if say.is_json() {
            say.json(&tried);
            return Ok(if all_up { Exit::Good } else { Exit::Failed });
        }
        for host in tried {
            say.line(match &host.link {
                None => format!("{} needs no connection", host.name),
                Some(link) if link.up => {
                    let took =
                        link.round_trip_us.map_or_else(String::new, |us| format!(", there and back in {:.1} ms", us as f64 / 1000.0));
                    let account = link.account.as_ref().map_or_else(String::new, |a| format!(" as {a}"));
                    format!("{} {} is reached{account}{took}", tinted(Tint::Good, "◉"), host.name)
                }
                Some(link) => {
                    let why = link.why.as_deref().unwrap_or("it is being tried still");
                    let mend = link.mend.as_ref().map_or_else(String::new, |m| format!("\n  {m}"));
                    format!("{}{mend}", tinted(Tint::Unreach, format!("{} is out of reach: {why}", host.name)))
                }
            });
        }
        Ok(if all_up { Exit::Good } else { Exit::Failed })
    }
}
