//! One socket at which RADIUS clients ask. What comes is looked at in the order of what it costs: where from, whether it is a packet, whether the
//! secret proves it, whether it came before; only then is anything decided, beside the task that reads.

use std::collections::HashMap;
use std::net::{IpAddr, SocketAddr};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use passeur_core::circumstances::RequestFacts;
use passeur_core::crossing::Outcome;
use passeur_core::site::{Place, RadiusClient};
use passeur_core::step;
use passeur_core::step::{Param, Step};
use passeur_engine::Engine;
use passeur_engine::attempt::Attempt;
use passeur_live::edition::Edition;
use passeur_protocols::radius::{Code, LENGTH_MAX, Packet, Secret, Unproven};
use tokio::net::UdpSocket;
use tokio::sync::{Semaphore, watch};
use tokio::time::{MissedTickBehavior, interval, timeout};

use super::asking::{self, Request};
use super::duplicates::{Duplicates, Seen};

/// How often secrets are read again.
const READ_AGAIN: Duration = Duration::from_secs(2);
/// The most requests that are decided at a time: of one client, and of all.
const OF_CLIENT_MAX: usize = 64;
const OF_ALL_MAX: usize = 512;
/// How long a decision may take. Clients have asked again, or elsewhere, long before.
const PATIENCE: Duration = Duration::from_secs(20);
/// The fewest octets of a secret (RFC 2865 section 3), and the fewest different ones.
const SECRET_MIN: usize = 16;
const DIFFERENT_MIN: usize = 6;

/// Secrets by their names.
type Secrets = HashMap<String, Secret>;

/// Whether a secret is one that nobody finds out by trying.
fn is_strong(secret: &[u8]) -> bool {
    let different: std::collections::HashSet<&u8> = secret.iter().collect();
    secret.len() >= SECRET_MIN && different.len() >= DIFFERENT_MIN
}

/// Answers at a socket until `stop` changes.
pub async fn run(engine: Engine, socket: UdpSocket, mut stop: watch::Receiver<bool>) {
    let socket = Arc::new(socket);
    let (secrets, told) = watch::channel(Arc::new(Secrets::new()));
    let reading = tokio::spawn(read_secrets(engine.clone(), secrets));
    let mut server = Server {
        engine,
        socket: socket.clone(),
        secrets: told,
        duplicates: Arc::default(),
        of_all: Arc::new(Semaphore::new(OF_ALL_MAX)),
        of_clients: HashMap::new(),
    };
    let mut octets = vec![0u8; LENGTH_MAX + 1];
    loop {
        tokio::select! {
            came = socket.recv_from(&mut octets) => match came {
                Ok((length, from)) => server.came(octets.get(..length).unwrap_or_default(), from),
                // Something on the way says that an answer reached nobody: it is no request.
                Err(e) => tracing::debug!(error = %e, "nothing was read at a RADIUS socket"),
            },
            _ = stop.changed() => break,
        }
    }
    reading.abort();
}

/// Reads the secrets of clients, again and again: they change without an edition.
async fn read_secrets(engine: Engine, secrets: watch::Sender<Arc<Secrets>>) {
    let mut tick = interval(READ_AGAIN);
    tick.set_missed_tick_behavior(MissedTickBehavior::Delay);
    loop {
        tick.tick().await;
        let Some(edition) = engine.live.get() else { continue };
        if edition.site.radius_clients.is_empty() {
            continue;
        }
        match engine.secrets().await {
            Ok(all) => {
                let own = |c: &RadiusClient| {
                    let value = all.get(&c.secret)?.first()?;
                    is_strong(value.as_bytes()).then(|| (c.secret.clone(), Secret::new(value.as_bytes())))
                };
                secrets.send_replace(Arc::new(edition.site.radius_clients.iter().filter_map(own).collect()));
            }
            Err(e) => tracing::warn!(error = %e, "secrets of RADIUS clients cannot be read; those that are known count on"),
        }
    }
}

struct Server {
    engine: Engine,
    socket: Arc<UdpSocket>,
    secrets: watch::Receiver<Arc<Secrets>>,
    duplicates: Arc<Mutex<Duplicates>>,
    of_all: Arc<Semaphore>,
    of_clients: HashMap<String, Arc<Semaphore>>,
}

