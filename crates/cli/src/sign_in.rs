use std::fs::{self, OpenOptions};
use std::io::{IsTerminal, Write, stdin};
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;
use std::process::ExitCode;

use crate::api::{Client, token_path};
use crate::args;
use crate::failure::Failure;
use crate::paint::say;

/// Signs in and keeps a token for the other commands.
pub(crate) fn run(args: &args::SignIn) -> Result<ExitCode, Failure> {
    let password = ask_secretly(&format!("Password of {}: ", args.user))?;
    let client = Client::anonymous(&args.api.api);
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
