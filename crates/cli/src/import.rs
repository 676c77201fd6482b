use std::fs;
use std::process::ExitCode;

use regnant_records::Inventory;

use crate::api::Client;
use crate::args;
use crate::failure::Failure;
use crate::paint::say;

/// Adds or changes equipment, people and devices from an inventory file.
pub(crate) fn run(args: &args::Import) -> Result<ExitCode, Failure> {
    let file = args.file.display().to_string();
    let text = fs::read_to_string(&args.file)
        .map_err(|error| Failure::usage(format!("the inventory {file} cannot be read: {error}")))?;
    let inventory = Inventory::from_toml(&file, &text)?;
    let counts = [inventory.nas.len(), inventory.person.len(), inventory.machine.len(), inventory.device.len()];
    Client::new(&args.api)?.post("inventory", &inventory)??;
    let [nases, people, machines, devices] = counts;
    say!("imported {nases} NASes, {people} people, {machines} machines and {devices} entries of devices");
    Ok(ExitCode::SUCCESS)
}
