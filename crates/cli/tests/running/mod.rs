//! The `regnant` program, started as users start it: on loopback, with a data
//! directory of its own, on ports that the system chose.
#![allow(dead_code)]

pub(crate) mod directory;
pub(crate) mod domain;
pub(crate) mod issuer;
pub(crate) mod staff;

use std::io::{BufRead, BufReader, Write};
use std::net::SocketAddr;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Output, Stdio};
use std::time::{Duration, Instant};

use regnant_campus::certificates::{DemoCertificates, SERVER, TRUST};
use regnant_campus::harbour;
use serde_json::{Value, json};

pub(crate) const PASSWORD: &str = "tarnmouth-demo";

pub(crate) fn regnant() -> Command {
    let mut command = Command::new(env!("CARGO_BIN_EXE_regnant"));
    // What stands in the tester's own environment must not matter.
    for name in [
        "REGNANT_TOKEN",
        "REGNANT_TOKEN_FILE",
        "REGNANT_API",
        "REGNANT_SECRET",
        "REGNANT_LOG",
        "REGNANT_FINGERPRINT",
        "REGNANT_AUTHORITY",
    ] {
        command.env_remove(name);
    }
    command
}

pub(crate) struct Running {
    pub(crate) api: String,
    pub(crate) radius: SocketAddr,
    pub(crate) accounting: SocketAddr,
    pub(crate) welcome: Option<String>,
    /// SHA-256 of the console's certificate, where it speaks TLS.
    pub(crate) fingerprint: Option<String>,
    pub(crate) token: String,
    child: Child,
    pub(crate) data: PathBuf,
    _dir: Option<tempfile::TempDir>,
}

pub(crate) fn config(dir: &Path, radius: &str, api: &str) -> PathBuf {
    let file = dir.join("regnant.toml");
    let accounting = radius.rsplit_once(':').map(|(address, _)| format!("{address}:0")).unwrap();
    let text = format!(
        "[radius]\nauthentication = [\"{radius}\"]\naccounting = [\"{accounting}\"]\n[api]\nlisten = \"{api}\"\n"
    );
    std::fs::write(&file, text).unwrap();
    file
}

pub(crate) fn config_with_api(dir: &Path, listen: &str, more: &str) -> PathBuf {
    let file = config(dir, "127.0.0.1:0", listen);
    let text = std::fs::read_to_string(&file).unwrap() + more;
    std::fs::write(&file, text).unwrap();
    file
}

impl Running {
    /// A new service that nobody has signed in to.
    pub(crate) fn empty() -> Self {
        let dir = tempfile::tempdir().unwrap();
        let data = dir.path().join("data");
        let mut running = Self::start(&data);
        running._dir = Some(dir);
        running
    }

    /// A service with the harbour's inventory and policy, and an administrator's token.
    pub(crate) fn harbour() -> Self {
        let mut running = Self::empty();
        running.open_harbour();
        running
    }

    pub(crate) fn open_harbour(&mut self) {
        let secret = self.welcome.as_ref().unwrap().split('#').nth(1).unwrap().to_owned();
        let agent = agent();
        let form = json!({ "secret": secret, "name": "harbour", "password": PASSWORD });
        let answer = agent.post(format!("{}/api/v1/welcome", self.api)).send_json(form).unwrap();
        assert_eq!(answer.status(), 200);
        let cookie = answer.headers()["set-cookie"].to_str().unwrap().split(';').next().unwrap().to_owned();
        let tokens = agent.post(format!("{}/api/v1/tokens", self.api)).header("cookie", cookie);
        let body: Value = tokens.send_json(json!({ "password": PASSWORD })).unwrap().body_mut().read_json().unwrap();
        self.token = body["token"].as_str().unwrap().to_owned();
        let folder = self.data.join("harbour");
        std::fs::create_dir_all(&folder).unwrap();
        std::fs::write(folder.join("inventory.toml"), harbour::INVENTORY).unwrap();
        std::fs::write(folder.join("main.writ"), harbour::POLICY).unwrap();
        std::fs::write(folder.join("dictionary.toml"), harbour::DICTIONARY).unwrap();
        std::fs::write(folder.join("dialect.toml"), harbour::DIALECT).unwrap();
        self.client(&["dictionary", "add"]).arg(folder.join("dictionary.toml")).succeeds();
        self.client(&["dialect", "add"]).arg(folder.join("dialect.toml")).succeeds();
        self.client(&["import"]).arg(folder.join("inventory.toml")).succeeds();
        let certificates = DemoCertificates::issue(jiff::Timestamp::now().as_second()).unwrap();
        for (name, text) in certificates.files() {
            std::fs::write(folder.join(name), text).unwrap();
        }
        let mut import = self.client(&["certificate", "import", "--name", SERVER]);
        import.args([folder.join("server.pem"), folder.join("server.key")]).succeeds();
        let mut trust = self.client(&["trust", "add", TRUST]);
        trust.args([folder.join("authority.pem"), folder.join("revoked.crl.pem")]).succeeds();
        self.client(&["policy", "activate"]).arg(&folder).succeeds();
    }

