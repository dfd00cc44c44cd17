//! A connection over TLS with a RADIUS client, as either end (RFC 6614, RFC 9765): what proves the other one, how packets follow one another, and
//! orders over one.

use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;
use std::time::Duration;

use passeur_core::Moment;
use passeur_core::site::RadiusCertificate;
use passeur_core::step::Param;
use passeur_core::text::{shorten, visible};
use passeur_links::client_chain::{self, Role};
use passeur_protocols::radius::{ALPN_1_0, ALPN_1_1, Attribute, Code, HEAD, Packet, Secret, length_of};
use rustls::pki_types::ServerName;
use rustls::{CommonState, ProtocolVersion};
use tokio::io::{AsyncRead, AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpSocket;
use tokio::time::timeout;
use tokio_rustls::TlsConnector;

/// How long the rest of a packet that began may take.
pub const PACKET: Duration = Duration::from_secs(10);
/// How long an order may take, from the connection to the answer.
const ORDER: Duration = Duration::from_secs(8);

/// By which names a protocol is chosen in the handshake (RFC 7301), the better one first: the server chooses.
pub const PROTOCOLS: [&[u8]; 2] = [ALPN_1_1, ALPN_1_0];

/// How a node speaks TLS with RADIUS clients, as either end.
#[derive(Clone)]
pub struct Tls {
    pub server: Arc<rustls::ServerConfig>,
    pub client: Arc<rustls::ClientConfig>,
}

/// Why a certificate is not a client's.
pub fn why_not(of: &RadiusCertificate, chain: &[Vec<u8>], role: Role, now: Moment) -> Option<Param> {
    let Some(shown) = chain.first() else { return Some(Param::reason("radius-no-certificate")) };
    if of.own.contains(shown) {
        return None;
    }
    match &of.host {
        Some(host) => {
            let judged = client_chain::verify_host(chain, &of.authorities, (host, role), now);
            judged.err().map(|why| Param::from(shorten(&visible(&why), 200)))
        }
        None => Some(Param::reason("radius-other-certificate")),
    }
}

/// What a peer showed, the end of the chain first.
pub fn chain(of: &CommonState) -> Vec<Vec<u8>> {
    of.peer_certificates().into_iter().flatten().map(|c| c.as_ref().to_vec()).collect()
}

/// A certificate in words.
pub fn shown(chain: &[Vec<u8>]) -> String {
    chain.first().map_or_else(|| "—".to_owned(), |c| client_chain::words(c))
}

/// What proves packets of a connection, by what both sides chose. None where RADIUS/1.1 was chosen below TLS 1.3 (RFC 9765 section 3.1).
pub fn secret_of(of: &CommonState) -> Option<Secret> {
    match of.alpn_protocol() {
        Some(ALPN_1_1) => (of.protocol_version() == Some(ProtocolVersion::TLSv1_3)).then(Secret::none),
        _ => Some(Secret::of_tls()),
    }
}

/// The next packet, as octets; none where the peer closed, or sends what cannot be told apart.
pub async fn next<S: AsyncRead + Unpin>(stream: &mut S, idle: Duration) -> Option<Vec<u8>> {
    let mut octets = vec![0; HEAD];
    timeout(idle, stream.read_exact(&mut octets)).await.ok()?.ok()?;
    let length = length_of(octets.as_slice().try_into().ok()?).ok()?;
    octets.resize(length, 0);
    timeout(PACKET, stream.read_exact(octets.get_mut(HEAD..)?)).await.ok()?.ok()?;
    Some(octets)
}

impl Tls {
    /// Orders over a connection of this order's own, and reads the answer to it; none where none comes in time.
    ///
    /// # Errors
    /// Nobody can be connected to there, or who answers is not the client.
    pub async fn ask(
        &self,
        (to, own): (SocketAddr, Option<IpAddr>),
        of: &RadiusCertificate,
        (code, attributes): (Code, Vec<Attribute>),
        now: Moment,
    ) -> std::io::Result<Option<Packet>> {
        let asked = async {
            let socket = if to.is_ipv4() { TcpSocket::new_v4()? } else { TcpSocket::new_v6()? };
            if let Some(own) = own.filter(|a| a.is_ipv4() == to.is_ipv4()) {
                socket.bind(SocketAddr::new(own, 0))?;
            }
            let stream = socket.connect(to).await?;
            let name = match &of.host {
                Some(host) => ServerName::try_from(host.clone()).map_err(std::io::Error::other)?,
                None => ServerName::from(to.ip()),
            };
            let mut stream = TlsConnector::from(self.client.clone()).connect(name, stream).await?;
            let state = stream.get_ref().1;
            let chain = chain(state);
            if why_not(of, &chain, Role::Server, now).is_some() {
                return Err(std::io::Error::other(format!("another certificate: {}", shown(&chain))));
            }
            let secret = secret_of(state).ok_or_else(|| std::io::Error::other("RADIUS/1.1 below TLS 1.3"))?;
            let wire = secret.request(code, 1, attributes).ok_or_else(|| std::io::Error::other("an order that is too long"))?;
            let request = Packet::read(&wire).map_err(std::io::Error::other)?;
            stream.write_all(&wire).await?;
            stream.flush().await?;
            while let Some(octets) = next(&mut stream, ORDER).await {
                let answer = Packet::read(&octets).map_err(std::io::Error::other)?;
                if answer.id == request.id && secret.proves_answer(&answer, &request.authenticator).is_ok() {
                    return Ok(Some(answer));
                }
            }
            Ok(None)
        };
        timeout(ORDER, asked).await.unwrap_or(Ok(None))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn a_stream_is_read_packet_by_packet_and_ends_where_it_cannot_be_told_apart() {
        let whole = [&[12, 1, 0, 20][..], &[7; 16]].concat();
        let mut stream: &[u8] = &[&whole[..], &whole, &[1, 0, 0, 3]].concat();
        for _ in 0..2 {
            assert_eq!(next(&mut stream, PACKET).await, Some(whole.clone()));
        }
        assert_eq!(next(&mut stream, PACKET).await, None);
        let mut cut: &[u8] = &whole[..19];
        assert_eq!(next(&mut cut, PACKET).await, None);
    }
}
