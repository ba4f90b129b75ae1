//! A relation written into the description of a service, in place.

use toml_edit::{Array, Item, TableLike, Value};

use super::{as_written, plain, read};
use crate::words::name::{Address, ServiceName};

/// The estate with a further service in the relations of one that it describes; nothing where that is not described by a block
/// of its own, or relies on things in a way that is no list.
pub fn related(text: &str, service: &ServiceName, on: &Address) -> Option<String> {
    let mut document = read(&plain(text)).ok()?;
    let services = document.get_mut("service")?.as_table_like_mut()?;
    let key = services.iter().map(|(key, _)| key.to_owned()).find(|key| key.eq_ignore_ascii_case(service.as_str()))?;
    let block: &mut dyn TableLike = services.get_mut(&key)?.as_table_like_mut()?;
    let relies = block.entry("relies_on").or_insert_with(|| Item::Value(Value::Array(Array::new())));
    let list = relies.as_array_mut()?;
    list.push(on.to_string());
    Some(as_written(text, &document.to_string()))
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

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
}
