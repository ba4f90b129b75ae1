//! A relation that is written into an estate in its place.

use rstest::rstest;
use yantro_core::text::written::related;

#[rstest]
#[case::none(
    "[service.booking] # the desk\nhost = \"desk\"\n\n[x]\n",
    Some("[service.booking] # the desk\nhost = \"desk\"\nrelies_on = [\"desk/db\"]\n\n[x]\n")
)]
#[case::some(
    "[service.booking]\nrelies_on = [\"a\"] # why\nhost = \"desk\"\n",
    Some("[service.booking]\nrelies_on = [\"a\", \"desk/db\"] # why\nhost = \"desk\"\n")
)]
#[case::in_one_value(
    "[service]\nbooking = { host = \"desk\" }\n",
    Some("[service]\nbooking = { host = \"desk\" , relies_on = [\"desk/db\"] }\n")
)]
#[case::not_a_list("[service.booking]\nrelies_on = \"a\"\n", None)]
#[case::elsewhere("[service.other]\nhost = \"desk\"\n", None)]
#[case::other_ends_of_lines(
    "[service.booking]\r\nhost = \"desk\"\r\n",
    Some("[service.booking]\r\nhost = \"desk\"\r\nrelies_on = [\"desk/db\"]\r\n")
)]
fn a_relation_is_written_in_place(#[case] text: &str, #[case] wanted: Option<&str>) {
    assert_eq!(related(text, &"booking".parse().unwrap(), &"desk/db".parse().unwrap()).as_deref(), wanted);
}
