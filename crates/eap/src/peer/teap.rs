use std::sync::Arc;

use crate::failure::Failure;
use crate::keys::Keys;
use crate::peer::responder::{Reply, Responder};
use crate::peer::tunnel::{Event, Tunnel};
use crate::peer::{Context, Method, Tunnelled, Turn};
use crate::server::credential::IdentityType;
use crate::server::teap::{identity_bytes, identity_type};
use crate::tls::client::ClientTls;
use crate::tls::{TlsAbout, session_id};
use crate::wire::kind::Kind;
use crate::wire::packet::Packet;
use crate::wire::teap::{Chain, VERSION};
use crate::wire::tlv::{self, Tlv};

/// TEAP (RFC 7170, RFC 9930).
#[derive(Debug)]
pub(crate) struct Teap {
    tunnel: Tunnel,
    user: Option<Tunnelled>,
    machine: Option<Tunnelled>,
    inner: Option<Responder>,
    room: usize,
    chain: Option<Chain>,
    keys: Option<Keys>,
    failed: Option<Failure>,
}

impl Teap {
    pub(crate) fn new(
        tls: &ClientTls,
        user: Option<Tunnelled>,
        machine: Option<Tunnelled>,
        room: usize,
    ) -> Result<Self, Failure> {
        let tunnel = Tunnel::new(tls, Kind::TEAP, VERSION, room)?;
        Ok(Self { tunnel, user, machine, inner: None, room, chain: None, keys: None, failed: None })
    }

    fn established(&mut self) -> Turn {
        match Chain::new(&*self.tunnel.engine, (self.tunnel.outer_of_server().to_vec(), Vec::new())) {
            Ok(chain) => {
                self.chain = Some(chain);
                Turn::Response(self.tunnel.send(&[]))
            }
            Err(failure) => Failure::Tls(failure).into(),
        }
    }

    fn plain(&mut self, plain: &[u8], cx: &mut Context<'_>) -> Turn {
        let Some(list) = tlv::parse(plain) else {
            return Failure::Malformed("the TLVs in the TEAP tunnel do not fit").into();
        };
        let mut answer = Vec::new();
        if tlv::first(&list, tlv::RESULT) == Some(&tlv::FAILURE) {
            let told = self.inner.as_ref().and_then(Responder::failure);
            self.failed = Some(told.unwrap_or(Failure::GaveUp("the server refused inside the tunnel")));
            tlv::push(&mut answer, true, tlv::RESULT, &tlv::FAILURE);
            return Turn::Response(self.tunnel.send(&answer));
        }
        if tlv::first(&list, tlv::INTERMEDIATE_RESULT) == Some(&tlv::FAILURE) {
            self.inner = None;
            tlv::push(&mut answer, true, tlv::INTERMEDIATE_RESULT, &tlv::FAILURE);
            // The next identity may be asked for in the same message.
            if tlv::first(&list, tlv::IDENTITY_TYPE).is_none() {
                return Turn::Response(self.tunnel.send(&answer));
            }
        }
        let done = match tlv::first(&list, tlv::CRYPTO_BINDING) {
            Some(value) => self.bind(value, &list, &mut answer),
            None => self.method(&list, &mut answer, cx),
        };
        match done {
            Ok(()) => Turn::Response(self.tunnel.send(&answer)),
            Err(failure) => failure.into(),
        }
    }

