use std::fs::{self, OpenOptions};
use std::io::{IsTerminal, Write, stdin};
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;
use std::process::ExitCode;

use crate::api::{Client, token_path};
use crate::args;
use crate::failure::Failure;
use crate::paint::say;
use crate::service_tls::{is_https, keep_fingerprint};

/// Signs in and keeps a token for the other commands.
pub(crate) fn run(args: &args::SignIn) -> Result<ExitCode, Failure> {
    let client = believed(args.api.clone())?;
    let password = ask_secretly(&format!("Password of {}: ", args.user))?;
    let token = match client.sign_in(&args.user, &password, None)? {
        Some(token) => token,
        None => {
            let code = ask_secretly("Code of the second factor, or a recovery code: ")?;
            let token = client.sign_in(&args.user, &password, Some(&code))?;
            token.ok_or_else(|| Failure::new("the service wants a code"))?
        }
    };
    let path = token_path(&args.api)?;
    keep_token(&path, &token)?;
    say!("signed in; the token is in {}", path.display());
    Ok(ExitCode::SUCCESS)
}

/// A client of a service that proved who it is; somebody may say that it is the right one.
fn believed(mut api: args::Api) -> Result<Client, Failure> {
    let mut client = Client::anonymous(&api)?;
    if let Err(presented) = client.proves_itself()? {
        // Only who is met for the first time is asked about: another in the place of a known one
        // may be somebody in between.
        if presented.instead || api.authority.is_some() || !stdin().is_terminal() {
            return Err(client.doubts(&presented));
        }
        say!(
            "{} presents a certificate that is not believed ({}). Its SHA-256 is\n\n  {}\n",
            api.api,
            presented.why,
            presented.fingerprint
        );
        say!("Compare it with what the service printed when it started. Is it the same? [yes/no]");
        let mut line = String::new();
        stdin().read_line(&mut line)?;
        if line.trim() != "yes" {
            return Err(Failure::new("nothing was sent to it"));
        }
        api.fingerprint = Some(presented.fingerprint);
        client = Client::anonymous(&api)?;
        if let Err(presented) = client.proves_itself()? {
            return Err(client.doubts(&presented));
        }
    }
    if let (Some(fingerprint), true) = (&api.fingerprint, is_https(&api.api)) {
        keep_fingerprint(&api, fingerprint)?;
    }
    Ok(client)
}

/// A line that nobody may see: typed where there is a terminal, else read from standard input.
pub(crate) fn ask_secretly(prompt: &str) -> Result<String, Failure> {
    Ok(match stdin().is_terminal() {
        true => rpassword::prompt_password(prompt)?,
        false => {
            let mut line = String::new();
            stdin().read_line(&mut line)?;
            line.trim_end_matches(['\r', '\n']).to_owned()
        }
    })
}

/// Writes a token where only its owner can read it.
pub(crate) fn keep_token(path: &Path, token: &str) -> Result<(), Failure> {
    let written = || {
        if let Some(folder) = path.parent() {
            fs::create_dir_all(folder)?;
        }
        // A file that others could read is replaced, not filled.
        let _ = fs::remove_file(path);
        let mut file = OpenOptions::new().write(true).create_new(true).mode(0o600).open(path)?;
        writeln!(file, "{token}")
    };
    written().map_err(|error| Failure::new(format!("the token cannot be written to {}: {error}", path.display())))
}
