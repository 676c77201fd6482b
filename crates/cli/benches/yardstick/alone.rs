//! The conversation alone: RADIUS and EAP in a bare loop, without conversation
//! table, pool, stores, rules and journal.

use std::collections::HashMap;
use std::net::SocketAddr;
use std::sync::Arc;

use regnant_campus::harbour::MAST_WLC_1;
use regnant_eap::{Conversation, Limits, Offer, Random, Step};
use regnant_radius::{Builder, Code, Packet, SharedSecret, check_message_authenticator, number};

use crate::yardstick::on_thread;

/// Starts the server on a thread of this name. Everybody's password is this.
pub(crate) fn serve(name: &str, offers: Arc<[Offer]>, password: &'static str) -> SocketAddr {
    on_thread(name, move |socket| async move {
        let secret = SharedSecret::new(MAST_WLC_1.secret.as_bytes());
        let (mut waiting, mut buffer, mut states) = (HashMap::new(), [0; 4096], 0u128);
        loop {
            let Ok((length, from)) = socket.recv_from(&mut buffer).await else { continue };
            let Ok(packet) = Packet::parse(&buffer[..length]) else { continue };
            std::hint::black_box(check_message_authenticator(&packet, &secret));
            let known = packet.first(number::STATE).and_then(|state| waiting.remove(state));
            let mut conversation = known.unwrap_or_else(|| {
                let random: Random = Box::new(|bytes: &mut [u8]| getrandom::fill(bytes).unwrap());
                Conversation::new(offers.clone(), None, Limits::default(), random)
            });
            let mut step = conversation.receive(&packet.eap_message().unwrap_or_default());
            let builder = loop {
                step = match step {
                    Step::Ask(claim) => conversation.answer(claim.credential.check_password(password.as_bytes())),
                    Step::Verdict => conversation.conclude(true),
                    Step::Send(request) => {
                        states += 1;
                        let mut builder = Builder::new(Code::ACCESS_CHALLENGE, packet.identifier());
                        builder.eap_message(&request).unwrap();
                        builder.attribute(number::STATE, &states.to_be_bytes()).unwrap();
                        waiting.insert(states.to_be_bytes().to_vec(), conversation);
                        break builder;
                    }
                    Step::Accept(end, keys) => {
                        let mut builder = Builder::new(Code::ACCESS_ACCEPT, packet.identifier());
                        builder.eap_message(&end).unwrap();
                        let (msk, at) = (keys.unwrap().msk, packet.authenticator());
                        builder.session_keys([&msk.expose()[..32], &msk.expose()[32..]], [1, 2], at, &secret).unwrap();
                        break builder;
                    }
                    other => panic!("{other:?}"),
                };
            };
            let _ = socket.send_to(&builder.reply(&packet, &secret).unwrap(), from).await;
        }
    })
}
