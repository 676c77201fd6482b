use crate::failure::Failure;
use crate::keys::Keys;
use crate::peer::{Context, Login, Method, Turn};

/// EAP-GTC (RFC 3748 section 5.6).
#[derive(Debug)]
pub(crate) struct Token {
    login: Login,
    done: bool,
}

impl Token {
    pub(crate) fn new(login: Login) -> Self {
        Self { login, done: false }
    }
}

impl Method for Token {
    fn receive(&mut self, _: &[u8], _: &mut Context<'_>) -> Turn {
        self.done = true;
        Turn::Response(self.login.password.expose().to_vec())
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