impl Server {
    fn came(&mut self, octets: &[u8], from: SocketAddr) {
        let Some(edition) = self.engine.live.get() else { return };
        let source = from.ip().to_canonical();
        let Some(client) = edition.site.radius_client_at(source) else {
            return self.note(Place::SignIn, None, source, step!(RadiusStranger { from: source.to_string() }));
        };
        let name = client.name.as_str();
        let packet = match Packet::read(octets) {
            Ok(packet) => packet,
            Err(e) => {
                let step = step!(RadiusUnreadable { client: name, how: e.to_string() });
                return self.note_of(&edition, client, source, step);
            }
        };
        if !matches!(packet.code, Code::AccessRequest | Code::StatusServer) {
            let how = "it is no request for access".to_owned();
            return self.note_of(&edition, client, source, step!(RadiusUnreadable { client: name, how }));
        }
        let Some(secret) = self.secrets.borrow().get(&client.secret).cloned() else {
            let step = step!(RadiusNoSecret { client: name, secret: client.secret.as_str() });
            return self.note_of(&edition, client, source, step);
        };
        // Without a proof a request is anybody's who writes the client's address on it (RFC 3579 section 3.2).
        if let Err(why) = secret.proves(&packet) {
            let check = Param::reason(match why {
                Unproven::Missing => "radius-missing",
                Unproven::Odd => "radius-odd",
                Unproven::Wrong | Unproven::Authenticator => "radius-wrong",
            });
            return self.note_of(&edition, client, source, step!(RadiusUnproven { client: name, check }));
        }
        if packet.code == Code::StatusServer {
            // Only that somebody is there (RFC 5997 section 3).
            return self.send(secret.answer(Code::AccessAccept, &packet, vec![]).map(Arc::from), from);
        }
        let key = (from, packet.id, packet.authenticator);
        let seen = self.duplicates.lock().unwrap_or_else(PoisonError::into_inner).asked(key, Instant::now());
        match seen {
            Seen::Before(answer) => return self.send(answer, from),
            Seen::Full => return self.note_of(&edition, client, source, step!(RadiusTooMany { client: name })),
            Seen::New => {}
        }
        let of_client = self.of_clients.entry(client.name.clone()).or_insert_with(|| Arc::new(Semaphore::new(OF_CLIENT_MAX)));
        let (Ok(one), Ok(other)) = (of_client.clone().try_acquire_owned(), self.of_all.clone().try_acquire_owned()) else {
            self.duplicates.lock().unwrap_or_else(PoisonError::into_inner).dropped(&key);
            return self.note_of(&edition, client, source, step!(RadiusTooMany { client: name }));
        };
        let request = Request {
            engine: self.engine.clone(),
            edition: edition.clone(),
            client: client.name.clone(),
            secret: secret.clone(),
            packet: packet.clone(),
            from,
        };
        let (socket, duplicates) = (self.socket.clone(), self.duplicates.clone());
        tokio::spawn(async move {
            let _held = (one, other);
            let answer = timeout(PATIENCE, asking::answer(request)).await.ok().flatten();
            let wire: Option<Arc<[u8]>> = answer.and_then(|(code, said)| secret.answer(code, &packet, said)).map(Arc::from);
            let Some(wire) = wire else {
                duplicates.lock().unwrap_or_else(PoisonError::into_inner).dropped(&key);
                return;
            };
            duplicates.lock().unwrap_or_else(PoisonError::into_inner).answered(&key, wire.clone());
            if let Err(e) = socket.send_to(&wire, from).await {
                tracing::warn!(error = %e, "a RADIUS client cannot be answered");
            }
        });
    }

    /// Sends what is small and ready; where the socket takes nothing just now, the client asks again.
    fn send(&self, wire: Option<Arc<[u8]>>, to: SocketAddr) {
        if let Some(wire) = wire
            && let Err(e) = self.socket.try_send_to(&wire, to)
        {
            tracing::debug!(error = %e, "a RADIUS client was not answered just now");
        }
    }

    fn note_of(&self, edition: &Edition, client: &RadiusClient, from: IpAddr, step: Step) {
        let place = edition.site.gate_of_radius_client(&client.name).map_or(Place::SignIn, |g| g.place());
        self.note(place, Some(client), from, step);
    }

    /// Records what is not answered: the first of an address in full, the rest counted.
    fn note(&self, place: Place, client: Option<&RadiusClient>, from: IpAddr, step: Step) {
        let facts = match client {
            Some(client) => asking::facts(client, None, from),
            None => RequestFacts::of_nobody(from, ""),
        };
        let mut attempt = Attempt::begin(&self.engine, place, &facts);
        attempt.step(|| step);
        attempt.record_anonymous(Outcome::CheckFailed);
    }
}

#[cfg(test)]
mod tests {
    use super::is_strong;

    #[test]
    fn short_and_dull_secrets_are_weak() {
        for (secret, strong) in [
            ("", false),
            ("testing123", false),
            ("fifteen-octets!", false),
            ("aaaaaaaaaaaaaaaaaaaaaaaa", false),
            ("abababababababababababab", false),
            ("a-long-one-of-many-octets", true),
            ("0f1e2d3c4b5a69788796a5b4", true),
        ] {
            assert_eq!(is_strong(secret.as_bytes()), strong, "{secret}");
        }
    }
}
