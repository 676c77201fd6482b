//! Stand-ins for an issuer's web server: its revocation list and its responder.

use std::fs;
use std::io::{BufRead, BufReader, Read, Write};
use std::net::{TcpListener, TcpStream};
use std::sync::{Arc, Mutex};

use regnant_certificates::{Authority, Responder};

use crate::running::Running;

pub(crate) fn now() -> i64 {
    jiff::Timestamp::now().as_second()
}

/// The harbour's authority.
pub(crate) fn authority(service: &Running) -> Authority {
    let read = |name: &str| fs::read_to_string(service.data.join("harbour").join(name)).unwrap();
    Authority::from_pem(&read("authority.pem"), &read("authority.key")).unwrap()
}

/// Answers every request on a port of its own; one that gets nothing is left
/// waiting.
pub(crate) fn answer_http(answer: impl Fn(&[u8]) -> Option<Vec<u8>> + Send + 'static) -> String {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let url = format!("http://{}/", listener.local_addr().unwrap());
    std::thread::spawn(move || {
        let mut waiting = Vec::new();
        for stream in listener.incoming() {
            let mut stream = stream.unwrap();
            match answer(&body(&stream)) {
                Some(body) => {
                    let head =
                        format!("HTTP/1.1 200 OK\r\ncontent-length: {}\r\nconnection: close\r\n\r\n", body.len());
                    let _ = stream.write_all(head.as_bytes()).and_then(|()| stream.write_all(&body));
                }
                None => waiting.push(stream),
            }
        }
    });
    url
}

fn body(stream: &TcpStream) -> Vec<u8> {
    let mut reader = BufReader::new(stream);
    let mut length = 0;
    loop {
        let mut line = String::new();
        if reader.read_line(&mut line).unwrap_or(0) == 0 || line == "\r\n" {
            break;
        }
        if let Some(value) = line.to_ascii_lowercase().strip_prefix("content-length:") {
            length = value.trim().parse().unwrap();
        }
    }
    let mut body = vec![0; length];
    let _ = reader.read_exact(&mut body);
    body
}

/// A responder of the harbour's authority; `None` makes it silent.
pub(crate) fn serve_ocsp(responder: Arc<Mutex<Option<Responder>>>) -> String {
    answer_http(move |request| Some(responder.lock().unwrap().as_ref()?.answer(request, now()).unwrap()))
}
