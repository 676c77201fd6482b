//! The supplicant that `regnant try` plays.

use std::fs;

use regnant_certificates::{Bundle, read_certificates};
use regnant_client::Supplicant;
use regnant_eap::{ClientTls, Login, PeerMethod, TlsVersion, Tunnelled};

use crate::args::{InnerMethod, Tls, Try, TryMethod};
use crate::certificate::read_pem;
use crate::failure::Failure;

/// The supplicant that the arguments describe.
pub(crate) fn supplicant(args: &Try) -> Result<Supplicant, Failure> {
    let method = method(args)?;
    let name = args.user.as_deref().or(args.machine.as_deref()).unwrap_or_default();
    let tunnel = matches!(args.method(), TryMethod::Peap | TryMethod::Ttls | TryMethod::Teap);
    let outer = match (&args.outer, name.rsplit_once('@'), tunnel) {
        (Some(outer), ..) => outer.clone(),
        (None, Some((_, realm)), true) => format!("anonymous@{realm}"),
        (None, None, true) => "anonymous".to_owned(),
        (None, _, false) => name.to_owned(),
    };
    let mut supplicant = Supplicant::new(name, &outer, method);
    supplicant.room = args.fragment as usize;
    Ok(supplicant)
}

fn method(args: &Try) -> Result<PeerMethod, Failure> {
    Ok(match args.method() {
        TryMethod::EapMd5 => PeerMethod::Md5(login(args)?),
        TryMethod::EapGtc => PeerMethod::Gtc(login(args)?),
        TryMethod::EapMschapv2 => PeerMethod::MsChapV2(login(args)?),
        TryMethod::EapTls => PeerMethod::Tls(client(args, true)?),
        TryMethod::Peap => PeerMethod::peap(client(args, false)?, user(args), Box::new(inner_eap(args, login(args))?)),
        TryMethod::Ttls => PeerMethod::Ttls(client(args, false)?, tunnelled(args, &user(args), login(args))?),
        TryMethod::Teap => {
            let user_login = args.user.is_some().then(|| tunnelled(args, &user(args), login(args))).transpose()?;
            let machine = match &args.machine {
                Some(name) => {
                    let password = args.machine_password.as_deref().unwrap_or_default();
                    Some(tunnelled(args, name, Ok(Login::new(name, password)))?)
                }
                None => None,
            };
            PeerMethod::Teap { tls: client(args, false)?, user: user_login, machine }
        }
        TryMethod::Pap
        | TryMethod::Chap
        | TryMethod::Mschap
        | TryMethod::Mschapv2
        | TryMethod::Mac
        | TryMethod::Accounting => {
            return Err(Failure::usage("this is no EAP method"));
        }
    })
}

fn user(args: &Try) -> String {
    args.user.clone().or_else(|| args.machine.clone()).unwrap_or_default()
}

fn login(args: &Try) -> Result<Login, Failure> {
    match (&args.user, &args.password) {
        (Some(user), Some(password)) => Ok(Login::new(user, password)),
        _ => Err(Failure::usage("this method takes --user and --password")),
    }
}

fn tunnelled(args: &Try, name: &str, login: Result<Login, Failure>) -> Result<Tunnelled, Failure> {
    Ok(match args.inner {
        InnerMethod::Pap => Tunnelled::Password(login?),
        InnerMethod::Chap => Tunnelled::Chap(login?),
        InnerMethod::Mschap => Tunnelled::MsChap(login?),
        InnerMethod::Mschapv2 => Tunnelled::MsChapV2(login?),
        _ => Tunnelled::Eap(name.to_owned(), Box::new(inner_eap(args, login)?)),
    })
}

fn inner_eap(args: &Try, login: Result<Login, Failure>) -> Result<PeerMethod, Failure> {
    Ok(match args.inner {
        InnerMethod::EapMd5 => PeerMethod::Md5(login?),
        InnerMethod::EapGtc => PeerMethod::Gtc(login?),
        InnerMethod::EapMschapv2 => PeerMethod::MsChapV2(login?),
        InnerMethod::EapTls => PeerMethod::Tls(client(args, true)?),
        _ => return Err(Failure::usage("PEAP takes an EAP method inside: --inner eap-mschapv2, eap-gtc or eap-tls")),
    })
}

fn client(args: &Try, own: bool) -> Result<ClientTls, Failure> {
    let usage = |error: &dyn std::fmt::Display| Failure::usage(error.to_string());
    let file = args
        .authority
        .as_ref()
        .ok_or_else(|| Failure::usage("say whom the supplicant trusts: --authority FILE (PEM)"))?;
    let text = fs::read_to_string(file).map_err(|error| usage(&format!("{}: {error}", file.display())))?;
    let authorities = read_certificates(&text).map_err(|error| usage(&error))?;
    if authorities.is_empty() {
        return Err(Failure::usage(format!("{}: there is no certificate in it", file.display())));
    }
    let bundle = match (&args.certificate, own) {
        (Some(certificate), true) => {
            let files: Vec<_> = [Some(certificate), args.key.as_ref()].into_iter().flatten().cloned().collect();
            let pem = read_pem(&files, args.key_password.as_deref())?;
            Some(Bundle::from_pem(&pem).map_err(|error| usage(&error))?)
        }
        (None, true) => return Err(Failure::usage("this method takes --certificate and --key")),
        _ => None,
    };
    let only = args.tls.map(|version| match version {
        Tls::V12 => TlsVersion::Tls12,
        Tls::V13 => TlsVersion::Tls13,
    });
    let own = match &bundle {
        Some(Bundle { chain, key: Some(key) }) => Some((&chain[..], key.expose())),
        Some(_) => return Err(Failure::usage("there is no private key: give it with --key")),
        None => None,
    };
    let name = args.server_name.as_deref().ok_or_else(|| {
        Failure::usage("say which name the server's certificate must have: --server-name radius.example")
    })?;
    ClientTls::new(&authorities, name, own, only).map_err(|error| usage(&error))
}
