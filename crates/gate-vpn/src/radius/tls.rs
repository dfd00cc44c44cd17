//! RADIUS over TLS (RFC 6614), and RADIUS/1.1 in it (RFC 9765): a connection shows which client it is of, and proves what it carries.
//!
//! Nobody shakes hands who does not connect from where such a client sends. A connection is a client's while the edition says so: it is looked at
//! again with every packet, so that one whose certificate was taken out of the site file asks nothing more.

use std::collections::HashMap;
use std::net::{IpAddr, SocketAddr};
use std::sync::{Arc, Mutex, PoisonError, Weak};
use std::time::{Duration, Instant};

use passeur_core::Moment;
use passeur_core::site::{Place, RadiusCertificate, RadiusClient};
use passeur_core::step;
use passeur_core::step::{Param, Step};
use passeur_core::text::{shorten, visible};
use passeur_links::client_chain::{self, Role};
use passeur_live::edition::Edition;
use passeur_protocols::radius::{ALPN_1_1, Attribute, Code, HEAD, Packet, Secret, Unproven, length_of};
use rustls::pki_types::ServerName;
use rustls::{CommonState, ProtocolVersion};
use tokio::io::{AsyncRead, AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpListener, TcpSocket, TcpStream};
use tokio::sync::{OwnedSemaphorePermit, Semaphore, mpsc, watch};
use tokio::time::timeout;
use tokio_rustls::server::TlsStream;
use tokio_rustls::{TlsAcceptor, TlsConnector};

use super::RadiusGate;
use super::server::{Back, Proven, Server, is_for_us, not_for_us, proves, unproven};

/// The most connections at a time: of one client, and of all.
const OF_CLIENT_MAX: usize = 32;
const OF_ALL_MAX: usize = 1_024;
/// How long a handshake may take, and the rest of a packet that began.
const HANDSHAKE: Duration = Duration::from_secs(10);
const PACKET: Duration = Duration::from_secs(10);
/// A connection over which nothing is asked for so long is closed. Clients that want to keep one ask whether somebody is there much more often
/// (RFC 3539 section 3.4.1).
const IDLE: Duration = Duration::from_mins(15);
/// How long a certificate counts that was looked at: it may run out meanwhile.
const LOOK_AGAIN: Duration = Duration::from_mins(1);
/// The most answers that wait for one connection.
const WAITING_MAX: usize = 64;
/// How long an order may take, from the connection to the answer.
const ORDER: Duration = Duration::from_secs(8);

/// How a node speaks TLS with RADIUS clients, as either end.
#[derive(Clone)]
pub struct Tls {
    pub server: Arc<rustls::ServerConfig>,
    pub client: Arc<rustls::ClientConfig>,
}

