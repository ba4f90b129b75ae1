//! What server and outpost say to each other: JSON-RPC 2.0, a message a line, both ways.
//!
//! Every request may be followed by any number of `tell` notifications about it, and by one answer at its end.
//! A request is broken off by the notification `leave`.

use std::{
    borrow::Cow,
    collections::{BTreeMap, BTreeSet},
    sync::Arc,
};

use serde::{Deserialize, Serialize};
use serde_json::{Value, json, value::RawValue};
use yantro_core::{
    model::{Rung, Service},
    run::{ActKind, LogMark},
    words::{kinds::StepKind, name::HostName, time::Timestamp},
};

use crate::{acts::recorder::ActRecord, looks::climb::Climb, looks::logs::LogFollow};

/// A service that was started, when, and its process where one is known.
pub type Started = (Arc<Service>, Timestamp, Option<u32>);

/// The version of what is said. Server and outpost must have the same: one that is installed and speaks another is left alone.
/// It goes up with whatever is said otherwise (see the test below).
pub const PROTOCOL: u32 = 3;

/// Who wants to act, as it is told to another host (R35).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ToldClaim {
    /// The server's identity.
    pub server: String,
    /// This session.
    pub session: String,
    /// This session and all before it.
    pub sessions: Vec<String>,
    /// How far its record of events has come.
    pub counter: i64,
    /// Where it keeps its data.
    pub data: String,
}

/// What the server asks an outpost.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Ask {
    /// The first: who asks. The answer is a [`Hello`].
    Hello {
        /// The server's identity.
        server: String,
        /// Acts that take another account go through `sudo -n`.
        sudo: bool,
    },
    /// Says that the channel is alive.
    Alive {},
    /// Looks at services side by side; the answer has a look each, in order.
    Look {
        /// The services, each with the identity of the act that started it, where one is known.
        services: Vec<(Arc<Service>, Option<String>)>,
    },
    /// Takes looks that are no service's.
    LookOnce {
        /// The host, as the estate calls it.
        host: HostName,
        /// What is looked at.
        rung: Rung,
    },
    /// Gives an act. News of it are told; the answer comes once nothing more will.
    Act {
        /// Its identity.
        identity: String,
        /// What it does.
        kind: ActKind,
        /// To which service.
        service: Arc<Service>,
        /// The act that started it, where one is known.
        started: Option<String>,
        /// In whose name.
        claim: ToldClaim,
    },
    /// What is written down of an act.
    Recorded {
        /// Its identity.
        identity: String,
    },
    /// Follows an act that was given before. News of it are told.
    Follow {
        /// Its identity.
        identity: String,
    },
    /// Takes an identity out of use, so that no act is ever given under it; the answer says whether one was.
    Burn {
        /// The identity.
        identity: String,
    },
    /// Climbs a ladder until left. Reports are told.
    Climb(Box<Climb>),
    /// Watches logs for forbidden lines until one is there or left. The answer is its report.
    WatchLog {
        /// The service.
        service: Arc<Service>,
        /// Whose patterns.
        kind: StepKind,
        /// The act's positions.
        marks: BTreeMap<String, LogMark>,
    },
    /// Ends what an act started.
    End {
        /// Its identity.
        identity: String,
    },
    /// On what terms the host's manager acts on units; the answer has each that it knows.
    Terms {
        /// The units.
        units: Vec<String>,
    },
    /// Looks through the host; the answer is what was found.
    Survey {},
    /// Why services' restarts are owed by what lies on disk.
    OwedByFiles {
        /// Each with its start and its process.
        services: Vec<Started>,
    },
    /// Whether the host may be acted on.
    MayActOn {
        /// In whose name.
        claim: ToldClaim,
    },
    /// Takes the host over.
    TakeOver {
        /// In whose name.
        claim: ToldClaim,
    },
    /// Opens a log for a reader. The answer has the follower and the lines.
    OpenLog {
        /// Which.
        path: String,
        /// From an act's position on, where one is given.
        since: Option<LogMark>,
        /// So many lines before that, or before the end.
        lines: usize,
    },
    /// What a file has from a position on, or nothing yet and its end; the answer has the position after it and the text.
    ReadFrom {
        /// Which.
        path: String,
        /// In bytes.
        from: Option<u64>,
    },
    /// Reads on. The answer has the follower and the lines.
    ReadLog {
        /// As it was given last.
        follow: LogFollow,
    },
}

