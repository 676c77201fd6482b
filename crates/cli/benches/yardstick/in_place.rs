//! A bare TLS handshake where it happens: a server that does nothing but TLS and
//! the cryptography of as many packets, asked by as many clients at a time.

use std::collections::HashMap;
use std::net::{SocketAddr, UdpSocket};
use std::sync::Arc;
use std::time::Duration;

use regnant_campus::certificates::SERVER;
use regnant_campus::harbour::MAST_WLC_1;
use regnant_radius::{Builder, Code, Packet, SharedSecret, check_message_authenticator, number};
use rustls::pki_types::ServerName;
use rustls::{ClientConfig, ClientConnection, ServerConfig, ServerConnection};

use crate::yardstick::on_thread;

/// Bytes of TLS in one packet, as our own supplicant and service send them.
const FRAGMENT: usize = 1_000;

/// Starts the server on a thread of this name.
pub(crate) fn serve(name: &str, config: Arc<ServerConfig>) -> SocketAddr {
    on_thread(name, move |socket| async move {
        let secret = SharedSecret::new(MAST_WLC_1.secret.as_bytes());
        let (mut waiting, mut buffer) = (HashMap::new(), [0; 4096]);
        loop {
            let Ok((length, from)) = socket.recv_from(&mut buffer).await else { continue };
            let Ok(packet) = Packet::parse(&buffer[..length]) else { continue };
            std::hint::black_box(check_message_authenticator(&packet, &secret));
            let turn = waiting.entry(from).or_insert_with(|| Turn::new(config.clone()));
            let (reply, over) = turn.take(&packet.eap_message().unwrap_or_default());
            let mut builder = Builder::new(Code::ACCESS_CHALLENGE, packet.identifier());
            builder.eap_message(&reply).unwrap();
            let _ = socket.send_to(&builder.reply(&packet, &secret).unwrap(), from).await;
            if over {
                waiting.remove(&from);
            }
        }
    })
}

/// One handshake at the server.
struct Turn {
    connection: ServerConnection,
    outgoing: Vec<u8>,
}

impl Turn {
    fn new(config: Arc<ServerConfig>) -> Self {
        Self { connection: ServerConnection::new(config).unwrap(), outgoing: Vec::new() }
    }

    /// Takes a fragment; gives the next one of ours, and whether it was the last
    /// packet of the client.
    fn take(&mut self, message: &[u8]) -> (Vec<u8>, bool) {
        let Some((kind, mut bytes)) = message.split_first() else { return (vec![0], true) };
        while !bytes.is_empty() {
            self.connection.read_tls(&mut bytes).unwrap();
            self.connection.process_new_packets().unwrap();
        }
        while self.connection.wants_write() {
            self.connection.write_tls(&mut self.outgoing).unwrap();
        }
        let rest = self.outgoing.split_off(self.outgoing.len().min(FRAGMENT));
        let part = std::mem::replace(&mut self.outgoing, rest);
        ([&[0][..], &part].concat(), *kind == LAST)
    }
}

const MORE: u8 = 1;
const LAST: u8 = 2;

/// Handshakes one after another, each with this many packets in all.
pub(crate) fn handshakes(server: SocketAddr, config: &Arc<ClientConfig>, times: usize, rounds: usize) {
    for _ in 0..times {
        let socket = UdpSocket::bind((MAST_WLC_1.address, 0)).unwrap();
        socket.connect(server).unwrap();
        socket.set_read_timeout(Some(Duration::from_secs(5))).unwrap();
        let name = ServerName::try_from(SERVER).unwrap();
        let mut client = ClientConnection::new(config.clone(), name).unwrap();
        let mut flight = Vec::new();
        for round in 1..=rounds {
            while client.wants_write() {
                client.write_tls(&mut flight).unwrap();
            }
            let rest = flight.split_off(flight.len().min(FRAGMENT));
            let part = std::mem::replace(&mut flight, rest);
            let kind = if round == rounds { LAST } else { MORE };
            let reply = ask(&socket, round as u8, &[&[kind][..], &part].concat());
            let mut bytes = &reply[1..];
            while !bytes.is_empty() {
                client.read_tls(&mut bytes).unwrap();
                client.process_new_packets().unwrap();
            }
        }
        assert!(!client.is_handshaking(), "{rounds} rounds are too few");
    }
}

fn ask(socket: &UdpSocket, identifier: u8, message: &[u8]) -> Vec<u8> {
    let secret = SharedSecret::new(MAST_WLC_1.secret.as_bytes());
    let mut builder = Builder::new(Code::ACCESS_REQUEST, identifier);
    builder.attribute(number::USER_NAME, b"ida").unwrap();
    builder.eap_message(message).unwrap();
    socket.send(&builder.request(&[identifier; 16], &secret)).unwrap();
    let mut buffer = [0; 4096];
    let length = socket.recv(&mut buffer).unwrap();
    Packet::parse(&buffer[..length]).unwrap().eap_message().unwrap()
}
