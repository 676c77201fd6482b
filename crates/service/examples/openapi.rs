//! Prints the API's description, from which the console's client is made.

fn main() {
    print!("{}", regnant_service::openapi_json());
}
