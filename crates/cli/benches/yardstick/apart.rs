//! Servers of bare work in a process of their own, as the service is in one, so that
//! sharing a process with the clients favours neither.

use std::env;
use std::io::{BufRead, BufReader, Read};
use std::net::SocketAddr;
use std::path::Path;
use std::process::{Child, Command, Stdio};

const FLAG: &str = "--yardsticks";

/// The process, and where its servers are, in the order of their names.
pub(crate) struct Apart {
    child: Child,
    servers: Vec<(&'static str, SocketAddr)>,
}

impl Apart {
    /// Starts this very program anew, with a folder of certificates and the address of
    /// the service; it does then what [`serve`] says.
    pub(crate) fn start(names: &[&'static str], folder: &Path, service: SocketAddr) -> Self {
        let mut command = Command::new(env::current_exe().unwrap());
        command.arg("--bench").arg(FLAG).arg(folder).arg(service.to_string());
        let mut child = command.stdin(Stdio::piped()).stdout(Stdio::piped()).spawn().unwrap();
        let lines = BufReader::new(child.stdout.take().unwrap()).lines();
        let servers = names.iter().zip(lines).map(|(name, line)| (*name, line.unwrap().parse().unwrap())).collect();
        Self { child, servers }
    }

    pub(crate) fn pid(&self) -> u32 {
        self.child.id()
    }

    /// The server whose thread has this name.
    pub(crate) fn server(&self, name: &str) -> SocketAddr {
        self.servers.iter().find(|(known, _)| *known == name).expect("a yardstick's name").1
    }
}

impl Drop for Apart {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// In the process of the yardsticks: starts the servers, tells where they are, and
/// stays until nobody needs them. Elsewhere nothing.
pub(crate) fn serve(start: impl FnOnce(&Path, SocketAddr) -> Vec<SocketAddr>) -> bool {
    let mut arguments = env::args().skip_while(|argument| argument != FLAG).skip(1);
    let (Some(folder), Some(service)) = (arguments.next(), arguments.next()) else { return false };
    for address in start(Path::new(&folder), service.parse().unwrap()) {
        println!("{address}");
    }
    let _ = std::io::stdin().read_to_end(&mut Vec::new());
    true
}