    /// The harbour's service with one receiving thread, for measurements.
    pub(crate) fn harbour_with_one_receiver() -> Self {
        let dir = tempfile::tempdir().unwrap();
        let file = config(dir.path(), "127.0.0.1:0", "127.0.0.1:0");
        let text = std::fs::read_to_string(&file).unwrap().replace("[api]", "receivers = 1\n[api]");
        std::fs::write(&file, text).unwrap();
        Self::furnished(dir, &file)
    }

    /// The harbour's service, with more in its configuration.
    pub(crate) fn harbour_with(more: &str) -> Self {
        let dir = tempfile::tempdir().unwrap();
        let file = config_with_api(dir.path(), "127.0.0.1:0", more);
        Self::furnished(dir, &file)
    }

    /// The harbour's service, impatient with supplicants.
    pub(crate) fn harbour_where_conversations_last_a_second() -> Self {
        let dir = tempfile::tempdir().unwrap();
        let file = config(dir.path(), "127.0.0.1:0", "127.0.0.1:0");
        let text = std::fs::read_to_string(&file).unwrap().replace("[api]", "conversation_seconds = 1\n[api]");
        std::fs::write(&file, text).unwrap();
        Self::furnished(dir, &file)
    }

    /// The harbour's service on every address of this machine.
    pub(crate) fn harbour_on_all_addresses() -> Self {
        let dir = tempfile::tempdir().unwrap();
        let file = config(dir.path(), "0.0.0.0:0", "127.0.0.1:0");
        Self::furnished(dir, &file)
    }

    fn furnished(dir: tempfile::TempDir, config: &Path) -> Self {
        let mut running = Self::start_with(config, &dir.path().join("data"));
        running._dir = Some(dir);
        running.open_harbour();
        running
    }

    /// Starts `regnant serve` on this data directory.
    pub(crate) fn start(data: &Path) -> Self {
        let config = config(data.parent().unwrap(), "127.0.0.1:0", "127.0.0.1:0");
        Self::start_with(&config, data)
    }

    pub(crate) fn pid(&self) -> u32 {
        self.child.id()
    }

    pub(crate) fn start_with(config: &Path, data: &Path) -> Self {
        Self::start_in(&[], config, data)
    }

    /// The harbour's service in this folder, with more in its environment.
    pub(crate) fn started_with(dir: tempfile::TempDir, environment: &[(&str, String)]) -> Self {
        let file = config(dir.path(), "127.0.0.1:0", "127.0.0.1:0");
        let mut running = Self::start_in(environment, &file, &dir.path().join("data"));
        running._dir = Some(dir);
        running.open_harbour();
        running
    }

    fn start_in(environment: &[(&str, String)], config: &Path, data: &Path) -> Self {
        let mut child = regnant()
            .args(["serve", "--config"])
            .arg(config)
            .arg("--data")
            .arg(data)
            .envs(environment.iter().map(|(name, value)| (name, value)))
            .stdout(Stdio::piped())
            .spawn()
            .unwrap();
        let mut lines = BufReader::new(child.stdout.take().unwrap()).lines().map_while(Result::ok);
        let (mut radius, mut accounting, mut api, mut welcome, mut fingerprint) = (None, None, None, None, None);
        for line in lines.by_ref() {
            if let Some(address) = line.strip_prefix("RADIUS authentication on ") {
                radius = address.parse().ok();
            } else if let Some(address) = line.strip_prefix("RADIUS accounting on ") {
                accounting = address.parse().ok();
            } else if let Some(printed) = line.strip_prefix("certificate of the console, SHA-256 ") {
                fingerprint = Some(printed.to_owned());
            } else if let Some(address) = line.strip_prefix("console and API on ") {
                api = Some(address.to_owned());
                // Only a data directory without administrators has more to say.
                if data.join("welcomed").exists() {
                    break;
                }
            } else if line.contains("/welcome#") {
                welcome = Some(line.trim().to_owned());
                std::fs::write(data.join("welcomed"), "").unwrap();
                break;
            }
        }
        std::thread::spawn(move || lines.for_each(drop));
        let (radius, accounting) = (radius.expect("serve tells its ports"), accounting.expect("of accounting too"));
        let api = api.expect("serve tells its address");
        let (token, data) = (String::new(), data.to_owned());
        Self { api, radius, accounting, welcome, fingerprint, token, child, data, _dir: None }
    }