/// How an outpost introduces itself.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Hello {
    /// The version of what it speaks.
    pub protocol: u32,
    /// What the host calls itself.
    pub host: String,
    /// The account it runs as.
    pub account: String,
    /// Which boot of the host this is.
    pub boot: String,
    /// Its processor and system, as it says: "x86_64 Linux 6.1.0".
    pub system: String,
    /// Where it keeps what it writes down.
    pub data: String,
    /// Where the output of services goes that it starts.
    pub outputs: String,
    /// Its wall clock.
    pub now: Timestamp,
    /// The process it is.
    pub pid: u32,
    /// It is none, but the host's plain shell: acts and commands only.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub plain_shell: bool,
    /// The units of the host's manager that it hangs on: of the SSH server that let it in.
    #[serde(default, skip_serializing_if = "BTreeSet::is_empty")]
    pub hangs_on: BTreeSet<String>,
}

/// A message from an outpost.
#[derive(Debug, Clone, PartialEq)]
pub(crate) enum Said {
    /// About a request that goes on.
    Tell(u64, Value),
    /// A request's answer.
    Answer(u64, Result<Value, String>),
    /// It is there.
    Ready(u32),
}

impl Said {
    pub fn line(&self) -> String {
        let message = match self {
            Said::Tell(of, what) => json!({ "jsonrpc": "2.0", "method": "tell", "params": { "of": of, "what": what } }),
            Said::Answer(id, Ok(result)) => json!({ "jsonrpc": "2.0", "id": id, "result": result }),
            Said::Answer(id, Err(why)) => json!({ "jsonrpc": "2.0", "id": id, "error": { "code": -32000, "message": why } }),
            Said::Ready(protocol) => json!({ "jsonrpc": "2.0", "method": "ready", "params": { "protocol": protocol } }),
        };
        format!("{message}\n")
    }

    /// `None` for what is none of ours: a greeting that the account's shell printed, say.
    #[cfg(any(feature = "outpost", test))]
    pub fn read(line: &str) -> Option<Self> {
        #[derive(Deserialize)]
        struct Message {
            jsonrpc: String,
            id: Option<u64>,
            method: Option<String>,
            #[serde(default)]
            params: Value,
            #[serde(default)]
            result: Value,
            error: Option<Value>,
        }
        let mut message: Message = serde_json::from_str(line).ok().filter(|m: &Message| m.jsonrpc == "2.0")?;
        match (message.method.as_deref(), message.id) {
            (Some("tell"), _) => Some(Said::Tell(message.params["of"].as_u64()?, message.params["what"].take())),
            (Some("ready"), _) => Some(Said::Ready(message.params["protocol"].as_u64()? as u32)),
            (None, Some(id)) => Some(Said::Answer(
                id,
                match message.error {
                    Some(error) => Err(error["message"].as_str().unwrap_or("it says nothing more").to_owned()),
                    None => Ok(message.result),
                },
            )),
            _ => None,
        }
    }
}

/// A message to an outpost.
#[derive(Debug, Clone)]
pub(crate) enum Told {
    Ask(u64, Box<Ask>),
    Leave(u64),
}

impl Told {
    #[cfg(any(feature = "outpost", test))]
    pub fn line(&self) -> String {
        let mut line = match self {
            Told::Ask(id, ask) => {
                // An object of one entry: what is asked, by its name.
                let asked = serde_json::to_string(ask).expect("our own types have text keys only");
                let (method, params) = asked[1..asked.len() - 1].split_once(':').expect("each has its values by name");
                format!(r#"{{"jsonrpc":"2.0","id":{id},"method":{method},"params":{params}}}"#)
            }
            Told::Leave(of) => json!({ "jsonrpc": "2.0", "method": "leave", "params": { "of": of } }).to_string(),
        };
        line.push('\n');
        line
    }

    /// An error says what is wrong with the line, and to which request it belongs where that can be said.
    pub fn read(line: &str) -> Result<Self, (Option<u64>, String)> {
        #[derive(Deserialize)]
        struct Head<'a> {
            id: Option<u64>,
            #[serde(borrow)]
            method: Option<Cow<'a, str>>,
            #[serde(borrow)]
            params: Option<&'a RawValue>,
        }
        #[derive(Deserialize)]
        struct Leave {
            params: Left,
        }
        #[derive(Deserialize)]
        struct Left {
            of: u64,
        }
        let head: Head<'_> = serde_json::from_str(line).map_err(|e| (None, format!("no JSON: {e}")))?;
        if head.method.as_deref() == Some("leave") {
            let leave: Leave = serde_json::from_str(line).map_err(|e| (None, format!("leave what? {e}")))?;
            return Ok(Told::Leave(leave.params.of));
        }
        let id = head.id.ok_or((None, "a request has an id".to_owned()))?;
        // Read as text: no tree of values is made of it first. As an enum with its tag beside it, each type in it would be built
        // twice, and what is carried to a host be larger by a twentieth.
        let (method, params) = (head.method.unwrap_or_default(), head.params.map_or("{}", RawValue::get));
        let named = format!("{{{}:{params}}}", Value::from(method));
        let ask = serde_json::from_str(&named).map_err(|e| (Some(id), format!("not understood: {e}")))?;
        Ok(Told::Ask(id, Box::new(ask)))
    }
}

