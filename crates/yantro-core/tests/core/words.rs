//! Names, lengths of time and secrets as they are written and shown.

use rstest::rstest;
use yantro_core::{
    model::secrecy::shown,
    words::{
        name::{Address, did_you_mean},
        time::{Span, Timestamp},
    },
};

#[rstest]
#[case::plain("quay-1/fares-db", "quay-1/fares-db")]
#[case::copy("Pier-North/Gate-Check.2", "pier-north/gate-check.2")]
fn addresses_read_without_regard_to_case(#[case] typed: &str, #[case] canonical: &str) {
    assert_eq!(typed.parse::<Address>().unwrap().to_string(), canonical);
}

#[rstest]
#[case::no_stroke("fares-db")]
#[case::space("quay 1/fares-db")]
#[case::empty_service("quay-1/")]
#[case::empty_copy("quay-1/gate.")]
fn what_is_no_address_is_refused(#[case] typed: &str) {
    assert!(typed.parse::<Address>().is_err());
}

#[test]
fn a_near_miss_is_suggested() {
    assert_eq!(did_you_mean("fare-db", ["fares-db", "booking"]), "did you mean \"fares-db\"?");
    assert_eq!(did_you_mean("zzz", ["fares-db", "booking"]), "known here: booking, fares-db");
}

#[rstest]
#[case("90s", 90_000)]
#[case("5m", 300_000)]
#[case("1h 30m", 5_400_000)]
#[case("200ms", 200)]
fn spans_read_as_people_write_them(#[case] text: &str, #[case] ms: u64) {
    assert_eq!(text.parse::<Span>().unwrap(), Span::millis(ms));
}

#[test]
fn a_number_without_a_unit_is_refused_with_the_reason() {
    let error = "90".parse::<Span>().unwrap_err();
    assert!(error.to_string().starts_with("\"90\" is no length of time: "), "{error}");
}

#[test]
fn instants_survive_json() {
    let at = Timestamp::from_ms(1_795_418_412_345);
    let text = serde_json::to_string(&at).unwrap();
    assert_eq!(serde_json::from_str::<Timestamp>(&text).unwrap(), at);
}

#[rstest]
#[case::a_password("DB_PASSWORD", "hunter2", "[DB_PASSWORD as the estate has it]")]
#[case::a_reference("DB_PASSWORD", "file:/etc/yantro/db", "file:/etc/yantro/db")]
#[case::a_path("TLS_SECRET", "/etc/ferry/key", "/etc/ferry/key")]
#[case::something_else("LANE", "A", "A")]
#[case::in_an_address("DB", "postgres://fares:hunter2@db:5432/fares", "postgres://fares:[password]@db:5432/fares")]
#[case::an_address("DB", "postgres://fares@db/fares?x=a:b@c", "postgres://fares@db/fares?x=a:b@c")]
fn what_is_secret_and_in_the_open_is_not_shown(#[case] name: &str, #[case] value: &str, #[case] wanted: &str) {
    assert_eq!(shown(name, value), wanted);
}
