use std::fs;
use std::process::ExitCode;

use regnant_records::Inventory;
use serde_json::Value;

use crate::api::Client;
use crate::args;
use crate::failure::Failure;
use crate::paint::{self, say};

/// Adds or changes equipment, people and devices from an inventory file.
pub(crate) fn run(args: &args::Import) -> Result<ExitCode, Failure> {
    let file = args.file.display().to_string();
    let text = fs::read_to_string(&args.file)
        .map_err(|error| Failure::usage(format!("the inventory {file} cannot be read: {error}")))?;
    let inventory = Inventory::from_toml(&file, &text)?;
    let named: Vec<_> = inventory.nas.iter().map(|nas| nas.name.clone()).collect();
    let counts = [inventory.nas.len(), inventory.person.len(), inventory.machine.len(), inventory.device.len()];
    let client = Client::new(&args.api)?;
    client.post("inventory", &inventory)??;
    let [nases, people, machines, devices] = counts;
    say!("imported {nases} NASes, {people} people, {machines} machines and {devices} entries of devices");
    if !named.is_empty() {
        tell_lacks(&client.get("nases", &[])?, &named);
    }
    Ok(ExitCode::SUCCESS)
}

/// What equipment that was added could be granted and not told.
fn tell_lacks(nases: &Value, named: &[String]) {
    for nas in nases["nases"].as_array().into_iter().flatten() {
        let name = nas["name"].as_str().unwrap_or_default();
        for lack in nas["lacks"].as_array().into_iter().flatten().filter_map(Value::as_str) {
            if named.iter().any(|known| known.eq_ignore_ascii_case(name)) {
                say!("{} {name}: {lack}; a request that would get it is refused", paint::mark("refused"));
            }
        }
    }
}
