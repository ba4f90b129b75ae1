//! What was found on a host, described so that it can be taken in.

use yantro_core::{
    text::{
        survey::{FoundPort, FoundUnit, Survey, is_plumbing},
        vet,
    },
    words::name::HostName,
};

const ESTATE: &str = "[estate]\nname = \"Sound\"\nstands_for = \"test\"\n[host.desk]\nreach = \"ssh\"\naddress = \"10.77.0.12\"\n\
    [service.sessions]\nhost = \"desk\"\nrun_by = \"systemd\"\nunit = \"redis-server\"\nladder = [{ rung = \"port\", port = 6379 }]\n";

fn unit(unit: &str, ports: &[(u16, &str)], needs: &[&str], after: &[&str]) -> FoundUnit {
    let set = |list: &[&str]| list.iter().map(|u| (*u).to_owned()).collect();
    let ports = ports.iter().map(|(port, on)| FoundPort { port: *port, on: (*on).to_owned(), process: None }).collect();
    FoundUnit {
        unit: unit.into(),
        title: format!("The \"{unit}\""),
        state: "active (running)".into(),
        at_boot: "enabled".into(),
        ports,
        needs: set(needs),
        after: set(after),
        plumbing: is_plumbing(unit),
        described_as: None,
    }
}

#[test]
fn what_is_found_is_described_so_that_it_can_be_loaded() {
    let estate = vet(ESTATE, "/srv").estate.unwrap();
    let desk: HostName = "desk".parse().unwrap();
    let units = vec![
        unit("redis-server.service", &[(6379, "127.0.0.1")], &[], &[]),
        unit("booking@a.service", &[(8080, "0.0.0.0"), (8080, "::"), (9090, "127.0.0.1")], &["redis-server.service"], &["nginx.service"]),
        unit("nginx.service", &[(80, "0.0.0.0")], &[], &["cron.service"]),
        unit("cron.service", &[], &[], &[]),
    ];
    let survey = Survey { units, others: Vec::new() }.known_in(&estate, &desk);
    assert_eq!(survey.units[0].described_as.as_ref().map(ToString::to_string).as_deref(), Some("desk/sessions"));
    assert!(survey.units[3].plumbing && !survey.units[2].plumbing);
    let chosen: Vec<String> = ["redis-server.service", "booking@a.service", "nginx.service"].map(str::to_owned).to_vec();
    let piece = survey.describe(&estate, &desk, &chosen);
    let whole = vet(&format!("{ESTATE}\n{piece}"), "/srv");
    let described = whole.estate.unwrap_or_else(|| panic!("{piece}\n{:#?}", whole.faults));
    let booking = &described.services[&"desk/booking-a".parse().unwrap()];
    assert_eq!(booking.ladder.len(), 3, "the manager, and each port once: {piece}");
    assert_eq!(booking.relies_on_any().map(ToString::to_string).collect::<Vec<_>>(), ["desk/sessions"]);
    assert_eq!(booking.yields_to.iter().map(ToString::to_string).collect::<Vec<_>>(), ["desk/nginx"]);
    assert_eq!(described.services.len(), 3, "what is described already is left out");
}

/// A need that is not described is told, and becomes a relation once it is.
#[test]
fn a_need_that_is_not_described_yet_is_not_dropped() {
    let estate = vet(ESTATE, "/srv").estate.unwrap();
    let desk: HostName = "desk".parse().unwrap();
    let units = vec![
        unit("redis-server.service", &[(6379, "127.0.0.1")], &["storage.service", "cron.service"], &[]),
        unit("storage.service", &[(2049, "0.0.0.0")], &[], &[]),
        unit("booking.service", &[(8080, "0.0.0.0")], &["storage.service"], &[]),
        unit("cron.service", &[], &[], &[]),
    ];
    let survey = Survey { units, others: Vec::new() }.known_in(&estate, &desk);
    let chosen = vec!["booking.service".to_owned()];
    assert_eq!(survey.left_out(&chosen), [("booking.service".to_owned(), "storage.service".to_owned())]);
    let piece = survey.describe(&estate, &desk, &chosen);
    assert!(piece.contains("# it needs storage.service, which no service describes yet"), "{piece}");
    // Taken in later: whoever was described before relies on it from then on.
    let with_booking = vet(&format!("{ESTATE}\n{piece}"), "/srv").estate.unwrap();
    let survey = survey.known_in(&with_booking, &desk);
    let piece_of_storage = survey.describe(&with_booking, &desk, &["storage.service".to_owned()]);
    let with_both = vet(&format!("{ESTATE}\n{piece}\n{piece_of_storage}"), "/srv").estate.unwrap();
    let related: Vec<String> =
        survey.known_in(&with_both, &desk).now_related(&with_booking).iter().map(|(a, b)| format!("{a} on {b}")).collect();
    assert_eq!(related, ["desk/sessions on desk/storage", "desk/booking on desk/storage"]);
}
