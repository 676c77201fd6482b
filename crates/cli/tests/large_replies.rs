//! Replies that are larger than a link carries whole, between two hosts of the test's
//! own (network namespaces with a cable between them).
mod running;

use std::fs;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use running::*;

const SECRET: &str = "gantry-4-lashing";

/// Two hosts, gone with this.
struct Cable {
    names: [String; 2],
}

fn ip(words: &str) {
    let told = Command::new("ip").args(words.split(' ')).output().expect("`ip` starts; install Debian's iproute2");
    let said = String::from_utf8_lossy(&told.stderr).into_owned();
    assert!(told.status.success(), "ip {words}: {said} (network namespaces need root)");
}

impl Cable {
    fn lay() -> Self {
        let names = ["a", "b"].map(|end| format!("regnant-{}-{end}", std::process::id()));
        let cable = Self { names };
        let [a, b] = &cable.names;
        for name in [a, b] {
            ip(&format!("netns add {name}"));
            ip(&format!("-n {name} link set lo up"));
        }
        ip(&format!("link add eth0 netns {a} mtu 1500 type veth peer name eth0 netns {b} mtu 1500"));
        for (name, last) in [(a, 1), (b, 2)] {
            ip(&format!("-n {name} addr add 10.44.0.{last}/24 dev eth0"));
            ip(&format!("-n {name} addr add fd44::{last}/64 dev eth0 nodad"));
            ip(&format!("-n {name} link set eth0 up"));
        }
        cable
    }

    /// A command on one of the hosts.
    fn on(&self, host: usize) -> Command {
        let mut command = Command::new("ip");
        command.args(["netns", "exec", &self.names[host], env!("CARGO_BIN_EXE_regnant")]);
        command
    }
}

impl Drop for Cable {
    fn drop(&mut self) {
        for name in &self.names {
            let _ = Command::new("ip").args(["netns", "del", name]).output();
        }
    }
}

struct Ended(Child);

impl Drop for Ended {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

#[test]
fn a_reply_of_three_and_a_half_kilobytes_arrives_over_both_families() {
    let mut service = Running::harbour();
    let nas = |name: &str, address: &str| {
        format!(
            "[[nas]]\nname = \"{name}\"\naddress = \"{address}\"\nkind = \"switch\"\nsite = \"yard\"\nsecret = \"{SECRET}\"\n"
        )
    };
    let inventory = service.data.join("far.toml");
    fs::write(&inventory, nas("far-4", "10.44.0.2") + &nas("far-6", "fd44::2")).unwrap();
    service.client(&["import"]).arg(&inventory).succeeds();
    let entries: String =
        (1..=68).map(|last| format!("  permit tcp to 10.44.100.{last} port 40000..40100\n")).collect();
    let policy = service.data.join("main.writ");
    let text = format!(
        "acl long {{\n{entries}}}\ngrant long {{ acl long }}\n\
         gate all {{ accept mac identify mac in harbour-devices {{ unknown continue }} otherwise grant long }}\n"
    );
    fs::write(&policy, text).unwrap();
    service.client(&["policy", "activate"]).arg(&policy).succeeds();
    assert_eq!(service.end("-TERM"), Some(0));

    let cable = Cable::lay();
    let config = service.data.join("regnant.toml");
    let listen = "[radius]\nauthentication = [\"10.44.0.1:18120\", \"[fd44::1]:18120\"]\naccounting = []\n";
    fs::write(&config, format!("{listen}[api]\nlisten = \"127.0.0.1:18480\"\n")).unwrap();
    let mut serve = cable.on(0);
    serve.args(["serve", "--config"]).arg(&config).arg("--data").arg(&service.data).stdout(Stdio::null());
    let _serving = Ended(serve.spawn().unwrap());
    for (from, server) in [("10.44.0.2", "10.44.0.1:18120"), ("fd44::2", "[fd44::1]:18120")] {
        let until = Instant::now() + Duration::from_secs(20);
        let told = loop {
            let mut ask = cable.on(1);
            ask.args(["try", "mac", "--mac", "02005e200007", "--json", "--wait", "1", "--tries", "1"]);
            ask.args(["--from", from, "--secret", SECRET, "--server", server]);
            let output = ask.output().unwrap();
            if output.status.success() {
                break String::from_utf8(output.stdout).unwrap();
            }
            assert!(Instant::now() < until, "no reply from {server}: {output:?}");
        };
        let reply: serde_json::Value = serde_json::from_str(&told).unwrap();
        let rules = reply["attributes"].as_array().unwrap().iter().filter(|one| one["name"] == "NAS-Filter-Rule");
        let bytes: usize = rules.map(|rule| rule["value"].as_str().unwrap().len()).sum();
        assert!(bytes > 3_300, "{bytes} bytes of rules over {server}");
    }
}
