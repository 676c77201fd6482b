//! The console's client is made from a committed copy of the API's description.

#[test]
fn the_description_that_the_console_is_made_from_is_current() {
    let file = concat!(env!("CARGO_MANIFEST_DIR"), "/../../console/src/api/openapi.json");
    let committed = std::fs::read_to_string(file).unwrap();
    assert!(committed == regnant_service::openapi_json(), "the API changed: run `make client` and commit the result");
}
