//! The API's description is committed, and current.

#[test]
fn the_published_description_is_current() {
    let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/openapi.json");
    let published: serde_json::Value = serde_json::from_str(&std::fs::read_to_string(path).unwrap()).unwrap();
    let is_current = published == yantro_server::openapi::document();
    assert!(is_current, "make it anew: yantro schema --api > docs/openapi.json");
}
