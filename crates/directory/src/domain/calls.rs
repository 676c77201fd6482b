//! Calls over one connection to a controller.

use regnant_netlogon::{HEADER, Link, LinkError, pdu_length};
use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
use tokio::net::TcpStream;

use crate::answers::Trouble;
use crate::domain::controllers::Controller;
use crate::domain::{Lost, random};

/// Connects a link.
pub(crate) async fn bound(controller: &Controller, port: u16, link: &mut Link) -> Result<TcpStream, Lost> {
    let mut stream = controller.connect(port).await?;
    let bind = link.bind();
    let answer = exchange(&controller.host, &mut stream, &bind).await?;
    link.bound(&answer).map_err(|error| lost(&controller.host, error))?;
    Ok(stream)
}

/// One call on a link.
pub(crate) async fn call(
    host: &str,
    stream: &mut TcpStream,
    link: &mut Link,
    operation: u16,
    given: &[u8],
) -> Result<Vec<u8>, Lost> {
    let confounder = random().ok_or_else(|| Trouble::Channel {
        server: host.to_owned(),
        why: "there are no random bytes here".to_owned(),
    })?;
    let request = link.request(operation, given, confounder);
    let mut pdu = exchange(host, stream, &request).await?;
    loop {
        if let Some(answer) = link.answer(&pdu).map_err(|error| lost(host, error))? {
            return Ok(answer);
        }
        pdu = read(host, stream).await?;
    }
}

async fn exchange(host: &str, stream: &mut TcpStream, pdu: &[u8]) -> Result<Vec<u8>, Trouble> {
    let not_reached = |error: std::io::Error| Trouble::NotReached { server: host.to_owned(), why: error.to_string() };
    stream.write_all(pdu).await.map_err(not_reached)?;
    read(host, stream).await
}

async fn read(host: &str, stream: &mut TcpStream) -> Result<Vec<u8>, Trouble> {
    let not_reached = |error: std::io::Error| Trouble::NotReached { server: host.to_owned(), why: error.to_string() };
    let mut header = [0; HEADER];
    stream.read_exact(&mut header).await.map_err(not_reached)?;
    let length = pdu_length(&header).map_err(|_| Trouble::Nonsense(host.to_owned()))?;
    let mut pdu = header.to_vec();
    pdu.resize(length, 0);
    stream.read_exact(&mut pdu[HEADER..]).await.map_err(not_reached)?;
    Ok(pdu)
}

/// Faults by which a controller says that it knows nothing of the channel.
const ACCESS_DENIED: u32 = 5;
const SECURITY_ERROR: u32 = 0x721;

fn lost(host: &str, error: LinkError) -> Lost {
    match error {
        LinkError::Fault(ACCESS_DENIED | SECURITY_ERROR) | LinkError::Refused(_) => Lost::Channel,
        LinkError::Forged => Trouble::Forged(host.to_owned()).into(),
        error => Trouble::Channel { server: host.to_owned(), why: error.to_string() }.into(),
    }
}
