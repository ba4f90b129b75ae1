//! The machine that Yantro itself runs on is never taken down by it, at every single act and however it is described (R13).

use std::{
    collections::BTreeMap,
    net::{IpAddr, UdpSocket},
    path::Path,
};

use rstest::rstest;
use tokio::sync::mpsc::unbounded_channel;
use yantro_core::{
    model::{Estate, Service},
    run::{ActEnd, ActKind},
    text::vet,
    words::name::Address,
};
use yantro_reach::{ActNews, ActSpec, Claim, Claims, Here, Hosts};

struct Own<'a>(&'a Path);

impl Claims for Own<'_> {
    fn with(&self, f: &mut dyn FnMut(&Claim<'_>)) {
        f(&Claim { server: "ours", session: "s", is_own_session: &|s| s == "s", counter: &|| 1, data: self.0 });
    }
    fn sessions(&self) -> Vec<String> {
        vec!["s".to_owned()]
    }
}

/// An address of this machine that others come to it by; where it has none but the loopback's, nothing.
fn own_address() -> Option<IpAddr> {
    // Nothing is sent: the system says by which of its addresses it would be.
    let socket = UdpSocket::bind("0.0.0.0:0").ok()?;
    socket.connect("192.0.2.1:9").ok()?;
    socket.local_addr().ok().map(|a| a.ip()).filter(|ip| !ip.is_loopback())
}

/// A host of this body, whose power is given and taken by commands that note it.
fn estate(folder: &Path, host: &str, more: &str) -> Estate {
    let at = folder.display();
    let noted = |what: &str| format!("[\"/bin/sh\", \"-c\", \"echo {what} >> {at}/noted\"]");
    let text = format!(
        "[estate]\nname = \"Reach\"\nstands_for = \"test\"\n[host.quay]\n{host}\nstop = {{ force = \"allow\" }}\n\
         [host.quay.power]\nby = \"commands\"\nasked_by_controller = true\non = {}\noff = {}\nstate = [\"/bin/true\"]\n{more}",
        noted("on"),
        noted("off"),
    );
    let vetted = vet(&text, &at.to_string());
    let faults: Vec<String> = vetted.faults.iter().map(|f| f.message.clone()).collect();
    vetted.estate.unwrap_or_else(|| panic!("{faults:?}\n{text}"))
}

/// What an act on the host's power comes to, and what was noted of it.
async fn acted(folder: &Path, estate: &Estate, kind: ActKind) -> (String, String) {
    let (changed, _heard) = unbounded_channel();
    let hosts = Hosts::new(Here::new(&folder.join("data"), &folder.join("hosts")).unwrap(), "ours", changed);
    hosts.know(&estate.hosts, |_| false);
    let power: Address = "quay/host".parse().unwrap();
    let service: &Service = &estate.services[&power];
    let (teller, mut news) = unbounded_channel();
    let tell = move |n: ActNews| drop(teller.send(n));
    let spec = ActSpec { identity: "run-1/act-1", kind, service: &std::sync::Arc::new(service.clone()), known: None };
    let came = match hosts.act(spec, None, &estate.hosts[&power.host].address, &Own(folder), tell).await {
        Err(ActEnd::Refused { why, .. }) => why,
        Err(other) => format!("{other:?}"),
        Ok(()) => {
            let mut last = String::new();
            while let Some(told) = news.recv().await {
                last = format!("{told:?}");
            }
            last
        }
    };
    hosts.know(&BTreeMap::new(), |_| false);
    (came, std::fs::read_to_string(folder.join("noted")).unwrap_or_default())
}

#[rstest]
#[case::asked_to_go_down(ActKind::Stop)]
#[case::forced(ActKind::Force)]
#[case::cleared(ActKind::Clear)]
#[tokio::test(flavor = "multi_thread")]
async fn ones_own_machine_keeps_its_power(#[case] kind: ActKind) {
    let folder = tempfile::tempdir().unwrap();
    let estate = estate(folder.path(), "reach = \"here\"\naddress = \"127.0.0.1\"", "");
    let (came, noted) = acted(folder.path(), &estate, kind).await;
    assert!(came.contains("machine that Yantro itself runs on"), "{came}");
    assert_eq!(noted, "");
}

