use std::fmt;
use std::io::{IsTerminal, Write, stdout};
use std::process::ExitCode;
use std::time::Duration;

use regnant_service::{Config, ConfigError, Service};
use tokio::runtime::Runtime;
use tokio::signal::unix::{Signal, SignalKind, signal};

use crate::args;
use crate::failure::Failure;

/// How long what was begun may take at the end.
const LEFT: Duration = Duration::from_millis(500);

/// Runs the service until it is told to stop.
pub(crate) fn run(args: &args::Serve) -> Result<ExitCode, Failure> {
    tell_log();
    let config = Config::read(&args.config).map_err(|error| match error {
        ConfigError::Unreadable(..) => Failure::usage(error),
        error => Failure::new(error),
    })?;
    // What is being worked out for somebody ends with the process, and is not waited for.
    until_done(Runtime::new()?, async {
        let stop = Stop::listen()?;
        let service = Service::start(&config, &args.data).await?;
        for address in service.radius() {
            tell(format_args!("RADIUS authentication on {address}"));
        }
        for address in service.accounting() {
            tell(format_args!("RADIUS accounting on {address}"));
        }
        if let Some(fingerprint) = service.fingerprint() {
            tell(format_args!("certificate of the console, SHA-256 {fingerprint}"));
        }
        tell(format_args!("console and API on {}", service.console()));
        if let Some(link) = service.welcome() {
            tell(format_args!(
                "\nNobody can sign in yet. Open this link once to set the first administrator's password:\n  {link}"
            ));
        }
        stop.received().await;
        tell(format_args!("stopping"));
        ended(service.stop().await)
    })
}

/// Runs something to its end, and waits for nothing else that was begun.
pub(crate) fn until_done<T>(runtime: Runtime, work: impl Future<Output = T>) -> T {
    let done = runtime.block_on(work);
    runtime.shutdown_timeout(LEFT);
    done
}

/// The service goes on, whoever reads what it prints or has stopped to.
fn tell(text: fmt::Arguments<'_>) {
    let _ = writeln!(stdout(), "{text}");
}

/// What the end of a service is, by how many entries of its journal are lost.
pub(crate) fn ended(unwritten: usize) -> Result<ExitCode, Failure> {
    match unwritten {
        0 => Ok(ExitCode::SUCCESS),
        count => Err(Failure::new(format!(
            "{count} {} could not be written to the journal and {} lost: the log says why",
            if count == 1 { "entry" } else { "entries" },
            if count == 1 { "is" } else { "are" },
        ))),
    }
}

/// The signals to stop.
pub(crate) struct Stop {
    interrupt: Signal,
    terminate: Signal,
}

impl Stop {
    /// From now on they end nothing by themselves.
    pub(crate) fn listen() -> Result<Self, Failure> {
        Ok(Self { interrupt: signal(SignalKind::interrupt())?, terminate: signal(SignalKind::terminate())? })
    }

    /// Waits for one.
    pub(crate) async fn received(mut self) {
        tokio::select! {
            _ = self.interrupt.recv() => {}
            _ = self.terminate.recv() => {}
        }
    }
}

/// The service's own log goes to standard error; REGNANT_LOG sets what it tells.
pub(crate) fn tell_log() {
    let filter = tracing_subscriber::EnvFilter::try_from_env("REGNANT_LOG")
        .unwrap_or_else(|_| tracing_subscriber::EnvFilter::new("info"));
    tracing_subscriber::fmt()
        .with_env_filter(filter)
        .with_writer(std::io::stderr)
        .with_ansi(std::io::stderr().is_terminal())
        .with_target(false)
        .init();
}
