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