/// Described as another's and not reached, nobody can say that it is this machine; its address does.
#[rstest]
#[case::forced(ActKind::Force)]
#[case::cleared(ActKind::Clear)]
#[tokio::test(flavor = "multi_thread")]
async fn ones_own_machine_keeps_its_power_by_whatever_way_it_is_described(#[case] kind: ActKind) {
    let Some(address) = own_address() else { return };
    let folder = tempfile::tempdir().unwrap();
    let unreached =
        format!("reach = \"ssh\"\naddress = \"{address}\"\nssh = {{ key = \"{}\", port = 9 }}", folder.path().join("key").display());
    let estate = estate(folder.path(), &unreached, "");
    let (came, noted) = acted(folder.path(), &estate, kind).await;
    assert!(came.contains("machine that Yantro itself runs on"), "{came}");
    assert_eq!(noted, "");
}

/// What a hop is called in the client's configuration may be another name for a host, by which Yantro comes to the next: that keeps
/// its power, too. Where that configuration cannot be asked nobody can say.
#[rstest]
#[case::by_its_address("Host pier\n  ProxyJump 127.0.0.1:9\n", "comes to pier through it")]
#[case::by_another_name("Host pier\n  ProxyJump lamp\nHost lamp\n  HostName 127.0.0.1\n", "comes to pier through it")]
#[case::over_another(
    "Host pier\n  ProxyJump mast\nHost mast\n  HostName 10.255.0.9\n  ProxyJump lamp\nHost lamp\n  HostName 127.0.0.1\n",
    "comes to pier through it"
)]
#[case::by_a_command("Host pier\n  ProxyCommand /bin/false -W %h:%p lamp\nHost lamp\n  HostName 127.0.0.1\n", "comes to pier through it")]
#[case::not_to_be_asked("Host pier\n  ProxyJmp lamp\n", "cannot be said: ssh -G says")]
#[tokio::test(flavor = "multi_thread")]
async fn the_way_to_another_keeps_its_power_at_each_act(#[case] config: &str, #[case] why: &str) {
    let folder = tempfile::tempdir().unwrap();
    let at = folder.path().join("ssh_config");
    std::fs::write(&at, config).unwrap();
    let ssh = format!("ssh = {{ key = \"{}\", port = 9, config = \"{}\" }}", folder.path().join("key").display(), at.display());
    let quay = format!("reach = \"ssh\"\naddress = \"127.0.0.1\"\n{ssh}");
    let pier = format!("[host.pier]\nreach = \"ssh\"\naddress = \"127.0.0.2\"\n{}", ssh.replace("key =", "to = \"pier\", key ="));
    let estate = estate(folder.path(), &quay, &pier);
    for kind in [ActKind::Stop, ActKind::Force, ActKind::Clear] {
        let (came, noted) = acted(folder.path(), &estate, kind).await;
        assert!(came.contains(why), "{came}");
        assert_eq!(noted, "");
    }
}

/// Nobody answers at the loopback, which may lead to another: to give power takes nothing from anybody, and what is not ours may lose it.
#[tokio::test(flavor = "multi_thread")]
async fn another_machine_that_is_not_reached_is_given_and_loses_power() {
    for (kind, noted) in [(ActKind::Start, "on\n"), (ActKind::Force, "off\n")] {
        let folder = tempfile::tempdir().unwrap();
        let unreached =
            format!("reach = \"ssh\"\naddress = \"127.0.0.1\"\nssh = {{ key = \"{}\", port = 9 }}", folder.path().join("key").display());
        let estate = estate(folder.path(), &unreached, "");
        let (came, was_noted) = acted(folder.path(), &estate, kind).await;
        assert_eq!(was_noted, noted, "{came}");
    }
}
