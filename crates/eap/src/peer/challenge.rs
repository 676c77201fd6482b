use md5::{Digest, Md5};

use crate::failure::Failure;
use crate::keys::Keys;
use crate::peer::{Context, Login, Method, Turn};
use crate::wire::reader::Reader;

/// EAP-MD5 (RFC 3748 section 5.4).
#[derive(Debug)]
pub(crate) struct Md5Challenge {
    login: Login,
    done: bool,
}

impl Md5Challenge {
    pub(crate) fn new(login: Login) -> Self {
        Self { login, done: false }
    }
}

impl Method for Md5Challenge {
    fn receive(&mut self, data: &[u8], cx: &mut Context<'_>) -> Turn {
        let Some(challenge) = Reader(data).short() else {
            return Failure::Malformed("an EAP-MD5 challenge is cut").into();
        };
        let password = self.login.password.expose();
        let response =
            Md5::new().chain_update([cx.identifier]).chain_update(password).chain_update(challenge.0).finalize();
        self.done = true;
        Turn::Response([&[16], &response[..], self.login.name.as_bytes()].concat())
    }

    fn is_done(&self) -> bool {
        self.done
    }

    fn failure(&self) -> Option<Failure> {
        None
    }

    fn keys(&self) -> Option<Keys> {
        None
    }
}