impl Ask {
    /// The record that a start left, where the asked one is known by its act only.
    pub(crate) fn started_of(record: &crate::acts::recorder::Recorded) -> Option<ActRecord> {
        match record {
            crate::acts::recorder::Recorded::Begun(record) | crate::acts::recorder::Recorded::Ended(Some(record), _) => {
                Some(record.clone())
            }
            _ => None,
        }
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn without_descriptions(value: &mut Value) {
        match value {
            Value::Object(all) => {
                all.retain(|key, value| key != "description" || !value.is_string());
                all.values_mut().for_each(without_descriptions);
            }
            Value::Array(all) => all.iter_mut().for_each(without_descriptions),
            _ => {}
        }
    }

    /// Keys by name: in which order a map keeps them hangs on what else is built along.
    fn sorted(value: Value) -> Value {
        match value {
            Value::Object(map) => {
                let by_name: std::collections::BTreeMap<String, Value> = map.into_iter().collect();
                Value::Object(by_name.into_iter().map(|(key, value)| (key, sorted(value))).collect())
            }
            Value::Array(all) => Value::Array(all.into_iter().map(sorted).collect()),
            other => other,
        }
    }

    /// An outpost that is installed is left alone where it speaks another version: what is said otherwise is another one.
    #[test]
    fn what_is_said_otherwise_is_said_in_another_version() {
        use sha2::{Digest, Sha256};
        use yantro_core::{
            proof::Answer,
            run::{ActBegun, ActEnd, LogMark},
        };
        let mut forms = json!([schemars::schema_for!((Service, Rung, Answer)), schemars::schema_for!((ActBegun, ActEnd, LogMark))]);
        without_descriptions(&mut forms);
        let form = Sha256::digest(sorted(forms).to_string()).iter().take(4).map(|b| format!("{b:02x}")).collect::<String>();
        assert_eq!((PROTOCOL, form.as_str()), (3, "3c6eb4af"), "raise PROTOCOL, and write down the form that goes with it");
    }

    #[rstest]
    #[case(Said::Tell(7, json!({ "begun": true })))]
    #[case(Said::Answer(7, Ok(json!([1, 2]))))]
    #[case(Said::Answer(7, Ok(Value::Null)))]
    #[case(Said::Answer(8, Err("no room".into())))]
    #[case(Said::Ready(1))]
    fn what_an_outpost_says_is_a_line_and_read_back(#[case] said: Said) {
        let line = said.line();
        assert_eq!(line.matches('\n').count(), 1);
        assert_eq!(Said::read(&line), Some(said));
    }

    #[rstest]
    #[case("Welcome to the quay office")]
    #[case("{}")]
    #[case("[1]")]
    #[case(r#"{"jsonrpc":"1.0","id":1,"result":1}"#)]
    fn what_else_comes_over_the_channel_is_none_of_ours(#[case] line: &str) {
        assert_eq!(Said::read(line), None);
    }

    #[rstest]
    #[case::no_json("hello", None, "no JSON")]
    #[case::no_id(r#"{"jsonrpc":"2.0","method":"alive","params":{}}"#, None, "has an id")]
    #[case::unknown(r#"{"jsonrpc":"2.0","id":4,"method":"dance","params":{}}"#, Some(4), "not understood")]
    fn a_bad_request_is_answered_where_it_can_be(#[case] line: &str, #[case] of: Option<u64>, #[case] says: &str) {
        let (id, why) = Told::read(line).unwrap_err();
        assert!(id == of && why.contains(says), "{id:?} {why}");
    }

    #[test]
    fn a_request_is_a_line_and_read_back() {
        let line = Told::Ask(3, Box::new(Ask::Recorded { identity: "run-1-x/act-2".into() })).line();
        let Ok(Told::Ask(3, ask)) = Told::read(&line) else { panic!("{line}") };
        assert!(matches!(*ask, Ask::Recorded { identity } if identity == "run-1-x/act-2"));
    }
}
