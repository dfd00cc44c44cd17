//! RADIUS over TLS (RFC 6614), and RADIUS/1.1 in it (RFC 9765): a connection shows which client it is of, and proves what it carries.
//!
//! Nobody shakes hands who does not connect from where such a client sends. A connection is a client's while the edition says so: it is looked at
//! again with every packet, so that one whose certificate was taken out of the site file asks nothing more.

use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;
use std::time::{Duration, Instant};

use passeur_core::site::{Place, RadiusCertificate, RadiusClient};
use passeur_core::step;
use passeur_core::step::Step;
use passeur_core::text::{shorten, visible};
use passeur_links::client_chain::Role;
use passeur_live::edition::Edition;
use passeur_protocols::radius::{Packet, Secret, Unproven};
use tokio::io::AsyncWriteExt;
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::{mpsc, watch};
use tokio::time::timeout;
use tokio_rustls::TlsAcceptor;
use tokio_rustls::server::TlsStream;

use super::RadiusGate;
use super::connection::{PACKET, Tls, chain, next, secret_of, shown, why_not};
use super::server::{Back, Bounds, Proven, Server, is_for_us, not_for_us, proves, unproven};

/// The most connections at a time: of one client, and of all.
const OF_CLIENT_MAX: usize = 32;
const OF_ALL_MAX: usize = 1_024;
/// How long a handshake may take.
const HANDSHAKE: Duration = Duration::from_secs(10);
/// A connection over which nothing is asked for so long is closed. Clients that want to keep one ask whether somebody is there much more often
/// (RFC 3539 section 3.4.1).
const IDLE: Duration = Duration::from_mins(15);
/// How long a certificate counts that was looked at: it may run out meanwhile.
const LOOK_AGAIN: Duration = Duration::from_mins(1);
/// The most answers that wait for one connection.
const WAITING_MAX: usize = 64;

/// Takes connections until `stop` changes.
pub async fn run(own: RadiusGate, tls: Tls, listener: TcpListener, mut stop: watch::Receiver<bool>) {
    let server = Arc::new(Server::new(own));
    let bounds = Bounds::new(OF_CLIENT_MAX, OF_ALL_MAX);
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
        let Some(held) = bounds.room(&client.name) else {
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

/// What a connection showed, and under which edition it was looked at last, and when.
struct Shown {
    chain: Vec<Vec<u8>>,
    looked_at: Option<(Arc<Edition>, Instant)>,
}

impl Shown {
    /// The live edition, where this is of the client by it, and of nobody else; none is told.
    fn still_of(&mut self, server: &Server, (name, source): (&str, IpAddr)) -> Option<Arc<Edition>> {
        let engine = &server.own.engine;
        let edition = engine.live.get()?;
        let (client, of) = is_still(&edition, name, source)?;
        if self.looked_at.as_ref().is_some_and(|(e, at)| Arc::ptr_eq(e, &edition) && at.elapsed() < LOOK_AGAIN) {
            return Some(edition);
        }
        if let Some(check) = why_not(of, &self.chain, Role::Client, engine.now()) {
            let step = step!(RadiusCertificate { client: name, shown: shown(&self.chain), check });
            server.note_of(&edition, client, source, step);
            return None;
        }
        self.looked_at = Some((edition.clone(), Instant::now()));
        Some(edition)
    }
}

/// A packet that came over a connection, proven as far as packets are there; or the step that tells why it is none.
fn read_packet(client: &str, secret: &Secret, octets: &[u8]) -> Result<Packet, Step> {
    let packet = Packet::read(octets).map_err(|e| step!(RadiusUnreadable { client, how: e.to_string() }))?;
    if !is_for_us(&packet) {
        return Err(not_for_us(client));
    }
    match proves(secret, &packet) {
        // The connection proves the packet: one without a Message-Authenticator is as good, and one with another is not.
        Ok(()) | Err(Unproven::Missing) => Ok(packet),
        Err(why) => Err(unproven(client, why)),
    }
}

/// Answers what comes over a connection until it is over, or is no client's any more.
async fn over(server: &Server, (name, from): (&str, SocketAddr), stream: TlsStream<TcpStream>, note: &(impl Fn(Step) + Sync)) {
    let source = from.ip().to_canonical();
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
    let mut shown = Shown { chain, looked_at: None };
    // Whoever shows nothing that counts is closed at once, and not with the first packet.
    if shown.still_of(server, (name, source)).is_some() {
        while let Some(octets) = tokio::select! { came = next(&mut read, IDLE) => came, () = out.closed() => None } {
            // It may have been taken out while nothing came.
            let Some(edition) = shown.still_of(server, (name, source)) else { break };
            let Some((client, _)) = is_still(&edition, name, source) else { break };
            match read_packet(name, &secret, &octets) {
                Ok(packet) => {
                    let back = Back::Stream(out.clone());
                    server.proven(&edition, client, Proven { secret: secret.clone(), packet, from, back });
                }
                // Nothing that follows can be trusted to be what it seems (RFC 6613 section 2.6.4).
                Err(step) => {
                    server.note_of(&edition, client, source, step);
                    break;
                }
            }
        }
    }
    drop(out);
    // What was asked before is answered yet.
    let _ = timeout(PACKET * 2, writing).await;
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn connections_of_a_client_and_of_all_are_bounded_and_free_when_they_are_over() {
        let room = Bounds::new(OF_CLIENT_MAX, OF_CLIENT_MAX + 2);
        let held: Vec<_> = (0..OF_CLIENT_MAX).map(|_| room.room("switch-3").unwrap()).collect();
        assert!(room.room("switch-3").is_none(), "one client's");
        let others = [room.room("switch-4").unwrap(), room.room("switch-5").unwrap()];
        assert!(room.room("switch-6").is_none(), "all together");
        drop((held, others));
        assert!(room.room("switch-3").is_some());
        assert_eq!(room.of_all.available_permits(), OF_CLIENT_MAX + 2);
    }
}