    /// A service whose [api] section says this beside.
    pub(crate) fn with_api(data: &Path, listen: &str, more: &str) -> Self {
        let config = config_with_api(data.parent().unwrap(), listen, more);
        Self::start_with(&config, data)
    }

    /// The service once more, after its end, with the same configuration, data and token.
    pub(crate) fn again(&mut self) -> Self {
        self.again_with(&[])
    }

    /// The same, with more in its environment.
    pub(crate) fn again_with(&mut self, environment: &[(&str, String)]) -> Self {
        let mut running = Self::start_in(environment, &self.data.parent().unwrap().join("regnant.toml"), &self.data);
        running.token.clone_from(&self.token);
        running._dir = self._dir.take();
        running
    }

    /// A client command against this service.
    pub(crate) fn client(&self, args: &[&str]) -> Command {
        let mut command = regnant();
        command.args(args).env("REGNANT_API", &self.api).env("REGNANT_TOKEN", &self.token);
        command
    }

    /// `regnant try` from a NAS of the harbour.
    pub(crate) fn try_from(&self, nas: &regnant_campus::Nas, args: &[&str]) -> Command {
        let mut command = regnant();
        command.arg("try").args(args);
        command.args(["--server", &self.radius.to_string(), "--from", &nas.address.to_string()]);
        command.args(["--secret", nas.secret]);
        if !nas.signed {
            command.arg("--unsigned");
        }
        command
    }

    pub(crate) fn get(&self, path: &str) -> (u16, Value) {
        let request = agent().get(format!("{}/api/v1/{path}", self.api));
        let mut answer = request.header("authorization", format!("Bearer {}", self.token)).call().unwrap();
        (answer.status().as_u16(), answer.body_mut().read_json().unwrap_or(Value::Null))
    }

    /// What a call answers in plain text.
    pub(crate) fn text(&self, path: &str) -> String {
        let request = agent().get(format!("{}/api/v1/{path}", self.api));
        let mut answer = request.header("authorization", format!("Bearer {}", self.token)).call().unwrap();
        answer.body_mut().read_to_string().unwrap()
    }

    /// A call, with the ETag that was seen where one was; gives the ETag of what came.
    pub(crate) fn call(&self, verb: &str, path: &str, seen: Option<&str>, body: &Value) -> (u16, Value, String) {
        let request = ureq::http::Request::builder().method(verb).uri(format!("{}/api/v1/{path}", self.api));
        let request = request.header("authorization", format!("Bearer {}", self.token));
        let request = seen.iter().fold(request, |request, seen| request.header("if-match", *seen));
        let mut answer = match verb {
            "GET" | "DELETE" => agent().run(request.body(()).unwrap()).unwrap(),
            _ => {
                agent().run(request.header("content-type", "application/json").body(body.to_string()).unwrap()).unwrap()
            }
        };
        let tag = answer.headers().get("etag").map_or("", |tag| tag.to_str().unwrap()).to_owned();
        (answer.status().as_u16(), answer.body_mut().read_json().unwrap_or(Value::Null), tag)
    }

    pub(crate) fn post(&self, path: &str, body: &Value) -> (u16, Value) {
        let request = agent().post(format!("{}/api/v1/{path}", self.api));
        let mut answer = request.header("authorization", format!("Bearer {}", self.token)).send_json(body).unwrap();
        (answer.status().as_u16(), answer.body_mut().read_json().unwrap_or(Value::Null))
    }

    pub(crate) fn put(&self, path: &str, body: &Value) -> (u16, Value) {
        let request = agent().put(format!("{}/api/v1/{path}", self.api));
        let sent = request.header("authorization", format!("Bearer {}", self.token)).send_json(body);
        let mut answer = sent.unwrap();
        (answer.status().as_u16(), answer.body_mut().read_json().unwrap_or(Value::Null))
    }

    pub(crate) fn delete(&self, path: &str) -> (u16, Value) {
        let request = agent().delete(format!("{}/api/v1/{path}", self.api));
        let mut answer = request.header("authorization", format!("Bearer {}", self.token)).call().unwrap();
        (answer.status().as_u16(), answer.body_mut().read_json().unwrap_or(Value::Null))
    }