/// Why a certificate is not a client's.
pub(super) fn why_not(of: &RadiusCertificate, chain: &[Vec<u8>], role: Role, now: Moment) -> Option<Param> {
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
fn chain(of: &CommonState) -> Vec<Vec<u8>> {
    of.peer_certificates().into_iter().flatten().map(|c| c.as_ref().to_vec()).collect()
}

/// A certificate in words.
fn shown(chain: &[Vec<u8>]) -> String {
    chain.first().map_or_else(|| "—".to_owned(), |c| client_chain::words(c))
}

/// What proves packets of a connection, by what both sides chose. None where RADIUS/1.1 was chosen below TLS 1.3 (RFC 9765 section 3.1).
fn secret_of(of: &CommonState) -> Option<Secret> {
    match of.alpn_protocol() {
        Some(ALPN_1_1) => (of.protocol_version() == Some(ProtocolVersion::TLSv1_3)).then(Secret::none),
        _ => Some(Secret::of_tls()),
    }
}

/// The next packet, as octets; none where the peer closed, or sends what cannot be told apart.
async fn next<S: AsyncRead + Unpin>(stream: &mut S, idle: Duration) -> Option<Vec<u8>> {
    let mut octets = vec![0; HEAD];
    timeout(idle, stream.read_exact(&mut octets)).await.ok()?.ok()?;
    let length = length_of(octets.as_slice().try_into().ok()?).ok()?;
    octets.resize(length, 0);
    timeout(PACKET, stream.read_exact(octets.get_mut(HEAD..)?)).await.ok()?.ok()?;
    Some(octets)
}

/// Connections at a time.
struct Room {
    of_all: Arc<Semaphore>,
    of_clients: Mutex<HashMap<String, Weak<Semaphore>>>,
}

impl Room {
    fn take(&self, client: &str) -> Option<[OwnedSemaphorePermit; 2]> {
        let mut all = self.of_clients.lock().unwrap_or_else(PoisonError::into_inner);
        let known = all.get(client).and_then(Weak::upgrade);
        let of_client = known.unwrap_or_else(|| Arc::new(Semaphore::new(OF_CLIENT_MAX)));
        all.insert(client.to_owned(), Arc::downgrade(&of_client));
        Some([of_client.try_acquire_owned().ok()?, self.of_all.clone().try_acquire_owned().ok()?])
    }
}

/// Takes connections until `stop` changes.
pub async fn run(own: RadiusGate, tls: Tls, listener: TcpListener, mut stop: watch::Receiver<bool>) {
    let server = Arc::new(Server::new(own));
    let room = Room { of_all: Arc::new(Semaphore::new(OF_ALL_MAX)), of_clients: Mutex::default() };
    let acceptor = TlsAcceptor::from(tls.server);
    loop {
        let (stream, from) = tokio::select! {
            came = listener.accept() => match came {
                Ok(came) => came,
                Err(e) => {
                    tracing::warn!(error = %e, "no RADIUS client can be accepted just now");
                    tokio::time::sleep(Duration::from_millis(100)).await;
                    continue;
                }
            },
            _ = stop.changed() => return,
        };
        let Some(edition) = server.own.engine.live.get() else { continue };
        let source = from.ip().to_canonical();
        let Some(client) = edition.site.radius_client_at(source).filter(|c| c.certificate().is_some()) else {
            server.note(Place::SignIn, None, source, step!(RadiusStranger { from: source.to_string() }));
            continue;
        };
        let Some(held) = room.take(&client.name) else {
            server.note_of(&edition, client, source, step!(RadiusTooMany { client: client.name.as_str() }));
            continue;
        };
        let (server, acceptor, mut stop) = (server.clone(), acceptor.clone(), stop.clone());
        let name = client.name.clone();
        tokio::spawn(async move {
            let _held = held;
            tokio::select! {
                () = serve(&server, &acceptor, (&name, from), stream) => {}
                _ = stop.changed() => {}
            }
        });
    }
}

/// A client of an edition, while it sends from there and a chain is its own.
fn is_still<'a>(edition: &'a Edition, name: &str, source: IpAddr) -> Option<(&'a RadiusClient, &'a RadiusCertificate)> {
    let client = edition.site.radius_client_at(source).filter(|c| c.name == name)?;
    Some((client, client.certificate()?))
}

async fn serve(server: &Server, acceptor: &TlsAcceptor, (name, from): (&str, SocketAddr), stream: TcpStream) {
    let (source, engine) = (from.ip().to_canonical(), &server.own.engine);
    let note = |step: Step| {
        if let Some(edition) = engine.live.get()
            && let Some((client, _)) = is_still(&edition, name, source)
        {
            server.note_of(&edition, client, source, step);
        }
    };
    let how = match timeout(HANDSHAKE, acceptor.accept(stream)).await {
        Ok(Ok(stream)) => return over(server, (name, from), stream, &note).await,
        Ok(Err(e)) => shorten(&visible(&e.to_string()), 200),
        Err(_) => "the handshake was not done within its time".to_owned(),
    };
    note(step!(RadiusNoTls { client: name, how }));
}

