//! MAC bypass through the whole service, journal on, in turn with a bare tokio
//! UDP echo that does only the cryptography of the same packets.
//!
//! What counts are the ratios: figures drift from machine to machine and from
//! minute to minute. CPU time is what the kernel accounts to the threads
//! (`/proc/PID/task/TID/schedstat`), so that load elsewhere matters little.

#[path = "../tests/running/mod.rs"]
mod running;
mod yardstick;

use std::net::SocketAddr;
use std::time::Instant;

use running::Running;
use yardstick::{REQUESTS, blast, cpu, median, one_reply, packets, rest, start_echo};

const PAIRS: usize = 9;

fn main() {
    // `cargo test --benches` runs this too, and has no use for a measurement.
    if std::env::args().all(|argument| argument != "--bench") {
        return;
    }
    let service = Running::harbour_with_one_receiver();
    let reply = one_reply(service.radius);
    let echo = start_echo(&reply);
    let mut turns = Turns::default();
    Turns::warm_up(&service, echo);
    for _ in 0..PAIRS {
        turns.pair(&service, echo);
    }
    turns.tell();
    tell_rate(&service);
}

#[derive(Default)]
struct Turns {
    ratios: Vec<f64>,
    service: Vec<f64>,
    echo: Vec<f64>,
    journal: Vec<f64>,
}

impl Turns {
    fn warm_up(service: &Running, echo: SocketAddr) {
        blast(service.radius, &packets());
        blast(echo, &packets());
        rest(service);
    }

    fn pair(&mut self, service: &Running, echo: SocketAddr) {
        let (packets, own) = (packets(), std::process::id());
        let before = (cpu(service.pid(), "regnant-rx"), cpu(service.pid(), "regnant-journal"));
        let answered = blast(service.radius, &packets).answered as f64;
        let receiving = cpu(service.pid(), "regnant-rx") - before.0;
        rest(service);
        let journal = cpu(service.pid(), "regnant-journal") - before.1;

        let before = cpu(own, "bare-echo");
        let echoed = blast(echo, &packets).answered as f64;
        let bare = cpu(own, "bare-echo") - before;
        let (service, echo) = (receiving / answered, bare / echoed);
        self.ratios.push(service / echo);
        self.service.push(service);
        self.echo.push(echo);
        self.journal.push(journal / answered);
    }

    fn tell(&mut self) {
        let (ratio, service, echo) = (median(&mut self.ratios), median(&mut self.service), median(&mut self.echo));
        let spread = (self.ratios[0], self.ratios[self.ratios.len() - 1]);
        println!("MAC bypass through the whole service, {PAIRS} pairs of {REQUESTS} requests:");
        println!("  receiving threads, CPU per request   {:5.2} µs", service * 1e6);
        println!("  bare echo with the same cryptography {:5.2} µs", echo * 1e6);
        println!(
            "  ratio, median of pairs               {ratio:5.2}     ({:.2} to {:.2}; mark: at most 1.5)",
            spread.0, spread.1
        );
        println!("  journal thread, CPU per decision     {:5.2} µs", median(&mut self.journal) * 1e6);
    }
}

/// Everything at once for a few seconds: what the journal sustains while the
/// receiving thread and the senders want the same two cores.
fn tell_rate(service: &Running) {
    let load: Vec<_> = (0..8).map(|_| packets()).collect();
    let before = cpu(service.pid(), "regnant-journal");
    let started = Instant::now();
    let answered: usize = load.iter().map(|packets| blast(service.radius, packets).answered).sum();
    // The last entries are counted with the time that it takes to write them.
    let written = rest(service) - started;
    let busy = cpu(service.pid(), "regnant-journal") - before;
    let counts = &service.get("health").1["packets"];
    println!(
        "  journal, decisions written per second {:5.0}   ({answered} in {:.1} s)",
        answered as f64 / written.as_secs_f64(),
        written.as_secs_f64()
    );
    println!("  journal, at most with a core of its own {:5.0}", answered as f64 / busy);
    println!("  requests left unanswered for a full journal: {}", counts["unjournaled"]);
}
