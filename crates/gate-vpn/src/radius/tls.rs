//! RADIUS over TLS (RFC 6614), and RADIUS/1.1 in it (RFC 9765): a connection shows which client it is of, and proves what it carries.
//!
//! Nobody shakes hands who does not connect from where such a client sends. A connection is a client's while the edition says so: it is looked at
//! again with every packet, so that one whose certificate was taken out of the site file asks nothing more.

use std::collections::HashMap;
use std::net::{IpAddr, SocketAddr};
use std::sync::{Arc, Mutex, PoisonError, Weak};
use std::time::{Duration, Instant};

use passeur_core::site::{Place, RadiusCertificate, RadiusClient};
use passeur_core::step;
use passeur_core::step::Step;
use passeur_core::text::{shorten, visible};
use passeur_links::client_chain::Role;
use passeur_live::edition::Edition;
use passeur_protocols::radius::{Packet, Unproven};
use tokio::io::AsyncWriteExt;
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::{OwnedSemaphorePermit, Semaphore, mpsc, watch};
use tokio::time::timeout;
use tokio_rustls::TlsAcceptor;
use tokio_rustls::server::TlsStream;

use super::RadiusGate;
use super::connection::{PACKET, Tls, chain, next, secret_of, shown, why_not};
use super::server::{Back, Proven, Server, is_for_us, not_for_us, proves, unproven};

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
}