/// Answers what comes over a connection until it is over, or is no client's any more.
async fn over(server: &Server, (name, from): (&str, SocketAddr), stream: TlsStream<TcpStream>, note: &(impl Fn(Step) + Sync)) {
    let (source, engine) = (from.ip().to_canonical(), &server.own.engine);
    let state = stream.get_ref().1;
    let (chain, secret) = (chain(state), secret_of(state));
    let Some(secret) = secret else {
        let how = "RADIUS/1.1 needs TLS 1.3".to_owned();
        return note(step!(RadiusNoTls { client: name, how }));
    };
    let (mut read, mut write) = tokio::io::split(stream);
    let (out, mut answers) = mpsc::channel::<Arc<[u8]>>(WAITING_MAX);
    let writing = tokio::spawn(async move {
        while let Some(wire) = answers.recv().await {
            let sent = async {
                write.write_all(&wire).await?;
                write.flush().await
            };
            if !matches!(timeout(PACKET, sent).await, Ok(Ok(()))) {
                return;
            }
        }
        let _ = timeout(PACKET, write.shutdown()).await;
    });
    // Under which edition the certificate was looked at last, and when.
    let mut looked_at: Option<(Arc<Edition>, Instant)> = None;
    let mut octets = None;
    loop {
        let Some(edition) = engine.live.get() else { break };
        let Some((client, of)) = is_still(&edition, name, source) else { break };
        if !looked_at.as_ref().is_some_and(|(e, at)| Arc::ptr_eq(e, &edition) && at.elapsed() < LOOK_AGAIN) {
            if let Some(check) = why_not(of, &chain, Role::Client, engine.now()) {
                server.note_of(&edition, client, source, step!(RadiusCertificate { client: name, shown: shown(&chain), check }));
                break;
            }
            looked_at = Some((edition.clone(), Instant::now()));
        }
        // Whoever shows nothing that counts is closed at once, and not with the first packet.
        let Some(came) = octets.take() else {
            octets = tokio::select! {
                came = next(&mut read, IDLE) => came,
                () = out.closed() => None,
            };
            if octets.is_none() {
                break;
            }
            // It may have been taken out while nothing came.
            continue;
        };
        let packet = match Packet::read(&came) {
            Ok(packet) if is_for_us(&packet) => packet,
            read => {
                // Nothing that follows can be trusted to be what it seems (RFC 6613 section 2.6.4).
                let step = match read {
                    Ok(_) => not_for_us(name),
                    Err(e) => step!(RadiusUnreadable { client: name, how: e.to_string() }),
                };
                server.note_of(&edition, client, source, step);
                break;
            }
        };
        // The connection proves the packet: one without a Message-Authenticator is as good, and one with another is not.
        if let Err(why) = proves(&secret, &packet).or_else(|e| if e == Unproven::Missing { Ok(()) } else { Err(e) }) {
            server.note_of(&edition, client, source, unproven(name, why));
            break;
        }
        server.proven(&edition, client, Proven { secret: secret.clone(), packet, from, back: Back::Stream(out.clone()) });
    }
    drop(out);
    // What was asked before is answered yet.
    let _ = timeout(PACKET * 2, writing).await;
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

    #[test]
    fn connections_of_a_client_and_of_all_are_bounded_and_free_when_they_are_over() {
        let room = Room { of_all: Arc::new(Semaphore::new(OF_CLIENT_MAX + 2)), of_clients: Mutex::default() };
        let held: Vec<_> = (0..OF_CLIENT_MAX).map(|_| room.take("switch-3").unwrap()).collect();
        assert!(room.take("switch-3").is_none(), "one client's");
        let others = [room.take("switch-4").unwrap(), room.take("switch-5").unwrap()];
        assert!(room.take("switch-6").is_none(), "all together");
        drop((held, others));
        assert!(room.take("switch-3").is_some());
        assert_eq!(room.of_all.available_permits(), OF_CLIENT_MAX + 2);
    }

    #[tokio::test]
    async fn a_stream_is_read_packet_by_packet_and_ends_where_it_cannot_be_told_apart() {
        let whole = [&[12, 1, 0, 20][..], &[7; 16]].concat();
        let mut stream: &[u8] = &[&whole[..], &whole, &[1, 0, 0, 3]].concat();
        for _ in 0..2 {
            assert_eq!(next(&mut stream, IDLE).await, Some(whole.clone()));
        }
        assert_eq!(next(&mut stream, IDLE).await, None);
        let mut cut: &[u8] = &whole[..19];
        assert_eq!(next(&mut cut, IDLE).await, None);
    }
}
