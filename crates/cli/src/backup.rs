use std::fs::{self, OpenOptions};
use std::io::{self, IsTerminal, Write};
use std::os::unix::fs::OpenOptionsExt;
use std::process::ExitCode;

use regnant_base::SecretText;
use regnant_service::{Config, Restore, is_encrypted};
use serde_json::json;

use crate::api::Client;
use crate::args::{self, Tokens};
use crate::failure::Failure;
use crate::paint::say;
use crate::sign_in::ask_secretly;

/// Backs up a running service.
pub(crate) fn make(args: &args::Backup) -> Result<ExitCode, Failure> {
    let name = args.file.display();
    let client = Client::new(&args.api)?;
    let passphrase = match args.with_keys {
        true => Some(ask_secretly("A passphrase of at least 12 characters: ")?),
        false => None,
    };
    let mut form = json!({ "with_journal": args.with_journal });
    if let Some(passphrase) = passphrase {
        form["passphrase"] = json!(passphrase);
        form["password"] = json!(ask_secretly("Your password: ")?);
    }
    let mut part = args.file.clone().into_os_string();
    part.push(".part");
    let part = std::path::PathBuf::from(part);
    if args.file.exists() {
        return Err(Failure::usage(format!("{name} is there already: a backup replaces nothing")));
    }
    let mut backup = match client.download("backup", &form)? {
        Ok(backup) => backup,
        Err(refused) if refused.body["needs_code"] == true => {
            form["code"] = json!(ask_secretly("Code of your second factor, or a recovery code: ")?);
            client.download("backup", &form)??
        }
        Err(refused) => return Err(refused.into()),
    };
    let mut write = || -> io::Result<u64> {
        let mut file = OpenOptions::new().write(true).create(true).truncate(true).mode(0o600).open(&part)?;
        let bytes = io::copy(&mut backup, &mut file)?;
        file.flush()?;
        file.sync_all()?;
        fs::rename(&part, &args.file)?;
        Ok(bytes)
    };
    let bytes = write().map_err(|error| {
        let _ = fs::remove_file(&part);
        Failure::new(format!("{name} is not made, for it broke off: {error}; the service's log may say why"))
    })?;
    say!("{name} holds {bytes} bytes");
    match args.with_keys {
        true => say!("it is encrypted, and opens under its passphrase alone: keep that apart from it"),
        false => say!("the sealing key is not in it: keep a copy of the key file apart, for nothing opens without it"),
    }
    Ok(ExitCode::SUCCESS)
}

/// Restores a backup.
pub(crate) fn restore(args: &args::Restore) -> Result<ExitCode, Failure> {
    let config = args.config.as_deref().map_or_else(|| Ok(Config::default()), Config::read)?;
    let passphrase: Option<SecretText> = match is_encrypted(&args.file)? {
        true => Some(ask_secretly("The passphrase: ")?.into()),
        false => None,
    };
    let keep_tokens = match args.tokens {
        Some(Tokens::Keep) => true,
        Some(Tokens::End) => false,
        None if io::stdin().is_terminal() => asks_to_keep()?,
        None => false,
    };
    let (data, file, passphrase) = (args.data.as_path(), args.file.as_path(), passphrase.as_ref());
    let restore = Restore { config: &config, data, file, passphrase, keep_tokens };
    let restored = restore.run(|step| say!("{step} ..."))?;
    let manifest = &restored.manifest;
    say!("restored what was backed up at {} (change {})", manifest.made, manifest.revision);
    say!("every session has ended{}", if keep_tokens { "; its tokens go on" } else { ", and every token" });
    if let Some(aside) = restored.aside {
        say!("what was there before is in {}", aside.display());
    }
    say!("start the service: regnant serve --data {} --config ...", args.data.display());
    Ok(ExitCode::SUCCESS)
}

/// Whoever restores after a theft wants no token of then to open anything.
fn asks_to_keep() -> io::Result<bool> {
    say!("Shall the tokens that programs had then go on? Sessions end in any case. [yes/no]");
    let mut line = String::new();
    io::stdin().read_line(&mut line)?;
    Ok(line.trim() == "yes")
}