    /// Activates the harbour's policy with a part of it written otherwise.
    pub(crate) fn activate_with(&self, from: &str, to: &str) {
        self.activate_with_all(&[(from, to)]);
    }

    /// Activates the harbour's policy with several changes.
    pub(crate) fn activate_with_all(&self, changes: &[(&str, &str)]) {
        let folder = self.data.join("harbour");
        let mut policy = harbour::POLICY.to_owned();
        for (from, to) in changes {
            assert!(policy.contains(from), "{from}");
            policy = policy.replacen(from, to, 1);
        }
        std::fs::write(folder.join("main.writ"), policy).unwrap();
        self.client(&["policy", "activate"]).arg(&folder).succeeds();
    }

    /// `regnant try` from the controller, trusting the harbour's authority.
    pub(crate) fn try_eap(&self, args: &[&str]) -> Command {
        let mut command = regnant();
        command.arg("try").args(args).args(["--from", "127.0.0.21", "--secret", "mizzen-7-halyard"]);
        command.args(["--server", &self.radius.to_string(), "--server-name", SERVER, "--authority"]);
        command.arg(self.data.join("harbour/authority.pem"));
        command
    }

    /// What the commands tell of certificates and of trusts.
    pub(crate) fn certificates(&self) -> String {
        self.client(&["certificate", "list"]).succeeds() + &self.client(&["trust", "list"]).succeeds()
    }

    /// The file that the journal is written into.
    pub(crate) fn journal_file(&self) -> PathBuf {
        let entries = std::fs::read_dir(self.data.join("journal")).unwrap();
        let mut files: Vec<_> = entries.map(|entry| entry.unwrap().path()).collect();
        files.retain(|path| path.extension().is_some_and(|extension| extension == "sqlite"));
        files.sort();
        files.pop().unwrap()
    }

    /// Entries of the journal, once there are this many: they are written within
    /// a moment.
    pub(crate) fn entries(&self, query: &str, at_least: usize) -> Vec<Value> {
        let until = Instant::now() + Duration::from_secs(10);
        loop {
            let (_, list) = self.get(&format!("journal?{query}"));
            let entries = list["entries"].as_array().cloned().unwrap_or_default();
            if entries.len() >= at_least {
                return entries;
            }
            assert!(Instant::now() < until, "only {entries:?} for {query}");
            std::thread::sleep(Duration::from_millis(20));
        }
    }

    /// Sends a signal and waits for the end.
    pub(crate) fn end(&mut self, signal: &str) -> Option<i32> {
        Command::new("kill").args([signal, &self.child.id().to_string()]).status().unwrap();
        let status = self.child.wait().unwrap();
        if status.code().is_none() {
            eprintln!("sent {signal}, the service ended by {status}");
        }
        status.code()
    }
}

impl Drop for Running {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// Runs a command that reads this from standard input.
pub(crate) fn typed(command: &mut Command, input: &str) -> Output {
    let mut child = command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    child.stdin.take().unwrap().write_all(input.as_bytes()).unwrap();
    child.wait_with_output().unwrap()
}

/// All that a command printed.
pub(crate) fn printed(output: &Output) -> String {
    String::from_utf8_lossy(&output.stdout).into_owned() + &String::from_utf8_lossy(&output.stderr)
}

pub(crate) fn agent() -> ureq::Agent {
    ureq::Agent::config_builder().http_status_as_error(false).build().into()
}

pub(crate) fn sentence(entry: &Value) -> String {
    entry["sentence"].as_array().unwrap().iter().map(|part| part["text"].as_str().unwrap()).collect()
}

pub(crate) trait Ends {
    /// Runs to the end, which must have this exit code.
    fn ends_with(&mut self, code: i32) -> Output;

    fn succeeds(&mut self) -> String {
        String::from_utf8(self.ends_with(0).stdout).unwrap()
    }

    /// Fails with this exit code and tells why on standard error.
    fn fails(&mut self, code: i32) -> String {
        String::from_utf8(self.ends_with(code).stderr).unwrap()
    }
}

impl Ends for Command {
    fn ends_with(&mut self, code: i32) -> Output {
        let output = self.stdin(Stdio::null()).output().unwrap();
        let told = || {
            format!(
                "{self:?}\n{}\n{}",
                String::from_utf8_lossy(&output.stdout),
                String::from_utf8_lossy(&output.stderr)
            )
        };
        assert_eq!(output.status.code(), Some(code), "{}", told());
        output
    }
}