    fn bind(&mut self, value: &[u8], list: &[Tlv<'_>], answer: &mut Vec<u8>) -> Result<(), Failure> {
        let after_method = tlv::first(list, tlv::INTERMEDIATE_RESULT).is_some();
        let inner = self.inner.take();
        if after_method && inner.as_ref().is_some_and(|inner| !inner.is_done()) {
            return Err(Failure::GaveUp("a result before the inner method was done"));
        }
        let chain = self.chain.as_mut().ok_or(Failure::Unexpected("no tunnel"))?;
        let keys = inner.and_then(|inner| inner.keys());
        let engine = &*self.tunnel.engine;
        let stepped = if after_method { chain.advance(engine, keys.as_ref()) } else { chain.stand_still(engine) };
        stepped.map_err(Failure::Tls)?;
        let nonce = chain.check_request(value).ok_or(Failure::Binding)?;
        if after_method {
            tlv::push(answer, true, tlv::INTERMEDIATE_RESULT, &tlv::SUCCESS);
        }
        if tlv::first(list, tlv::RESULT) == Some(&tlv::SUCCESS) {
            tlv::push(answer, true, tlv::RESULT, &tlv::SUCCESS);
            let keys = chain.keys(engine, session_id(engine, Kind::TEAP)).map_err(Failure::Tls)?;
            self.keys = Some(keys);
        }
        tlv::push(answer, true, tlv::CRYPTO_BINDING, &chain.response(nonce));
        Ok(())
    }

    fn method(&mut self, list: &[Tlv<'_>], answer: &mut Vec<u8>, cx: &mut Context<'_>) -> Result<(), Failure> {
        let mut credential = None;
        if let Some(asked) = tlv::first(list, tlv::IDENTITY_TYPE).and_then(identity_type) {
            let (found, ours) = match (asked, &self.user, &self.machine) {
                (IdentityType::User, Some(user), _) => (IdentityType::User, user),
                (IdentityType::Machine, _, Some(machine)) => (IdentityType::Machine, machine),
                (_, Some(user), None) => (IdentityType::User, user),
                (_, None, Some(machine)) => (IdentityType::Machine, machine),
                _ => return Err(Failure::Unexpected("nobody to be")),
            };
            tlv::push(answer, false, tlv::IDENTITY_TYPE, &identity_bytes(found));
            if let Tunnelled::Eap(identity, method) = ours {
                self.inner = Some(Responder::new(identity, (**method).clone()));
            }
            credential = Some(ours.clone());
        }
        if tlv::first(list, tlv::PASSWORD_REQUEST).is_some() {
            let Some(Tunnelled::Password(login)) = credential else {
                return Err(Failure::Unexpected("a password was asked for"));
            };
            let (name, password) = (login.name.as_bytes(), login.password.expose());
            let value = [&[name.len() as u8], name, &[password.len() as u8], password].concat();
            tlv::push(answer, true, tlv::PASSWORD_RESPONSE, &value);
            return Ok(());
        }
        let payload = tlv::first(list, tlv::EAP_PAYLOAD).ok_or(Failure::Unexpected("no EAP packet"))?;
        let packet = Packet::parse(payload).map_err(|_| Failure::Malformed("no EAP packet in the TEAP tunnel"))?;
        let inner = self.inner.as_mut().ok_or(Failure::Unexpected("an inner message out of turn"))?;
        match inner.receive(&packet, self.room.saturating_sub(120), cx.random) {
            Reply::Send(packet) => tlv::push(answer, true, tlv::EAP_PAYLOAD, &packet),
            Reply::Failure(failure) => return Err(failure),
            Reply::Success(_) | Reply::Ignore(_) => {
                return Err(inner.failure().unwrap_or(Failure::Unexpected("an inner message out of turn")));
            }
        }
        Ok(())
    }
}

impl Method for Teap {
    fn receive(&mut self, data: &[u8], cx: &mut Context<'_>) -> Turn {
        match self.tunnel.receive(data) {
            Event::Reply(reply) => Turn::Response(reply),
            Event::Failed(failure) => failure.into(),
            Event::Established => self.established(),
            Event::Plain(plain) if plain.is_empty() => Turn::Response(self.tunnel.send(&[])),
            Event::Plain(plain) => self.plain(&plain, cx),
        }
    }

    fn is_done(&self) -> bool {
        self.keys.is_some()
    }

    fn failure(&self) -> Option<Failure> {
        self.tunnel.failure().or_else(|| self.failed.clone())
    }

    fn keys(&self) -> Option<Keys> {
        self.keys.clone()
    }

    fn tls(&self) -> Option<Arc<TlsAbout>> {
        Some(self.tunnel.about().clone())
    }
}
