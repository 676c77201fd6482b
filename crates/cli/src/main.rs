//! The `regnant` command: the service, its demo and its clients.

mod administrator;
mod api;
mod args;
mod attribute;
mod audit;
mod backup;
mod certificate;
mod check;
mod common_names;
mod demo;
mod device;
mod dialect;
mod dictionary;
mod doctor;
mod failure;
mod first_policy;
mod import;
mod import_lines;
mod import_tokens;
mod journal;
mod key;
mod language_server;
mod nas;
mod paint;
mod people;
mod policy;
mod policy_files;
mod profile;
mod records;
mod secret;
mod serve;
mod service_tls;
mod sign_in;
mod store;
mod trail;
mod trust;
mod try_eap;
mod try_load;
mod try_out;

use std::process::ExitCode;

use clap::Parser;

use crate::args::{Arguments, Audit, Command, Key, Profile};
use crate::failure::Failure;

/// Decisions are made on one thread and freed on another, which the system's
/// allocator does under a lock.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

fn main() -> ExitCode {
    match run(Arguments::parse()) {
        Ok(code) => code,
        Err(failure) => failure.tell(),
    }
}

fn run(arguments: Arguments) -> Result<ExitCode, Failure> {
    match arguments.command {
        Command::Serve(serve) => serve::run(&serve),
        Command::Demo(demo) => demo::run(&demo),
        Command::Policy(command) => policy::run(&command),
        Command::Lsp(args) => language_server::run(&args),
        Command::Try(try_out) => try_out::run(&try_out),
        Command::Journal(journal) => journal::run(&journal),
        Command::Trail(trail) => trail::run(&trail),
        Command::Import(import) => import::run(&import),
        Command::Certificate(certificate) => certificate::run(&certificate),
        Command::Trust(trust) => trust::run(&trust),
        Command::Nas(nas) => nas::run(&nas),
        Command::Person(person) => people::person(&person),
        Command::Machine(machine) => people::machine(&machine),
        Command::Attribute(attribute) => attribute::run(&attribute),
        Command::Device(device) => device::run(&device),
        Command::Group(group) => common_names::group(&group),
        Command::Site(args) => common_names::site(&args),
        Command::Store(store) => store::run(&store),
        Command::Administrator(one) => administrator::run(&one),
        Command::Token(token) => administrator::token(&token),
        Command::Secret(secret) => secret::run(&secret),
        Command::Dialect(dialect) => dialect::run(&dialect),
        Command::Dictionary(dictionary) => dictionary::run(&dictionary),
        Command::Profile(Profile::Make(profile)) => profile::run(&profile),
        Command::Audit(Audit::List(list)) => audit::list(&list),
        Command::Audit(Audit::Show(show)) => audit::show(&show),
        Command::Audit(Audit::Verify(verify)) => audit::verify(&verify),
        Command::Backup(backup) => backup::make(&backup),
        Command::Restore(restore) => backup::restore(&restore),
        Command::Key(Key::Rotate(rotate)) => key::rotate(&rotate),
        Command::Doctor(args) => doctor::run(&args),
        Command::SignIn(sign_in) => sign_in::run(&sign_in),
    }
}
